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

from hawser.core.guards.declared import Counted
from hawser.core.guards.memory import GuardMemory
from hawser.core.heat import outcome_at_stop
from hawser.engine.clearance.guards import (
    about,
    memory_key,
    remembered,
    silent_since,
    subject_of,
    whole_account,
)
from hawser.engine.guards.memory import memories, memory_of
from hawser.engine.model.exposure import Valuation
from hawser.engine.model.observed import Observed, highest
from hawser.engine.model.state import EngineState, Trade


class Reached(NamedTuple):
    """A switch at its limit, for a subject, and why in words."""

    guard: Counted
    subject: str
    why: str


def watching(state: EngineState) -> Iterator[tuple[Counted, str]]:
    """The guards that look at money, with everything each remembers by itself."""
    for guard in state.guards.guard:
        if not guard.on or not isinstance(guard, Counted):
            continue
        if guard.BY_RESULT:
            yield from ((guard, subject) for subject in subjects(state, guard))
        elif guard.BY_EQUITY:
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
        follows = guard.on and isinstance(guard, Counted) and guard.BY_HIGH
        if follows and remembered(state, guard, "") is not None:
            highest(state, memory_key(guard, ""), seen)


def reached(state: EngineState) -> Iterator[Reached]:
    """The switches that have reached their limit and are not latched yet."""
    values = Valuation(state)
    for guard, subject in watching(state):
        memory = remembered(state, guard, subject)
        if memory is None or memory.latched:
            continue
        if why := guard.reached(memory, EngineFacts(state, guard, subject, memory, values)):
            yield Reached(guard, subject, why)


class EngineFacts:
    """What the engine knows of all that a guard counts for one subject: `counting.base.Facts`."""

    def __init__(
        self,
        state: EngineState,
        guard: Counted,
        subject: str,
        memory: GuardMemory,
        values: Valuation | None = None,
    ) -> None:
        self._state, self._guard, self.subject, self._memory = state, guard, subject, memory
        self._values = values if values is not None else Valuation(state)
        self.now, self.equity = state.now, state.equity
        self.currency = self._values.currency

    @property
    def whose(self) -> str:
        if whole_account(self._guard):
            return "equity"
        return self.subject or ", ".join(self._guard.instruments or self._guard.sources)

    def _trades(self) -> Iterator[Trade]:
        return (one for one in self._state.live() if about(self._guard, self.subject, one))

    def result(self) -> float:
        """Money since the guard's period began: all of the account, or the trades that it watches.
        NaN where it is not known."""
        if whole_account(self._guard):
            return self.equity - self._memory.base
        total, before = self._memory.won, self._memory.before
        for trade in self._trades():
            if trade.entered:
                earlier = self._values.earlier(before.get(trade.id), trade.symbol)
                total += self._values.result(trade) - earlier
        return total

    def at_stake(self) -> float:
        """What is lost from now on if every stop of what it watches is hit, money."""
        values, total = self._values, 0.0
        for trade in self._trades():
            if trade.open_steps:
                beyond = values.floating(trade) - outcome_at_stop(values.stake(trade))
                # what has been paid is in the outcome too, and cannot be lost once more
                total += max(0.0, beyond - trade.commission)
        return total

    def open_trades(self) -> int:
        return sum(trade.open_steps > 0 for trade in self._trades())

    def silences(self) -> dict[str, int]:
        return silent_since(self._state, self._guard)


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
