"""Guards as rows: what each watches, its present value and limit, a gauge of used, at stake and
free, its state."""

from __future__ import annotations

from datetime import tzinfo
from functools import partial

from PyQt6.QtCore import QRectF, Qt, pyqtBoundSignal, pyqtSignal
from PyQt6.QtGui import QBrush, QFontMetricsF, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from hawser.desk.common.appearance import Appearance
from hawser.desk.common.buttons import SureButton
from hawser.desk.common.explained import TOPIC, explain
from hawser.desk.common.words import plain_tip
from hawser.desk.models import figures as fg
from hawser.desk.models.topics.topic import topic_of_kind
from hawser.desk.theme.fonts import font
from hawser.service.views.guards import GuardView

GUARD_ROW_PX, HEAD = 30, 20
# widths; the rest is what it watches
NAME, NOW, LIMIT, GAUGE, STATE, ACTS = 158, 84, 104, 132, 186, 84


EDIT = "Enter or a double click changes it."


class GuardRow(QWidget):
    """One guard. Its buttons set it off on purpose (the first press only tells what would follow),
    and re-arm it where it has latched."""

    drill = pyqtSignal(str, str)
    ask = pyqtSignal(str, str)
    rearm = pyqtSignal(str, str)
    edit = pyqtSignal(str)

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self._appearance = appearance
        self.view: GuardView | None = None
        self._time = 0
        self.setFixedHeight(GUARD_ROW_PX)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAttribute(Qt.WidgetAttribute.WA_Hover)
        self.drill_button, self.rearm_button = SureButton("Drill"), QPushButton("Re-arm")
        self.drill_button.consequence = "Do it?"
        self.drill_button.asked.connect(self._asked)
        self.drill_button.sure.connect(lambda: self._tell(self.drill))
        self.rearm_button.clicked.connect(lambda _: self._tell(self.rearm))
        explain(self.drill_button, "drill", tip=False)
        explain(self.rearm_button, "guard_rearm")
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 2, 10, 3)
        row.addStretch(1)
        for button in (self.rearm_button, self.drill_button):  # the one or the other
            button.setFixedSize(68, 24)
            button.setStyleSheet("padding: 0 4px;")
            row.addWidget(button)

    def show_view(self, view: GuardView, time: int) -> None:
        if view == self.view and (
            view.closed is None or time // 1_000_000_000 == self._time // 1_000_000_000
        ):
            return
        self.view, self._time = view, time
        of = f" for {view.subject}" if view.subject else ""
        self.drill_button.setAccessibleName(f"Drill {view.name}{of}")
        self.drill_button.setToolTip(
            plain_tip(f"Sets {view.name}{of} off on purpose: it {view.does}")
        )
        self.rearm_button.setAccessibleName(f"Re-arm {view.name}{of}")
        self.rearm_button.setVisible(view.since > 0)
        self.drill_button.setVisible(not view.since)
        stake = f"{view.stake} more at stake in what is open" if view.stake else ""
        told = [view.name + of, f"{view.now} of {view.limit}", stake, view.watches, self.state]
        self.setAccessibleName(", ".join(part for part in told if part))
        lines = [
            f"{view.name}{of}: {view.watches}",
            stake,
            f"It {view.does}.",
            self.state,
            self._last,
            EDIT,
        ]
        self.setToolTip(plain_tip("\n".join(line for line in lines if line)))
        self.setProperty(TOPIC, partial(topic_of_kind, view.kind))  # its tip is its own state
        self.update()

    def _tell(self, signal: pyqtBoundSignal) -> None:
        if self.view is not None:
            signal.emit(self.view.name, self.view.subject)

    def _asked(self, asking: bool) -> None:
        if asking and self.view is not None:
            self.ask.emit(self.view.name, self.view.subject)

    @property
    def state(self) -> str:
        """Open, or why it is closed and until when."""
        view = self.view
        if view is None:
            return ""
        if view.closed is None:
            return f"open, {view.later} from its next period" if view.later else "open"
        until = (
            f" until {_when(view.closed.until, self._time, self._appearance.zone)}"
            if view.closed.until
            else ""
        )
        if view.latches:
            return f"LATCHED{until or ' until re-armed'}"
        where = ", ".join(view.where)
        return f"CLOSED{until}{f': {where}' if where else ''}"

    @property
    def _last(self) -> str:
        view = self.view
        if view is None or not view.tripped:
            return "It has not closed entries yet"
        return f"It closed entries last at {fg.clock(view.tripped, self._appearance.zone)}"

    # Keys and mouse

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        self._edit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() in (
            Qt.Key.Key_Return,
            Qt.Key.Key_Enter,
            Qt.Key.Key_F2,
        ):
            self._edit()
        else:
            super().keyPressEvent(event)

    def _edit(self) -> None:
        if self.view is not None:
            self.edit.emit(self.view.name)

    # Paint

    def paintEvent(self, event: QPaintEvent | None) -> None:
        view = self.view
        if view is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.hasFocus() or self.underMouse():
            painter.fillRect(self.rect().adjusted(1, 0, -1, -1), self._appearance.color("ground"))
        if self.hasFocus():
            painter.fillRect(0, 0, 3, GUARD_ROW_PX - 1, self._appearance.color("ink"))
        painter.setPen(self._appearance.color("hairline"))
        painter.drawLine(0, GUARD_ROW_PX - 1, self.width(), GUARD_ROW_PX - 1)
        name = f"{view.name} \u00b7 {view.subject}" if view.subject and view.gauge else view.name
        closed = view.closed is not None
        self._text(painter, 10, NAME - 16, name, bold=True)
        self._text(painter, NAME, NOW, view.now, right=True, role="caution" if closed else "ink")
        left = NAME + NOW
        if view.gauge is None:  # what a filter lets pass is words as often as a figure
            self._text(painter, left + 16, LIMIT + GAUGE - 28, view.limit, role="ink2")
        else:
            self._text(painter, left, LIMIT, view.limit, right=True, role="ink2")
            self._gauge(
                painter, QRectF(left + LIMIT + 12, GUARD_ROW_PX / 2 - 5, GAUGE - 24, 10), view
            )
        left += LIMIT + GAUGE
        end = self.width() - STATE - ACTS
        self._text(painter, left, end - left - 10, view.watches, role="ink2")
        self._text(
            painter, end, STATE - 8, self.state, role="caution" if closed else "ink", bold=closed
        )
        painter.end()

    def _text(
        self,
        painter: QPainter,
        x: float,
        wide: float,
        text: str,
        role: str = "ink",
        bold: bool = False,
        right: bool = False,
    ) -> None:
        painter.setFont(font(12, bold))
        painter.setPen(self._appearance.color(role))
        side = Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft
        fits = QFontMetricsF(painter.font()).elidedText(text, Qt.TextElideMode.ElideRight, wide)
        painter.drawText(
            QRectF(x, 0, wide, GUARD_ROW_PX - 1), Qt.AlignmentFlag.AlignVCenter | side, fits
        )

    def _gauge(self, painter: QPainter, box: QRectF, view: GuardView) -> None:
        """Used in full, what open stops could still use hatched, the rest free."""
        assert view.gauge is not None
        tone = self._appearance.color("caution" if view.closed is not None else "loss")
        used = box.width() * view.gauge.used
        stake = min(box.width() - used, box.width() * view.gauge.stake)
        painter.fillRect(QRectF(box.left(), box.top(), used, box.height()), tone)
        painter.fillRect(
            QRectF(box.left() + used, box.top(), stake, box.height()),
            QBrush(tone, Qt.BrushStyle.BDiagPattern),
        )
        painter.setPen(QPen(self._appearance.color("ink"), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(box)


def _when(time: int, now: int, zone: tzinfo) -> str:
    """A moment near now as a clock, a farther one with its day."""
    day = fg.moment(time, zone)
    same = day.date() == fg.moment(now, zone).date()
    return f"{day:%H:%M}" if same else f"{day:%a %H:%M}"


class GuardList(QWidget):
    """The rows of one kind of guard under their heads."""

    drill = pyqtSignal(str, str)
    ask = pyqtSignal(str, str)
    rearm = pyqtSignal(str, str)
    edit = pyqtSignal(str)

    def __init__(self, appearance: Appearance, title: str, gauges: bool) -> None:
        super().__init__()
        self._appearance, self._title, self._gauges = appearance, title, gauges
        explain(self, "guard", tip=False)
        self.rows: dict[tuple[str, str], GuardRow] = {}
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, HEAD + 4, 0, 6)
        self._column.setSpacing(0)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_views(self, views: list[GuardView], time: int) -> None:
        wanted = {(view.name, view.subject if view.gauge else ""): view for view in views}
        for key in [key for key in self.rows if key not in wanted]:
            gone = self.rows.pop(key)
            self._column.removeWidget(gone)
            gone.deleteLater()
        for number, (key, view) in enumerate(wanted.items()):
            row = self.rows.get(key)
            if row is None:
                row = self.rows[key] = GuardRow(self._appearance)
                row.drill.connect(self.drill)
                row.ask.connect(self.ask)
                row.rearm.connect(self.rearm)
                row.edit.connect(self.edit)
                self._column.insertWidget(number, row)
            row.show_view(view, time)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setFont(font(12, bold=True))
        painter.setPen(self._appearance.color("ink"))
        middle = Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(10, 0, NAME, HEAD), middle, self._title)
        painter.setFont(font(11))
        painter.setPen(self._appearance.color("ink2"))
        right = middle | Qt.AlignmentFlag.AlignRight
        painter.drawText(QRectF(NAME, 0, NOW, HEAD), right, "now")
        left = NAME + NOW
        if self._gauges:
            painter.drawText(QRectF(left, 0, LIMIT, HEAD), right, "limit")
            painter.drawText(
                QRectF(left + LIMIT + 12, 0, GAUGE, HEAD), middle, "used, at stake, free"
            )
        else:
            painter.drawText(QRectF(left + 16, 0, LIMIT, HEAD), middle, "entries within")
        painter.drawText(QRectF(left + LIMIT + GAUGE, 0, 300, HEAD), middle, "watches")
        painter.drawText(QRectF(self.width() - STATE - ACTS, 0, STATE, HEAD), middle, "state")
        painter.setPen(self._appearance.color("hairline"))
        painter.drawLine(0, HEAD + 3, self.width(), HEAD + 3)
        painter.end()
