"""Signals from the engine's thread to the windows: immutable values, delivered on the Qt thread."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import TYPE_CHECKING, Protocol

from PyQt6.QtCore import QObject, pyqtSignal

from hawser.core.bars import Bars
from hawser.desk.models.pyramid import Pyramid
from hawser.engine.events import BarCompleted
from hawser.service.runtime.hooks import Hooks
from hawser.service.views.snapshot import Snapshot

if TYPE_CHECKING:
    from concurrent.futures import Future, ThreadPoolExecutor

    from hawser.service.views.logbook_lines import LogLine


class RecordHearer(Protocol):
    """Who shows the lines of the record."""

    def add(self, lines: list[LogLine]) -> None: ...

    def add_earlier(self, lines: list[LogLine], more: bool) -> None: ...


class Bridge(QObject):
    """One signal for each hook of the runtime."""

    snapshot = pyqtSignal(object)
    told = pyqtSignal(object)
    bars = pyqtSignal(str, object, object)
    bar = pyqtSignal(object)
    marks = pyqtSignal(object)
    guards = pyqtSignal(object)
    ready = pyqtSignal()
    fault = pyqtSignal(str)
    failed = pyqtSignal(str)
    alert = pyqtSignal(str, object)
    tried = pyqtSignal(str, str)
    _lines = pyqtSignal(object)
    _earlier = pyqtSignal(object, bool)
    _there = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self._lock = threading.Lock()
        self._maker: ThreadPoolExecutor | None = None  # from the first bars on
        self._ended = False
        self._latest: Snapshot | None = None
        self.is_ready = False  # whether the account is open: who comes later hears no `ready`
        self._unheard: list[Callable[[RecordHearer], None]] = []
        self._hearer: RecordHearer | None = None
        self._there.connect(self._deliver)
        self._lines.connect(lambda lines: self._hear(lambda one: one.add(lines)))
        self._earlier.connect(
            lambda lines, more: self._hear(lambda one: one.add_earlier(lines, more))
        )

    def hooks(self) -> Hooks:
        return Hooks(
            snapshot=self._snapshot,
            lines=self._lines.emit,
            earlier=self._earlier.emit,
            told=self.told.emit,
            bars=self._bars,
            bar=self._bar,
            marks=self.marks.emit,
            guards=self.guards.emit,
            ready=self._ready,
            fault=self.fault.emit,
            failed=self.failed.emit,
            alert=self.alert.emit,
            tried=self.tried.emit,
        )

    def tell_record(self, hearer: RecordHearer) -> None:
        """Who shows the record is made when it is first wanted, and misses nothing: it is told all
        that came before it, then what comes."""
        unheard, self._unheard, self._hearer = self._unheard, [], hearer
        for tell in unheard:
            tell(hearer)

    def _hear(self, tell: Callable[[RecordHearer], None]) -> None:
        if self._hearer is None:
            self._unheard.append(tell)
        else:
            tell(self._hearer)

    def _snapshot(self, snapshot: Snapshot) -> None:
        """Where the window falls behind it is given the newest snapshot, never a queue of old
        ones."""
        with self._lock:
            waiting, self._latest = self._latest is not None, snapshot
        if not waiting:
            self._there.emit()

    def _ready(self) -> None:
        self.is_ready = True
        self.ready.emit()

    def _deliver(self) -> None:
        with self._lock:
            snapshot, self._latest = self._latest, None
        self.snapshot.emit(snapshot)

    def _bars(self, symbol: str, span: int, bars: Bars) -> None:
        """A long history takes some tenths of a second: neither the engine nor the window waits for
        it."""
        self._aside(lambda: self.bars.emit(symbol, span, Pyramid(bars)))

    def _bar(self, bar: BarCompleted) -> None:
        """Behind the history that it follows on."""
        self._aside(lambda: self.bar.emit(bar))

    def _aside(self, work: Callable[[], None]) -> None:
        with self._lock:
            if self._ended:
                return
            if self._maker is None:
                from concurrent.futures import ThreadPoolExecutor

                self._maker = ThreadPoolExecutor(1, "bars")
            self._maker.submit(work).add_done_callback(self._failed)

    def _failed(self, made: Future[None]) -> None:
        """What fails there would else be told to nobody."""
        if not made.cancelled() and made.exception() is not None:
            self.fault.emit(f"The bars of the chart could not be prepared ({made.exception()})")

    def end(self) -> None:
        """The window is gone: nothing is made for it any more."""
        with self._lock:
            self._ended = True
            if self._maker is not None:
                self._maker.shutdown(wait=False, cancel_futures=True)
