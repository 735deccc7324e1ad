"""Entries only on one side of an average of some instrument."""

from __future__ import annotations

import math
from typing import Annotated, Literal

from hawser.core import figures as fg
from hawser.core.bars import Bars
from hawser.core.field_help import help_text
from hawser.core.guards.context import Closed, EntryContext
from hawser.core.guards.filters.base import PREFIX, Filter, FilterFigures, check_bars, timeframe_ns
from hawser.core.guards.limits import against, each_against
from hawser.core.indicators import Array, ema, sma
from hawser.core.numbers import MOST_BARS


class RegimeGuard(Filter, frozen=True, kw_only=True, tag="regime"):
    KIND = "regime"
    SAYS = "entries only on one side of an average of some instrument"
    BY_PLAN = True

    reference: Annotated[str, help_text("the instrument whose regime it is", example="Harbour 40")]
    timeframe: Annotated[str, help_text("length of the bars it uses")] = "1h"
    average: Annotated[
        Literal["sma", "ema"],
        help_text("the kind of its average", words={"sma": "simple", "ema": "exponential"}),
    ] = "sma"
    length: Annotated[int, help_text("of the average", "bars", most=MOST_BARS)] = 200
    entries: Annotated[
        Literal["with", "above", "below"],
        help_text(
            "on which side of its average entries are open",
            words={
                "with": "long above it, short below it",
                "above": "only above it",
                "below": "only below it",
            },
        ),
    ] = "with"

    def check(self) -> None:
        if not self.reference.strip():
            raise self.wrong("reference", "an instrument")
        check_bars(self, self.timeframe, self.length)

    def verdict(self, context: EntryContext) -> Closed | None:
        above = context.measure(self.reference, self.measure_key)
        average = f"{self.length}-bar {self.average} on {self.timeframe}"
        if math.isnan(above):
            return Closed("regime", f"{self.reference}'s {average} is not known yet", 0, self.name)
        wanted = self._wanted(context.side)
        if not against(above, wanted):
            return None
        where = "above" if above > 0 else "below" if above < 0 else "at"
        word = {"above": "entries", "below": "entries"}.get(
            self.entries, "longs" if wanted > 0 else "shorts"
        )
        text = f"{self.reference} is {where} its {average}: no {word}"
        return Closed("regime", text, 0, self.name)

    def _wanted(self, side: int) -> int:
        """On which side of its average the reference must be for an entry of this side: +1 above,
        -1 below, 0 either."""
        return {"above": 1, "below": -1}.get(self.entries, side)

    @property
    def measure_key(self) -> str:
        return f"{PREFIX}{self.average} {self.length} {self.timeframe}"

    def goes_by(self, symbol: str) -> bool:
        return symbol == self.reference

    def bars_span(self, base_span: int) -> int:
        return timeframe_ns(self.timeframe)

    def measure(self, bars: Bars, span: int) -> float:
        """How far the last close is above its average, percent; NaN until the average has a
        value."""
        return float(self.column(bars, span)[-1]) if bars.time.size >= self.length else math.nan

    def column(self, bars: Bars, span: int) -> Array:
        average = (sma if self.average == "sma" else ema)(bars.close, self.length)
        found: Array = 100.0 * (bars.close / average - 1.0)
        return found

    def shut(self, values: Array, spread: Array, side: int) -> Array:
        return each_against(values, self._wanted(side))

    def figures(self, context: EntryContext) -> FilterFigures:
        above = context.measure(self.reference, self.measure_key)
        allows = {
            "with": "longs above, shorts below",
            "above": "entries above",
            "below": "entries below",
        }[self.entries]
        of = f"{self.reference} over its {self.length}-bar {self.average} on {self.timeframe}"
        return FilterFigures(f"{fg.number(above, 2, sign=True)} %", allows, of)
