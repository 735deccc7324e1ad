"""Why a source says what it says at one bar: each condition as a row, with its figures and a filled
or hollow mark for long and for short."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QFontMetricsF, QHelpEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QScrollArea, QSizePolicy, QToolTip, QWidget

from hawser.desk.common.appearance import Appearance
from hawser.desk.common.words import plain_tip
from hawser.desk.models.source_look import WORDS, Row
from hawser.desk.theme.fonts import font

LINE, PAD, MARK = 17.0, 8.0, 4.5  # pixels: a line of text, around a row, half a mark
INDENT = 20.0
RIGHT = int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)


class ReasonRows(QWidget):
    """The rows, painted."""

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self._appearance = appearance
        self.rows: list[Row] = []
        self.empty = ""
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Minimum)
        self.setAccessibleName("Why, at this bar")
        appearance.changed.connect(self.update)

    def show_rows(self, rows: list[Row], empty: str = "") -> None:
        """`empty`: what stands there where there are none."""
        if (rows, empty) == (self.rows, self.empty):
            return
        again = [_high(row) for row in rows] != [_high(row) for row in self.rows]
        self.rows, self.empty = rows, empty
        self.setAccessibleDescription("\n".join(row.in_words for row in rows) or empty)
        if again:
            self.setMinimumHeight(round(self._height()))
        self.update()

    def _height(self) -> float:
        parts = len({row.part for row in self.rows})
        return sum(_high(row) for row in self.rows) + parts * (LINE + 4) + 4

    def sizeHint(self) -> QSize:
        return QSize(300, round(self._height()))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter, color = QPainter(self), self._appearance.color
        painter.setFont(font(11))
        if not self.rows:
            painter.setPen(color("ink2"))
            box = QRectF(self.rect()).adjusted(10, 6, -10, -6)
            painter.drawText(
                box, int(Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap), self.empty
            )
            return
        y, part = 2.0, ""
        for row in self.rows:
            if row.part != part:
                part = row.part
                painter.setPen(color("ink2"))
                painter.setFont(font(11, bold=True))
                painter.drawText(QRectF(10, y, self.width(), LINE), 0, WORDS[row.part])
                painter.setFont(font(11))
                y += LINE + 4
            self._paint_row(painter, row, y)
            y += _high(row)

    def _paint_row(self, painter: QPainter, row: Row, top: float) -> None:
        color, y = self._appearance.color, top
        for side, text, holds in _answers(row):
            self._mark(painter, side, holds, QPointF(14, y + LINE / 2))
            painter.setPen(color("ink"))
            self._text(painter, text, y)
            y += LINE
        painter.setPen(color("ink2"))
        for name, value in row.figures:
            wide = QFontMetricsF(painter.font()).horizontalAdvance(value) + 10
            box = QRectF(INDENT, y, self.width() - INDENT - 10, LINE)
            painter.drawText(box, RIGHT, value)
            self._text(painter, name, y, wide)
            y += LINE

    def _text(self, painter: QPainter, text: str, y: float, kept: float = 0.0) -> None:
        """`kept`: pixels on the right for something else."""
        box = QRectF(INDENT + 8, y, self.width() - INDENT - 18 - kept, LINE)
        metrics = QFontMetricsF(painter.font())
        fits = metrics.elidedText(text, Qt.TextElideMode.ElideRight, box.width())
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, fits)

    def _mark(self, painter: QPainter, side: int, holds: bool, at: QPointF) -> None:
        """A triangle that points up for long and down for short; filled where it holds. A square:
        one answer for both."""
        tone = self._appearance.color({1: "gain", -1: "loss"}.get(side, "ink"))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(tone, 1.2))
        painter.setBrush(tone if holds else Qt.BrushStyle.NoBrush)
        if not side:
            painter.drawRect(
                QRectF(at.x() - MARK + 0.5, at.y() - MARK + 0.5, 2 * MARK - 1, 2 * MARK - 1)
            )
        else:
            painter.drawPolygon(
                QPolygonF(
                    [
                        QPointF(at.x(), at.y() - side * MARK),
                        QPointF(at.x() - MARK, at.y() + side * MARK),
                        QPointF(at.x() + MARK, at.y() + side * MARK),
                    ]
                )
            )
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)

    def event(self, event: object) -> bool:
        if isinstance(event, QHelpEvent) and self.rows:
            QToolTip.showText(event.globalPos(), plain_tip(self._told_at(event.pos().y())), self)
            return True
        return super().event(event)  # type: ignore[arg-type]

    def _told_at(self, y: float) -> str:
        """The row there, whole."""
        top, part = 2.0, ""
        for row in self.rows:
            if row.part != part:
                part, top = row.part, top + LINE + 4
            top += _high(row)
            if y < top:
                return row.in_words
        return ""


def _answers(row: Row) -> list[tuple[int, str, bool]]:
    """The lines of a row: one where both sides have the same, else two."""
    if row.long_text == row.short_text:
        return [(0, row.long_text, row.long)]
    return [(1, row.long_text, row.long), (-1, row.short_text, row.short)]


def _high(row: Row) -> float:
    return LINE * (len(_answers(row)) + len(row.figures)) + PAD


class ReasonsView(QScrollArea):
    """The rows, scrolled where there are many."""

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self.rows = ReasonRows(appearance)
        self.setWidget(self.rows)
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
