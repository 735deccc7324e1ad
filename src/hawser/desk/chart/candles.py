"""Bars as candles: rising ones outlined, falling ones filled, both in ink."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QLineF, QRectF
from PyQt6.QtGui import QBrush, QPainter, QPen

from hawser.desk.chart.strokes import drawable
from hawser.desk.chart.surface import Layer
from hawser.desk.chart.viewport import Viewport
from hawser.desk.common.appearance import Appearance
from hawser.desk.models.pyramid import DrawnColumns, Pyramid

MOST_COLUMNS = 560
HALF = 0.34  # of a bar's width: half its body


def paint_columns(
    painter: QPainter, view: Viewport, columns: DrawnColumns, appearance: Appearance
) -> None:
    """Columns of bars; the painter's brush and pen are another's afterwards."""
    x, half = view.xs(columns.x), max(0.5, HALF * columns.width * view.across)
    high, low = view.ys(columns.high), view.ys(columns.low)
    top = view.ys(np.maximum(columns.open, columns.close))
    bottom = view.ys(np.minimum(columns.open, columns.close))
    up, ink = columns.close >= columns.open, appearance.color("ink")
    painter.setPen(QPen(ink, 1))
    painter.drawLines(drawable(QLineF, x, high, x, top))
    painter.drawLines(drawable(QLineF, x, bottom, x, low))
    for kind, brush in ((up, appearance.color("panel")), (~up, ink)):
        painter.setBrush(QBrush(brush))
        painter.drawRects(
            drawable(QRectF, x[kind] - half, top[kind], 2 * half, (bottom - top)[kind])
        )


class Candles(Layer):
    """The completed bars."""

    def __init__(self, appearance: Appearance) -> None:
        self._appearance = appearance
        self._pyramid: Pyramid | None = None

    def show_bars(self, pyramid: Pyramid) -> None:
        if pyramid is not self._pyramid:
            self._pyramid = pyramid
            self.changed()

    def paint(self, painter: QPainter, view: Viewport) -> None:
        if self._pyramid is not None and self._pyramid.size:
            paint_columns(
                painter,
                view,
                self._pyramid.columns(view.left, view.right, MOST_COLUMNS),
                self._appearance,
            )


class FormingCandle(Layer):
    """The bar that is not complete yet, behind the newest."""

    kept = False

    def __init__(self, appearance: Appearance) -> None:
        self._appearance = appearance
        self.at = 0  # its number
        self.bar: tuple[float, ...] | None = None

    def show_bar(self, at: int, bar: tuple[float, ...] | None) -> None:
        if (at, bar) != (self.at, self.bar):
            self.at, self.bar = at, bar
            self.changed()

    def paint(self, painter: QPainter, view: Viewport) -> None:
        if self.bar is not None and view.right >= self.at - 1:
            figures = (np.array([figure]) for figure in (self.at, *self.bar[1:6]))
            paint_columns(painter, view, DrawnColumns._make((*figures, 1)), self._appearance)
