"""The spread over time, as a ribbon at the foot of the chart, with the limit that a guard has for
it."""

from __future__ import annotations

import math

import numpy as np
from PyQt6.QtCore import QLineF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen

from hawser.core.indicators import Array
from hawser.desk.chart.candles import MOST_COLUMNS
from hawser.desk.chart.strokes import drawable
from hawser.desk.chart.surface import Layer
from hawser.desk.chart.viewport import Viewport
from hawser.desk.common.appearance import Appearance
from hawser.desk.models.pyramid import Pyramid

PART = 0.07  # of the plot's height
OVER = 1.5  # times its limit: what the ribbon's height stands for


class Ribbon(Layer):
    """One column for each bar (the widest of those that share one); beyond the limit in the guards'
    colour."""

    def __init__(self, appearance: Appearance) -> None:
        self._appearance = appearance
        self._pyramid: Pyramid | None = None
        self.limit = math.nan  # ticks

    def show_bars(self, pyramid: Pyramid | None) -> None:
        if pyramid is not self._pyramid:
            self._pyramid = pyramid
            self.changed()

    def show_limit(self, limit: float) -> bool:
        """In ticks; NaN: no guard has one. Whether it is another than before."""
        if limit == self.limit or (math.isnan(limit) and math.isnan(self.limit)):
            return False
        self.limit = limit
        self.changed()
        return True

    def columns(self, left: float, right: float) -> tuple[Array, Array, int]:
        """Where each column stands, its spread in ticks, and how many bars it is wide."""
        assert self._pyramid is not None
        columns = self._pyramid.columns(left, right, MOST_COLUMNS)
        known = ~np.isnan(columns.spread)
        return columns.x[known], columns.spread[known], columns.width

    def paint(self, painter: QPainter, view: Viewport) -> None:
        if self._pyramid is None or not self._pyramid.size:
            return
        at, spread, each = self.columns(view.left, view.right)
        if not spread.size:
            return
        whole = OVER * self.limit if self.limit > 0 else float(spread.max()) or 1.0
        room = view.height * PART
        heights = np.minimum(spread / whole, 1.0) * room
        over = spread > self.limit  # never where there is none
        left, wide = view.xs(at - 0.4 * each), 0.8 * each * view.across
        painter.setPen(Qt.PenStyle.NoPen)
        for shut, role in ((False, "hairline"), (True, "caution")):
            painter.setBrush(self._appearance.color(role))
            kind = over == shut
            painter.drawRects(
                drawable(QRectF, left[kind], (view.height - heights)[kind], wide, heights[kind])
            )
        if self.limit > 0:
            painter.setPen(QPen(self._appearance.color("caution"), 1, Qt.PenStyle.DotLine))
            y = view.height - room / OVER
            painter.drawLine(QLineF(0, y, view.width, y))
