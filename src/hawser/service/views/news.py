"""News as the chart and the list of instruments show it: events that concern an instrument, and
when they close it."""

from __future__ import annotations

from functools import lru_cache

import msgspec

from hawser.core.guards.declared import Guards, Impact, NewsGuard
from hawser.core.guards.news import Calendar, NewsEvent, SameCalendars, concerns
from hawser.core.instrument import Instrument
from hawser.core.plan import BY_HAND


class NewsMark(msgspec.Struct, frozen=True):
    """An event. Entries by hand are closed from `starts` until before `ends`, UTC ns; both are its
    time where no guard closes for it."""

    time: int
    currency: str
    impact: Impact
    title: str
    starts: int
    ends: int

    @property
    def closes(self) -> bool:
        return self.ends > self.starts


def marks(
    calendars: tuple[Calendar, ...], instrument: Instrument, guards: Guards
) -> tuple[NewsMark, ...]:
    """Every event of the calendars that concerns the instrument, in order; kept while the calendars
    stay the same."""
    watching = tuple(
        one
        for one in guards.guard
        if isinstance(one, NewsGuard) and one.watches(instrument.symbol, BY_HAND)
    )
    return _marks(SameCalendars(calendars), instrument.news_currencies, watching)


@lru_cache(maxsize=256)
def _marks(
    of: SameCalendars, currencies: tuple[str, ...], guards: tuple[NewsGuard, ...]
) -> tuple[NewsMark, ...]:
    events = {
        event
        for calendar in of.calendars
        for event in calendar.events
        if concerns(event, currencies, "low")
    }
    shut: dict[NewsEvent, tuple[int, int]] = {}
    for guard in guards:
        for start, end, event in guard.windows(of.calendars, currencies):
            first, last = shut.get(event, (start, end))
            shut[event] = (min(first, start), max(last, end))
    return tuple(
        NewsMark(
            event.time,
            event.currency,
            event.impact,
            event.title,
            *shut.get(event, (event.time, event.time)),
        )
        for event in sorted(events)
    )
