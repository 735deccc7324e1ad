"""Bars that are looked at for what is drawn over them: the newest at the right, with room for words
behind them; moved and zoomed by mouse and keys."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QFrame, QVBoxLayout

from hawser.core.instrument import Instrument
from hawser.desk.chart.axes import PriceAxis, TimeAxis
from hawser.desk.chart.candles import Candles
from hawser.desk.chart.surface import Surface
from hawser.desk.chart.viewport import Viewport
from hawser.desk.common.appearance import Appearance
from hawser.desk.models.pyramid import Pyramid

# bars shown at first and at least; the part on the right kept for words
BEGINS, FEWEST, ROOM = 130.0, 24.0, 0.22
PLACE = 0.6  # of the width: where a bar stands that was out of sight


class BarsChart(QFrame):
    """A plot with its axes and bars; who inherits adds what lies over them."""

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self._instrument: Instrument | None = None
        self._pyramid: Pyramid | None = None
        self.shown, self._right = BEGINS, 0.0
        self.plot = Surface(appearance)
        self._time_axis, self._price_axis, self._candles = (
            TimeAxis(appearance),
            PriceAxis(appearance),
            Candles(appearance),
        )
        self.plot.add(self._price_axis, self._time_axis, self._candles)
        self.plot.resized.connect(self.set_range)
        self.plot.zoomed.connect(self.zoom)
        self.plot.panned.connect(self.pan)
        self.plot.pressed.connect(self._pressed)
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(0)
        self.column.addWidget(self.plot, 1)

    @property
    def view(self) -> Viewport:
        """What part of the bars and prices is seen."""
        return self.plot.view

    @property
    def size(self) -> int:
        return self._pyramid.size if self._pyramid is not None else 0

    def show_bars(self, instrument: Instrument, span: int, pyramid: Pyramid) -> bool:
        """Another history, or the same with another bar at its end: whether it is that."""
        same = (
            self._pyramid is not None
            and self._time_axis.span == span
            and self._instrument == instrument
        )
        if same and self._right > 0:  # what a person looks at stays where it is
            self._right += max(0, pyramid.size - self.size)
        self._instrument, self._pyramid = instrument, pyramid
        self._price_axis.digits = instrument.price_digits
        self._time_axis.show_times(pyramid.bars.time, span)
        self._candles.show_bars(pyramid)
        if not same:
            self.shown, self._right = BEGINS, 0.0
        self.set_range()
        return same

    def prices(self) -> list[tuple[float, float]]:
        """What of that which lies over the bars must be in sight too: lowest and highest each."""
        return []

    def set_range(self) -> None:
        if self._pyramid is None:
            return
        self.shown = min(max(FEWEST, self.shown), max(FEWEST, float(self.size)))
        self._right = min(max(0.0, self._right), max(0.0, self.size - FEWEST))
        right = self.size - self._right
        self.plot.see(right - self.shown, right + self.shown * ROOM)
        found = self._pyramid.extremes(self.view.left, self.view.right)
        if found is not None:
            low, high = found
            reach = 0.5 * (high - low)  # what is farther away would crush the bars
            for least, most in self.prices():
                low, high = min(low, max(least, low - reach)), max(high, min(most, high + reach))
            room = (high - low) * 0.06 or abs(high) * 0.001
            self.plot.see_prices(low - room, high + room)

    def bring(self, bar: int) -> None:
        """Move a bar into sight that is not."""
        if not self.view.left < bar < self.view.right:
            self._right = self.size - (bar + self.shown * PLACE)
            self.set_range()

    def pan(self, bars: float) -> None:
        self._right += bars
        self.set_range()

    def zoom(self, factor: float) -> None:
        self.shown *= factor
        self.set_range()

    def _pressed(self, event: QKeyEvent) -> None:
        event.setAccepted(
            self.key(event.key(), bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
        )

    def key(self, key: int, shift: bool) -> bool:
        """Keys of the chart; True where it was one."""
        keys = Qt.Key
        if key not in (keys.Key_Plus, keys.Key_Equal, keys.Key_Minus):
            return False
        self.zoom(1.25 if key == keys.Key_Minus else 0.8)
        return True
