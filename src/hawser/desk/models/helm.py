"""What the Helm is about and what it asks for, without Qt: the instrument and timeframe, the plan
or a trade, the line that is dragged. The station shows it and tells it what the hands do.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable
from typing import NamedTuple, Protocol

import msgspec

from hawser.core import figures as fg
from hawser.core.clock import MINUTE
from hawser.core.entry import HeldRule
from hawser.core.field_parser import held_text, size_text
from hawser.core.indicator_values import own_atr
from hawser.core.instrument import Instrument
from hawser.core.plan import Plan
from hawser.core.rig import Basket, Rig
from hawser.desk.models import focus as fc
from hawser.desk.models.across import also_words
from hawser.desk.models.planning import Draft, Planning
from hawser.desk.models.settings import Shown
from hawser.desk.models.trade_actions import (
    TradeAction,
    by_rigs,
    equip,
    is_open,
    of_many,
    of_marked,
    of_trade,
)
from hawser.engine import events as ev
from hawser.engine.model import transitions as states
from hawser.engine.model.state import EntryValues
from hawser.service.views.snapshot import Snapshot, TradeView

DEFAULT_SPAN = 15 * MINUTE
Make = Callable[[int, str], ev.AskEvent]


class Asks(Protocol):
    """Whom things are asked of: an account's runtime."""

    def ask(self, make: Make) -> str: ...

    def measure(self, plan: Plan) -> None: ...


class OtherAccount(NamedTuple):
    """An account beside the one that is shown: its name, its newest snapshot, and whom to ask
    there."""

    name: str
    latest: Callable[[], Snapshot | None]
    runtime: Asks


class Wish(NamedTuple):
    """A line of a trade that is being dragged: stop, target or entry, a target's number, and where
    it is now."""

    role: str
    number: int
    level: int


