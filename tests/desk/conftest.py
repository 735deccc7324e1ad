"""Real windows on the demo world, driven with mouse and keyboard."""

from __future__ import annotations

import gc
import os
import shutil
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

# with a screen large enough for a desk
if os.environ.get("QT_QPA_PLATFORM", "offscreen") == "offscreen":
    os.environ["QT_QPA_PLATFORM"] = (
        f"offscreen:configfile={Path(__file__).with_name('screens.json')}"
    )

import pytest
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QWidget

import hawser.demo
from hawser.core.clock import MILLISECOND
from hawser.core.guards.news import UNREAD, NewsEvent
from hawser.demo.boot import boot
from hawser.desk.app.start import application, make_window
from hawser.desk.app.window import Window
from hawser.desk.chart.levels import Level
from hawser.engine.model import transitions as states
from hawser.formats import newsics
from hawser.service.profiles.profile import profile
from hawser.service.views.snapshot import Snapshot, TradeView
from hawser.venue.quay.generator import Day, Stream


@pytest.fixture(scope="session")
def qapp() -> QApplication:
    return application()


STEP_MS = 30  # of what the runtimes take for real time, from one shown snapshot to the next
LEAST_STEPS = 700
NEWS = Path(hawser.demo.__file__).parent / "news" / "made-up.ics"
FRAME = 0.01  # seconds between two snapshots
HUNG_S = 300  # of real time: only a test that will never go on waits so long


