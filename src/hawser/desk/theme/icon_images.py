"""Hawser's own stroke icons, tinted to the palette."""

from __future__ import annotations

from functools import cache
from pathlib import Path

from PyQt6.QtCore import QByteArray, QSize, Qt
from PyQt6.QtGui import QColor, QIcon, QPainter, QPixmap
from PyQt6.QtSvg import QSvgRenderer


def icon(name: str, color: QColor) -> QIcon:
    """The icon `name` drawn in `color`."""
    return _icon(name, color.name())


@cache
def _icon(name: str, color: str, side: int = 24, ratio: float = 2.0) -> QIcon:
    text = Path(__file__).with_name("icons").joinpath(f"{name}.svg").read_text("utf-8")
    renderer = QSvgRenderer(QByteArray(text.replace("#000", color).encode()))
    pixmap = QPixmap(QSize(int(side * ratio), int(side * ratio)))
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    renderer.render(painter)
    painter.end()
    pixmap.setDevicePixelRatio(ratio)
    return QIcon(pixmap)
