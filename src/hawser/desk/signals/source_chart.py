"""The bars with what a source does on them: its lines, where it enters and leaves, another source
beside it, and the bar that is asked about."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QLineF, QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from hawser.core.indicators import Array
from hawser.core.rules.bar_close import EITHER
from hawser.desk.chart.asked import Asked
from hawser.desk.chart.bars_chart import BarsChart
from hawser.desk.chart.curves import Curves, Legend, Strip
from hawser.desk.chart.strokes import drawable
from hawser.desk.chart.surface import Layer
from hawser.desk.chart.viewport import Viewport
from hawser.desk.common.appearance import Appearance
from hawser.desk.models.curves import Curve, Panel
from hawser.desk.models.pyramid import Pyramid

HALF, GAP, APART = 4.5, 5.0, 13.0  # pixels: of a mark, from its bar, and to another source's
DENSE = 250  # marks in view; more are drawn as short strokes
STROKE, CROSS = 8.0, 3.0


class Said(Layer):
    """Where a source enters, as triangles that point the way of the trade, and where it leaves, as
    crosses: a long above the bar, a short below it. `other`: another source's entries, hollow and
    farther from the bars."""

    def __init__(self, appearance: Appearance, other: bool = False) -> None:
        self._appearance, self._other = appearance, other
        self._pyramid: Pyramid | None = None
        self._signal = self._leave = np.empty(0, np.int8)

    def show_said(self, pyramid: Pyramid | None, signal: Array, leave: Array) -> None:
        self._pyramid, self._signal, self._leave = pyramid, signal, leave
        self.changed()

    def paint(self, painter: QPainter, view: Viewport) -> None:
        if self._pyramid is None:
            return
        begin, end = max(0, int(view.left)), min(self._signal.size, int(view.right) + 2)
        at = begin + np.flatnonzero(self._signal[begin:end])
        for side in (1, -1):
            self._paint_entries(painter, view, at[self._signal[at] == side], side)
        if not self._other:
            for way in (-1, 1):  # out of a long, out of a short
                self._paint_leaves(painter, view, way, begin, end)

    def _paint_entries(self, painter: QPainter, view: Viewport, at: Array, side: int) -> None:
        assert self._pyramid is not None
        bars = self._pyramid.bars
        tone = self._appearance.color("gain" if side > 0 else "loss")
        away = GAP + (APART if self._other else 0.0)
        prices = bars.low[at] if side > 0 else bars.high[at]
        x, y = view.xs(at), view.ys(prices) + side * away
        if at.size > DENSE:
            painter.setPen(QPen(tone, 1))
            painter.drawLines(drawable(QLineF, x, y, x, y + side * STROKE))
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(tone, 1.2))
        painter.setBrush(Qt.BrushStyle.NoBrush if self._other else tone)
        for across, tip in zip(x.tolist(), y.tolist(), strict=True):
            base = tip + side * 1.8 * HALF
            painter.drawPolygon(
                QPolygonF(
                    [
                        QPointF(across, tip),
                        QPointF(across - HALF, base),
                        QPointF(across + HALF, base),
                    ]
                )
            )
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)

    def _paint_leaves(
        self, painter: QPainter, view: Viewport, way: int, begin: int, end: int
    ) -> None:
        """A cross at the first bar of each run that leaves: what repeats changes nothing."""
        assert self._pyramid is not None
        holds = (self._leave[begin:end] == way) | (self._leave[begin:end] == EITHER)
        at = begin + np.flatnonzero(np.diff(np.concatenate([[False], holds]).astype(np.int8)) > 0)
        if at.size > DENSE:
            return
        bars = self._pyramid.bars
        prices = bars.high[at] if way < 0 else bars.low[at]
        x, y = view.xs(at), view.ys(prices) + way * (GAP + CROSS)
        painter.setPen(QPen(self._appearance.color("loss" if way < 0 else "gain"), 1))
        painter.drawLines(drawable(QLineF, x - CROSS, y - CROSS, x + CROSS, y + CROSS))
        painter.drawLines(drawable(QLineF, x - CROSS, y + CROSS, x + CROSS, y - CROSS))


class SourceChart(BarsChart):
    """`asked` tells the bar under the pointer, or the one that was chosen; -1: none. `stepped` asks
    for the next signal, +1, or the one before, -1."""

    asked = pyqtSignal(int)
    stepped = pyqtSignal(int)

    def __init__(self, appearance: Appearance) -> None:
        super().__init__(appearance)
        self._appearance = appearance
        self.chosen = self._hovered = -1
        self.plot.setAccessibleName(
            "Source: point at a bar, or use Left and Right; N next signal, P previous signal"
        )
        self.curves = Curves(appearance)
        self.said, self.other = Said(appearance), Said(appearance, other=True)
        self._asked = Asked(appearance)
        self.plot.add(self.curves, self.other, self.said, self._asked)
        self.plot.hovered.connect(self._hover)
        self.plot.clicked.connect(lambda at: self.choose(round(self.view.bar_at(at.x()))))
        self.legend = Legend(appearance)
        self.column.insertWidget(0, self.legend)
        self.strips: list[Strip] = []
        self._strips_shown = 0

    def show_lines(self, curves: list[Curve], panels: list[Panel]) -> None:
        """The lines of the source."""
        self.curves.show_curves(curves)
        self.legend.show_curves(curves, self._price_axis.digits)
        first = len(curves)
        while len(self.strips) < len(panels):
            self._add_strip()
        for number, strip in enumerate(self.strips):
            strip.setVisible(number < len(panels))
            if number < len(panels):
                panel = panels[number]
                digits = {"range": self._price_axis.digits, "strength": 0}.get(
                    panel.measure, self._price_axis.digits
                )
                strip.show_panel(panel, digits, first)
                first += len(panel.curves)
        self._strips_shown = len(panels)
        self.set_range()

    def _add_strip(self) -> None:
        strip = Strip(self._appearance)
        strip.zoomed.connect(self.zoom)
        strip.panned.connect(self.pan)
        strip.hovered.connect(self._hover)
        strip.clicked.connect(lambda at: self.choose(round(self.view.bar_at(at.x()))))
        strip.resized.connect(lambda: strip.follow(self.view.left, self.view.right))
        self.strips.append(strip)
        self.column.addWidget(strip)

    def show_said(self, signal: Array, leave: Array) -> None:
        self.said.show_said(self._pyramid, signal, leave)

    def show_other(self, signal: Array | None) -> None:
        """Of the source beside it; None: there is none."""
        if signal is None:
            self.other.show_said(None, np.empty(0, np.int8), np.empty(0, np.int8))
        else:
            self.other.show_said(self._pyramid, signal, np.empty(0, np.int8))

    def prices(self) -> list[tuple[float, float]]:
        return self.curves.extremes(self.view)

    def set_range(self) -> None:
        super().set_range()
        for strip in self.strips[: self._strips_shown]:
            strip.follow(self.view.left, self.view.right)

    # The bar that is asked about

    @property
    def bar(self) -> int:
        """The one under the pointer, else the one that was chosen."""
        return self._hovered if self._hovered >= 0 else self.chosen

    def choose(self, bar: int) -> None:
        """Ask about a bar until another is chosen."""
        if not self.size:
            return
        self.chosen = min(max(0, bar), self.size - 1)
        self.bring(self.chosen)
        self._show_asked()

    def forget(self) -> None:
        """No bar is chosen: the bars are others."""
        self.chosen = self._hovered = -1
        self._show_asked()

    def _hover(self, at: QPointF | None) -> None:
        bar = -1 if at is None else round(self.view.bar_at(at.x()))
        self._hovered = bar if 0 <= bar < self.size else -1
        self._show_asked()

    def _show_asked(self) -> None:
        fixed = self.bar == self.chosen
        self._asked.show_bar(self.bar, fixed)
        self.legend.show_bar(self.bar)
        for strip in self.strips:
            strip.show_bar(self.bar, fixed)
        self.asked.emit(self.bar)

    def key(self, key: int, shift: bool) -> bool:
        keys = Qt.Key
        if key in (keys.Key_Left, keys.Key_Right):
            step = (10 if shift else 1) * (1 if key == keys.Key_Right else -1)
            self.choose((self.chosen if self.chosen >= 0 else self.size - 1) + step)
        elif key in (keys.Key_N, keys.Key_P):
            self.stepped.emit(1 if key == keys.Key_N else -1)
        elif key == keys.Key_End:
            self.choose(self.size - 1)
        elif key == keys.Key_Home:
            self.choose(0)
        else:
            return super().key(key, shift)
        return True
