"""What a trade's lines become where its entry filled at another price than expected, and where a
plan's rules are put on a trade that is open already."""

from __future__ import annotations

import math
from collections.abc import Iterator
from itertools import count

import msgspec

from hawser.core.errors import BadInput, Refused
from hawser.core.instrument import Instrument
from hawser.core.numbers import or_nan
from hawser.core.plan import Plan
from hawser.core.rules.rounding import level_ticks
from hawser.engine.entries.placing import atr_of, lay_backstop
from hawser.engine.model import reasons as rs
from hawser.engine.model import rig_levels
from hawser.engine.model.state import EngineState, EntryValues, RestingLevel, TargetLine, Trade
from hawser.engine.outbox import Outbox

_FIXED = ("price", "bars", "pivot", "line")  # stops that stand where they stand, whatever the entry


def set_stop(outbox: Outbox, trade: Trade, level: int, why: str, code: str) -> None:
    """The stop wanted from now on, why in words and as a code of `reasons.py`; a held one counts at
    once, another when it rests."""
    trade.stop, trade.cover.why, trade.cover.code, trade.cover.by_hand = (
        level,
        why,
        code,
        code == rs.HAND,
    )
    if trade.held:
        lay_backstop(trade)
        trade.cover.trace.append(RestingLevel(outbox.state.now, level))


def held_or_resting(outbox: Outbox, trade: Trade) -> None:
    """A trade's lines are held here from now on, or rest at the venue again: what rests there moves
    for that reason."""
    lay_backstop(trade)
    trade.cover.reached_since = 0
    price = outbox.state.instruments[trade.symbol].price
    if trade.held:
        trade.cover.trace.append(RestingLevel(outbox.state.now, trade.stop))
        trade.cover.why = (
            f"Backstop to {price(trade.cover.backstop)}: the lines are held here from now on"
        )
        trade.cover.code = rs.HELD_HERE
    else:
        trade.cover.why = f"Stop to {price(trade.stop)}: the lines rest at the venue again"
        trade.cover.code = rs.RESTS


def anchor(outbox: Outbox, trade: Trade) -> None:
    """An entry filled: lay stop and targets anew from the average fill, where the plan says so.

    A stop that rests already is only tightened; one that was moved since is left alone.
    """
    state, plan = outbox.state, trade.plan
    instrument = state.instruments[trade.symbol]
    ref = level_ticks(trade.entry_price, trade.side)
    # A stop that was moved since says that somebody, or a rule, has decided after the entry: that
    # is not undone here.
    if (
        plan.anchor != "fill"
        or ref == trade.ref
        or trade.stop != trade.cover.initial_stop
        or trade.cover.by_hand
    ):
        return
    if state.orders_of(trade, "rung"):  # a ladder stands where its rungs were sent to
        return
    stop, atr = _stop_from(state, trade, plan, ref), or_nan(trade.entry.atr)
    # filled at or beyond a fixed stop: it stays, and so does R
    if stop < 1 or trade.side * (ref - stop) < 1:
        return
    old, trade.ref = trade.ref, ref
    if not trade.cover.trace or trade.side * (stop - trade.stop) > 0:
        trade.cover.backstop = 0
        trade.cover.initial_stop = stop
        trade.r_ticks = abs(ref - stop)
        set_stop(
            outbox,
            trade,
            stop,
            f"initial stop, from the fill at {instrument.price(ref)}",
            rs.INITIAL,
        )
    for line in trade.targets:
        rule = plan.targets[line.rule - 1] if line.rule else None
        if rule is not None and rule.price is None:
            line.level = max(1, rule.level(instrument, ref, trade.r_ticks, atr, trade.side))
    for rung in trade.ladder.rungs:
        rung.level += ref - old
    if trade.ladder.rungs and trade.targets:
        trade.targets[0].level += ref - old
    if not any(line.filled for line in trade.losses):
        trade.losses = list(rig_levels.loss_lines(plan, instrument, ref, trade.r_ticks))
    text = f"Lines laid from the fill at {instrument.price(ref)}, not from {instrument.price(old)}"
    outbox.tell("info", "anchored", f"{text}: stop {instrument.price(trade.stop)}", trade)


