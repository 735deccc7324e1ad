"""Level lines across a chart with their words: stop, targets, entry, and what else waits at a
price."""

from __future__ import annotations

from functools import lru_cache

from PyQt6.QtCore import QLineF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPen

from hawser.desk.chart.surface import Grip, Layer
from hawser.desk.chart.viewport import Viewport
from hawser.desk.common.appearance import Appearance
from hawser.desk.theme.fonts import font

WORDS_HIGH = 17
# where words end if nothing is in their way, a part of the width; and pixels between two
RIGHT, APART = 0.995, 6.0
HOVERED = 1.5  # pixels that a line is thicker under the pointer


class Level(Grip):
    """One line at a price; can be dragged where `movable`. `role` is stop, target, entry or
    another."""

    def __init__(self, role: str, number: int = 0) -> None:
        self.role, self.number = role, number
        self.price, self.text = 0.0, ""
        self.tone, self.dash, self.width = "ink2", False, 1.0
        self.words = QRectF()  # where its words stand

    def style(self, tone: str, dash: bool = False, width: float = 1.0) -> None:
        self.tone, self.dash, self.width = tone, dash, width

    def place(self, price: float, text: str) -> None:
        """Move the line and its words; a line being dragged stays with the pointer."""
        if not self.dragging:
            self.price = price
        self.text = text

    def y(self, view: Viewport) -> float:
        return view.y(self.price)

    def drag_to(self, price: float) -> None:
        self.price = price


class LevelLines(Layer):
    """The lines there are, in front of the bars."""

    kept = False

    def __init__(self, appearance: Appearance) -> None:
        self._appearance = appearance
        self.lines: list[Level] = []

    def paint(self, painter: QPainter, view: Viewport) -> None:
        part_words(self.lines, view)
        painter.setFont(font(11))
        for line in self.lines:
            y, color = line.y(view), self._appearance.color(line.tone)
            if not 0 <= y <= view.height:
                continue
            under = self.surface is not None and line.movable and self.surface.hovers(line)
            style = Qt.PenStyle.DashLine if line.dash else Qt.PenStyle.SolidLine
            painter.setPen(QPen(color, line.width + (HOVERED if under else 0.0), style))
            painter.drawLine(QLineF(0, y, view.width, y))
        for line in self.lines:  # in front of all of them
            if line.text and 0 <= line.y(view) <= view.height:
                painter.fillRect(line.words, self._appearance.color("panel"))
                painter.setPen(self._appearance.color(line.tone))
                painter.drawText(line.words, Qt.AlignmentFlag.AlignCenter, line.text)


@lru_cache(1024)
def words_wide(text: str) -> float:
    """Pixels that words take, with a margin."""
    return QFontMetricsF(font(11)).horizontalAdvance(text) + 8.0


def part_words(lines: list[Level], view: Viewport) -> list[tuple[float, float, float]]:
    """Give each line's words a place where they cover no other line's: above or below it at the
    right end, else as near to that as there is room. Returns the places: left, right, top, in
    pixels of the plot."""
    taken: list[tuple[float, float, float]] = []
    for line in sorted(lines, key=lambda line: -line.price):
        y, wide = line.y(view), words_wide(line.text)
        free = []
        for above in (1, 0):
            top = y - WORDS_HIGH if above else y
            beside = [(left, right) for left, right, at in taken if abs(top - at) < WORDS_HIGH]
            ends = [RIGHT * view.width, *(left - APART for left, _ in beside)]
            right = max(
                end for end in ends if all(end <= left or end - wide >= to for left, to in beside)
            )
            free.append((right, above, top))
        right, _, top = max(free, key=lambda place: place[0])
        taken.append((right - wide, right, top))
        line.words = QRectF(right - wide, top + 1, wide, WORDS_HIGH - 2)
    return taken


def spread(places: list[float], apart: float, most: float) -> list[float]:
    """Places (pixels from the top) moved so far that each is `apart` from the next, in the same
    order, none beyond `most` as long as there is room."""
    order = sorted(range(len(places)), key=places.__getitem__)
    found, least = list(places), apart / 2
    for index in order:
        found[index] = least = max(least, places[index])
        least += apart
    limit = most - apart / 2
    for index in reversed(order):
        found[index] = limit = min(limit, found[index])
        limit -= apart
    return found
