"""An instrument that is another when a session opens, or when a line that was cut is back: its tick
or its step has changed, or it is gone.

Levels are whole ticks and quantities whole steps, so that a changed tick would move every stop: one
ten times too low was once sent. What is open is carried over exactly where all of it lies on the
new grid. Where it does not, or where the instrument is gone, the trade is left as it rests at the
venue, with an alarm: nothing of it is touched, and its position can be adopted anew.
"""

from __future__ import annotations

from fractions import Fraction
from typing import Any, TypeVar

import msgspec

from hawser.core.clock import timeframe_name
from hawser.core.hours import ever_closes
from hawser.core.instrument import Instrument
from hawser.core.plan import bars_of
from hawser.engine import events as ev
from hawser.engine.model import reasons as rs
from hawser.engine.model import transitions as states
from hawser.engine.model.reasons import Reason
from hawser.engine.model.state import (
    EngineState,
    EntryTerms,
    Market,
    Order,
    RestingLevel,
    Rung,
    TargetLine,
    Trade,
    TradeCover,
)
from hawser.engine.outbox import Outbox

TOLD = (
    "multiplier",
    "quote",
    "base",
    "kind",
    "qty_min",
    "qty_max",
    "margin_rate",
    "min_stop_ticks",
    "commission",
)
Record = TypeVar("Record", bound=msgspec.Struct)


class OffGrid(Exception):
    """A level or a quantity that does not lie on the new grid."""


def take_instruments(
    outbox: Outbox, instruments: tuple[Instrument, ...], spans: dict[str, tuple[int, ...]]
) -> None:
    """The instruments that are traded from here on, and the lengths of their bars; what is open
    goes along."""
    state, new = outbox.state, {one.symbol: one for one in instruments}
    state.spans = spans
    old = state.instruments
    state.instruments = dict(new)
    state.gone = ()
    for symbol, before in old.items():
        after = new.get(symbol)
        if after is None:
            _gone(outbox, before)
        elif after != before:
            _changed(outbox, before, after)
    for trade in state.live():
        _tell_without_bars(outbox, trade)
        _tell_without_end(outbox, trade)


def _tell_without_bars(outbox: Outbox, trade: Trade) -> None:
    """A trade whose bars cannot be made any more is not tended by them: nobody may think so."""
    spans, group = (
        outbox.state.spans.get(trade.symbol),
        outbox.state.baskets.get(trade.progress.basket),
    )
    waits = trade.plan.trail is not None or trade.plan.rig is not None
    if not spans or not (waits or (group is not None and group.basket.basis == "bar_close")):
        return
    missing = next((span for span in bars_of(trade.plan) if span not in spans), 0)
    if missing:
        text = (
            f"There are no bars of {timeframe_name(missing)} any more: its trail and its rig "
            "stand still"
        )
        outbox.tell("alarm", "no_bars", text, trade)


def _tell_without_end(outbox: Outbox, trade: Trade) -> None:
    """A trade that was to be closed at its session's end, where there is none any more."""
    timed = trade.plan.rig.time_exit if trade.plan.rig is not None else None
    if (
        timed is not None
        and timed.session_end
        and not ever_closes(outbox.state.instruments[trade.symbol].sessions)
    ):
        text = f"{trade.symbol} has no sessions any more: the time exit at their end does not come"
        outbox.tell("alarm", "no_session_end", text, trade)


def _gone(outbox: Outbox, before: Instrument) -> None:
    state = outbox.state
    for name in [name for name, held in state.unexplained.items() if held.symbol == before.symbol]:
        del state.unexplained[name]  # nothing tells of it any more, and nothing can be done with it
        text = (
            f"The foreign position in {before.symbol} cannot be seen any more, because its "
            "instrument is not traded"
        )
        outbox.tell("alarm", "position_unseen", f"{text} here now. Look after it at the venue")
    if not state.trades_in(before.symbol):
        return
    state.instruments[before.symbol] = before  # its figures can still be read
    state.gone = (*state.gone, before.symbol)
    for trade in state.trades_in(before.symbol):
        _leave_as_it_rests(outbox, trade, "its instrument is not traded any more")


