"""Plain strokes over bars: a stepped line, a line up or across, the crosshair."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from PyQt6 import sip
from PyQt6.QtCore import QLineF, QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from hawser.core.indicators import Array
from hawser.desk.chart.surface import Layer
from hawser.desk.chart.viewport import Viewport
from hawser.desk.common.appearance import Appearance

Points = Sequence[tuple[float, float]]  # bar number and price


def steps(points: Points, end: float) -> list[tuple[float, float]]:
    """A level that changes at each point and stays until the next, up to `end`, as the corners of a
    line."""
    found: list[tuple[float, float]] = []
    for at, level in points:
        if found:
            found.append((at, found[-1][1]))
        found.append((at, level))
    return [*found, (end, found[-1][1])] if found else []


def drawable(kind: type[QLineF | QRectF | QPointF], *columns: Array | float) -> Any:
    """Lines (x, y, x, y), boxes (x, y, width, height) or points (x, y) for a QPainter, without an
    object for each;
    columns are as long as each other, or one figure for all."""
    size = min((np.size(column) for column in columns if isinstance(column, np.ndarray)), default=1)
    found: Any = sip.array(kind, size)  # type: ignore[call-arg]  # the stubs know no arguments
    if size:
        rows = np.frombuffer(found, np.float64).reshape(size, len(columns))
        for number, column in enumerate(columns):
            rows[:, number] = column
    return found


class Polyline(Layer):
    """Points joined by a line."""

    def __init__(self, appearance: Appearance, tone: str, width: float, dash: bool = False) -> None:
        self._appearance, self._tone, self._width = appearance, tone, width
        self._style = Qt.PenStyle.DashLine if dash else Qt.PenStyle.SolidLine
        self.points: Points = ()

    def show_points(self, points: Points) -> None:
        if points != self.points:
            self.points = points
            self.changed()

    def paint(self, painter: QPainter, view: Viewport) -> None:
        if self.points:
            painter.setPen(QPen(self._appearance.color(self._tone), self._width, self._style))
            painter.drawPolyline(
                QPolygonF([QPointF(view.x(bar), view.y(price)) for bar, price in self.points])
            )


class Crosshair(Layer):
    """Two dotted lines through the bar under the pointer and the pointer's price."""

    kept = False

    def __init__(self, appearance: Appearance) -> None:
        self._appearance = appearance
        self.at: tuple[float, float] | None = None

    def show_at(self, at: tuple[float, float] | None) -> None:
        if at != self.at:
            self.at = at
            self.changed()

    def paint(self, painter: QPainter, view: Viewport) -> None:
        if self.at is None:
            return
        x, y = view.x(round(self.at[0])), view.y(self.at[1])
        painter.setPen(QPen(self._appearance.color("ink2"), 1, Qt.PenStyle.DotLine))
        painter.drawLine(QLineF(x, 0, x, view.height))
        painter.drawLine(QLineF(0, y, view.width, y))
