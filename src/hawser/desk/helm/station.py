"""The Helm: plan, place, tend. Instruments, chart with its R scale, plan, and the strips of the
open trades."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
from PyQt6.QtCore import QPoint, Qt, pyqtSignal
from PyQt6.QtWidgets import QMenu, QMessageBox, QSplitter, QTableView, QVBoxLayout

from hawser.core.rig import Rig
from hawser.desk.chart.chart import Chart
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.station import Desk, StationAccount, StationView
from hawser.desk.helm.across_panel import AcrossPanel
from hawser.desk.helm.basket_box import BasketBox
from hawser.desk.helm.chart_lines import ChartLines
from hawser.desk.helm.instruments import InstrumentPanel
from hawser.desk.helm.plan_panel import PlanPanel
from hawser.desk.helm.strips import StripPanel
from hawser.desk.models.helm import HelmModel, OtherAccount, Wish
from hawser.desk.models.planning import Draft
from hawser.desk.models.pyramid import Pyramid
from hawser.desk.models.settings import Shown
from hawser.desk.models.trade_actions import TradeAction
from hawser.engine.events import BarCompleted
from hawser.engine.model.state import EntryValues
from hawser.service.runtime.runtime import Runtime
from hawser.service.views.snapshot import Snapshot, TradeView

ALL_TURNS = -1
ACROSS_HEIGHT = 268


def opened(desk: Desk, account: StationAccount) -> Helm:
    """The Helm of an account."""
    helm = Helm(desk.appearance, account.runtime, account.shown, desk.kept.plans)
    account.bridge.marks.connect(helm.show_marks)
    helm.lines = ChartLines(
        helm,
        helm.chart,
        account.shown,
        sources=desk.sources,
        bars_of_all=account.runtime.bars_of_all,
        columns_of=account.runtime.columns_of,
    )
    helm.lines.told.connect(lambda text: desk.tell("refused", text))
    helm.refused.connect(lambda text: desk.tell("refused", text))
    return helm


class Helm(StationView):
    """Joins the panels; what is chosen and dragged is kept here, all else in the snapshot."""

    refused = pyqtSignal(str)

    def __init__(
        self, appearance: Appearance, runtime: Runtime, shown: Shown, plans: dict[str, Draft]
    ) -> None:
        super().__init__()
        self.setObjectName("ground")
        self._appearance, self._runtime, self._kept = appearance, runtime, shown
        self.instruments, self.chart = InstrumentPanel(appearance), Chart(appearance)
        self.plan, self.strips, self.across = (
            PlanPanel(appearance),
            StripPanel(appearance),
            AcrossPanel(appearance),
        )
        self.strips.add_page("Across", self.across)
        self.plan.names.set_plans(plans)
        self.model = HelmModel(runtime, shown, self.plan.planning)
        self.model.plans = plans
        self._marks: dict[str, EntryValues] = {}
        self.lines: ChartLines | None = None
        self.top, self.whole = (
            QSplitter(Qt.Orientation.Horizontal),
            QSplitter(Qt.Orientation.Vertical),
        )
        for panel in (self.instruments, self.chart, self.plan):
            self.top.addWidget(panel)
        self.whole.addWidget(self.top)
        self.whole.addWidget(self.strips)
        for splitter, sizes in ((self.top, [246, 700, 300]), (self.whole, [494, 186])):
            splitter.setHandleWidth(6)
            splitter.setChildrenCollapsible(False)
            splitter.setSizes(sizes)
        self.top.setStretchFactor(1, 1)
        self.whole.setStretchFactor(0, 1)
        box = QVBoxLayout(self)
        box.setContentsMargins(8, 6, 8, 4)
        box.addWidget(self.whole)
        self._connect()

    def _connect(self) -> None:
        self.instruments.chosen.connect(self.choose_instrument)
        self.chart.span_chosen.connect(self.choose_span)
        self.chart.moved.connect(self._moved)
        self.chart.dropped.connect(self._dropped)
        self.chart.menu_asked.connect(lambda at: self.show_menu(self.selected, at))
        self.chart.scale.cancelled.connect(self._let_go)
        self.plan.changed.connect(self._planned)
        self.plan.focused.connect(lambda: self.choose_trade(""))
        self.plan.place.connect(self.place)
        self.strips.chosen.connect(self.choose_trade)
        self.strips.close_asked.connect(self.model.close)
        self.strips.close_all.connect(self.model.close_all)
        self.strips.paged.connect(self._paged)
        self.strips.menu_asked.connect(self.show_menu)
        self.strips.marked_menu.connect(self.show_marked_menu)
        self.strips.adopt_asked.connect(self.model.adopt)
        self.across.taken.connect(self.take_across)

    # What the runtime tells

    def show_snapshot(self, snapshot: Snapshot, turn: int = ALL_TURNS) -> None:
        """The chart is shown every other turn of four, each other panel once."""
        if turn in (0, ALL_TURNS):
            self.instruments.show_snapshot(snapshot)
        before, symbol = self.symbol, self.model.take(snapshot)
        if symbol:
            self.instruments.show_snapshot(snapshot)
            self._take_up(symbol)
            self.model.took_place_of(before)
        self.model.follow_trades()
        if turn in (2, ALL_TURNS):
            self.plan.show_snapshot(snapshot)
            self.strips.show_snapshot(snapshot, self.selected)
            self._show_across()
            self.plan.also.show_sizes(self.model.also())
        if turn in (1, 3, ALL_TURNS):
            self.chart.show_forming(snapshot.forming)
            self.chart.show_limit(snapshot.spread_limit(self.symbol))
            view = snapshot.instrument(self.symbol)
            self.chart.news.show_marks(view.news if view is not None else (), snapshot.time)
            self._show_focus()

    def show_bars(self, symbol: str, span: int, pyramid: Pyramid) -> None:
        snapshot = self.model.snapshot
        if symbol != self.symbol or span != self.span or snapshot is None:
            return  # of an earlier choice
        view = snapshot.instrument(symbol)
        if view is None:
            return  # gone meanwhile
        self.chart.shown = self._kept.shown_bars.get(f"{symbol}@{span}", self.chart.shown)
        self.chart.show_bars(view.instrument, span, pyramid, sorted(view.atr) or [span])
        self.plan.planning.bars = pyramid.bars
        self._show_focus()

    def add_bar(self, bar: BarCompleted) -> None:
        if bar.symbol == self.symbol and bar.span == self.span:
            self.chart.add_bar(bar)
            self.plan.planning.bars = self.chart.bars

    # Across

    def _paged(self, number: int) -> None:
        """Across wants more room than a few trades do."""
        upper, lower = self.whole.sizes()
        if number and lower < ACROSS_HEIGHT:
            self.whole.setSizes([upper + lower - ACROSS_HEIGHT, ACROSS_HEIGHT])
        self._show_across()

    def show_marks(self, marks: dict[str, EntryValues]) -> None:
        self._marks = marks
        self._show_across()

    def _show_across(self) -> None:
        snapshot, planning = self.model.snapshot, self.plan.planning
        if snapshot is None or not self.across.isVisible():
            return
        self.model.measure()
        self.across.show_plan(
            planning.plan, next(iter(planning.errors.values()), ""), snapshot, self._marks
        )

    def take_across(self, symbol: str) -> None:
        """The plan as it is, on another instrument."""
        draft = self.plan.planning.draft
        if symbol != self.symbol:
            self._kept.drafts[symbol] = draft
            self.choose_instrument(symbol)
        self.choose_trade("")
        self.plan.field("risk").setFocus()

    # Choices

    @property
    def symbol(self) -> str:
        return self.model.symbol

    @property
    def span(self) -> int:
        return self.model.span

    @property
    def selected(self) -> str:
        """The trade that the lines are about; empty: the plan."""
        return self.model.selected

    @property
    def rigs(self) -> dict[str, Rig]:
        return self.model.rigs

    def choose_instrument(self, symbol: str) -> None:
        self.plan.planning.unseen = ""
        if symbol != self.symbol and self.model.snapshot is not None:
            self._take_up(symbol, by_hand=True)

    def _take_up(self, symbol: str, by_hand: bool = False) -> None:
        self.changing.emit()
        self._remember()
        draft = self.model.take_up(symbol, by_hand)
        self.plan.set_instrument(symbol, self.span, draft)
        self.instruments.choose(symbol)
        assert self.model.snapshot is not None
        self.chart.show_limit(self.model.snapshot.spread_limit(symbol))
        self._watch()

    def choose_span(self, span: int) -> None:
        if span != self.span and self.symbol:
            self._remember()
            self.model.span = span
            self._kept.spans[self.symbol] = span
            self.plan.planning.bars = None
            self.plan.set_instrument(self.symbol, span, self.plan.planning.draft)
            self._watch()

    def _watch(self) -> None:
        self.instruments.set_span(self.span)
        self._runtime.watch(self.symbol, self.span)

    def choose_trade(self, trade_id: str) -> None:
        """Show a trade's lines; an empty id shows the plan's."""
        self.model.wish = None
        snapshot = self.model.snapshot
        if snapshot is None or trade_id == self.selected:
            return
        trade = snapshot.trade(trade_id)
        if trade is not None and trade.symbol != self.symbol:
            self.choose_instrument(trade.symbol)
        self.model.selected = trade_id
        self.strips.show_snapshot(snapshot, self.selected)
        self._show_focus()

    def _planned(self) -> None:
        """The plan was edited: it is what the lines are about, and it is remembered."""
        if self.model.snapshot is None or not self.symbol:
            return
        self._kept.drafts[self.symbol] = self.plan.planning.draft
        self.plan.show_snapshot(self.model.snapshot)
        self._show_focus()

    def actions(self) -> list[tuple[str, Callable[[], object]]]:
        return [("Helm: lines over the bars", self.choose_lines)]

    def choose_lines(self) -> None:
        """Choose what is drawn over the bars."""
        if self.lines is not None:
            self.lines.open()

    def splitters(self) -> dict[str, QSplitter]:
        return {"top": self.top, "whole": self.whole}

    def tables(self) -> dict[str, QTableView]:
        return {"instruments": self.instruments.table}

    def remember(self) -> None:
        """Note what the next start should show."""
        self._remember()
        self._kept.symbol = self.symbol or self._kept.symbol

    def _remember(self) -> None:
        if self.symbol:
            self._kept.shown_bars[f"{self.symbol}@{self.span}"] = self.chart.shown
            self._kept.spans[self.symbol] = self.span

    # Lines

    def _show_focus(self) -> None:
        if self.model.snapshot is not None:
            self.chart.show_focus(self.model.focus)

    def _moved(self, role: str, number: int, level: int) -> None:
        """A line is being dragged. The plan answers at once; a trade is only asked when the line is
        let go."""
        wish = Wish(role, number, level)
        if self.selected:
            self.model.wish = wish
            self.chart.tell(self.model.wish_words)
            return
        draft = self.model.dragged_plan(wish)
        if draft is not None:
            self.plan.take(draft)

    def _dropped(self, role: str, number: int, level: int) -> None:
        trade, self.model.wish = self.model.selected_trade, None
        if trade is None:
            self._moved(role, number, level)
        elif role == "stop":
            self.move_stop(trade, level)
        else:
            self.model.ask_for(trade, Wish(role, number, level))
        self._let_go()  # the lines go back to what is, until the venue has answered

    def _let_go(self) -> None:
        self.model.wish = None
        self.chart.show_focus(None)
        self._show_focus()

    def move_stop(self, trade: TradeView, level: int) -> None:
        """Ask for the stop to be moved; widening it is confirmed first, in figures."""
        if self.model.must_confirm(trade, level):
            if not self._confirm_widening(trade, level):
                return
            if not self.model.still_as_told(trade):
                self.refused.emit(
                    "Not widened: the stop or the trade has changed since you were asked"
                )
                return
        self.model.move_stop(trade, level)

    def _confirm_widening(self, trade: TradeView, level: int) -> bool:
        box = QMessageBox(self)
        box.setWindowTitle("Widen the stop?")
        box.setTextFormat(Qt.TextFormat.PlainText)
        box.setText(self.model.widening_words(trade, level))
        keep = box.addButton("Keep the stop", QMessageBox.ButtonRole.RejectRole)
        widen = box.addButton("Widen it", QMessageBox.ButtonRole.AcceptRole)
        box.setDefaultButton(keep)
        box.exec()
        return box.clickedButton() is widen

    # Actions

    def place(self) -> None:
        """Place the plan, once for each press."""
        problem = self.model.place(self.plan.also.wanted())
        if problem:
            self.refused.emit(f"Not placed: {problem}")

    def share_with(self, others: list[OtherAccount]) -> None:
        """The accounts beside this one, on which a plan may be placed too."""
        self.model.others = others
        self.plan.also.set_names([other.name for other in others])

    def plan_straddle(self) -> None:
        """Put a straddle into the plan's entry, to be looked at and placed."""
        self.choose_trade("")
        self.plan.take(msgspec.structs.replace(self.plan.planning.draft, entry="straddle 1 atr"))
        self.plan.field("entry").setFocus()

    def flip(self) -> None:
        self.plan.set_side(-self.plan.planning.draft.side)

    def show_menu(self, trade_id: str, at: QPoint) -> None:
        """What can be done with a trade, each with its consequence in figures."""
        snapshot = self.model.snapshot
        if snapshot is not None and snapshot.trade(trade_id) is not None:
            self.choose_trade(trade_id)
            self._open_menu(self.model.actions_of(trade_id), at)

    def show_marked_menu(self, at: QPoint) -> None:
        """What can be done with all marked trades at once."""
        if self.model.snapshot is not None:
            self._open_menu(self.model.actions_of_marked(self.strips.marked), at)

    def _open_menu(self, actions: list[TradeAction], at: QPoint) -> None:
        menu = QMenu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        inner: dict[str, QMenu] = {}
        for action in actions:
            if action.menu and action.menu not in inner:
                made = menu.addMenu(action.menu)
                assert made is not None
                inner[action.menu] = made
            entry = inner.get(action.menu, menu).addAction(action.text)
            assert entry is not None
            entry.triggered.connect(lambda _, action=action: self.carry_out(action))
        if menu.isEmpty():
            entry = menu.addAction("No action is possible now")
            assert entry is not None
            entry.setEnabled(False)
        self.menu = menu
        menu.popup(at)

    def set_rigs(self, rigs: dict[str, Rig]) -> None:
        """The rigs there are now."""
        self.plan.set_rigs(rigs)

    def put_rig(self, rig: Rig) -> None:
        """Put a rig that was edited on the open trades that have it; where there are none, into the
        plan."""
        if not self.model.put_rig(rig):
            self.choose_trade("")
            self.plan.take_rig(rig)

    def trade_actions(self) -> list[TradeAction]:
        """What the finder offers of trades."""
        return self.model.actions(self.strips.marked)

    def _ask_basket(self, trades: tuple[str, ...]) -> None:
        """Lay a basket over trades: what is typed is read before it is sent, and can be mended
        where it is wrong."""
        box = self.basket_box = BasketBox(self, len(trades))
        box.typed.connect(lambda basket: self.model.lay_basket(trades, basket))
        box.open()

    def carry_out(self, action: TradeAction) -> None:
        if action.basket:
            self._ask_basket(action.basket)
        self.model.carry_out(action)