def _changed(outbox: Outbox, before: Instrument, after: Instrument) -> None:
    state, symbol = outbox.state, before.symbol
    told = [
        f"{key} {getattr(before, key)} \u2192 {getattr(after, key)}"
        for key in TOLD
        if getattr(before, key) != getattr(after, key)
    ]
    if before.sessions != after.sessions:
        told.append("other trading hours")
        state.guards_at = min(state.guards_at, state.now)  # what guards see of them moves along
    live = [trade for trade in state.trades_in(symbol) if trade.state != states.ENDED]
    if (before.tick, before.qty_step) != (after.tick, after.qty_step):
        told = [
            (
                f"tick {before.tick} \u2192 {after.tick}, step {before.qty_step} \u2192 "
                f"{after.qty_step}"
            ),
            *told,
        ]
        state.markets[symbol] = (
            Market(open=state.markets[symbol].open) if symbol in state.markets else Market()
        )
        for key in [key for key in state.bars if key.rpartition("@")[0] == symbol]:
            del state.bars[key]
        grid = Grid(
            Fraction(before.tick) / Fraction(after.tick),
            Fraction(before.qty_step) / Fraction(after.qty_step),
        )
        for trade in list(state.trades_in(symbol)):
            _carry(outbox, trade, grid, after)
        state.unexplained = {
            name: grid.held(held) if held.symbol == symbol else held
            for name, held in state.unexplained.items()
        }
    worth = (before.multiplier, before.quote) != (after.multiplier, after.quote)
    for trade in state.trades_in(symbol) if worth else ():  # as they are on the new grid by now
        if trade.state != states.ENDED:
            _outsize(outbox, trade)
    if told:
        text = f"{symbol} is another at the venue: {'; '.join(told)}"
        outbox.tell("alarm" if live and worth else "caution", "instrument_changed", text)


def _outsize(outbox: Outbox, trade: Trade) -> None:
    """What waits to enter was sized for another contract: it would risk another sum."""
    trade.entry.outsized = True
    if outbox.state.orders_of(trade, "entry") or outbox.state.orders_of(trade, "rung"):
        text = (
            "What waits to enter was sized for a contract that is worth another amount now: it "
            "is taken back"
        )
        outbox.tell("caution", "outsized", text, trade)


def _carry(outbox: Outbox, trade: Trade, grid: Grid, after: Instrument) -> None:
    """Put a trade and its orders on the new grid, all of it or nothing."""
    state = outbox.state
    try:
        moved = grid.trade(trade)
        orders = [grid.order(state.orders[name]) for name in trade.order_ids]
    except OffGrid:
        what = f"tick {after.tick} and step {after.qty_step}"
        _leave_as_it_rests(
            outbox, trade, f"its levels or its quantity do not lie on the venue's new {what}"
        )
        return
    state.trades[trade.id] = moved
    for order in orders:
        state.orders[order.id] = order
    if trade.state != states.ENDED:
        outbox.tell(
            "caution", "carried_over", "Every level and quantity is carried over exactly", moved
        )


def _leave_as_it_rests(outbox: Outbox, trade: Trade, why: str) -> None:
    if trade.state == states.ENDED:
        return
    open_steps = trade.open_steps
    trade.left = why
    trade.state, trade.ended = states.next_trade_state(trade.state, "left"), outbox.state.now
    trade.end, trade.progress.due, trade.cover.exposed_since = Reason(rs.LEFT), "", 0
    text = (
        f"Left as it rests at the venue: {why}. Stops there still protect; nothing of it is "
        "moved or closed"
    )
    if any(outbox.state.orders_of(trade, role) for role in ("entry", "rung")):
        text += ". What waits to enter is taken back"
    if open_steps:
        text += ". Adopt its position to tend it again"
    outbox.tell("alarm", "left", text, trade)


