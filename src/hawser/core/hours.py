"""Wall-clock arithmetic, daylight saving included: an instrument's weekly sessions as UTC
intervals, days and weeks."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from functools import lru_cache
from zoneinfo import ZoneInfo

import numpy as np

from hawser.core.clock import DAY, HOUR, SECOND
from hawser.core.indicators import Array
from hawser.core.instrument import WeeklySession

EPOCH = date(1970, 1, 1)
WEEK, FIRST_SATURDAY = 7 * DAY, 2 * DAY  # 1970 began on a Thursday
LOOK = 6 * HOUR  # a zone changes its offset less often than twice in so long


def _instant(day: date, clock: str, zone: str) -> int:
    """UTC ns of a wall-clock time; '24:00' is the next midnight."""
    hours, minutes = (int(part) for part in clock.split(":"))
    at = datetime(day.year, day.month, day.day, tzinfo=ZoneInfo(zone)) + timedelta(days=hours // 24)
    at = at.replace(hour=hours % 24, minute=minutes)
    return int(at.astimezone(UTC).timestamp()) * SECOND


@lru_cache(maxsize=4096)
def open_intervals(
    sessions: tuple[WeeklySession, ...], day_number: int
) -> tuple[tuple[int, int], ...]:
    """Intervals `[opens, closes)` UTC ns of the sessions that begin on the days around UTC day
    `day_number`.

    No sessions at all means always open.
    """
    if not sessions:
        return ((day_number * DAY, (day_number + 1) * DAY),)
    found = []
    for offset in (-1, 0, 1):
        day = EPOCH + timedelta(days=day_number + offset)
        for session in sessions:
            if day.weekday() in session.days:
                start = _instant(day, session.opens, session.zone)
                end = _instant(day, session.closes, session.zone)
                found.append((start, end))
    return tuple(sorted(found))


def is_open(sessions: tuple[WeeklySession, ...], at: int) -> bool:
    """Whether an instrument with these sessions trades at `at`, UTC ns."""
    return any(start <= at < end for start, end in open_intervals(sessions, at // DAY))


def open_parts(sessions: tuple[WeeklySession, ...], start: int, end: int) -> list[tuple[int, int]]:
    """When sessions are on between two moments."""
    found, at = [], start
    while at < end:
        edge = next_change(sessions, at) or end
        if is_open(sessions, at):
            found.append((at, min(edge, end)))
        at = edge
    return found


def next_change(sessions: tuple[WeeklySession, ...], at: int) -> int:
    """When it next opens or closes after `at`, at most ten days ahead; 0 where it never does."""
    if not sessions:
        return 0
    for day in range(at // DAY, at // DAY + 11):
        edges = sorted(edge for interval in open_intervals(sessions, day) for edge in interval)
        for edge in edges:
            if edge > at and is_open(sessions, edge) != is_open(sessions, edge - 1):
                return edge
    return 0


def opened_since(sessions: tuple[WeeklySession, ...], at: int) -> int:
    """Since when it has been open at `at`, UTC ns, at most a week back; 0: it has no sessions, or
    is closed."""
    since, oldest = 0, at - WEEK
    while sessions and at > oldest:
        around = [start for start, end in open_intervals(sessions, at // DAY) if start <= at < end]
        if not around:
            break
        since = min(around)
        at = since - 1
    return since


def weekend_close(sessions: tuple[WeeklySession, ...], at: int) -> int:
    """When the instrument next closes after `at` for a day or more, UTC ns; 0 where it never
    does."""
    return _weekend_from(sessions, next_change(sessions, at))


@lru_cache(maxsize=4096)
def _weekend_from(sessions: tuple[WeeklySession, ...], edge: int) -> int:
    """The same from the change at `edge` on (0: none)."""
    last = edge + WEEK + DAY
    while 0 < edge <= last:  # what does not happen within a week never happens
        again = next_change(sessions, edge)
        if not is_open(sessions, edge) and (not again or again - edge >= DAY):
            return edge
        edge = again
    return 0


def next_close(sessions: tuple[WeeklySession, ...], at: int, weekend: bool) -> int:
    """When the instrument next closes after `at`; 0 where it never does. With `weekend`: when its
    week ends, which is on Saturday 00:00 UTC where it never closes for a day or more."""
    if weekend:
        return weekend_close(sessions, at) or at + WEEK - (at - FIRST_SATURDAY) % WEEK
    edge = next_change(sessions, at)
    return next_change(sessions, edge) if edge and is_open(sessions, edge) else edge


def ever_closes(sessions: tuple[WeeklySession, ...]) -> bool:
    """Whether an instrument with these sessions has hours at all: the other kind trades round the
    clock."""
    return next_change(sessions, 0) > 0


def last_opening(sessions: tuple[WeeklySession, ...], opened: int, span: int, weekend: bool) -> int:
    """When the last bar of the session (of the week) opens by the clock, of bars of `span` ns like
    the one that opened at `opened`: the first whose end reaches the session's. It may be that one
    itself, or lie before it; 0: never."""
    close = next_close(sessions, opened, weekend)
    return opened - (opened - close + span) // span * span if close else 0


def leaves_after(
    sessions: tuple[WeeklySession, ...], times: Array, span: int, weekend: bool
) -> Array:
    """Whether a trade that is open at the close of each bar is left at the open of the next, bool
    of the bars' shape: that is the last of its session by the clock, or lies beyond. `times`
    ascending UTC ns."""
    found = np.zeros(times.size, np.bool_)
    index = 0
    while index < times.size and (close := next_close(sessions, int(times[index]), weekend)):
        beyond = int(np.searchsorted(times, close))
        here = times[index:beyond]
        last = here - (here - close + span) // span * span
        found[index:beyond] = (
            np.append(times, np.iinfo(np.int64).min)[index + 1 : beyond + 1] >= last
        )
        index = beyond
    return found


@lru_cache(maxsize=256)
def _period(day: date, weeks: bool, clock: str, weekday: int, zone: str) -> tuple[int, int]:
    """The day, or the week, whose first day is `day` or before, `[starts, ends)` UTC ns."""
    first = day - timedelta(days=(day.weekday() - weekday) % 7) if weeks else day
    return _instant(first, clock, zone), _instant(
        first + timedelta(days=7 if weeks else 1), clock, zone
    )


def period_around(at: int, weeks: bool, clock: str, weekday: int, zone: str) -> tuple[int, int]:
    """The trading day (or week) that `at` lies in, `[starts, ends)` UTC ns: it begins at `clock` of
    `zone`, a week on `weekday` (0 = Monday). A day across a change of the clocks has 23 or 25
    hours."""
    day = datetime.fromtimestamp(at // SECOND, ZoneInfo(zone)).date()
    for offset in (1, 0, -1, -7):
        starts, ends = _period(day + timedelta(days=offset), weeks, clock, weekday, zone)
        if starts <= at < ends:
            return starts, ends
    raise AssertionError("unreachable: periods follow each other without a gap")


def offset_at(zone: ZoneInfo, at: int) -> int:
    """How far the zone's clocks are ahead of UTC at a moment (UTC ns), ns."""
    delta = datetime.fromtimestamp(at // SECOND, UTC).astimezone(zone).utcoffset()
    assert delta is not None
    return (delta.days * 86_400 + delta.seconds) * SECOND


@lru_cache(64)
def _changes(name: str, first: int, last: int) -> tuple[Array, Array]:
    """When the offset changes between two of the moments that are looked at, and the offsets
    before the first change and after each."""
    zone = ZoneInfo(name)
    looks = range(first * LOOK, (last + 1) * LOOK + 1, LOOK)
    offsets = [offset_at(zone, at) for at in looks]
    moments, found = [], [offsets[0]]
    for at, before, after in zip(looks, offsets, offsets[1:], strict=False):
        if before == after:
            continue
        low, high = at // SECOND, (at + LOOK) // SECOND
        while high - low > 1:
            middle = (low + high) // 2
            if offset_at(zone, middle * SECOND) == before:
                low = middle
            else:
                high = middle
        moments.append(high * SECOND)
        found.append(after)
    return np.array(moments, np.int64), np.array(found, np.int64)


def local_times(name: str, times: Array) -> tuple[Array, Array]:
    """Of ascending moments (UTC ns) the local day, counted from 1970-01-01, and the time of day in
    ns, in the zone called `name`."""
    if not times.size:
        return times, times
    moments, offsets = _changes(name, int(times[0]) // LOOK, int(times[-1]) // LOOK)
    local = times + offsets[np.searchsorted(moments, times, side="right")]
    return local // DAY, local % DAY
