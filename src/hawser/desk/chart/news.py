"""News on the chart: each event where it stands in time, behind and ahead of the newest bar, and the time around it in
which a guard closes entries."""

from __future__ import annotations

from collections.abc import Callable

import pyqtgraph as pg
from PyQt6.QtCore import QLineF, QPointF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPen

from hawser.desk import figures as fg
from hawser.desk.look import Look
from hawser.desk.theme.fonts import font
from hawser.service.newsmarks import NewsMark

FAR = 1e9
BESIDE = 4.0  # pixels between an event's line and its words
ABOVE, ROW = 58.0, 16.0  # pixels from the plot's foot to the first words, over the spread's ribbon; and to the next
NAMED = 3  # events to come that are named


class NewsLines(pg.GraphicsObject):
    """A line for each event, dotted where it closes nothing; what closes entries as a band. `at` gives a moment's place
    among the bars, those to come among them."""

    def __init__(self, look: Look, at: Callable[[int], float]) -> None:
        super().__init__()
        self._look, self._at = look, at
        self.marks: tuple[NewsMark, ...] = ()
        self.now = 0  # UTC ns
        self.setZValue(-6)

    def show_marks(self, marks: tuple[NewsMark, ...], now: int) -> None:
        self.now = now
        if marks is not self.marks and marks != self.marks:
            self.marks = marks
            self.update()

    def boundingRect(self) -> QRectF:
        return QRectF(-FAR, -FAR, 2 * FAR, 2 * FAR)

    def in_view(self) -> list[tuple[float, float, float, NewsMark]]:
        """Where each event that shows stands, and where its band begins and ends."""
        view, found = self.viewRect(), []
        for mark in self.marks:
            x, left, right = self._at(mark.time), self._at(mark.starts), self._at(mark.ends)
            if left <= view.right() and right >= view.left():
                found.append((x, left, right, mark))
        return found

    def nearest(self, x: float, reach: float) -> NewsMark | None:
        """The event within `reach` bars of a place."""
        near = [(abs(at - x), mark) for at, _, _, mark in self.in_view() if abs(at - x) <= reach]
        return min(near, key=lambda one: one[0], default=(0.0, None))[1]  # of several at one time the first

    def paint(self, painter: QPainter, *args: object) -> None:
        found, view = self.in_view(), self.viewRect()
        for _, left, right, mark in found:
            if mark.closes:
                painter.fillRect(QRectF(left, view.top(), right - left, view.height()), self._look.color("caution", 26))
        named = [(x, mark) for x, _, _, mark in found if mark.closes and mark.ends > self.now][:NAMED]
        device = painter.worldTransform()
        painter.save()
        painter.resetTransform()
        for x, _, _, mark in found:
            place = device.map(QPointF(x, view.top()))  # the view's top is its lowest price: the foot of the plot
            row = next((row for row, (_, other) in enumerate(named) if other is mark), -1)
            self._stand(painter, place, mark, row)
        for row, (x, mark) in enumerate(named):
            self._name(painter, device.map(QPointF(x, view.top())), mark, row)
        painter.restore()

    def _stand(self, painter: QPainter, foot: QPointF, mark: NewsMark, row: int) -> None:
        """The event's line, up to its words where it has some."""
        style = Qt.PenStyle.SolidLine if mark.closes else Qt.PenStyle.DotLine
        painter.setPen(QPen(self._look.color("caution" if mark.closes else "ink2"), 1, style))
        painter.drawLine(QLineF(foot, foot - QPointF(0, ABOVE + ROW * max(0, row))))

    def _name(self, painter: QPainter, foot: QPointF, mark: NewsMark, row: int) -> None:
        text = f"{fg.clock(mark.time, self._look.zone, seconds=False)} {mark.currency} {mark.impact}"
        words = QFontMetricsF(font(10))
        at = foot + QPointF(BESIDE, -ABOVE - ROW * row + words.ascent())
        box = QRectF(at.x() - 2, at.y() - words.ascent(), words.horizontalAdvance(text) + 4, words.height())
        painter.fillRect(box, self._look.color("panel", 220))
        painter.setFont(font(10))
        painter.setPen(self._look.color("caution"))
        painter.drawText(at, text)
