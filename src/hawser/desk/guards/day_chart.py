"""The day of every instrument as one row: its hours in outline, news and closed parts filled, the
moment as a line."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QFontMetricsF, QHelpEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QToolTip, QWidget

from hawser.core.clock import HOUR
from hawser.desk.common.appearance import Appearance
from hawser.desk.models import figures as fg
from hawser.desk.theme.fonts import font
from hawser.service.views.guards import SHOWN_AHEAD, SHOWN_BACK, GuardPicture, Span

DAY_ROW_PX, HEAD, NAMES, RIGHT = 25, 22, 118, 14
WORDS = {"news": "news", "session": "no entries", "closed": "closed", "hours": "open"}


class DayChart(QWidget):
    """Painted from a GuardPicture; the pointer over a part tells it whole."""

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self._appearance = appearance
        self._picture: GuardPicture | None = None
        self.setMinimumHeight(HEAD + 3 * DAY_ROW_PX)
        self.setAccessibleName("The next 24 hours of every instrument")

    def show_picture(self, picture: GuardPicture) -> None:
        self._picture = picture
        self.setFixedHeight(HEAD + DAY_ROW_PX * len(picture.days) + 6)
        self.setAccessibleDescription(
            "; ".join(self._said(symbol, spans) for symbol, spans in picture.days)
        )
        self.update()

    def _said(self, symbol: str, spans: tuple[Span, ...]) -> str:
        told = [
            f"{WORDS[one.mark]} {self._times(one)} {one.text}".strip()
            for one in spans
            if one.mark != "hours"
        ]
        return f"{symbol}: {', '.join(told) or 'nothing planned'}"

    def _times(self, span: Span) -> str:
        zone = self._appearance.zone
        return (
            f"{fg.clock(span.start, zone, seconds=False)} to "
            f"{fg.clock(span.end, zone, seconds=False)}"
        )

    def _x(self, time: int) -> float:
        assert self._picture is not None
        part = (time - self._picture.time + SHOWN_BACK) / (SHOWN_BACK + SHOWN_AHEAD)
        return NAMES + part * (self.width() - NAMES - RIGHT)

    # Paint

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self._picture is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_hours(painter)
        for number, (symbol, spans) in enumerate(self._picture.days):
            self._paint_row(painter, HEAD + number * DAY_ROW_PX, symbol, spans)
        x = self._x(self._picture.time)
        painter.setPen(QPen(self._appearance.color("ink"), 2))
        painter.drawLine(QPointF(x, HEAD - 6), QPointF(x, self.height() - 4))
        painter.end()

    def _paint_hours(self, painter: QPainter) -> None:
        """Every second hour in the person's zone."""
        assert self._picture is not None
        now = self._picture.time
        first = (now - SHOWN_BACK) // HOUR * HOUR + HOUR
        painter.setFont(font(11))
        for at in range(first, now + SHOWN_AHEAD + 1, HOUR):
            text = fg.clock(at, self._appearance.zone, seconds=False)
            if int(text[:2]) % 2:
                continue
            x = self._x(at)
            painter.setPen(self._appearance.color("hairline"))
            painter.drawLine(QPointF(x, HEAD - 4), QPointF(x, self.height() - 4))
            painter.setPen(self._appearance.color("ink2"))
            painter.drawText(QRectF(x - 24, 0, 48, HEAD - 5), Qt.AlignmentFlag.AlignCenter, text)

    def _paint_row(self, painter: QPainter, top: int, symbol: str, spans: tuple[Span, ...]) -> None:
        middle = top + DAY_ROW_PX / 2
        painter.setFont(font(12, bold=True))
        painter.setPen(self._appearance.color("ink"))
        name = QFontMetricsF(painter.font()).elidedText(
            symbol, Qt.TextElideMode.ElideRight, NAMES - 20
        )
        painter.drawText(
            QRectF(10, top, NAMES - 14, DAY_ROW_PX), Qt.AlignmentFlag.AlignVCenter, name
        )
        for span in (one for one in spans if one.mark == "hours"):
            painter.setPen(QPen(self._appearance.color("ink2"), 1))
            painter.setBrush(self._appearance.color("ground"))
            painter.drawRect(
                QRectF(self._x(span.start), middle - 5, self._x(span.end) - self._x(span.start), 10)
            )
        marks = sorted(
            (one for one in spans if one.mark in ("news", "session")), key=lambda one: one.start
        )
        for span in marks:
            self._paint_span(painter, span, middle)
        shut = [one for one in spans if one.mark == "closed"]
        starts = [*(self._x(one.start) for one in marks[1:]), float(self.width())]
        for span, room in zip(marks, starts, strict=False):
            if not any(one.start < span.end + 2 * HOUR and one.end > span.start for one in shut):
                self._paint_word(painter, span, middle, room)
        for span in shut:
            self._paint_shut(painter, span, middle)

    def _paint_shut(self, painter: QPainter, span: Span, middle: float) -> None:
        """A latch or a cool-down: a full band, named inside where there is room."""
        box = QRectF(
            self._x(span.start), middle - 8, max(3.0, self._x(span.end) - self._x(span.start)), 16
        )
        painter.fillRect(box, self._appearance.color("caution"))
        painter.setFont(font(11, bold=True))
        if QFontMetricsF(painter.font()).horizontalAdvance(span.text) + 12 < box.width():
            painter.setPen(self._appearance.color("on_caution"))
            painter.drawText(box.adjusted(6, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, span.text)

    def _paint_span(self, painter: QPainter, span: Span, middle: float) -> None:
        left = self._x(span.start)
        wide = max(3.0, self._x(span.end) - left)
        box = QRectF(left, middle - 8, wide, 16)
        tone = self._appearance.color("caution")
        brush = QBrush(tone)
        if span.mark == "session":
            brush.setStyle(Qt.BrushStyle.BDiagPattern)
        painter.setPen(QPen(tone, 1))
        painter.setBrush(brush)
        painter.drawRect(box)

    def _paint_word(self, painter: QPainter, span: Span, middle: float, room: float) -> None:
        """What a part is, to its right, where it fits before the next; the tip tells all of it."""
        painter.setFont(font(11))
        word = span.text.partition(",")[0]
        at = self._x(span.end) + 4
        box = QRectF(at, middle - 8, QFontMetricsF(painter.font()).horizontalAdvance(word) + 4, 16)
        if box.right() > room:
            return
        painter.fillRect(box, self._appearance.color("panel"))
        painter.setPen(self._appearance.color("caution"))
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, word)

    # Telling a part whole

    def event(self, event: QEvent | None) -> bool:
        if isinstance(event, QHelpEvent) and self._picture is not None:
            text = self.told_at(event.pos().x(), event.pos().y())
            QToolTip.showText(event.globalPos(), text, self) if text else QToolTip.hideText()
            return True
        return bool(super().event(event))

    def told_at(self, x: float, y: float) -> str:
        """What stands at a point, in words."""
        row = int((y - HEAD) // DAY_ROW_PX)
        if self._picture is None or not 0 <= row < len(self._picture.days):
            return ""
        symbol, spans = self._picture.days[row]
        here = [one for one in spans if self._x(one.start) - 2 <= x <= self._x(one.end) + 2]
        lines = [f"{WORDS[one.mark]} {self._times(one)}  {one.text}".strip() for one in here]
        return "\n".join([symbol, *(lines or ["closed"])])
