"""The waterline, always at the top: equity, today, heat against its limit, protection, whether
entries are open."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetricsF, QPainter, QPaintEvent
from PyQt6.QtWidgets import QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from hawser.core.guards.context import longest_first
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.buttons import HoldButton
from hawser.desk.common.explained import explain, topic
from hawser.desk.common.words import Label, escaped, plain_tip
from hawser.desk.models import figures as fg
from hawser.service.views.snapshot import InstrumentView, Snapshot

BOLD = 1.15  # how much wider bold words are, at most


class CaptionedFigure(QWidget):
    """A small caption over a figure."""

    def __init__(self, caption: str, width: int) -> None:
        super().__init__()
        self.caption, self.value = Label(caption), Label(fg.NONE)
        self.caption.setProperty("role", "second")
        self.value.setTextFormat(Qt.TextFormat.RichText)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(2)
        box.addWidget(self.caption)
        box.addWidget(self.value)
        self.setMinimumWidth(width)
        self.setSizePolicy(QSizePolicy.Policy.Minimum, QSizePolicy.Policy.Preferred)

    def show_value(self, html: str) -> None:
        if self.value.text() != html:
            self.value.setText(html)


class HeatBar(QWidget):
    """Heat as part of its limit; beyond the limit the bar is full and magenta."""

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self._appearance, self._part = appearance, 0.0
        self.setFixedHeight(10)
        self.setMinimumWidth(150)

    def show_part(self, part: float) -> None:
        if abs(part - self._part) > 0.001:
            self._part = part
            self.update()

    def sizeHint(self) -> QSize:
        return QSize(160, 10)

    def paintEvent(self, event: QPaintEvent) -> None:
        p, painter = self._appearance.palette, QPainter(self)
        box = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        painter.fillRect(
            QRectF(box.left(), box.top(), box.width() * min(1.0, self._part), box.height()),
            p.color("caution" if self._part > 1 else "loss"),
        )
        painter.setPen(p.color("ink"))
        painter.drawRect(box)
        painter.end()


class Waterline(QWidget):
    """What is at stake and whether one may trade, in two seconds."""

    flatten = pyqtSignal()
    heat_asked = pyqtSignal()

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self._appearance = appearance
        self.setObjectName("ground")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(56)
        self.equity, self.today = CaptionedFigure("equity", 132), CaptionedFigure("today", 150)
        self.heat, self.bar = CaptionedFigure("heat", 190), HeatBar(appearance)
        self.protection, self.entries = (
            CaptionedFigure("protection", 148),
            CaptionedFigure("entries", 120),
        )
        self.entries.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        self.entries.value.setMinimumWidth(40)
        self.entries.value.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.heat.layout().replaceWidget(self.heat.value, self.bar)  # type: ignore[union-attr]
        self.heat.value.hide()
        self.heat.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.heat.setAccessibleName("Heat; press Enter for what each stop would cost")
        self.heat.installEventFilter(self)
        self.hold = HoldButton("Flatten && halt", appearance)
        self.hold.setText("Flatten & halt")
        self.hold.setToolTip(
            "Hold for half a second, or hold Ctrl+Shift+End anywhere: cancels "
            "all, closes all, halts"
        )
        self.hold.setAccessibleName("Flatten and halt, hold for half a second")
        self.hold.fired.connect(self.flatten)
        for part, code in (
            (self.equity, "equity"),
            (self.today, "today"),
            (self.heat, "heat"),
            (self.protection, "protection"),
            (self.entries, "entries"),
            (self.hold, "flatten"),
        ):
            explain(part, code)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 8, 12, 8)
        row.setSpacing(24)
        for part in (self.equity, self.today, self.heat, self.protection, self.entries):
            row.addWidget(part)
        row.addWidget(self.hold)

    # QObject, QEvent
    def eventFilter(self, watched, event) -> bool:  # type: ignore[no-untyped-def]
        """The heat figure opens its breakdown, by mouse and by Enter."""
        pressed = event.type() == event.Type.MouseButtonRelease
        keyed = event.type() == event.Type.KeyPress and event.key() in (
            Qt.Key.Key_Return,
            Qt.Key.Key_Space,
        )
        if pressed or keyed:
            self.heat_asked.emit()
            return True
        return bool(super().eventFilter(watched, event))

    def show_snapshot(self, snapshot: Snapshot) -> None:
        p, cur = self._appearance.palette, snapshot.currency
        self.equity.show_value(
            f"<span style='font-size:15px'>{fg.number(snapshot.equity, 2)}</span> {cur}"
        )
        tone = p.gain if snapshot.day_r >= 0 else p.loss
        self.today.show_value(
            f"<span style='font-size:15px;color:{tone}'>{fg.r(snapshot.day_r)}</span> "
            f"<span style='color:{p.ink2}'>{fg.money(snapshot.day_money, cur, sign=True)}</span>"
        )
        self._show_heat(snapshot)
        self._show_protection(snapshot)
        self._show_entries(snapshot)

    def _show_heat(self, snapshot: Snapshot) -> None:
        share = snapshot.heat / snapshot.equity * 100 if snapshot.equity else 0.0
        limit = snapshot.max_heat_percent
        of = f" of {fg.percent(limit)}" if limit is not None else ", no limit"
        text = f"heat {fg.number(share, 2)}{of} if every stop is hit"
        if self.heat.caption.text() != text:
            self.heat.caption.setText(text)
            locked = fg.money(snapshot.locked, snapshot.currency)
            at_risk = fg.money(snapshot.heat, snapshot.currency)
            self.heat.setToolTip(
                plain_tip(f"{at_risk} at risk; {locked} locked by stops. Click: what each costs")
            )
        self.bar.show_part(share / limit if limit else share / 100)

    def _show_protection(self, snapshot: Snapshot) -> None:
        p = self._appearance.palette
        held = sum(trade.open_steps > 0 for trade in snapshot.trades)
        unwatched = sum(bool(trade.backstop and trade.open_steps) for trade in snapshot.trades)
        waiting = sum(trade.pending for trade in snapshot.trades)
        if held and not snapshot.tended:
            text = f"<b style='color:{p.caution}'>{held} not tended</b>"
        elif snapshot.exposed:
            text = f"<b style='color:{p.caution}'>{snapshot.exposed} exposed</b>"
        elif snapshot.unexplained:
            text = f"<b style='color:{p.caution}'>{len(snapshot.unexplained)} foreign</b>"
        elif unwatched and not snapshot.link_up:
            text = f"<b style='color:{p.caution}'>{unwatched} on backstop</b>"
        elif held:
            text = f"<b>all {held} protected</b>"
        else:
            text = f"<span style='color:{p.ink2}'>no position</span>"
        if waiting:
            text += f" <span style='color:{p.ink2}'>{waiting} waiting</span>"
        self.protection.show_value(text)

    def _show_entries(self, snapshot: Snapshot) -> None:
        p = self._appearance.palette
        if snapshot.closed:
            first, *others = longest_first(snapshot.closed)
            head = f"CLOSED by {1 + len(others)}:" if others else "CLOSED"
            metrics = QFontMetricsF(self.entries.value.font())
            why = metrics.elidedText(
                first.text, Qt.TextElideMode.ElideRight, max(40.0, self._room_behind(head))
            )
            self.entries.setToolTip(plain_tip("\n".join(reason.text for reason in snapshot.closed)))
            self.entries.show_value(f"<b style='color:{p.caution}'>{head}</b> {escaped(why)}")
            return
        shut = [view for view in snapshot.instruments if view.closed]
        self.entries.setToolTip(
            plain_tip(
                "\n".join(f"{view.instrument.symbol}: {view.closed[0].text}" for view in shut)
                or topic("entries").tip
            )
        )
        if shut and len(shut) == len(snapshot.instruments):
            self.entries.show_value(f"<b style='color:{p.caution}'>CLOSED</b> in every instrument")
        else:
            self.entries.show_value(
                f"<b>OPEN</b> <span style='color:{p.ink2}'>{self._but_not_in(shut)}</span>"
            )

    def _but_not_in(self, shut: list[InstrumentView]) -> str:
        """The closed instruments by name, or how many where their names have no room."""
        if not shut:
            return ""
        names = "but not in " + ", ".join(view.instrument.symbol for view in shut)
        if QFontMetricsF(self.entries.value.font()).horizontalAdvance(names) <= self._room_behind(
            "OPEN"
        ):
            return escaped(names)
        return f"but not in {fg.counted(len(shut), 'instrument')}"

    def _room_behind(self, head: str) -> float:
        """What is left of the line behind a bold word, in pixels."""
        metrics = QFontMetricsF(self.entries.value.font())
        return self.entries.value.width() - metrics.horizontalAdvance(head) * BOLD - 8

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        painter = QPainter(self)
        painter.fillRect(
            0, self.height() - 2, self.width(), 2, self._appearance.palette.color("ink")
        )
        painter.end()
