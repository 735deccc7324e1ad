"""What a filter is: a guard that remembers nothing and opens and closes with what it watches.

Some go by the clock alone; the others by a figure of completed bars, which comes to the live engine
with each bar, so that a record replays it, and to a rehearsal as a column. Both are judged by the
same compiled function (`limits.py`).
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import ClassVar, Literal, NamedTuple

import numpy as np

from hawser.core.bars import Bars
from hawser.core.clock import TIMEFRAMES
from hawser.core.guards.base import Guard
from hawser.core.guards.context import Closed, EntryContext
from hawser.core.guards.news import Calendar
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument

PREFIX = "guard: "  # of every key, among what completed bars carry


class FilterFigures(NamedTuple):
    """A filter in figures with units: what it goes by now, its limit, and what that is of."""

    now: str
    limit: str
    of: str


class ClosedPart(NamedTuple):
    """A part of a day in which a filter closes entries, UTC ns; `kind`: as the day is drawn."""

    start: int
    end: int
    kind: Literal["news", "session"]
    text: str


class Filter(Guard, frozen=True, kw_only=True):
    """One kind of filter in one file: its keys, what it goes by, what it says, and how it is
    shown."""

    BY_CLOCK: ClassVar[bool] = False  # nothing but time opens and closes it
    BY_QUOTE: ClassVar[bool] = False  # each quote may open or close it
    BY_PLAN: ClassVar[bool] = False  # what it says depends on the side or on R of the plan

    def verdict(self, context: EntryContext) -> Closed | None:
        """Why an entry is closed; None: open."""
        raise NotImplementedError

    def figures(self, context: EntryContext) -> FilterFigures:
        """What it goes by, for the Guards station."""
        raise NotImplementedError

    # What goes by the clock

    def edges(
        self, instrument: Instrument, calendars: tuple[Calendar, ...], at: int
    ) -> Iterator[int]:
        """Moments (UTC ns) of which the first after `at` is that at which it may next open or close
        for the instrument; others may be among them, and some before `at`."""
        return iter(())

    def parts(
        self, instrument: Instrument, calendars: tuple[Calendar, ...], start: int, end: int
    ) -> Iterator[ClosedPart]:
        """When the clock closes it between two moments, as far as that is known."""
        return iter(())

    # What goes by bars

    @property
    def needs_bars(self) -> bool:
        return bool(self.measure_key)

    @property
    def measure_key(self) -> str:
        """What its figure is called among those that completed bars carry; empty: it needs none."""
        return ""

    def goes_by(self, symbol: str) -> bool:
        """Whether its figure is of this instrument's bars."""
        return self.covers(symbol)

    def bars_span(self, base_span: int) -> int:
        """The length of the bars it goes by, ns; `base_span`: that of the instrument's own."""
        return base_span

    def measure(self, bars: Bars, span: int) -> float:
        """Its figure at the last of these completed bars; NaN: not known yet."""
        raise NotImplementedError

    def column(self, bars: Bars, span: int) -> Array:
        """Its figure at the close of each of these bars."""
        raise NotImplementedError

    def shut(self, values: Array, spread: Array, side: int) -> Array:
        """Where its figure, or the spread (ticks), closes entries of this side (0: of either); R is
        not known here."""
        raise NotImplementedError


def filter_verdict(guard: Guard, context: EntryContext) -> Closed | None:
    """What a filter says; None: open, and of every guard that counts."""
    return guard.verdict(context) if isinstance(guard, Filter) else None


def timeframe_ns(timeframe: str) -> int:
    return TIMEFRAMES[timeframe]


def nothing_known(bars: Bars) -> Array:
    return np.full(bars.time.size, np.nan)


def check_bars(guard: Guard, timeframe: str, length: int) -> None:
    """Raises BadInput."""
    if timeframe not in TIMEFRAMES:
        raise guard.wrong("timeframe", f"one of {', '.join(TIMEFRAMES)}")
    if not 1 <= length <= 100_000:
        raise guard.wrong("length", "from 1 to 100000")
