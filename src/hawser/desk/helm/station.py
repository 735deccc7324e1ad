"""The Helm: plan, place, tend. Instruments, chart with its R scale, plan, and the strips of the open trades."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
from PyQt6.QtCore import QPoint, Qt, pyqtSignal
from PyQt6.QtWidgets import QMenu, QMessageBox, QSplitter, QTableView, QVBoxLayout

from hawser.core.clock import MINUTE
from hawser.core.entry import HeldRule
from hawser.core.field_parser import held_text, size_text
from hawser.core.indicator_values import own_atr
from hawser.core.instrument import Instrument
from hawser.core.plan import Plan
from hawser.core.rig import Basket, Rig
from hawser.desk.chart.chart import Chart
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.station import Desk, StationAccount, StationView
from hawser.desk.helm.across_panel import AcrossPanel
from hawser.desk.helm.basket_box import BasketBox
from hawser.desk.helm.instruments import InstrumentPanel
from hawser.desk.helm.plan_panel import PlanPanel
from hawser.desk.helm.strips import StripPanel
from hawser.desk.models import figures as fg
from hawser.desk.models import focus as fc
from hawser.desk.models.across import also_words
from hawser.desk.models.planning import Draft, Planning
from hawser.desk.models.pyramid import Pyramid
from hawser.desk.models.settings import Shown
from hawser.desk.models.trade_actions import TradeAction, by_rigs, equip, is_open, of_many, of_marked, of_trade
from hawser.engine import events as ev
from hawser.engine.events import BarCompleted
from hawser.engine.model import transitions as states
from hawser.engine.model.state import EntryValues
from hawser.service.runtime.runtime import Runtime
from hawser.service.views.snapshot import Snapshot, TradeView

Other = tuple[str, Callable[[], Snapshot | None], Runtime]  # an account: name, its latest snapshot, its runtime
DEFAULT_SPAN = 15 * MINUTE
ALL_TURNS = -1
ACROSS_HEIGHT = 268


def opened(desk: Desk, account: StationAccount) -> Helm:
    """The Helm of an account."""
    helm = Helm(desk.look, account.runtime, account.shown, desk.kept.plans)
    account.bridge.marks.connect(helm.show_marks)
    helm.refused.connect(lambda text: desk.tell("refused", text))
    helm.set_rigs(desk.shelf.rigs)
    return helm


class Helm(StationView):
    """Joins the panels; what is chosen and dragged is kept here, all else in the snapshot."""

    refused = pyqtSignal(str)

    def __init__(self, look: Appearance, runtime: Runtime, shown: Shown, plans: dict[str, Draft]) -> None:
        super().__init__()
        self.setObjectName("ground")
        self._look, self._runtime, self._kept = look, runtime, shown
        self._snapshot: Snapshot | None = None
        self.symbol, self.span = "", DEFAULT_SPAN
        self._traded: Instrument | None = None  # what the symbol is, as it was taken up
        self.selected = ""  # a trade's id; empty: the plan
        self._wish: tuple[str, int, int] | None = None  # a line being dragged on a trade
        self._placed = ""  # the last ask to place, until its trade is shown
        self.instruments, self.chart = InstrumentPanel(look), Chart(look)
        self.plan, self.strips, self.across = PlanPanel(look), StripPanel(look), AcrossPanel(look)
        self.strips.add_page("Across", self.across)
        self.plan.names.set_plans(plans)
        self.rigs: dict[str, Rig] = {}
        self._others: list[Other] = []
        self._marks: dict[str, EntryValues] = {}
        self._measured: tuple[object, int] = (None, 0)
        self.top, self.whole = QSplitter(Qt.Orientation.Horizontal), QSplitter(Qt.Orientation.Vertical)
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
        self.strips.close_asked.connect(self.close_trade)
        self.strips.close_all.connect(self.close_all)
        self.strips.paged.connect(self._paged)
        self.strips.menu_asked.connect(self.show_menu)
        self.strips.marked_menu.connect(self.show_marked_menu)
        self.strips.adopt_asked.connect(self.adopt)
        self.across.taken.connect(self.take_across)

    # What the runtime tells

    def show_snapshot(self, snapshot: Snapshot, turn: int = ALL_TURNS) -> None:
        """The chart is shown every other turn of four, each other panel once."""
        self._snapshot = snapshot
        if turn in (0, ALL_TURNS):
            self.instruments.show_snapshot(snapshot)
        self._follow_venue(snapshot)
        if self.selected and not self._trade_open(snapshot):
            self.selected = ""
        self._follow_placed(snapshot)
        if turn in (2, ALL_TURNS):
            self.plan.show_snapshot(snapshot)
            self.strips.show_snapshot(snapshot, self.selected)
            self._show_across()
            self._show_also()
        if turn in (1, 3, ALL_TURNS):
            self.chart.show_forming(snapshot.forming)
            self.chart.show_limit(snapshot.spread_limit(self.symbol))
            view = snapshot.instrument(self.symbol)
            self.chart.news.show_marks(view.news if view is not None else (), snapshot.time)
            self._show_focus()

    def _trade_open(self, snapshot: Snapshot) -> bool:
        trade = snapshot.trade(self.selected)
        return trade is not None and trade.state != states.ENDED

    def _follow_venue(self, snapshot: Snapshot) -> None:
        """The instrument that is shown may be none yet, or gone, or another than it was when the line was cut."""
        view = snapshot.instrument(self.symbol)
        if view is None and snapshot.instruments:
            gone = self.symbol
            self._first_choice(snapshot)
            if gone:  # a hand on its way to the button meant the plan that stood there
                self.plan.planning.unseen = (
                    f"{gone} is not traded any more. This is the plan of {self.symbol}: choose it to go on"
                )
        elif view is not None and view.instrument != self._traded:
            self._take_up(self.symbol)

    def _first_choice(self, snapshot: Snapshot) -> None:
        """What was shown last time; else the first instrument with an open trade; else the first."""
        symbols = [view.instrument.symbol for view in snapshot.instruments]
        held = [trade.symbol for trade in snapshot.trades if trade.open_steps]
        symbol = self._kept.symbol if self._kept.symbol in symbols else (held or symbols)[0]
        trade = next((trade for trade in snapshot.trades if trade.open_steps and trade.symbol == symbol), None)
        self.instruments.show_snapshot(snapshot)
        self._take_up(symbol)
        if trade is not None:
            self.selected = trade.id

    def _follow_placed(self, snapshot: Snapshot) -> None:
        """A trade placed here is what the lines are about once it is open."""
        placed = next(
            (t for t in snapshot.trades if self._placed and t.ask == self._placed and (t.opened or t.pending)), None
        )
        if placed is not None:
            self._placed = ""
            if placed.symbol == self.symbol and placed.state != states.ENDED:
                self.selected = placed.id

    def show_bars(self, symbol: str, span: int, pyramid: Pyramid) -> None:
        if symbol != self.symbol or span != self.span or self._snapshot is None:
            return  # of an earlier choice
        view = self._snapshot.instrument(symbol)
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
        snapshot, planning = self._snapshot, self.plan.planning
        if snapshot is None or not self.across.isVisible():
            return
        plan = planning.plan
        wanted = (plan, snapshot.time // MINUTE)
        from_bars = plan is not None and plan.stop is not None and plan.stop.from_bars
        if plan is not None and (from_bars or own_atr(plan)) and wanted != self._measured:
            self._measured = wanted
            self._runtime.measure(plan)
        self.across.show_plan(plan, next(iter(planning.errors.values()), ""), snapshot, self._marks)

    def take_across(self, symbol: str) -> None:
        """The plan as it is, on another instrument."""
        draft = self.plan.planning.draft
        if symbol != self.symbol:
            self._kept.drafts[symbol] = draft
            self.choose_instrument(symbol)
        self.choose_trade("")
        self.plan.field("risk").setFocus()

    # Choices

    def choose_instrument(self, symbol: str) -> None:
        self.plan.planning.unseen = ""
        if symbol != self.symbol and self._snapshot is not None:
            self._take_up(symbol)

    def _take_up(self, symbol: str) -> None:
        assert self._snapshot is not None
        self._remember()
        self.symbol = symbol
        view = self._snapshot.instrument(symbol)
        self._traded = view.instrument if view is not None else None
        spans = sorted(view.atr) if view is not None else []
        wanted = self._kept.spans.get(symbol, DEFAULT_SPAN)
        self.span = wanted if wanted in spans or not spans else spans[0]
        held = [t for t in self._snapshot.trades if t.symbol == symbol and t.state != states.ENDED]
        self.selected = held[0].id if held else ""
        self.plan.planning.currency, self.plan.planning.bars = self._snapshot.currency, None
        self.plan.set_instrument(symbol, self.span, self._kept.drafts.get(symbol) or self._fresh_draft())
        self.instruments.choose(symbol)
        self.chart.show_limit(self._snapshot.spread_limit(symbol))
        self._watch()

    def _fresh_draft(self) -> Draft:
        """The plan of an instrument that never had one: sized, and its lines held, as the account says."""
        settings = self._snapshot.settings if self._snapshot is not None else None
        if settings is None:
            return Draft()
        policy = settings.policy
        held = None if policy.hold_backstop_r is None else HeldRule(policy.hold_backstop_r, policy.hold_settle_ms)
        return Draft(risk=size_text(settings.size, settings.currency), held=held_text(held))

    def choose_span(self, span: int) -> None:
        if span != self.span and self.symbol:
            self._remember()
            self.span = span
            self._kept.spans[self.symbol] = span
            self.plan.planning.bars = None
            self.plan.set_instrument(self.symbol, span, self.plan.planning.draft)
            self._watch()

    def _watch(self) -> None:
        self.instruments.set_span(self.span)
        self._runtime.watch(self.symbol, self.span)

    def choose_trade(self, trade_id: str) -> None:
        """Show a trade's lines; an empty id shows the plan's."""
        self._wish = None
        if self._snapshot is None or trade_id == self.selected:
            return
        trade = self._snapshot.trade(trade_id)
        if trade is not None and trade.symbol != self.symbol:
            self.choose_instrument(trade.symbol)
        self.selected = trade_id
        self.strips.show_snapshot(self._snapshot, self.selected)
        self._show_focus()

    def _planned(self) -> None:
        """The plan was edited: it is what the lines are about, and it is remembered."""
        if self._snapshot is None or not self.symbol:
            return
        self._kept.drafts[self.symbol] = self.plan.planning.draft
        self.plan.show_snapshot(self._snapshot)
        self._show_focus()

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
        snapshot = self._snapshot
        if snapshot is None:
            return
        trade, view = snapshot.trade(self.selected), snapshot.instrument(self.symbol)
        planning = self.plan.planning
        shown = trade is not None and (trade.opened or trade.pending)
        focus = None
        if trade is not None and shown and view is not None and trade.symbol == self.symbol:
            focus = fc.of_trade(trade, view)
        elif planning.sizing is not None and planning.request is not None and planning.symbol == self.symbol:
            entry = planning.waits
            straddle = planning.straddle is not None
            focus = fc.of_plan(planning.request, planning.sizing, entry, straddle)
        if focus is not None:
            focus = msgspec.structs.replace(focus, others=fc.entries_beside(focus, snapshot.trades))
        self.chart.show_focus(focus)

    def _moved(self, role: str, number: int, level: int) -> None:
        """A line is being dragged. The plan answers at once; a trade is only asked when the line is let go."""
        if self.selected:
            self._wish = (role, number, level)
            self._tell_wish()
        else:
            self._drag_plan(role, number, level)

    def _drag_plan(self, role: str, number: int, level: int) -> None:
        planning = self.plan.planning
        sizing, request = planning.sizing, planning.request
        if request is None:
            return
        if role == "entry":
            self.plan.take(planning.with_entry_at(request.instrument.price(level)))
        elif role == "stop":
            self.plan.take(planning.with_stop_at(request.instrument.price(level)))
        elif sizing is not None:
            r = request.side * (level - sizing.ref) / sizing.r_ticks
            self.plan.take(planning.with_target_at(number, r))

    def _tell_wish(self) -> None:
        """What the dragged level would mean, in figures."""
        trade = self._selected_trade()
        if trade is None or self._wish is None or self._snapshot is None:
            return
        role, _, level = self._wish
        view = self._snapshot.instrument(trade.symbol)
        assert view is not None
        name = {"stop": "Stop", "entry": "Entry"}.get(role, f"Target {self._wish[1]}")
        wider = role == "stop" and not trade.pending and trade.side * (level - trade.stop) < 0
        if trade.pending:
            self.chart.tell(f"{name} to {view.instrument.price(level)}: the size follows when the venue accepts")
            return
        more = ", wider than now: Hawser will ask" if wider else ""
        self.chart.tell(f"{name} to {view.instrument.price(level)} = {fg.r(trade.r_of(level))}{more}")

    def _dropped(self, role: str, number: int, level: int) -> None:
        trade = self._selected_trade()
        self._wish = None
        if trade is None:
            self._moved(role, number, level)
        elif role == "entry":
            self._runtime.ask(lambda now, ask: ev.MoveEntry(time=now, ask=ask, trade=trade.id, level=level))
        elif role == "stop":
            self.move_stop(trade, level)
        else:
            self._runtime.ask(
                lambda now, ask: ev.MoveTarget(time=now, ask=ask, trade=trade.id, number=number, level=level)
            )
        self.chart.show_focus(None)  # the lines go back to what is, until the venue has answered
        self._show_focus()

    def _let_go(self) -> None:
        self._wish = None
        self.chart.show_focus(None)
        self._show_focus()

    def _selected_trade(self) -> TradeView | None:
        return self._snapshot.trade(self.selected) if self._snapshot is not None and self.selected else None

    def move_stop(self, trade: TradeView, level: int) -> None:
        """Ask for the stop to be moved; widening it is confirmed first, in figures."""
        wider = not trade.pending and trade.side * (level - trade.stop) < 0
        assert self._snapshot is not None
        if wider and not self._snapshot.never_widen and not self._widens(trade, level):
            return
        self._runtime.ask(lambda now, ask: ev.MoveStop(time=now, ask=ask, trade=trade.id, level=level, widen=wider))

    def _widens(self, trade: TradeView, level: int) -> bool:
        """Whether a person wants it, and it is still what was told: rules go on moving the stop meanwhile."""
        if not self._confirm_widening(trade, level):
            return False
        assert self._snapshot is not None
        now = self._snapshot.trade(trade.id)
        same = now is not None and (now.stop, now.open_steps) == (trade.stop, trade.open_steps)
        if not same:
            self.refused.emit("Not widened: the stop or the trade has changed since you were asked")
        return same

    def _confirm_widening(self, trade: TradeView, level: int) -> bool:
        assert self._snapshot is not None
        view = self._snapshot.instrument(trade.symbol)
        assert view is not None
        of = view.instrument
        before, after = trade.r_of(trade.stop), trade.r_of(level)
        box = QMessageBox(self)
        box.setWindowTitle("Widen the stop?")
        box.setTextFormat(Qt.TextFormat.PlainText)
        box.setText(
            f"{trade.symbol} {fg.side_word(trade.side)}: move the stop from {of.price(trade.stop)} ({fg.r(before)}) "
            f"out to {of.price(level)} ({fg.r(after)})?\n\n"
            f"If it is hit the trade ends at {fg.r(after)} instead of {fg.r(before)}."
        )
        keep = box.addButton("Keep the stop", QMessageBox.ButtonRole.RejectRole)
        widen = box.addButton("Widen it", QMessageBox.ButtonRole.AcceptRole)
        box.setDefaultButton(keep)
        box.exec()
        return box.clickedButton() is widen

    # Actions

    def place(self) -> None:
        """Place the plan, once for each press."""
        planning, plan = self.plan.planning, self.plan.planning.plan
        if plan is None or not planning.may_be_placed:
            now = self._snapshot.time if self._snapshot is not None else 0
            problem = next(iter(planning.errors.values()), "") or planning.trouble(now)
            self.refused.emit(f"Not placed: {problem or 'there is no plan'}")
            return
        straddle, seen = planning.straddle, planning.request.ref if planning.request is not None else 0
        wanted = self.plan.also.wanted()
        for runtime in (self._runtime, *(other for name, _, other in self._others if name in wanted)):
            if straddle is not None:
                runtime.ask(lambda now, ask: ev.PlaceStraddle(time=now, ask=ask, plan=plan, atr=straddle))
                continue
            if runtime is self._runtime:
                self._placed = runtime.ask(lambda now, ask: ev.PlaceTrade(time=now, ask=ask, plan=plan, seen=seen))
            else:  # nobody has seen that venue's price, and its tick may be another
                runtime.ask(lambda now, ask: ev.PlaceTrade(time=now, ask=ask, plan=plan))

    def share_with(self, others: list[Other]) -> None:
        """The accounts beside this one, on which a plan may be placed too."""
        self._others = others
        self.plan.also.set_names([name for name, _, _ in others])

    def _show_also(self) -> None:
        """What the plan comes to on the other accounts: each sized by its own equity."""
        plan, found = self.plan.planning.plan, {}
        marks = EntryValues(self.plan.planning.basis(), self.plan.planning.own_atr()) if plan else EntryValues()
        for name, latest, _ in self._others:
            snapshot = latest()
            found[name] = also_words(plan, snapshot, marks) if plan and snapshot else ""
        self.plan.also.show_sizes(found)

    def plan_straddle(self) -> None:
        """Put a straddle into the plan's entry, to be looked at and placed."""
        self.choose_trade("")
        self.plan.take(msgspec.structs.replace(self.plan.planning.draft, entry="straddle 1 atr"))
        self.plan.field("entry").setFocus()

    def flip(self) -> None:
        self.plan.set_side(-self.plan.planning.draft.side)

    def show_menu(self, trade_id: str, at: QPoint) -> None:
        """What can be done with a trade, each with its consequence in figures."""
        trade = self._snapshot.trade(trade_id) if self._snapshot is not None else None
        if trade is None or self._snapshot is None:
            return
        self.choose_trade(trade_id)
        self._open_menu(of_trade(trade, self._snapshot, self._saved_plans(trade)), at)

    def show_marked_menu(self, at: QPoint) -> None:
        """What can be done with all marked trades at once."""
        if self._snapshot is not None:
            self._open_menu(of_marked(self._marked(), self._snapshot, self.rigs), at)

    def _marked(self) -> list[TradeView]:
        assert self._snapshot is not None
        found = [self._snapshot.trade(name) for name in self.strips.marked]
        return [trade for trade in found if trade is not None]

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
        self.rigs = rigs
        self.plan.set_rigs(rigs)

    def put_rig(self, rig: Rig) -> None:
        """Put a rig that was edited on the open trades that have it; where there are none, into the plan. A ladder is
        sized before its first entry and always goes into the plan."""
        shown = self._snapshot.trades if self._snapshot is not None else ()
        plain = rig.ladder is None
        trades = [trade for trade in shown if plain and trade.rig == rig.name and is_open(trade)]
        for trade in trades:
            plan = by_rigs(trade, {rig.name: rig}).get(rig.name)
            if plan is not None:
                self._runtime.ask(equip(trade, plan))
        if not trades:
            self.choose_trade("")
            self.plan.take_rig(rig)

    def _saved_plans(self, trade: TradeView) -> dict[str, Plan]:
        """The plans saved by name that could tend this trade."""
        found = by_rigs(trade, self.rigs)
        for name, draft in self.plan.names.plans.items():
            planning = Planning(
                trade.symbol, trade.plan.timeframe_ns, currency=self.plan.planning.currency, rigs=self.rigs
            )
            planning.change(msgspec.structs.replace(draft, side=trade.side, entry="market"))
            if planning.plan is not None and (planning.ladder is None or trade.pending):
                found[name] = planning.plan
        return found

    def adopt(self, position_id: str) -> None:
        """Make a trade of a position that is not ours, protected by its instrument's plan; by the plain one where that
        plan has errors."""
        snapshot = self._snapshot
        position = next((one for one in snapshot.unexplained if one.id == position_id), None) if snapshot else None
        if position is None:
            return
        for draft in (self._kept.drafts.get(position.symbol, Draft()), Draft()):
            planning = Planning(position.symbol, self._kept.spans.get(position.symbol, DEFAULT_SPAN), rigs=self.rigs)
            planning.currency = self.plan.planning.currency
            planning.change(msgspec.structs.replace(draft, side=position.side, entry="market"))
            plan = planning.plan
            if plan is not None and plan.stop is not None and plan.stop.kind not in ("price", "money"):
                break
        assert plan is not None  # the plain plan has no errors
        adopted = plan
        self._runtime.ask(lambda now, ask: ev.Adopt(time=now, ask=ask, position=position_id, plan=adopted))

    def trade_actions(self) -> list[TradeAction]:
        """What the finder offers: for the selected trade, for the marked ones, and for several at once."""
        snapshot, trade = self._snapshot, self._selected_trade()
        if snapshot is None:
            return []
        found = of_trade(trade, snapshot, self._saved_plans(trade)) if trade is not None else []
        return [*found, *of_marked(self._marked(), snapshot, self.rigs), *of_many(snapshot)]

    def _ask_basket(self, trades: tuple[str, ...]) -> None:
        """Lay a basket over trades: what is typed is read before it is sent, and can be mended where it is wrong."""
        box = self.basket_box = BasketBox(self, len(trades))

        def lay(basket: Basket) -> None:
            self._runtime.ask(lambda now, ask: ev.FormBasket(time=now, ask=ask, trades=trades, basket=basket))

        box.typed.connect(lay)
        box.open()

    def carry_out(self, action: TradeAction) -> None:
        if action.basket:
            self._ask_basket(action.basket)
        for make in action.makes:
            self._runtime.ask(make)

    def close_trade(self, trade_id: str) -> None:
        """Close it, or take back its entry, whichever is shown: that may have filled a moment ago."""
        trade = self._snapshot.trade(trade_id) if self._snapshot is not None else None
        waits = trade is not None and trade.pending
        self._runtime.ask(lambda now, ask: ev.CloseTrade(time=now, ask=ask, trade=trade_id, entry_only=waits))

    def close_all(self) -> None:
        self._runtime.ask(lambda now, ask: ev.CloseAll(time=now, ask=ask))
