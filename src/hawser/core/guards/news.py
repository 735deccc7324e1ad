"""Scheduled news: events, the calendars they stand in, and the windows that guards keep around
them."""

from __future__ import annotations

from bisect import bisect_right
from functools import lru_cache
from typing import Literal, NamedTuple

import msgspec

from hawser.core.clock import HOUR, MINUTE
from hawser.core.guards.limits import in_window

Impact = Literal["low", "medium", "high"]
IMPACTS: tuple[Impact, ...] = ("low", "medium", "high")
ALL = "ALL"
State = Literal["good", "missing", "unreadable", "unread"]
UNREAD = "news_unread"


class NewsEvent(msgspec.Struct, frozen=True, order=True, forbid_unknown_fields=True):
    """One event. `time` UTC ns; `currency` as CHF, or ALL."""

    time: int
    currency: str
    impact: Impact
    title: str


class Calendar(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A calendar as last read: what it says of the days around now, in order, and how far ahead it
    reaches (UTC ns, 0: without an end). `why`: what is wrong, in a sentence. *Unread*: nobody knows
    yet, as at a start."""

    name: str
    events: tuple[NewsEvent, ...] = ()
    reaches: int = 0
    state: State = "good"
    why: str = ""


class NewsWindow(NamedTuple):
    """Closed from `start` until before `end`, UTC ns, by the event."""

    start: int
    end: int
    event: NewsEvent


def concerns(event: NewsEvent, currencies: tuple[str, ...], impact: Impact) -> bool:
    """Whether an event is of at least this impact and about one of these currencies."""
    return IMPACTS.index(event.impact) >= IMPACTS.index(impact) and event.currency in (
        ALL,
        *currencies,
    )


class SameCalendars(NamedTuple):
    """Calendars as a key: by what they are, not by comparing every event."""

    calendars: tuple[Calendar, ...]

    def __eq__(self, other: object) -> bool:
        return isinstance(other, SameCalendars) and other.calendars is self.calendars

    def __hash__(self) -> int:
        return id(self.calendars)


def windows(
    calendars: tuple[Calendar, ...],
    currencies: tuple[str, ...],
    impact: Impact,
    before_min: float,
    after_min: float,
) -> list[NewsWindow]:
    """Every window around the events of at least this impact that concern these currencies, in
    order of their beginning; kept while the calendars stay the same."""
    return _windows(SameCalendars(calendars), currencies, impact, before_min, after_min)


@lru_cache(maxsize=256)
def _windows(
    of: SameCalendars,
    currencies: tuple[str, ...],
    impact: Impact,
    before_min: float,
    after_min: float,
) -> list[NewsWindow]:
    before, after = round(before_min * MINUTE), round(after_min * MINUTE)
    found = {
        NewsWindow(event.time - before, event.time + after, event)
        for calendar in of.calendars
        for event in calendar.events
        if concerns(event, currencies, impact)
    }
    return sorted(found)


def closed_by(found: list[NewsWindow], at: int) -> NewsWindow | None:
    """The window that `at` lies in, with the end of all that overlap it from there on; None: in
    none. All are of one guard: equally long, in order of their beginning."""
    after = bisect_right(found, at, key=_start)
    first = after
    while first and in_window(
        at, found[first - 1].start, 0, found[first - 1].end - found[first - 1].start
    ):
        first -= 1
    now = found[first:after]
    if not now:
        return None
    end = now[-1].end
    for one in found[after:]:
        if one.start > end:
            break
        end = one.end
    nearest = min(now, key=lambda one: (one.event.time < at, abs(one.event.time - at)))
    return nearest._replace(end=end)


def _start(window: NewsWindow) -> int:
    return window.start


def next_edge(found: list[NewsWindow], at: int) -> int:
    """When a window next begins or ends after `at`; 0: never."""
    after = bisect_right(found, at, key=_start)
    ends = (one.end for one in found[:after] if one.end > at)
    starts = (one.start for one in found[after : after + 1])
    return min((*ends, *starts), default=0)


def short_from(calendar: Calendar, horizon_h: float) -> int:
    """From when a calendar no longer reaches so far ahead, UTC ns; 0: never."""
    return calendar.reaches - round(horizon_h * HOUR) + 1 if calendar.reaches else 0


class Trouble(NamedTuple):
    """What is wrong with the news: none, missing, unreadable, unread or short; which calendar, and
    a sentence."""

    code: str
    calendar: str
    text: str


def trouble(calendars: tuple[Calendar, ...], at: int, horizon_h: float) -> Trouble | None:
    """What is wrong with the calendars at `at`; None: nothing. No calendar at all is one
    missing."""
    if not calendars:
        return Trouble("none", "", "there is no news calendar")
    for calendar in calendars:
        name = calendar.name
        if calendar.state == "unread":
            return Trouble(calendar.state, name, "the news has not been read yet")
        if calendar.state != "good":
            return Trouble(
                calendar.state, name, f"news calendar {name} is {calendar.state}: {calendar.why}"
            )
        if calendar.reaches and at >= short_from(calendar, horizon_h):
            return Trouble("short", name, f"news calendar {name} ends within {horizon_h:g} h")
    return None
