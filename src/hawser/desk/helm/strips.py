"""R strips: every open trade as one row on the same horizontal R axis, with its actions."""

from __future__ import annotations

import math
from collections.abc import Callable

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QBrush,
    QContextMenuEvent,
    QFontMetricsF,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
)
from PyQt6.QtWidgets import (
    QButtonGroup,
    QFrame,
    QHBoxLayout,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from hawser.core.instrument import Instrument
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.buttons import OnceButton, SureButton
from hawser.desk.common.explained import explain
from hawser.desk.common.timing import once
from hawser.desk.common.words import Label, plain_tip
from hawser.desk.models import figures as fg
from hawser.desk.models.focus import waits_text
from hawser.desk.theme.fonts import font
from hawser.engine.events import VenuePosition
from hawser.engine.model import transitions as states
from hawser.service.views.snapshot import BasketView, Snapshot, TradeView

STRIP_PX = 32
MARK = 26  # left of the name: the box that marks a trade
LEFT = 252  # instrument, side, quantity
RIGHT = 336  # result, money, state
ACTION = 92
ASKING = 196  # while the button tells what it would do


class RAxis:
    """The common R axis: from `low` to `high` R over the strip's width."""

    def __init__(self) -> None:
        self.low, self.high = -1.5, 3.5

    def fit(self, trades: list[TradeView]) -> None:
        reach = [3.0]
        for trade in trades:
            reach += [
                trade.price_r,
                trade.r_of(trade.resting_stop),
                *(target.r for target in trade.targets),
            ]
        self.low = -1.5 if min([*reach, -1.5]) >= -1.5 else math.floor(min(reach) * 2) / 2
        self.high = math.ceil(min(max(reach), 12.0) * 2) / 2 + 0.25

    def x(self, r: float, width: float) -> float:
        part = (min(max(r, self.low), self.high) - self.low) / (self.high - self.low)
        return 10 + part * (width - 20)


class TradeRow(QWidget):
    """One trade. Clicking or Enter chooses it; its button closes it."""

    chosen = pyqtSignal(str)
    marked_asked = pyqtSignal(str)
    close_asked = pyqtSignal(str)
    menu_asked = pyqtSignal(str, object)

    def __init__(self, appearance: Appearance, axis: RAxis) -> None:
        super().__init__()
        self._appearance, self._axis = appearance, axis
        self.marked = False
        self._link_up = self._tended = True
        self.trade: TradeView | None = None
        self._instrument: Instrument | None = None
        self._currency = ""
        self.selected = False
        self._now = 0
        self.setFixedHeight(STRIP_PX)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        explain(self, "trade", tip=False)  # a tip would lie over the next row
        self.button = SureButton("Close")
        self.button.setParent(self)
        self.button.asked.connect(self._lay_button)
        self.button.sure.connect(
            lambda: self.close_asked.emit(self.trade.id) if self.trade else None
        )

    def show_trade(
        self,
        trade: TradeView,
        instrument: Instrument,
        snapshot: Snapshot,
        selected: bool,
        marked: bool,
    ) -> None:
        same = trade == self.trade and (selected, marked) == (self.selected, self.marked)
        if same and not trade.exposed_since and snapshot.link_up == self._link_up:
            return
        self.trade, self._instrument, self.selected, self.marked = (
            trade,
            instrument,
            selected,
            marked,
        )
        self._currency, self._now, self._link_up = (
            snapshot.currency,
            snapshot.time,
            snapshot.link_up,
        )
        self._tended = snapshot.tended
        qty = instrument.qty(trade.steps if trade.pending else trade.open_steps)
        self.button.means((trade.id, trade.pending))
        self.button.name("Cancel" if trade.pending else "Close")
        result = "its entry" if trade.pending else fg.r(trade.result_r)
        self.button.consequence = f"{self.button.calm_text} {qty}: {result}? Again"
        self.button.setEnabled(trade.state in (states.EXPOSED, states.PROTECTED, states.ENTERING))
        side = fg.side_word(trade.side)
        self.button.setAccessibleName(f"Close {trade.symbol} {side}")
        mark = ", marked" if marked else ""
        self.setAccessibleName(
            f"{trade.symbol} {side} {qty}, {fg.r(trade.result_r)}, "
            f"{': '.join(self._state(trade).splitlines())}{mark}"
        )
        self.update()

    def resizeEvent(self, event) -> None:  # type: ignore[no-untyped-def]  # QResizeEvent
        self._lay_button(False)
        super().resizeEvent(event)

    def _lay_button(self, asking: bool) -> None:
        wide = ASKING if asking else ACTION
        self.button.setGeometry(self.width() - wide + 8, 3, wide - 20, STRIP_PX - 6)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """The menu key and the right button: what can be done with this trade."""
        if self.trade is not None:
            self.menu_asked.emit(self.trade.id, event.globalPos())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        if self.trade is None:
            return
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier or event.position().x() < MARK:
            self.marked_asked.emit(self.trade.id)
        elif event.button() == Qt.MouseButton.LeftButton:
            self.chosen.emit(self.trade.id)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if self.trade is None:
            return
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.chosen.emit(self.trade.id)
        elif event.key() == Qt.Key.Key_Space:
            self.marked_asked.emit(self.trade.id)
        elif event.key() == Qt.Key.Key_Delete:
            if not event.isAutoRepeat():  # a key that is held is one press
                self.button.click()
        elif event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.focusNextPrevChild(event.key() == Qt.Key.Key_Down)
        else:
            super().keyPressEvent(event)

    # Paint

    def paintEvent(self, event: QPaintEvent) -> None:
        if self.trade is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        p, trade = self._appearance.palette, self.trade
        if self.selected:
            painter.fillRect(self.rect(), p.color("ground"))
            painter.fillRect(0, 0, 3, self.height(), p.color("ink"))
        if self.hasFocus():
            painter.setPen(p.color("ink2"))
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
        painter.setPen(p.color("hairline"))
        painter.drawLine(0, self.height() - 1, self.width(), self.height() - 1)
        self._paint_name(painter, trade)
        painter.save()
        painter.translate(LEFT, 0)
        self._paint_strip(painter, trade, self.width() - LEFT - RIGHT - ACTION)
        painter.restore()
        self._paint_result(painter, trade)
        painter.end()

    def _text(
        self,
        painter: QPainter,
        box: QRectF,
        text: str,
        role: str = "ink",
        bold: bool = False,
        right: bool = False,
    ) -> None:
        painter.setPen(self._appearance.color(role))
        painter.setFont(font(12, bold))
        side = Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft
        if not right:
            text = QFontMetricsF(painter.font()).elidedText(
                text, Qt.TextElideMode.ElideRight, box.width()
            )
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | side, text)

    def _paint_name(self, painter: QPainter, trade: TradeView) -> None:
        assert self._instrument is not None
        box = QRectF(10, STRIP_PX / 2 - 5, 10, 10)
        painter.setPen(QPen(self._appearance.color("ink2"), 1))
        painter.setBrush(self._appearance.color("ink" if self.marked else "panel"))
        painter.drawRect(box)
        self._text(painter, QRectF(MARK, 0, 100, STRIP_PX), trade.symbol, bold=True)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self._appearance.color("ink"))
        tip = -4 * trade.side
        shape = QPolygonF(
            [
                QPointF(128, STRIP_PX / 2 - tip),
                QPointF(136, STRIP_PX / 2 - tip),
                QPointF(132, STRIP_PX / 2 + tip),
            ]
        )
        painter.drawPolygon(shape)
        self._text(painter, QRectF(142, 0, 40, STRIP_PX), fg.side_word(trade.side))
        qty = self._instrument.qty(trade.open_steps if trade.opened else trade.steps)
        self._text(painter, QRectF(178, 0, LEFT - 190, STRIP_PX), qty, right=True)

    def _paint_strip(self, painter: QPainter, trade: TradeView, width: float) -> None:
        p, y = self._appearance.palette, STRIP_PX / 2

        def x(r: float) -> float:
            return self._axis.x(r, width)

        painter.setPen(QPen(p.color("hairline"), 1))
        painter.drawLine(QPointF(10, y), QPointF(width - 10, y))
        for whole in range(math.ceil(self._axis.low), math.floor(self._axis.high) + 1):
            painter.drawLine(QPointF(x(whole), y - 4), QPointF(x(whole), y + 4))
        stop_r, now_r = trade.r_of(trade.resting_stop), trade.price_r
        if trade.pending:
            self._paint_pending(painter, trade, x)
            return
        self._bar(painter, x(0), x(now_r), y, "gain" if now_r >= 0 else "loss")
        if stop_r > 0:  # locked
            self._bar(painter, x(0), x(min(stop_r, max(now_r, 0))), y, "panel", hatch=True)
        painter.setPen(QPen(p.color("ink"), 1.5))
        painter.drawLine(QPointF(x(0), y - 8), QPointF(x(0), y + 8))
        painter.setPen(QPen(p.color("loss"), 1.2, Qt.PenStyle.DotLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(QPointF(x(trade.r_of(trade.initial_stop)), y), 4.5, 4.5)
        for target in trade.targets:
            if target.steps:
                self._diamond(painter, x(target.r), y, target.filled >= target.steps)
        painter.setPen(QPen(p.color("loss" if trade.covered else "caution"), 1.5))
        painter.setBrush(p.color("loss" if trade.covered else "panel"))
        painter.drawEllipse(QPointF(x(stop_r), y), 5.5, 5.5)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(p.color("ink"))
        at = x(now_r)
        painter.drawPolygon(
            QPolygonF([QPointF(at - 5, y - 13), QPointF(at + 5, y - 13), QPointF(at, y - 5)])
        )

    def _paint_pending(
        self, painter: QPainter, trade: TradeView, x: Callable[[float], float]
    ) -> None:
        """Nothing is open: what would be, in outline, and how far the price is from it."""
        p, y = self._appearance.palette, STRIP_PX / 2
        painter.setBrush(p.color("panel"))
        painter.setPen(QPen(p.color("ink"), 1.5))
        painter.drawRect(QRectF(x(0) - 5, y - 4, 10, 8))
        painter.setPen(QPen(p.color("loss"), 1.5, Qt.PenStyle.DotLine))
        painter.drawEllipse(QPointF(x(trade.r_of(trade.stop)), y), 5.5, 5.5)
        for target in trade.targets:
            self._diamond(painter, x(target.r), y, False)
        painter.setPen(QPen(p.color("ink"), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        at = x(trade.price_r)
        painter.drawPolygon(
            QPolygonF([QPointF(at - 5, y - 13), QPointF(at + 5, y - 13), QPointF(at, y - 5)])
        )

    def _bar(
        self, painter: QPainter, start: float, end: float, y: float, role: str, hatch: bool = False
    ) -> None:
        box = QRectF(min(start, end), y - 4, abs(end - start), 8)
        brush = QBrush(self._appearance.color(role))
        if hatch:
            brush.setStyle(Qt.BrushStyle.BDiagPattern)
        painter.fillRect(box, brush)

    def _diamond(self, painter: QPainter, x: float, y: float, filled: bool) -> None:
        p = self._appearance.palette
        painter.setPen(QPen(p.color("gain"), 1.5))
        painter.setBrush(p.color("gain" if filled else "panel"))
        painter.drawPolygon(
            QPolygonF([QPointF(x, y - 6), QPointF(x + 6, y), QPointF(x, y + 6), QPointF(x - 6, y)])
        )

    def _paint_result(self, painter: QPainter, trade: TradeView) -> None:
        left = self.width() - RIGHT - ACTION
        loud = (not trade.covered and trade.open_steps > 0) or (
            trade.backstop > 0 and not self._link_up
        )
        loud = loud or not self._tended
        lines = self._state(trade).splitlines()
        for number, line in enumerate(lines):
            box = QRectF(
                left + 192, number * STRIP_PX / len(lines), RIGHT - 192, STRIP_PX / len(lines)
            )
            self._text(painter, box, line, "caution" if loud else "ink", bold=loud)
        if trade.pending:
            heat = f"at risk {fg.money(trade.heat, self._currency)}"
            self._text(painter, QRectF(left, 0, 176, STRIP_PX), heat, "ink2", right=True)
            return
        tone = "gain" if trade.result_r >= 0 else "loss"
        self._text(
            painter,
            QRectF(left, 0, 68, STRIP_PX),
            fg.r(trade.result_r),
            tone,
            bold=True,
            right=True,
        )
        money = fg.money(trade.money, self._currency, sign=True)
        self._text(painter, QRectF(left + 70, 0, 106, STRIP_PX), money, right=True)

    def _state(self, trade: TradeView) -> str:
        if not self._tended:
            return "NOT TENDED"
        if trade.state == states.LEAVING:
            return "leaving"
        if trade.pending:
            return self._waits(trade)
        if trade.backstop and not self._link_up and self._instrument is not None:
            return f"NOT WATCHED\nbackstop {self._instrument.price(trade.backstop)}"
        if not trade.covered and trade.exposed_since:
            return f"EXPOSED {fg.duration(self._now - trade.exposed_since)}"
        if trade.state == states.PROTECTED:
            word = "held" if trade.backstop else "protected"
            if trade.basket:
                return f"{word}, {trade.basket}"
            if trade.rig:
                return f"{word}, {trade.rig}"
            return f"{word}, trailing" if trade.trail else word
        return trade.state

    def _waits(self, trade: TradeView) -> str:
        assert self._instrument is not None
        if trade.moving_to:
            return f"moving to {self._instrument.price(trade.moving_to)}"
        linked = ", OCO" if trade.group else ""
        until = (
            f" until {fg.clock(trade.until, self._appearance.zone, seconds=False)}"
            if trade.until
            else ""
        )
        entry = waits_text(trade.side, trade.plan.entry.kind)
        return f"{entry} {self._instrument.price(trade.ref)}{until}{linked}"


STRANGE = "not opened by Hawser; no stop of Hawser's protects it"
OURS_ONCE = "not tended, because its instrument has changed; its orders rest as they were"


class StrangerRow(QWidget):
    """A position at the venue that no trade explains."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(STRIP_PX)
        explain(self, "position")
        self.text = Label()
        self.text.setProperty("role", "caution")
        self.button = OnceButton("Adopt: set a stop now")
        self.button.setToolTip(
            "Makes a trade of it, protected by this instrument's plan: its stop, targets and trail"
        )
        row = QHBoxLayout(self)
        row.setContentsMargins(MARK, 2, 12, 2)
        row.addWidget(self.text, 1)
        row.addWidget(self.button)

    def show_position(self, position: VenuePosition, instrument: Instrument, left: bool) -> None:
        """As it is now: who opened it may go on changing it. `left`: it was a trade of ours."""
        side, qty = fg.side_word(position.side), instrument.qty(position.steps)
        price = f"{position.entry * instrument.tick_size:.{instrument.price_digits}f}"
        whose = OURS_ONCE if left else STRANGE
        text = f"{position.symbol} {side} {qty} at {price}: {whose}"
        if text != self.text.text():
            self.text.setText(text)
            self.button.setAccessibleName(f"Adopt {position.symbol} {side} {qty}")


class StripPanel(QFrame):
    """All open trades, or what to do where there is none."""

    chosen = pyqtSignal(str)
    close_asked = pyqtSignal(str)
    close_all = pyqtSignal()
    menu_asked = pyqtSignal(str, object)
    adopt_asked = pyqtSignal(str)
    marked_menu = pyqtSignal(object)
    paged = pyqtSignal(int)

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self.setObjectName("panel")
        explain(self, "trade", tip=False)
        self._appearance, self._axis = appearance, RAxis()
        self.rows: dict[str, TradeRow] = {}
        self.marked: list[str] = []
        self.strangers: dict[str, StrangerRow] = {}
        self._summary = Label()
        self._summary.setProperty("role", "second")
        explain(self._summary, "sums")
        self.stack, self._pages = QStackedWidget(), QButtonGroup(self)
        self._tabs = QHBoxLayout()
        head = self._make_head()
        self._empty = Label(
            "No open trades. Plan one on the right: the stop decides the size, then place it."
        )
        self._empty.setProperty("role", "second")
        self._empty.setContentsMargins(12, 8, 12, 8)
        self._ruler = _Ruler(appearance, self._axis)
        inside = QWidget()
        self._list = QVBoxLayout(inside)
        self._list.setContentsMargins(0, 0, 0, 0)
        self._list.setSpacing(0)
        self._list.addStretch(1)
        self.list_area = QScrollArea()
        self.list_area.setWidget(inside)
        self.list_area.setWidgetResizable(True)
        self.list_area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._in_view = ""  # the chosen trade that is scrolled to, until a person scrolls
        self._chosen = ""
        self._scroll_soon = once(self, 0, self._scroll_to_chosen)
        bar = self.list_area.verticalScrollBar()
        assert bar is not None
        bar.actionTriggered.connect(self._scrolled_by_hand)
        # rows that change their height move those below
        bar.rangeChanged.connect(self._scroll_soon.start)
        box = QVBoxLayout(self)
        box.setContentsMargins(1, 1, 1, 1)
        box.setSpacing(0)
        box.addLayout(head)
        box.addWidget(self.stack, 1)
        trades = QWidget()
        page = QVBoxLayout(trades)
        page.setContentsMargins(0, 0, 0, 0)
        page.setSpacing(0)
        page.addWidget(self._ruler)
        page.addWidget(self._empty)
        page.addWidget(self.list_area, 1)
        self.add_page("Open trades", trades)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Preferred)
        appearance.changed.connect(self.update)

    def _make_head(self) -> QHBoxLayout:
        """Pages on the left; what is marked, the sums and the way out on the right."""
        self.all_button = SureButton("Close all")
        self.all_button.setMinimumWidth(120)
        self.all_button.sure.connect(self.close_all)
        head = QHBoxLayout()
        head.setContentsMargins(12, 4, 12, 4)
        head.addLayout(self._tabs)
        head.addStretch(1)
        self.marked_button = QPushButton()
        self.marked_button.setProperty("role", "flat")
        self.marked_button.setToolTip(
            "Mark trades with Ctrl+click, their box or Space; M opens what can be done with them"
        )
        explain(self.marked_button, "marked")
        self.marked_button.clicked.connect(self.open_marked)
        head.addWidget(self.marked_button)
        head.addSpacing(12)
        head.addWidget(self._summary)
        head.addSpacing(12)
        head.addWidget(self.all_button)
        return head

    def sizeHint(self) -> QSize:
        return QSize(900, 190)

    def add_page(self, name: str, page: QWidget) -> None:
        """A page beside the open trades, chosen by a button in the head."""
        number = self.stack.addWidget(page)
        button = QPushButton(name)
        button.setCheckable(True)
        button.setProperty("role", "flat")
        button.setChecked(number == 0)
        button.clicked.connect(lambda: self.show_page(number))
        self._pages.addButton(button, number)
        self._tabs.addWidget(button)

    def show_page(self, number: int) -> None:
        self.stack.setCurrentIndex(number)
        button = self._pages.button(number)
        assert button is not None
        button.setChecked(True)
        self.paged.emit(number)

    def show_snapshot(self, snapshot: Snapshot, selected: str) -> None:
        live = [trade for trade in snapshot.trades if trade.state != states.ENDED]
        old = (self._axis.low, self._axis.high)
        self._axis.fit(live)
        if old != (self._axis.low, self._axis.high):
            self.update()
            self._ruler.update()
        self.marked = [name for name in self.marked if any(trade.id == name for trade in live)]
        for trade_id in [
            trade_id for trade_id in self.rows if all(trade.id != trade_id for trade in live)
        ]:
            row = self.rows.pop(trade_id)
            self._list.removeWidget(row)
            row.deleteLater()
        for trade in live:
            row = self.rows.get(trade.id) or self._new_row(trade.id)
            view = snapshot.instrument(trade.symbol)
            if view is not None:
                row.show_trade(
                    trade, view.instrument, snapshot, trade.id == selected, trade.id in self.marked
                )
        self._show_strangers(snapshot)
        self._empty.setVisible(not live and not snapshot.unexplained)
        self._ruler.setVisible(bool(live))
        self._show_sums(snapshot, live)
        if selected != self._chosen:
            self._chosen = self._in_view = selected
            self._scroll_soon.start()  # a new row has its place only once it is laid out

    def _scrolled_by_hand(self) -> None:
        self._in_view = ""

    def _scroll_to_chosen(self) -> None:
        row = self.rows.get(self._in_view)
        if row is not None:
            self.list_area.ensureWidgetVisible(row, 0, 0)

    def _new_row(self, trade_id: str) -> TradeRow:
        row = TradeRow(self._appearance, self._axis)
        row.chosen.connect(self.chosen)
        row.close_asked.connect(self.close_asked)
        row.menu_asked.connect(self._menu)
        row.marked_asked.connect(self.mark)
        self.rows[trade_id] = row
        self._list.insertWidget(self._list.count() - 1, row)
        return row

    def mark(self, trade_id: str) -> None:
        """Mark a trade, or let it go."""
        if trade_id in self.marked:
            self.marked.remove(trade_id)
        else:
            self.marked.append(trade_id)
        row = self.rows[trade_id]
        row.marked = trade_id in self.marked
        row.update()
        self._show_marked()

    def _show_marked(self) -> None:
        count = len(self.marked)
        self.marked_button.setVisible(count > 0)
        self.marked_button.setText(f"{count} marked \u2026")

    def _menu(self, trade_id: str, at: object) -> None:
        """On a marked trade the menu is that of all marked ones."""
        if trade_id in self.marked and len(self.marked) > 1:
            self.marked_menu.emit(at)
        else:
            self.menu_asked.emit(trade_id, at)

    def open_marked(self) -> None:
        """The menu of the marked trades."""
        if self.marked:
            self.marked_menu.emit(
                self.marked_button.mapToGlobal(self.marked_button.rect().bottomLeft())
            )

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_M and self.marked:
            self.open_marked()
        elif event.key() == Qt.Key.Key_Escape and self.marked:
            for name in list(self.marked):
                self.mark(name)
        else:
            super().keyPressEvent(event)

    def _show_strangers(self, snapshot: Snapshot) -> None:
        """Positions that Hawser did not open: loud, with the one thing that helps."""
        names = {position.id for position in snapshot.unexplained}
        for name in [name for name in self.strangers if name not in names]:
            row = self.strangers.pop(name)
            self._list.removeWidget(row)
            row.deleteLater()
        for position in snapshot.unexplained:
            if position.id not in self.strangers:
                row = StrangerRow()
                row.button.clicked.connect(lambda _, name=position.id: self.adopt_asked.emit(name))
                self.strangers[position.id] = row
                self._list.insertWidget(0, row)
            view = snapshot.instrument(position.symbol)
            assert view is not None
            self.strangers[position.id].show_position(
                position, view.instrument, position.id in snapshot.left
            )
        self._show_marked()

    def _show_sums(self, snapshot: Snapshot, live: list[TradeView]) -> None:
        cur = snapshot.currency
        text = (
            f"heat {fg.money(snapshot.heat, cur)}, locked {fg.money(snapshot.locked, cur)}"
            if live
            else ""
        )
        baskets = [f"{one.name}: {_basket_text(one, cur)}" for one in snapshot.baskets]
        more = f" and {len(baskets) - 1} more" if len(baskets) > 1 else ""
        text = "; ".join([*(f"{one}{more}" for one in baskets[:1]), *filter(None, [text])])
        self._summary.setToolTip(plain_tip("\n".join(baskets)))
        if self._summary.text() != text:
            self._summary.setText(text)
        total = sum(trade.money for trade in live)
        self.all_button.means(frozenset(trade.id for trade in live))
        self.all_button.setEnabled(bool(live))
        self.all_button.consequence = f"Close {len(live)}: {fg.money(total, cur, sign=True)}? Again"


def _basket_text(view: BasketView, currency: str) -> str:
    """What a basket has come to, between what it may lose and what it is to win."""
    ends = [fg.money(-view.lose, currency, sign=True)] if view.lose < math.inf else []
    ends += [fg.money(view.gain, currency, sign=True)] if view.gain < math.inf else []
    return f"{fg.money(view.won, currency, sign=True)}, closes at {' or '.join(ends)}"


class _Ruler(QWidget):
    """The column heads and the R axis above the rows."""

    def __init__(self, appearance: Appearance, axis: RAxis) -> None:
        super().__init__()
        self._appearance, self._axis = appearance, axis
        self.setFixedHeight(20)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setPen(self._appearance.color("ink2"))
        painter.setFont(font(11))
        height = self.height()
        middle = Qt.AlignmentFlag.AlignVCenter

        def head(
            x: float, width: float, text: str, align: Qt.AlignmentFlag = Qt.AlignmentFlag.AlignLeft
        ) -> None:
            painter.drawText(QRectF(x, 0, width, height), middle | align, text)

        right, centre = Qt.AlignmentFlag.AlignRight, Qt.AlignmentFlag.AlignHCenter
        head(MARK, 100, "instrument")
        head(128, 50, "side")
        head(178, LEFT - 190, "units", right)
        width = self.width() - LEFT - RIGHT - ACTION
        for whole in range(math.ceil(self._axis.low), math.floor(self._axis.high) + 1):
            text = "0" if whole == 0 else f"{fg.number(whole, 0, sign=True)}{fg.GROUP}R"
            head(LEFT + self._axis.x(whole, width) - 24, 48, text, centre)
        left = self.width() - RIGHT - ACTION
        head(left, 68, "result", right)
        head(left + 70, 106, "money", right)
        head(left + 192, 120, "state")
        painter.end()
