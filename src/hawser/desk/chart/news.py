"""News on the chart: each event where it stands in time, behind and ahead of the newest bar, and
the time around it in which a guard closes entries."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QLineF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPen

from hawser.desk.chart.surface import Layer
from hawser.desk.chart.viewport import Viewport
from hawser.desk.common.appearance import Appearance
from hawser.desk.models import figures as fg
from hawser.desk.theme.fonts import font
from hawser.service.views.news import NewsMark

BESIDE = 4.0  # pixels between an event's line and its words
ABOVE = 58.0  # pixels from the plot's foot to the first words, over the spread's ribbon
WORDS_PX = 16.0  # and from there to the next
NAMED = 3  # events to come that are named
TALL, HIGHER = 23.0, 6  # pixels that a level's words take; rows that an event's words give way by


class NewsLines(Layer):
    """A line for each event, dotted where it closes nothing; what closes entries as a band. `at`
    gives a moment's place among the bars, those to come among them."""

    def __init__(self, appearance: Appearance, at: Callable[[int], float]) -> None:
        self._appearance, self._at = appearance, at
        self.marks: tuple[NewsMark, ...] = ()
        self.now = 0  # UTC ns
        self._taken: list[tuple[float, float, float]] = []

    def show_marks(self, marks: tuple[NewsMark, ...], now: int) -> None:
        self.now = now
        if marks is not self.marks and marks != self.marks:
            self.marks = marks
            self.changed()

    def keep_clear(self, taken: list[tuple[float, float, float]]) -> None:
        """Where levels have their words: left, right and top, in pixels of the view."""
        if taken != self._taken:
            self._taken = taken
            self.changed()

    def in_view(self, view: Viewport) -> list[tuple[float, float, float, NewsMark]]:
        """Where each event that shows stands, and where its band begins and ends."""
        found = []
        for mark in self.marks:
            x, left, right = self._at(mark.time), self._at(mark.starts), self._at(mark.ends)
            if left <= view.right and right >= view.left:
                found.append((x, left, right, mark))
        return found

    def nearest(self, view: Viewport, x: float, reach: float) -> NewsMark | None:
        """The event within `reach` bars of a place."""
        near = [
            (abs(at - x), mark) for at, _, _, mark in self.in_view(view) if abs(at - x) <= reach
        ]
        # of several at one time the first
        return min(near, key=lambda one: one[0], default=(0.0, None))[1]

    def paint(self, painter: QPainter, view: Viewport) -> None:
        found, high = self.in_view(view), view.height
        for _, left, right, mark in found:
            if mark.closes:
                band = QRectF(view.x(left), 0, view.x(right) - view.x(left), high)
                painter.fillRect(band, self._appearance.color("caution", 26))
        for x, _, _, mark in found:
            self._stand(painter, view.x(x), mark, high - ABOVE, high)
        named = [
            (view.x(x), mark) for x, _, _, mark in found if mark.closes and mark.ends > self.now
        ][:NAMED]
        boxes = self.boxes([(x, _words(mark, self._appearance)) for x, mark in named], view)
        painter.setFont(font(10))
        for (x, mark), box in zip(named, boxes, strict=False):
            self._stand(painter, x, mark, box.top(), high)
            painter.fillRect(box, self._appearance.color("panel", 220))
            painter.setPen(self._appearance.color("caution"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, _words(mark, self._appearance))

    def _stand(self, painter: QPainter, x: float, mark: NewsMark, top: float, foot: float) -> None:
        """The event's line, up to its words where it has some."""
        style = Qt.PenStyle.SolidLine if mark.closes else Qt.PenStyle.DotLine
        painter.setPen(QPen(self._appearance.color("caution" if mark.closes else "ink2"), 1, style))
        painter.drawLine(QLineF(x, foot, x, top))

    def boxes(self, named: list[tuple[float, str]], view: Viewport) -> list[QRectF]:
        """Where words stand: each a row higher than those before, or some rows higher yet where a
        level has its words; as many as there is room for, and the crosshair tells the others."""
        words, newest = QFontMetricsF(font(10)), view.x(self._at(self.now))
        taken = [QRectF(left, top, right - left, TALL) for left, right, top in self._taken]
        found: list[QRectF] = []
        for row, (x, text) in enumerate(named):
            wide = words.horizontalAdvance(text) + 4
            left = x + BESIDE
            if left + wide > view.width:  # on the other side of its line, if not over bars
                left = x - BESIDE - wide
                if left < newest:
                    break
            tops = (
                view.height - ABOVE - WORDS_PX * (row + higher / 2) for higher in range(2 * HIGHER)
            )
            boxes = (QRectF(left, top, wide, WORDS_PX) for top in tops)
            box = next(
                (one for one in boxes if not any(one.intersects(other) for other in taken)), None
            )
            if box is None:
                break
            found.append(box)
            taken.append(box)
        return found


def _words(mark: NewsMark, appearance: Appearance) -> str:
    return f"{fg.clock(mark.time, appearance.zone, seconds=False)} {mark.currency} {mark.impact}"
