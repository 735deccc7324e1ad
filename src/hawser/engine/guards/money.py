"""What the account's money means for the guards: losses of a period, the fall from the highest
equity, the floor.

Everything here but `begin` reads: whether a switch has reached its limit is asked at every figure
the venue tells, and nothing is recorded where the answer is no. Money whose conversion rate is
missing is unknown (NaN): no limit is reached by it, entries are closed meanwhile
(`clearance/entries.py`), and the switch judges as soon as it is known.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import NamedTuple

from hawser.core import figures as fg
from hawser.core.guards.declared import AnyGuard, Counted, DrawdownSwitch, FloorSwitch, LossSwitch
from hawser.core.guards.limits import at_floor, lost
from hawser.engine.clearance.guards import about, memory_key, remembered, subject_of, whole_account
from hawser.engine.guards.memory import memories, memory_of
from hawser.engine.model.exposure import Valuation
from hawser.engine.model.observed import Observed, highest
from hawser.engine.model.state import EngineState, Memory


class Reached(NamedTuple):
    """A switch at its limit, for a subject, and why in words."""

    guard: AnyGuard
    subject: str
    why: str


def watching(state: EngineState) -> Iterator[tuple[AnyGuard, str]]:
    """The guards that look at money, with everything each remembers by itself."""
    for guard in state.guards.guard:
        if guard.on and isinstance(guard, LossSwitch):
            yield from ((guard, subject) for subject in subjects(state, guard))
        elif guard.on and isinstance(guard, (DrawdownSwitch, FloorSwitch)):
            yield guard, ""


def unbegun(state: EngineState) -> bool:
    """Whether a guard has yet to begin counting."""
    return any(remembered(state, guard, subject) is None for guard, subject in watching(state))


def begin(state: EngineState) -> None:
    """Every guard that looks at money begins to count, where it does not yet."""
    for guard, subject in list(watching(state)):
        memory_of(state, guard, subject)


def follow_highs(state: EngineState, seen: Observed) -> None:
    """The highest equity of each drawdown follows the figures."""
    # Only the highest is kept, and it is only seen: figures come with every quote, and the record
    # need not have them all.
    for guard in state.guards.guard:
        if (
            guard.on
            and isinstance(guard, DrawdownSwitch)
            and remembered(state, guard, "") is not None
        ):
            highest(state, memory_key(guard, ""), seen)


def reached(state: EngineState) -> Iterator[Reached]:
    """The switches that have reached their limit and are not latched yet."""
    values = Valuation(state)
    for guard, subject in watching(state):
        memory = remembered(state, guard, subject)
        if memory is None or memory.latched:
            continue
        why = _why(state, guard, subject, memory, values)
        if why:
            yield Reached(guard, subject, why)


def _why(
    state: EngineState, guard: AnyGuard, subject: str, memory: Memory, values: Valuation
) -> str:
    currency, equity = values.currency, state.equity
    if isinstance(guard, LossSwitch):
        result = result_of(state, guard, subject, memory, values)
        if lost(memory.base, memory.base + result, _limit(guard.percent), _limit(guard.money)):
            part = fg.percent(-100.0 * result / memory.base, 2) if memory.base else ""
            return f"{fg.money(result, currency)} this {guard.period}, {part} of its first equity"
    elif isinstance(guard, DrawdownSwitch):
        if lost(memory.high, equity, _limit(guard.percent), _limit(guard.money)):
            fall = fg.percent(100.0 * (1.0 - equity / memory.high), 2)
            return f"equity {fg.money(equity, currency)} is {fall} below its highest"
    elif isinstance(guard, FloorSwitch) and at_floor(equity, guard.money):
        return (
            f"equity {fg.money(equity, currency)} is at the floor of "
            f"{fg.money(guard.money, currency)}"
        )
    return ""


def _limit(value: float | None) -> float:
    return math.inf if value is None else value


def result_of(
    state: EngineState, guard: LossSwitch, subject: str, memory: Memory, values: Valuation
) -> float:
    """What a loss switch counts since its period began, money: all of the account, or the trades
    that it watches. NaN where it is not known."""
    if whole_account(guard):
        return state.equity - memory.base
    total = memory.won
    for trade in state.live():
        if trade.entered and about(guard, subject, trade):
            total += values.result(trade) - values.mark(memory.before.get(trade.id), trade.symbol)
    return total


def subjects(state: EngineState, guard: Counted) -> list[str]:
    """Whom a guard remembers by now: the account, or the instruments or sources of trades."""
    if guard.per == "account":
        return [""]
    found = memories(state, guard.name)
    meant = [t for t in state.live() if guard.watches(t.symbol, t.plan.source)]
    return list(
        dict.fromkeys([*found, *(subject_of(guard, t.symbol, t.plan.source) for t in meant)])
    )


def transferred(state: EngineState, amount: float) -> None:
    """Money was paid in or out: no result. The starts of periods, the highest equity and today's
    figure move along."""
    # Everything that equity is compared with moves by the same sum, so that no comparison sees the
    # payment. Without this a withdrawal tripped the day's loss and closed open trades.
    state.day_equity += amount
    for memory in state.memory.values():
        memory.base += amount
        memory.high += amount


def first_figures(state: EngineState) -> None:
    """The venue has told the account's money for the first time: what began before counts from
    it."""
    state.day_equity = state.equity
    for memory in state.memory.values():
        if math.isnan(memory.base):
            memory.base = memory.high = state.equity