class HelmModel:
    """One account's. `planning` is the plan; `selected` the trade that the lines are about, empty:
    the plan."""

    def __init__(self, runtime: Asks, kept: Shown, planning: Planning) -> None:
        self._runtime, self.kept, self.planning = runtime, kept, planning
        self.snapshot: Snapshot | None = None
        self.symbol, self.span = "", DEFAULT_SPAN
        self.selected = ""
        self.traded: Instrument | None = None  # what the symbol is, as it was taken up
        self.wish: Wish | None = None
        self.plans: dict[str, Draft] = {}  # saved by name
        self.others: list[OtherAccount] = []
        self._placed = ""  # the last ask to place, until its trade is shown
        self._measured: tuple[object, int] = (None, 0)

    @property
    def rigs(self) -> dict[str, Rig]:
        """By name, as they are on the shelf."""
        return self.planning.rigs

    # What the runtime tells

    def take(self, snapshot: Snapshot) -> str:
        """The newest snapshot. Returns the instrument to take up, where it is another now than the
        one in view, or the same on another grid; empty: none."""
        self.snapshot = snapshot
        view = snapshot.instrument(self.symbol)
        if view is None and snapshot.instruments:
            return self._first_choice(snapshot)
        return self.symbol if view is not None and view.instrument != self.traded else ""

    def follow_trades(self) -> None:
        """A trade that has ended is let go; one that was placed here is what the lines are about
        once it is open."""
        assert self.snapshot is not None
        trade = self.selected_trade
        if trade is None or trade.state == states.ENDED:
            self.selected = ""
        for one in self.snapshot.trades if self._placed else ():
            if one.ask_id == self._placed and (one.opened or one.pending):
                self._placed = ""
                if one.symbol == self.symbol and one.state != states.ENDED:
                    self.selected = one.id
                return

    def _first_choice(self, snapshot: Snapshot) -> str:
        """What was shown last time; else the first instrument with an open trade; else the
        first."""
        symbols = [view.instrument.symbol for view in snapshot.instruments]
        held = [trade.symbol for trade in snapshot.trades if trade.open_steps]
        return self.kept.symbol if self.kept.symbol in symbols else (held or symbols)[0]

    # Choices

    def take_up(self, symbol: str, by_hand: bool = False) -> Draft:
        """Another instrument comes into view, because a person chose it or the one before is gone:
        its timeframe, its trade, and its plan, which is returned."""
        assert self.snapshot is not None
        self.symbol = symbol
        view = self.snapshot.instrument(symbol)
        self.traded = view.instrument if view is not None else None
        spans = sorted(view.atr) if view is not None else []
        wanted = self.kept.spans.get(symbol, DEFAULT_SPAN)
        self.span = wanted if wanted in spans or not spans else spans[0]
        held = [
            trade
            for trade in self.snapshot.trades
            if trade.symbol == symbol and trade.state != states.ENDED
        ]
        chosen = next(
            (trade for trade in held if trade.open_steps and not by_hand), held[0] if held else None
        )
        self.selected = chosen.id if chosen is not None else ""
        self.planning.currency, self.planning.bars = self.snapshot.currency, None
        return self.kept.drafts.get(symbol) or self._fresh_draft()

    def took_place_of(self, gone: str) -> None:
        """The instrument in view has taken the place of another by itself, where that is not traded
        any more."""
        # a hand on its way to the button meant the plan that stood there
        if gone and gone != self.symbol:
            told = (
                f"{gone} is not traded any more. This is the plan of {self.symbol}: choose it "
                "to go on"
            )
            self.planning.unseen = told

    def _fresh_draft(self) -> Draft:
        """The plan of an instrument that never had one: sized, and its lines held, as the account
        says."""
        settings = self.snapshot.settings if self.snapshot is not None else None
        if settings is None:
            return Draft()
        policy = settings.policy
        held = (
            None
            if policy.hold_backstop_r is None
            else HeldRule(policy.hold_backstop_r, policy.hold_settle_ms)
        )
        return Draft(risk=size_text(settings.size, settings.currency), held=held_text(held))

    @property
    def selected_trade(self) -> TradeView | None:
        return (
            self.snapshot.trade(self.selected)
            if self.snapshot is not None and self.selected
            else None
        )

    # Lines

    @property
    def focus(self) -> fc.Focus | None:
        """What the lines are about: the selected trade once it is there, else the plan where it has
        a size."""
        snapshot, planning, trade = self.snapshot, self.planning, self.selected_trade
        view = snapshot.instrument(self.symbol) if snapshot is not None else None
        if snapshot is None:
            return None
        shown = (
            trade is not None and (trade.opened or trade.pending) and trade.symbol == self.symbol
        )
        focus = None
        if trade is not None and shown and view is not None:
            focus = fc.of_trade(trade, view)
        elif (
            planning.sizing is not None
            and planning.request is not None
            and planning.symbol == self.symbol
        ):
            focus = fc.of_plan(
                planning.request, planning.sizing, planning.waits, planning.straddle is not None
            )
        if focus is None:
            return None
        return msgspec.structs.replace(focus, others=fc.entries_beside(focus, snapshot.trades))

    def dragged_plan(self, wish: Wish) -> Draft | None:
        """The plan as it is typed with a line of it at another level."""
        planning, sizing, request = self.planning, self.planning.sizing, self.planning.request
        if request is None:
            return None
        if wish.role == "entry":
            return planning.with_entry_at(request.instrument.price(wish.level))
        if wish.role == "stop":
            return planning.with_stop_at(request.instrument.price(wish.level))
        if sizing is None:
            return None
        return planning.with_target_at(
            wish.number, request.side * (wish.level - sizing.ref) / sizing.r_ticks
        )

    @property
    def wish_words(self) -> str:
        """What the dragged level would mean, in figures."""
        trade, wish = self.selected_trade, self.wish
        if trade is None or wish is None or self.snapshot is None:
            return ""
        view = self.snapshot.instrument(trade.symbol)
        assert view is not None
        name = {"stop": "Stop", "entry": "Entry"}.get(wish.role, f"Target {wish.number}")
        price = view.instrument.price(wish.level)
        if trade.pending:
            return f"{name} to {price}: the size follows when the venue accepts"
        wider = wish.role == "stop" and widens(trade, wish.level)
        more = ", wider than now: Hawser will ask" if wider else ""
        return f"{name} to {price} = {fg.r(trade.r_of(wish.level))}{more}"

    def ask_for(self, trade: TradeView, wish: Wish) -> None:
        """Ask for a line of a trade to be where it was dropped; a stop is moved by `move_stop`."""
        if wish.role == "entry":
            self._runtime.ask(
                lambda now, ask_id: ev.MoveEntry(
                    time=now, ask_id=ask_id, trade=trade.id, level=wish.level
                )
            )
        else:
            self._runtime.ask(
                lambda now, ask_id: ev.MoveTarget(
                    time=now, ask_id=ask_id, trade=trade.id, number=wish.number, level=wish.level
                )
            )

    def must_confirm(self, trade: TradeView, level: int) -> bool:
        """Whether a stop would be wider there, which the policy lets a person do."""
        assert self.snapshot is not None
        return widens(trade, level) and not self.snapshot.never_widen

    def widening_words(self, trade: TradeView, level: int) -> str:
        """What a person is asked before a stop is widened, in figures."""
        assert self.snapshot is not None
        view = self.snapshot.instrument(trade.symbol)
        assert view is not None
        of, before, after = view.instrument, trade.r_of(trade.stop), trade.r_of(level)
        return (
            f"{trade.symbol} {fg.side_word(trade.side)}: move the stop from {of.price(trade.stop)} "
            f"({fg.r(before)}) "
            f"out to {of.price(level)} ({fg.r(after)})?\n\n"
            f"If it is hit the trade ends at {fg.r(after)} instead of {fg.r(before)}."
        )

    def still_as_told(self, trade: TradeView) -> bool:
        """Whether a trade is what it was when a person was asked: rules go on moving the stop
        meanwhile."""
        assert self.snapshot is not None
        now = self.snapshot.trade(trade.id)
        return now is not None and (now.stop, now.open_steps) == (trade.stop, trade.open_steps)

    def move_stop(self, trade: TradeView, level: int) -> None:
        """Ask for the stop to be moved; who widens it has been asked before."""
        wider = widens(trade, level)
        self._runtime.ask(
            lambda now, ask_id: ev.MoveStop(
                time=now, ask_id=ask_id, trade=trade.id, level=level, widen=wider
            )
        )

    # Plans and trades

    def place(self, beside: Collection[str]) -> str:
        """Place the plan, here and on the accounts named in `beside`. Returns why not, in words;
        empty: it is asked."""
        planning, plan = self.planning, self.planning.plan
        if plan is None or not planning.may_be_placed:
            now = self.snapshot.time if self.snapshot is not None else 0
            return (
                next(iter(planning.errors.values()), "")
                or planning.trouble(now)
                or "there is no plan"
            )
        straddle = planning.straddle
        seen = planning.request.ref if planning.request is not None else 0
        for runtime in (
            self._runtime,
            *(other.runtime for other in self.others if other.name in beside),
        ):
            if straddle is not None:
                runtime.ask(
                    lambda now, ask_id: ev.PlaceStraddle(
                        time=now, ask_id=ask_id, plan=plan, atr=straddle
                    )
                )
            elif runtime is self._runtime:
                self._placed = runtime.ask(
                    lambda now, ask_id: ev.PlaceTrade(time=now, ask_id=ask_id, plan=plan, seen=seen)
                )
            else:  # nobody has seen that venue's price, and its tick may be another
                runtime.ask(lambda now, ask_id: ev.PlaceTrade(time=now, ask_id=ask_id, plan=plan))
        return ""

    def refused(self, ask: str) -> None:
        """An ask of ours was refused: a trade that comes later is none of it."""
        if ask == self._placed:
            self._placed = ""

    def also(self) -> dict[str, str]:
        """What the plan comes to on the other accounts, in words by name: each sized by its own
        equity."""
        plan, found = self.planning.plan, {}
        marks = (
            EntryValues(self.planning.basis(), self.planning.own_atr()) if plan else EntryValues()
        )
        for other in self.others:
            snapshot = other.latest()
            found[other.name] = also_words(plan, snapshot, marks) if plan and snapshot else ""
        return found

    def measure(self) -> None:
        """Have measured what the plan stands on in every instrument, once a minute for each
        plan."""
        plan = self.planning.plan
        if plan is None or self.snapshot is None:
            return
        wanted = (plan, self.snapshot.time // MINUTE)
        from_bars = plan.stop is not None and plan.stop.from_bars
        if (from_bars or own_atr(plan)) and wanted != self._measured:
            self._measured = wanted
            self._runtime.measure(plan)

    def put_rig(self, rig: Rig) -> bool:
        """Put a rig that was edited on the open trades that have it. False where there are none,
        and it belongs into the plan; so does a ladder, which is sized before its first entry."""
        shown = self.snapshot.trades if self.snapshot is not None else ()
        plain = rig.ladder is None
        trades = [trade for trade in shown if plain and trade.rig == rig.name and is_open(trade)]
        for trade in trades:
            plan = by_rigs(trade, {rig.name: rig}).get(rig.name)
            if plan is not None:
                self._runtime.ask(equip(trade, plan))
        return bool(trades)

    def _saved_plans(self, trade: TradeView) -> dict[str, Plan]:
        """The plans saved by name that could tend this trade."""
        found = by_rigs(trade, self.rigs)
        for name, draft in self.plans.items():
            planning = Planning(
                trade.symbol,
                trade.plan.timeframe_ns,
                currency=self.planning.currency,
                rigs=self.rigs,
            )
            planning.change(msgspec.structs.replace(draft, side=trade.side, entry="market"))
            if planning.plan is not None and (planning.ladder is None or trade.pending):
                found[name] = planning.plan
        return found

    def adopt(self, position_id: str) -> None:
        """Make a trade of a position that is not ours, protected by its instrument's plan; by the
        plain one where that plan has errors."""
        shown = self.snapshot.unexplained if self.snapshot is not None else ()
        position = next((one for one in shown if one.id == position_id), None)
        if position is None:
            return
        for draft in (self.kept.drafts.get(position.symbol, Draft()), Draft()):
            planning = Planning(
                position.symbol, self.kept.spans.get(position.symbol, DEFAULT_SPAN), rigs=self.rigs
            )
            planning.currency = self.planning.currency
            planning.change(msgspec.structs.replace(draft, side=position.side, entry="market"))
            plan = planning.plan
            if (
                plan is not None
                and plan.stop is not None
                and plan.stop.kind not in ("price", "money")
            ):
                break
        assert plan is not None  # the plain plan has no errors
        adopted = plan
        self._runtime.ask(
            lambda now, ask_id: ev.Adopt(
                time=now, ask_id=ask_id, position=position_id, plan=adopted
            )
        )

    def actions_of(self, trade_id: str) -> list[TradeAction]:
        """What can be done with a trade, each with its consequence in figures."""
        trade = self.snapshot.trade(trade_id) if self.snapshot is not None else None
        if trade is None or self.snapshot is None:
            return []
        return of_trade(trade, self.snapshot, self._saved_plans(trade))

    def actions_of_marked(self, marked: Iterable[str]) -> list[TradeAction]:
        """What can be done with several trades at once."""
        if self.snapshot is None:
            return []
        trades = [self.snapshot.trade(name) for name in marked]
        return of_marked([trade for trade in trades if trade is not None], self.snapshot, self.rigs)

    def actions(self, marked: Iterable[str]) -> list[TradeAction]:
        """What the finder offers: for the selected trade, for the marked ones, and for several at
        once."""
        if self.snapshot is None:
            return []
        return [
            *self.actions_of(self.selected),
            *self.actions_of_marked(marked),
            *of_many(self.snapshot),
        ]

    def lay_basket(self, trades: tuple[str, ...], basket: Basket) -> None:
        self._runtime.ask(
            lambda now, ask_id: ev.FormBasket(time=now, ask_id=ask_id, trades=trades, basket=basket)
        )

    def close(self, trade_id: str) -> None:
        """Close a trade, or take back its entry, whichever is shown: that may have filled a moment
        ago."""
        trade = self.snapshot.trade(trade_id) if self.snapshot is not None else None
        waits = trade is not None and trade.pending
        self._runtime.ask(
            lambda now, ask_id: ev.CloseTrade(
                time=now, ask_id=ask_id, trade=trade_id, entry_only=waits
            )
        )

    def close_all(self) -> None:
        self._runtime.ask(lambda now, ask_id: ev.CloseAll(time=now, ask_id=ask_id))

    def carry_out(self, action: TradeAction) -> None:
        for make in action.makes:
            self._runtime.ask(make)


def widens(trade: TradeView, level: int) -> bool:
    """Whether a stop would be farther from the market there than it is."""
    return not trade.pending and trade.side * (level - trade.stop) < 0
