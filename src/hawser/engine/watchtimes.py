"""When the guards must be looked at next though nothing else may happen: windows, sessions, periods, silence."""

from __future__ import annotations

from collections.abc import Iterator

from hawser.core.clock import MINUTE, SECOND
from hawser.core.guards.declared import NewsGuard, SessionGuard, SilenceSwitch
from hawser.core.guards.news import next_edge, short_from, windows
from hawser.core.hours import next_change
from hawser.core.instrument import Session
from hawser.engine.guarding import silent_since
from hawser.engine.state import EngineState

NEVER = 1 << 62
LEAST_PAUSE = 5 * SECOND  # between two looks at silent feeds


def next_moment(state: EngineState) -> int:
    """The first moment after now at which time alone may change what a guard says."""
    return min((at for at in _moments(state) if at > state.now), default=NEVER)


def _moments(state: EngineState) -> Iterator[int]:
    for memory in state.memory.values():
        yield memory.end
    for later in state.guards_later.values():
        yield later.at
    yield state.loosen_at
    for guard in state.guards.guard:
        covered = [one for one in state.instruments.values() if guard.covers(one.symbol)]
        if isinstance(guard, SilenceSwitch):
            yield from _silence(state, guard)
        elif isinstance(guard, NewsGuard):
            yield from (short_from(calendar, guard.horizon_h) for calendar in state.calendars)
            for currencies in {one.news_currencies for one in covered}:
                yield next_edge(windows(state.calendars, currencies, guard), state.now)
        elif isinstance(guard, SessionGuard):
            yield from (next_change(hours, state.now) for hours in (guard.hours, guard.closed_hours) if hours)
            for sessions in {one.sessions for one in covered}:
                yield from _around_edges(state.now, sessions, guard)


def _around_edges(now: int, sessions: tuple[Session, ...], guard: SessionGuard) -> Iterator[int]:
    """When entries open after the open, or close before a close, of the session now or the next."""
    after = round(guard.after_open_min * MINUTE)
    edge = next_change(sessions, now - after - 1)
    for _ in range(4):
        if not edge:
            return
        yield edge
        yield edge + after
        for before in (guard.before_close_min, guard.before_weekend_min):
            yield edge - round(before * MINUTE)
        edge = next_change(sessions, edge)


def _silence(state: EngineState, guard: SilenceSwitch) -> Iterator[int]:
    since, limit = silent_since(state, guard), round(guard.seconds * SECOND)
    if since:
        yield max(state.now + min(LEAST_PAUSE, limit), min(since.values()) + limit)
