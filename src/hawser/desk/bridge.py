"""Signals from the engine's thread to the windows: immutable values, delivered on the Qt thread."""

from __future__ import annotations

from PyQt6.QtCore import QObject, pyqtSignal

from hawser.core.bars import Bars
from hawser.desk.chart.pyramid import Pyramid
from hawser.service.runtime import Hooks


class Bridge(QObject):
    """One signal for each hook of the runtime."""

    snapshot = pyqtSignal(object)
    lines = pyqtSignal(object)
    told = pyqtSignal(object)
    bars = pyqtSignal(str, object, object)
    bar = pyqtSignal(object)
    ready = pyqtSignal()
    fault = pyqtSignal(str)
    failed = pyqtSignal(str)

    def hooks(self) -> Hooks:
        return Hooks(
            snapshot=self.snapshot.emit, lines=self.lines.emit, told=self.told.emit, bars=self._bars,
            bar=self.bar.emit, ready=self.ready.emit, fault=self.fault.emit, failed=self.failed.emit,
        )  # fmt: skip

    def _bars(self, symbol: str, span: int, bars: Bars) -> None:
        """Made on the engine's thread, so that a long history never holds the window up."""
        self.bars.emit(symbol, span, Pyramid(bars))
