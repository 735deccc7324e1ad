"""When time alone may change what a filter says: the edges of news windows, sessions and hours."""

from __future__ import annotations

from collections.abc import Iterator

from hawser.core.clock import MINUTE
from hawser.core.guards.declared import Guard, NewsGuard, SessionGuard
from hawser.core.guards.news import Calendar, next_edge, short_from, windows
from hawser.core.hours import next_change, weekend_close
from hawser.core.instrument import Instrument, WeeklySession


def edges(guard: Guard, instrument: Instrument, calendars: tuple[Calendar, ...], at: int) -> Iterator[int]:
    """Moments (UTC ns) of which the first after `at` is that at which the filter may next open or close for the
    instrument; others may be among them, and some before `at`."""
    if isinstance(guard, NewsGuard):
        yield from (short_from(calendar, guard.horizon_h) for calendar in calendars)
        yield next_edge(windows(calendars, instrument.news_currencies, guard), at)
    elif isinstance(guard, SessionGuard):
        yield from (next_change(hours, at) for hours in (guard.hours, guard.closed_hours) if hours)
        yield from _around_edges(at, instrument.sessions, guard)


def _around_edges(now: int, sessions: tuple[WeeklySession, ...], guard: SessionGuard) -> Iterator[int]:
    """When entries open after the open, or close before a close, of the session now or the next."""
    after = round(guard.after_open_min * MINUTE)
    weekend = weekend_close(sessions, now) if guard.before_weekend_min else 0
    if weekend:
        yield weekend - round(guard.before_weekend_min * MINUTE)
    edge = next_change(sessions, now - after - 1)
    for _ in range(4):
        if not edge:
            return
        yield edge
        yield edge + after
        yield edge - round(guard.before_close_min * MINUTE)
        edge = next_change(sessions, edge)
