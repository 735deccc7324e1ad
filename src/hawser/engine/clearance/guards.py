"""What the guards say of an entry now, from the state alone (reckoning section 9). Nothing is
changed here."""

from __future__ import annotations

import math

from hawser.core import figures as fg
from hawser.core.guards.context import Closed, EntryContext
from hawser.core.guards.declared import AnyGuard, Counted, Guard
from hawser.core.guards.filters.base import filter_verdict
from hawser.core.guards.memory import GuardMemory
from hawser.engine.model.state import EngineState, Trade


def subject_of(guard: Guard, symbol: str, source: str) -> str:
    """Whom a guard remembers an entry under: a filter by instrument, one that counts as it is
    told."""
    per = guard.per if isinstance(guard, Counted) else "instrument"
    return {"account": "", "instrument": symbol}.get(per, source)


def memory_key(guard: Guard, subject: str) -> str:
    return f"{guard.name}\n{subject}"


def remembered(state: EngineState, guard: Guard, subject: str) -> GuardMemory | None:
    return state.memory.get(memory_key(guard, subject))


def watching(state: EngineState, symbol: str, source: str) -> list[AnyGuard]:
    """The guards whose business an entry is."""
    return [guard for guard in state.guards.guard if guard.watches(symbol, source)]


def about(guard: Guard, subject: str, trade: Trade) -> bool:
    """Whether a trade is one of those that a guard remembers under `subject`."""
    source = trade.plan.source
    return (
        guard.watches(trade.symbol, source) and subject_of(guard, trade.symbol, source) == subject
    )


def context_of(
    state: EngineState, symbol: str, side: int = 0, r_ticks: float = math.nan
) -> EntryContext:
    """What filters look at for an instrument now."""
    market = state.markets.get(symbol)
    spread = float(market.ask - market.bid) if market is not None and market.bid else math.nan
    return EntryContext(
        at=state.now,
        instrument=state.instruments[symbol],
        spread=spread,
        measures=state.measures,
        calendars=state.calendars,
        side=side,
        r_ticks=r_ticks,
    )


def guards_verdict(
    state: EngineState, symbol: str, side: int = 0, source: str = "", r_ticks: float = math.nan
) -> list[Closed]:
    """Every guard that closes an entry, but those of the whole account; empty: open."""
    if not state.guards.guard or symbol not in state.instruments:
        return []
    context = context_of(state, symbol, side, r_ticks)
    guards = (guard for guard in watching(state, symbol, source) if not whole_account(guard))
    said = (one_verdict(state, guard, context, source) for guard in guards)
    return [closed for closed in said if closed is not None]


def whole_account(guard: Guard) -> bool:
    """Whether it counts all that the account does, and so closes all of it."""
    return (
        isinstance(guard, Counted)
        and guard.per == "account"
        and not guard.instruments
        and not guard.sources
    )


def account_guards(state: EngineState) -> list[Closed]:
    """What guards of the whole account say; empty: open."""
    guards = (guard for guard in state.guards.guard if guard.on and whole_account(guard))
    said = (memory_verdict(state, guard, "") for guard in guards)
    return [closed for closed in said if closed is not None]


def one_verdict(
    state: EngineState, guard: Guard, context: EntryContext, source: str
) -> Closed | None:
    """What one guard that watches it says of an entry; None: open."""
    subject = subject_of(guard, context.instrument.symbol, source)
    return filter_verdict(guard, context) or memory_verdict(state, guard, subject)


def memory_verdict(state: EngineState, guard: Guard, subject: str) -> Closed | None:
    """What a guard says by what it remembers of a subject: latched, counted full, or closed for a
    time."""
    memory = remembered(state, guard, subject)
    if memory is None:
        return None
    if memory.latched:
        return Closed("latched", f"{guard.name}: {memory.why}", memory.latched_until, guard.name)
    if isinstance(guard, Counted) and (spent := guard.spent(memory, state.now)) is not None:
        return spent
    if state.now < memory.until:
        left = fg.duration(memory.until - state.now)
        return Closed(
            "cool_down", f"{guard.name}: {memory.why}, {left} to go", memory.until, guard.name
        )
    return None


def silent_since(state: EngineState, guard: Counted) -> dict[str, int]:
    """Since when each subject has had no quote, UTC ns; none while no link stands or no market is
    open."""
    if not guard.on or not guard.silence_ns or not state.link_up:
        return {}
    times = {
        symbol: max(market.time, state.linked_at)
        for symbol, market in state.markets.items()
        if market.open and guard.covers(symbol)
    }
    if guard.per == "account":
        return {"": max(times.values())} if times else {}  # one that speaks is enough
    return times


def taken_back_by(trade: Trade) -> str:
    """Why what still waits to enter for a trade is taken back, where it is."""
    if trade.entry.over:
        return "taken back by hand"
    return (
        "its contract is worth another amount now" if trade.entry.outsized else "a guard is closed"
    )


def cancels(state: EngineState, trade: Trade) -> bool:
    """Whether what still waits to enter for a trade is taken back: a person has done so, a guard
    that is closed does, and it goes where it was sized for another contract."""
    if trade.entry.over or trade.entry.outsized:
        return True
    for guard in watching(state, trade.symbol, trade.plan.source):
        memory = remembered(state, guard, subject_of(guard, trade.symbol, trade.plan.source))
        if memory is not None and (memory.latched or (memory.shut and guard.takes_back)):
            return True
    return False
