"""No entry around scheduled news."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Literal

from hawser.core import figures as fg
from hawser.core.field_help import help_text
from hawser.core.guards.context import Closed, EntryContext
from hawser.core.guards.filters.base import ClosedPart, Filter, FilterFigures
from hawser.core.guards.news import (
    UNREAD,
    Calendar,
    Impact,
    NewsWindow,
    closed_by,
    next_edge,
    short_from,
    trouble,
    windows,
)
from hawser.core.instrument import Instrument


class NewsGuard(Filter, frozen=True, kw_only=True, tag="news"):
    KIND = "news"
    SAYS = "no entry around scheduled news"
    BY_CLOCK = True
    LOOSER = {"before_min": -1, "after_min": -1, "horizon_h": -1}

    impact: Annotated[Impact, help_text("events of at least this impact")] = "high"
    before_min: Annotated[float, help_text("close this long before an event", "min")] = 15.0
    after_min: Annotated[float, help_text("stay closed this long after it", "min")] = 30.0
    horizon_h: Annotated[float, help_text("how far ahead a calendar must reach", "h")] = 24.0
    missing: Annotated[
        Literal["closed", "warn"],
        help_text(
            "a calendar that is missing, unreadable or too short closes entries, or warns",
            name="Without a calendar",
            words={"closed": "entries are closed", "warn": "only a warning"},
        ),
    ] = "closed"

    def windows(
        self, calendars: tuple[Calendar, ...], currencies: tuple[str, ...]
    ) -> list[NewsWindow]:
        """Every window it keeps around news of these currencies, in order of their beginning."""
        return windows(calendars, currencies, self.impact, self.before_min, self.after_min)

    def verdict(self, context: EntryContext) -> Closed | None:
        """Within a window; else, where the policy says so, without a calendar that reaches far
        enough."""
        at = context.at
        window = closed_by(self.windows(context.calendars, context.instrument.news_currencies), at)
        if window is not None:
            event = window.event
            when = (
                f"in {fg.duration(event.time - at)}"
                if event.time > at
                else f"{fg.duration(at - event.time)} ago"
            )
            text = f"news {when} ({event.currency}, {event.impact}): {event.title}"
            return Closed("news", text, window.end, self.name)
        wrong = trouble(context.calendars, at, self.horizon_h) if self.missing == "closed" else None
        if wrong is None:
            return None
        return Closed(UNREAD if wrong.code == "unread" else "no_calendar", wrong.text, 0, self.name)

    def edges(
        self, instrument: Instrument, calendars: tuple[Calendar, ...], at: int
    ) -> Iterator[int]:
        yield from (short_from(calendar, self.horizon_h) for calendar in calendars)
        yield next_edge(self.windows(calendars, instrument.news_currencies), at)

    def parts(
        self, instrument: Instrument, calendars: tuple[Calendar, ...], start: int, end: int
    ) -> Iterator[ClosedPart]:
        for one in self.windows(calendars, instrument.news_currencies):
            if one.end > start and one.start < end:
                text = f"{one.event.currency} {one.event.title}, {one.event.impact}"
                yield ClosedPart(max(start, one.start), min(end, one.end), "news", text)

    def figures(self, context: EntryContext) -> FilterFigures:
        ahead = [
            one
            for one in self.windows(context.calendars, context.instrument.news_currencies)
            if one.end > context.at
        ]
        first = ahead[0].event if ahead else None
        now = "none ahead"
        if first is not None:
            now = f"in {fg.duration(first.time - context.at)}" if first.time > context.at else "now"
        limit = f"{self.before_min:g} min before to {self.after_min:g} after"
        return FilterFigures(now, limit, f"{self.impact} news for {context.instrument.symbol}")
