"""A panel that lies over a window. It covers what is below it, and Qt is told so: else each change
of it would have all of that painted again."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPalette
from PyQt6.QtWidgets import QWidget


class Overlay(QWidget):
    """It paints its ground itself: what the style sheet paints is never taken for opaque."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("overlay")
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setPen(self.palette().color(QPalette.ColorRole.Mid))
        painter.setBrush(self.palette().window())
        painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
        painter.end()
