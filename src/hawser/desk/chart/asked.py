"""The bar of a chart that is asked about."""

from __future__ import annotations

from PyQt6.QtCore import QLineF, Qt
from PyQt6.QtGui import QPainter, QPen

from hawser.desk.chart.surface import Layer
from hawser.desk.chart.viewport import Viewport
from hawser.desk.common.appearance import Appearance


class Asked(Layer):
    """The bar that is asked about; dotted while it only lies under the pointer."""

    kept = False

    def __init__(self, appearance: Appearance) -> None:
        self._appearance = appearance
        self.bar, self.fixed = -1, False

    def show_bar(self, bar: int, fixed: bool) -> None:
        if (bar, fixed) != (self.bar, self.fixed):
            self.bar, self.fixed = bar, fixed
            self.changed()

    def paint(self, painter: QPainter, view: Viewport) -> None:
        if self.bar >= 0:
            style = Qt.PenStyle.SolidLine if self.fixed else Qt.PenStyle.DotLine
            painter.setPen(QPen(self._appearance.color("ink2", 120), 1, style))
            painter.drawLine(QLineF(view.x(self.bar), 0, view.x(self.bar), view.height))