class Grid:
    """From one grid to another: how many new ticks an old one is, and steps."""

    def __init__(self, ticks: Fraction, steps: Fraction) -> None:
        self._ticks, self._steps = ticks, steps

    @staticmethod
    def _whole(value: Fraction) -> int:
        if value.denominator != 1:
            raise OffGrid
        return int(value)

    def level(self, ticks: int) -> int:
        return self._whole(ticks * self._ticks)

    def qty(self, steps: int) -> int:
        return self._whole(steps * self._steps)

    def maybe(self, ticks: int | None) -> int | None:
        return None if ticks is None else self.level(ticks)

    def near(self, ticks: int) -> int:
        """A price of the market, which decides no level: the nearest."""
        return round(ticks * self._ticks)

    def held(self, held: ev.VenuePosition) -> ev.VenuePosition:
        """A position of the venue, which tells it anew: what is off the new step is left out, as it
        is then."""
        steps = max(1, int(held.steps * self._steps))
        entry = float(Fraction(held.entry) * self._ticks)
        return msgspec.structs.replace(held, steps=steps, entry=entry)

    def line(self, line: TargetLine) -> TargetLine:
        return msgspec.structs.replace(
            line, level=self.level(line.level), filled=self.qty(line.filled)
        )

    def rung(self, rung: Rung) -> Rung:
        return msgspec.structs.replace(
            rung,
            level=self.level(rung.level),
            steps=self.qty(rung.steps),
            filled=self.qty(rung.filled),
        )

    def terms(self, terms: EntryTerms | None) -> EntryTerms | None:
        if terms is None:
            return None
        return msgspec.structs.replace(
            terms,
            plan=self.rules(terms.plan),
            ref=self.level(terms.ref),
            r_ticks=self.level(terms.r_ticks),
            steps=self.qty(terms.steps),
            stop=self.level(terms.stop),
            targets=tuple(map(self.line, terms.targets)),
            losses=tuple(map(self.line, terms.losses)),
            rungs=tuple(map(self.rung, terms.rungs)),
        )

    def rules(self, rules: Record) -> Record:
        """A plan, a rig or a rule of them: every distance in ticks."""
        changed: dict[str, Any] = {}
        for field in msgspec.structs.fields(type(rules)):
            name, value = field.name, getattr(rules, field.name)
            if isinstance(value, msgspec.Struct):
                changed[name] = self.rules(value)
            elif isinstance(value, tuple) and value and isinstance(value[0], msgspec.Struct):
                changed[name] = tuple(self.rules(one) for one in value)
            elif (name == "ticks" or name.endswith("_ticks")) and value:
                exact = isinstance(value, int) and not isinstance(value, bool)
                changed[name] = self.level(value) if exact else float(value * self._ticks)
        return msgspec.structs.replace(rules, **changed) if changed else rules

    def trade(self, trade: Trade) -> Trade:
        """A trade as it is on the new grid; raises OffGrid."""
        replace = msgspec.structs.replace
        return replace(
            trade,
            plan=self.rules(trade.plan),
            ref=self.level(trade.ref),
            r_ticks=self.level(trade.r_ticks),
            stop=self.level(trade.stop),
            entry=replace(
                trade.entry,
                asked_steps=self.qty(trade.entry.asked_steps),
                moving=self.terms(trade.entry.moving),
                then=self.terms(trade.entry.then),
            ),
            cover=self._cover(trade.cover),
            ladder=replace(
                trade.ladder,
                rungs=list(map(self.rung, trade.ladder.rungs)),
                steps_this_bar=self.qty(trade.ladder.steps_this_bar),
            ),
            progress=replace(trade.progress, best_exit=self.near(trade.progress.best_exit)),
            targets=list(map(self.line, trade.targets)),
            losses=list(map(self.line, trade.losses)),
            entered=self.qty(trade.entered),
            closed=self.qty(trade.closed),
            entry_value=float(trade.entry_value * self._ticks * self._steps),
        )

    def _cover(self, cover: TradeCover) -> TradeCover:
        return msgspec.structs.replace(
            cover,
            initial_stop=self.level(cover.initial_stop),
            backstop=self.level(cover.backstop),
            trace=[RestingLevel(one.time, self.level(one.level)) for one in cover.trace],
            most_steps=self.qty(cover.most_steps),
            emergency=self.level(cover.emergency),
        )

    def order(self, order: Order) -> Order:
        """An order as it is on the new grid; raises OffGrid."""
        return msgspec.structs.replace(
            order,
            steps=self.qty(order.steps),
            level=self.maybe(order.level),
            bound=self.maybe(order.bound),
            filled=self.qty(order.filled),
            told_filled=self.qty(order.told_filled),
            seen=self.near(order.seen),
            steps_under_way=self.qty(order.steps_under_way),
            given_up=self.level(order.given_up),
            elsewhere=self.level(order.elsewhere),
            asked=[(self.level(level), self.qty(steps)) for level, steps in order.asked],
        )


def left_with(state: EngineState, trade: Trade) -> list[Trade]:
    """Trades that were left as they rest, whose position `trade` has taken over."""
    return [
        one
        for one in state.trades.values()
        if one.left and one.entry.order_id == trade.entry.order_id and one is not trade
    ]
