"""No entry while the spread is too wide."""

from __future__ import annotations

import math
from typing import Annotated

from hawser.core import figures as fg
from hawser.core.bars import Bars
from hawser.core.clock import MINUTE
from hawser.core.field_help import help_text
from hawser.core.guards.context import Closed, EntryContext
from hawser.core.guards.filters.base import PREFIX, Filter, FilterFigures, nothing_known
from hawser.core.guards.limits import (
    SPREAD_MEDIAN,
    SPREAD_OK,
    SPREAD_TICKS,
    each_spread_over,
    median_at,
    medians,
    spread_over,
)
from hawser.core.indicators import Array
from hawser.core.numbers import or_nan


class SpreadGuard(Filter, frozen=True, kw_only=True, tag="spread"):
    KIND = "spread"
    SAYS = "no entry while the spread is too wide"
    BY_QUOTE = True
    BY_PLAN = True
    FIRST = {"max_percent_of_r": 15.0}
    LOOSER = {"max_ticks": 1, "max_of_median": 1, "max_percent_of_r": 1}

    max_ticks: Annotated[
        float | None, help_text("widest spread", "ticks", name="Widest", example="20")
    ] = None
    max_of_median: Annotated[
        float | None,
        help_text(
            "widest spread, as a multiple of its median",
            "times",
            name="Widest by median",
            example="2.5",
        ),
    ] = None
    window_min: Annotated[
        float, help_text("the span of bars that the median is taken from", "min")
    ] = 30.0
    max_percent_of_r: Annotated[
        float | None,
        help_text(
            "widest spread, as a share of the trade's R", "% of R", name="Widest by R", example="15"
        ),
    ] = None

    def check(self) -> None:
        self.need("max_ticks", "max_of_median", "max_percent_of_r")
        if not 1 <= self.window_min <= 24 * 60:
            raise self.wrong("window_min", "from 1 to 1440 minutes")

    def verdict(self, context: EntryContext) -> Closed | None:
        spread, median = (
            context.spread,
            context.measure(context.instrument.symbol, self.measure_key),
        )
        beyond = spread_over(
            spread,
            median,
            r_ticks=context.r_ticks,
            max_ticks=or_nan(self.max_ticks),
            max_of_median=or_nan(self.max_of_median),
            max_percent_of_r=or_nan(self.max_percent_of_r),
        )
        if beyond == SPREAD_OK:
            return None
        shown = f"spread {spread:g} t"
        if beyond == SPREAD_TICKS:
            text = f"{shown}, at most {self.max_ticks:g} t"
        elif beyond == SPREAD_MEDIAN:
            times = f"{spread / median:.1f} times" if median else "beyond"
            text = (
                f"{shown} is {times} its {self.window_min:g} min median of {median:g} t, at most "
            )
            text += f"{self.max_of_median:g} times"
        else:
            part = fg.percent(100.0 * spread / context.r_ticks)
            text = f"{shown} is {part} of R, at most {fg.percent(self.max_percent_of_r or 0.0)}"
        return Closed("spread", text, 0, self.name)

    def widest(self, median: float) -> float:
        """The widest spread it lets pass whatever the plan, ticks; NaN: any. `median`: of its
        window."""
        limits = (or_nan(self.max_ticks), or_nan(self.max_of_median) * median)
        return min((limit for limit in limits if not math.isnan(limit)), default=math.nan)

    @property
    def needs_bars(self) -> bool:
        return self.max_of_median is not None

    @property
    def measure_key(self) -> str:
        return f"{PREFIX}median spread {self.window_min:g} min"

    def measure(self, bars: Bars, span: int) -> float:
        return median_spread(bars, span, self.window_min)

    def column(self, bars: Bars, span: int) -> Array:
        if self.max_of_median is None:
            return nothing_known(bars)
        return medians(bars.time, bars.spread, span, round(self.window_min * MINUTE))

    def shut(self, values: Array, spread: Array, side: int) -> Array:
        return each_spread_over(spread, values, or_nan(self.max_ticks), or_nan(self.max_of_median))

    def figures(self, context: EntryContext) -> FilterFigures:
        median = context.measure(context.instrument.symbol, self.measure_key)
        spread, symbol = context.spread, context.instrument.symbol
        if self.max_ticks is not None:
            return FilterFigures(
                f"{fg.number(spread, 0)} t", f"{self.max_ticks:g} t", f"spread of {symbol}"
            )
        if self.max_of_median is not None:
            times = spread / median if median > 0 else math.nan
            of = (
                f"spread of {symbol} over its {self.window_min:g} min median of "
                f"{fg.number(median, 0)} t"
            )
            return FilterFigures(
                f"\u00d7{fg.number(times, 1)}", f"\u00d7{self.max_of_median:g}", of
            )
        return FilterFigures(
            f"{fg.number(spread, 0)} t",
            f"{self.max_percent_of_r:g} % of R",
            f"spread of {symbol} against each plan's R",
        )


def median_spread(bars: Bars, span: int, window_min: float) -> float:
    """The median of the spreads of the bars in the last `window_min` minutes of these, ticks."""
    if not bars.time.size:
        return math.nan
    since = int(bars.time[-1]) + span - round(window_min * MINUTE)
    return float(median_at(bars.time, bars.spread, bars.time.size - 1, since))
