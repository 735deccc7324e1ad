"""When the guards must be looked at next though nothing else may happen: windows, sessions,
periods, silence."""

from __future__ import annotations

from collections.abc import Iterator

from hawser.core.clock import SECOND
from hawser.core.guards.declared import Counted, Filter
from hawser.engine.clearance.guards import silent_since
from hawser.engine.model.state import EngineState

NEVER = 1 << 62
LEAST_PAUSE = 5 * SECOND  # between two looks at silent feeds


def must_watch(state: EngineState) -> bool:
    """Whether there is anything to look at: guards, or looser limits that wait."""
    return (
        bool(state.guards.guard) or state.policy_later is not None or state.rules_later is not None
    )


def next_turn(state: EngineState) -> int:
    """When what is remembered changes by its time: a period ends, a drill is over, what is looser
    comes in. Now, where that is overdue: an earlier version forgot it."""
    ends = [memory.end for memory in state.memory.values()]
    ends += [
        waiting.at for waiting in (state.rules_later, state.policy_later) if waiting is not None
    ]
    moments = [max(at, state.now) for at in ends]
    moments += [
        memory.until for memory in state.memory.values() if memory.shut and memory.until > state.now
    ]
    # One whose guard has latched waits longer than its time.
    moments += [later.at for later in state.guards_later.values() if later.at > state.now]
    return min(moments, default=NEVER)


def next_moment(state: EngineState) -> int:
    """The first moment at which time alone may change what a guard says."""
    return min([next_turn(state), *(at for at in _edges(state) if at > state.now)])


def _edges(state: EngineState) -> Iterator[int]:
    for guard in state.guards.guard:
        if isinstance(guard, Counted):
            yield from _silence(state, guard)
        elif isinstance(guard, Filter):
            alike = {
                (one.news_currencies, one.sessions): one
                for one in state.instruments.values()
                if guard.covers(one.symbol)
            }
            for instrument in alike.values():
                yield from guard.edges(instrument, state.calendars, state.now)


def _silence(state: EngineState, guard: Counted) -> Iterator[int]:
    since, limit = silent_since(state, guard), guard.silence_ns
    if since:
        yield max(state.now + min(LEAST_PAUSE, limit), min(since.values()) + limit)
