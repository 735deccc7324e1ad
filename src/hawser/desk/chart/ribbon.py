"""The spread over time, as a ribbon at the foot of the chart, with the limit that a guard has for it."""

from __future__ import annotations

import math

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QLineF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen

from hawser.desk.chart.items import drawable
from hawser.desk.chart.pyramid import Pyramid
from hawser.desk.common.appearance import Appearance

PART = 0.07  # of the plot's height
OVER = 1.5  # times its limit: what the ribbon's height stands for
MOST = 600  # columns drawn


class Ribbon(pg.GraphicsObject):
    """One column for each bar (the widest of those that share one); beyond the limit in the guards' colour."""

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self._look = look
        self._pyramid: Pyramid | None = None
        self.limit = math.nan  # ticks
        self.setZValue(-5)

    def show_bars(self, pyramid: Pyramid | None) -> None:
        if pyramid is not self._pyramid:
            self.prepareGeometryChange()
            self._pyramid = pyramid
        self.update()

    def show_limit(self, limit: float) -> bool:
        """In ticks; NaN: no guard has one. Whether it is another than before."""
        if limit == self.limit or (math.isnan(limit) and math.isnan(self.limit)):
            return False
        self.limit = limit
        self.update()
        return True

    def boundingRect(self) -> QRectF:
        if self._pyramid is None or not self._pyramid.size:
            return QRectF()
        return QRectF(-1, -1e9, self._pyramid.size + 3, 2e9)

    def columns(self, left: float, right: float) -> tuple[np.ndarray, np.ndarray, float]:
        """Where each column stands, its spread in ticks, and how many bars it is wide."""
        assert self._pyramid is not None
        first, last = max(0, math.floor(left)), min(self._pyramid.size, math.ceil(right) + 1)
        spread = self._pyramid.bars.spread[first:last]
        each = max(1, math.ceil(spread.size / MOST))
        room = np.full(-(-spread.size // each) * each, np.nan)
        room[: spread.size] = spread
        grouped = np.where(np.isnan(room), -1.0, room).reshape(-1, each).max(axis=1)
        at = first + (np.arange(grouped.size) + 0.5) * each - 0.5
        return at[grouped >= 0], grouped[grouped >= 0], float(each)

    def paint(self, painter: QPainter, *args: object) -> None:
        if self._pyramid is None or not self._pyramid.size:
            return
        view = self.viewRect()
        at, spread, each = self.columns(view.left(), view.right())
        if not spread.size:
            return
        whole = OVER * self.limit if self.limit > 0 else float(spread.max()) or 1.0
        foot, high = view.top(), view.height() * PART  # the view's top is its lowest price
        heights = np.minimum(spread / whole, 1.0) * high
        over = spread > self.limit  # never where there is none
        painter.setPen(Qt.PenStyle.NoPen)
        for shut, role in ((False, "hairline"), (True, "caution")):
            painter.setBrush(self._look.color(role))
            kind = over == shut
            painter.drawRects(drawable(QRectF, at[kind] - 0.4 * each, foot, 0.8 * each, heights[kind]))
        if self.limit > 0:
            pen = QPen(self._look.color("caution"), 1, Qt.PenStyle.DotLine)
            pen.setCosmetic(True)
            painter.setPen(pen)
            y = foot + high / OVER
            painter.drawLine(QLineF(view.left(), y, view.right(), y))
