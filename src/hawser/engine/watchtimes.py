"""When the guards must be looked at next though nothing else may happen: windows, sessions, periods, silence."""

from __future__ import annotations

from collections.abc import Iterator

from hawser.core.clock import SECOND
from hawser.core.guards.declared import SilenceSwitch
from hawser.core.guards.edges import edges
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
    for waiting in (state.rules_later, state.policy_later):
        if waiting is not None:
            yield waiting.at
    for guard in state.guards.guard:
        if isinstance(guard, SilenceSwitch):
            yield from _silence(state, guard)
        else:
            alike = {
                (one.news_currencies, one.sessions): one
                for one in state.instruments.values()
                if guard.covers(one.symbol)
            }
            for instrument in alike.values():
                yield from edges(guard, instrument, state.calendars, state.now)


def _silence(state: EngineState, guard: SilenceSwitch) -> Iterator[int]:
    since, limit = silent_since(state, guard), round(guard.seconds * SECOND)
    if since:
        yield max(state.now + min(LEAST_PAUSE, limit), min(since.values()) + limit)
