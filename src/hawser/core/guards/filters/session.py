"""No entry outside hours of your own, or near an open, a close, a weekend."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated

from hawser.core import figures as fg
from hawser.core.clock import MINUTE
from hawser.core.field_help import help_text
from hawser.core.guards.context import Closed, EntryContext
from hawser.core.guards.filters.base import ClosedPart, Filter, FilterFigures
from hawser.core.guards.news import Calendar
from hawser.core.hours import is_open, next_change, open_parts, weekend_close
from hawser.core.instrument import Instrument, WeeklySession


class SessionGuard(Filter, frozen=True, kw_only=True, tag="session"):
    KIND = "session"
    SAYS = "no entry outside hours of your own, or near an open, a close, a weekend"
    BY_CLOCK = True
    LOOSER = {"after_open_min": -1, "before_close_min": -1, "before_weekend_min": -1}

    hours: Annotated[
        tuple[WeeklySession, ...],
        help_text(
            "entries only within these weekly hours, beside the instrument's own",
            example="mon-fri 08:00-17:00 Europe/Zurich",
        ),
    ] = ()
    closed_hours: Annotated[
        tuple[WeeklySession, ...],
        help_text(
            "no entries within these, as around the roll-over", example="mon-fri 21:45-22:15 UTC"
        ),
    ] = ()
    after_open_min: Annotated[
        float, help_text("stay closed this long after the instrument opens", "min", example="10")
    ] = 0.0
    before_close_min: Annotated[
        float, help_text("close this long before the instrument closes", "min", example="15")
    ] = 0.0
    before_weekend_min: Annotated[
        float,
        help_text(
            "close this long before the instrument closes for a day or more", "min", example="30"
        ),
    ] = 0.0

    def verdict(self, context: EntryContext) -> Closed | None:
        at, own = context.at, context.instrument.sessions
        if self.hours and not is_open(self.hours, at):
            return Closed(
                "session", "outside the hours for entries", next_change(self.hours, at), self.name
            )
        if self.closed_hours and is_open(self.closed_hours, at):
            return Closed(
                "session",
                "in hours without entries",
                next_change(self.closed_hours, at),
                self.name,
            )
        if not own or not is_open(own, at):
            return None  # the instrument's own hours are the venue's to keep
        after = round(self.after_open_min * MINUTE)
        if after and not is_open(own, at - after):
            opened = next_change(own, at - after)
            return Closed(
                "session", f"{fg.duration(at - opened)} after the open", opened + after, self.name
            )
        return self._before_close(context)

    def _before_close(self, context: EntryContext) -> Closed | None:
        at, own = context.at, context.instrument.sessions
        close = round(self.before_close_min * MINUTE)
        weekend = round(self.before_weekend_min * MINUTE)
        for before, closes, what in (
            (weekend, weekend_close(own, at) if weekend else 0, "weekend"),
            (close, next_change(own, at) if close else 0, "close"),
        ):
            if 0 < closes <= at + before:
                text = f"{fg.duration(closes - at)} before the {what}"
                return Closed("session", text, next_change(own, closes), self.name)
        return None

    def edges(
        self, instrument: Instrument, calendars: tuple[Calendar, ...], at: int
    ) -> Iterator[int]:
        yield from (next_change(hours, at) for hours in (self.hours, self.closed_hours) if hours)
        yield from self._around(at, instrument.sessions)

    def _around(self, now: int, sessions: tuple[WeeklySession, ...]) -> Iterator[int]:
        """When entries open after the open, or close before a close, of the session now or the
        next."""
        after = round(self.after_open_min * MINUTE)
        weekend = weekend_close(sessions, now) if self.before_weekend_min else 0
        if weekend:
            yield weekend - round(self.before_weekend_min * MINUTE)
        edge = next_change(sessions, now - after - 1)
        for _ in range(4):
            if not edge:
                return
            yield edge
            yield edge + after
            yield edge - round(self.before_close_min * MINUTE)
            edge = next_change(sessions, edge)

    def parts(
        self, instrument: Instrument, calendars: tuple[Calendar, ...], start: int, end: int
    ) -> Iterator[ClosedPart]:
        if self.closed_hours:
            for begins, ends in open_parts(self.closed_hours, start, end):
                yield ClosedPart(begins, ends, "session", self.name)

    def figures(self, context: EntryContext) -> FilterFigures:
        parts = [
            f"{getattr(self, key):g} min {text}"
            for key, text in (
                ("after_open_min", "after the open"),
                ("before_close_min", "before the close"),
                ("before_weekend_min", "before the weekend"),
            )
            if getattr(self, key)
        ]
        parts = [
            *(["its hours"] if self.hours else []),
            *(["its pause"] if self.closed_hours else []),
            *parts,
        ]
        edge = min(
            (
                one
                for one in (
                    next_change(hours, context.at) for hours in (self.hours, self.closed_hours)
                )
                if one
            ),
            default=0,
        )
        now = f"changes in {fg.duration(edge - context.at)}" if edge else ""
        return FilterFigures(now, ", ".join(parts), f"the clock, for {context.instrument.symbol}")
