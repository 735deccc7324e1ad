"""What a source says, on the bars."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QLineF, QPointF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from hawser.core.indicators import Array
from hawser.desk.chart.strokes import drawable
from hawser.desk.chart.surface import Layer
from hawser.desk.chart.viewport import Viewport
from hawser.desk.common.appearance import Appearance
from hawser.desk.models.pyramid import Pyramid

HALF, GAP, APART = 4.5, 5.0, 13.0  # pixels: of a mark, from its bar, and to another source's
DENSE = 250  # marks in view; more are drawn as short strokes
STROKE, CROSS = 8.0, 3.0


class SaidLayer(Layer):
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
        from hawser.core.rules.bar_close import EITHER

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