class Patience:
    """A qtbot whose waiting lets the world's time pass: a step after each snapshot that the windows
    have shown. So a test sees the same world on a loaded machine as on an idle one, and waits for
    things, never for time.
    """

    def __init__(self, qtbot) -> None:  # type: ignore[no-untyped-def]
        self._qtbot, self.windows = qtbot, list[Window]()
        self.real = 10**12

    def __getattr__(self, name: str) -> object:
        return getattr(self._qtbot, name)

    def _shown(self) -> int:
        return sum(window.snapshots for window in self.windows)

    # as qtbot's
    def waitUntil(self, condition: Callable[[], object], *, timeout: int = 5_000) -> None:
        steps, shown = max(LEAST_STEPS, 4 * timeout // STEP_MS), self._shown()
        end = time.monotonic() + HUNG_S
        while not self._holds(condition):
            QTest.qWait(2)
            if self._shown() > shown:
                shown, steps = self._shown(), steps - 1
                self.real += STEP_MS * MILLISECOND
            if steps < 0 or time.monotonic() > end:
                raise AssertionError("it did not come to that")

    @staticmethod
    def _holds(condition: Callable[[], object]) -> bool:
        try:
            found = condition()
        except AssertionError:
            return False
        return found is None or bool(found)


class Trader:
    """A window and the hands that use it."""

    def __init__(self, window: Window, qtbot: Patience) -> None:
        self.window, self.qtbot = window, qtbot
        self.helm, self.plan, self.chart = window.helm, window.helm.plan, window.helm.chart
        self.scale = self.chart.scale

    @property
    def now(self) -> Snapshot:
        assert self.window.latest is not None
        return self.window.latest

    def until(self, condition: Callable[[Snapshot], object], seconds: float = 30) -> Snapshot:
        self.qtbot.waitUntil(
            lambda: self.window.latest is not None and bool(condition(self.now)),
            timeout=int(seconds * 1000),
        )
        return self.now

    def read(self, words: str) -> None:
        """Wait for a line of the logbook: lines come on a way of their own, a little after what
        they tell of."""
        self.qtbot.waitUntil(
            lambda: any(words in line.text for line in self.window.logbook.model.lines)
        )

    def frames(self, count: int = 6) -> None:
        """Let some snapshots be shown; every part of the window has its turn within four."""
        start = self.window.snapshots
        self.qtbot.waitUntil(lambda: self.window.snapshots >= start + count, timeout=10_000)

    def stand_still(self) -> None:
        """Stop the venue's clock, and let every part of the window show that moment."""
        self.window.runtime.clock.set(running=False)
        self.frames(8)

    def choose(self, symbol: str) -> None:
        """Pick an instrument with the mouse."""
        table, model = self.helm.instruments.table, self.helm.instruments.model
        box = table.visualRect(model.index(model.row_of(symbol), 0))
        self.click(table.viewport(), box.center())
        self.until(lambda s: self.helm.symbol == symbol and self.chart._pyramid is not None)
        self.qtbot.waitUntil(
            lambda: self.chart._instrument is not None and self.chart._instrument.symbol == symbol
        )
        self.frames()

    def click(self, widget: QWidget, at: QPoint | None = None) -> None:
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, pos=at or widget.rect().center())

    def type(self, name: str, text: str) -> None:
        field = self.plan.field(name)
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, text) if text else QTest.keyClick(field, Qt.Key.Key_Delete)

    def key(
        self,
        widget: QWidget,
        key: Qt.Key,
        modifiers: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier,
    ) -> None:
        QTest.keyClick(widget, key, modifiers)

    def place(self, **fields: str) -> TradeView:
        """Type a plan, place it with the keyboard, and wait until it is protected."""
        for name, text in fields.items():
            self.type(name, text)
        known = {trade.id for trade in self.now.trades}
        assert self.plan.button.isEnabled(), self.plan.trouble.text()
        self.key(self.window, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
        found = self.until(
            lambda s: any(
                t.id not in known and t.state == states.PROTECTED and t.symbol == self.helm.symbol
                for t in s.trades
            )
        )
        self.frames()
        return next(t for t in found.trades if t.id not in known)

    def trade(self, name: str) -> TradeView:
        found = self.now.trade(name)
        assert found is not None
        return found

    def drag_scale(self, start: int, end: int, drop: bool = True) -> None:
        """Drag the mark at level `start` of the R scale to level `end`, in ticks."""
        x = 14
        a, b = (QPoint(x, round(self.scale._y(level))) for level in (start, end))
        QTest.mousePress(self.scale, Qt.MouseButton.LeftButton, pos=a)
        for part in (0.25, 0.5, 0.75, 1.0):
            point = QPointF(a) + (QPointF(b) - QPointF(a)) * part
            QTest.mouseMove(self.scale, point.toPoint())
        if drop:
            QTest.mouseRelease(self.scale, Qt.MouseButton.LeftButton, pos=b)

    def _on_chart(self, price: float) -> QPoint:
        """Where a price stands in the chart, a fifth of the way from its left edge."""
        view = self.chart.view
        return QPoint(round(view.width / 5), round(view.y(price)))

    def take_line(self, line: Level) -> None:
        """Press the mouse on a line of the chart."""
        QTest.mouseMove(self.chart.plot, self._on_chart(line.price))
        QTest.mousePress(self.chart.plot, Qt.MouseButton.LeftButton, pos=self._on_chart(line.price))

    def drag_line(self, price: float) -> None:
        """Move what was taken to a price."""
        goal = self._on_chart(price)
        for short in (6, 3, 0):
            QTest.mouseMove(self.chart.plot, QPoint(goal.x(), goal.y() + short))
        self._mouse_at = goal

    def drop_line(self) -> None:
        QTest.mouseRelease(self.chart.plot, Qt.MouseButton.LeftButton, pos=self._mouse_at)


def news_known(snapshot: Snapshot) -> bool:
    """Whether the calendars have been read, which takes a moment after a start."""
    return not any(closed.code == UNREAD for one in snapshot.instruments for closed in one.closed)


@pytest.fixture(scope="session", autouse=True)
def quick() -> Iterator[None]:
    """Leave out what only costs time: the same days are made and the same news is read once for all
    tests, a picture comes as soon as it may, and memory is collected between tests, on the thread
    that windows belong to."""
    days: dict[tuple[object, ...], Day] = {}
    make = Stream._make

    def made(stream: Stream, number: int) -> Day:
        # made from another's day, and so from more than its own figures
        if stream.base is not None:
            return make(stream, number)
        key = (
            stream.instrument,
            stream.character,
            stream._seed,
            stream._index,
            stream._price,
            stream._logvol,
            number,
        )
        if key not in days:
            days[key] = make(stream, number)
        return days[key]

    demo, apart = NEWS.read_bytes(), newsics.read_apart

    def read(data: bytes, *asked: Any) -> tuple[tuple[NewsEvent, ...], int]:
        return newsics._read(data, *asked[:3]) if data == demo else apart(data, *asked)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(Stream, "_make", made)
        patch.setattr(newsics, "read_apart", read)
        patch.setattr("hawser.service.runtime.engine_thread.FRAME", FRAME)
        patch.setattr("hawser.service.runtime.engine_thread.settle_memory", lambda: None)
        gc.collect()
        gc.freeze()
        gc.disable()
        yield
        gc.enable()


@pytest.fixture
def open_desk(qtbot, tmp_path, morning) -> Iterator[Callable[..., Trader]]:
    """Opens windows of the same profile, one after another."""
    patience = Patience(qtbot)
    opened = patience.windows
    shutil.copytree(morning, tmp_path, dirs_exist_ok=True)

    def start(
        speed: float = 10.0, running: bool = True, make=boot, name: str = "demo", **options
    ) -> Trader:
        window = make_window(
            profile(name, tmp_path),
            make,
            "test",
            speed,
            running,
            zone="Europe/Zurich",
            real=lambda: patience.real,
            **options,
        )
        opened.append(window)
        window.show()
        window.runtime.start()
        trader = Trader(window, patience)
        trader.until(
            lambda s: s.link_up and not s.closed and window.helm.symbol and news_known(s), 60
        )
        patience.waitUntil(lambda: window.helm.chart.scale.focus is not None, timeout=20_000)
        trader.frames()
        return trader

    yield start
    for window in opened:
        window.close()
    for _ in range(10):  # what is still to be shown is shown while there is something to show it
        QApplication.processEvents()
    for window in opened:
        window.deleteLater()
    opened.clear()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    gc.collect()


@pytest.fixture
def trader(open_desk) -> Trader:
    return open_desk()