def _stop_from(state: EngineState, trade: Trade, plan: Plan, ref: int) -> int:
    """The initial stop of `plan` for an entry at `ref`; one by money or investment keeps its
    distance."""
    rule, instrument = plan.stop, state.instruments[trade.symbol]
    if rule is None or rule.kind == "money":
        return ref - trade.side * trade.r_ticks
    if rule.kind in _FIXED and plan is trade.plan:
        return trade.cover.initial_stop
    atr = or_nan(trade.entry.atr)
    basis = or_nan(trade.entry.basis)
    market = state.markets[trade.symbol]
    return rule.level(
        instrument, ref, atr=atr, side=trade.side, basis=basis, spread=market.ask - market.bid
    )


def fitted(trade: Trade, plan: Plan) -> Plan:
    """Another plan for a trade, which keeps its size and its entry. Raises Refused where it cannot
    have that size."""
    old = trade.plan
    try:
        return msgspec.structs.replace(
            plan, symbol=trade.symbol, side=trade.side, size=old.size, entry=old.entry
        )
    except BadInput as problem:
        text = f"This plan cannot be used with the size of this trade ({problem.sentence})."
        raise Refused(problem.code, text) from None


def equip(outbox: Outbox, trade: Trade, plan: Plan, marks: EntryValues) -> None:
    """Tend an open trade by the rules of `plan`; what its targets took already stays taken."""
    state, instrument = outbox.state, outbox.state.instruments[trade.symbol]
    basis, mine = marks.basis, fitted(trade, plan)
    if trade.entry.atr is None:
        now = atr_of(state, plan, marks)
        trade.entry.atr = None if math.isnan(now) else now
    trade.entry.basis = basis
    atr = or_nan(trade.entry.atr)
    # Targets that took a part keep it, as a line that has nothing left to take. The new rig's
    # shares are of what is left.
    whole = max(1, trade.entered)
    kept = [
        TargetLine(line.number, line.level, line.filled / whole, line.filled)
        for line in trade.targets
        if line.filled
    ]
    numbers, left = _numbers(trade.targets), trade.open_steps / whole
    for index, rule in enumerate(plan.targets, start=1):
        number = next(numbers)
        level = 0 if rule.off else rule.level(instrument, trade.ref, trade.r_ticks, atr, trade.side)
        if level > 0 and trade.side * (level - trade.ref) > 0:
            kept.append(TargetLine(number, level, rule.share * left, rule=index))
    stop = _stop_from(state, trade, plan, trade.ref) if _known(plan, atr, basis) else trade.stop
    trade.targets, trade.ladder.steps_this_bar = kept, 0
    for rung in trade.ladder.rungs:  # another rig adds nothing
        rung.steps = rung.filled
    _swap_losses(trade, plan, instrument)
    was_held = trade.held
    trade.plan = msgspec.structs.replace(mine, anchor=trade.plan.anchor)
    if trade.held != was_held:
        held_or_resting(outbox, trade)
    else:
        lay_backstop(trade)
    market = state.markets[trade.symbol]
    least = max(1, instrument.min_stop_ticks)
    # Another rig never loosens: its stop counts where it is tighter and may rest (section 7).
    if (
        trade.side * (stop - trade.stop) > 0
        and trade.side * (market.exit_side(trade.side) - stop) >= least
    ):
        why = f"Stop {instrument.price(trade.stop)} \u2192 {instrument.price(stop)}: the new plan"
        set_stop(outbox, trade, stop, why, rs.PLAN)


def _swap_losses(trade: Trade, plan: Plan, instrument: Instrument) -> None:
    """Loss steps of another rig, after those that were taken already."""
    kept, numbers = [line for line in trade.losses if line.filled], _numbers(trade.losses)
    for line in rig_levels.loss_lines(plan, instrument, trade.ref, trade.r_ticks):
        kept.append(TargetLine(next(numbers), line.level, line.share, rule=line.rule))
    trade.losses = kept


def _numbers(lines: list[TargetLine]) -> Iterator[int]:
    """The numbers of new lines: of those that took nothing yet, so that what rests for them is
    moved and no second order rests beside it while it is taken back; then further ones."""
    yield from (line.number for line in lines if not line.filled)
    yield from count(1 + max((line.number for line in lines), default=0))


def _known(plan: Plan, atr: float, basis: float | None) -> bool:
    if plan.stop is None or (plan.stop.kind == "atr" and not atr > 0):
        return False
    return not plan.stop.from_bars or basis is not None
