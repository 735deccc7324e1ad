"""No entry while the market is too calm or too wild."""

from __future__ import annotations

import math
from typing import Annotated

from hawser.core import figures as fg
from hawser.core.bars import Bars
from hawser.core.field_help import help_text
from hawser.core.guards.context import Closed, EntryContext
from hawser.core.guards.filters.base import PREFIX, Filter, FilterFigures, check_bars, timeframe_ns
from hawser.core.guards.limits import each_outside, outside, percentile_at, percentiles
from hawser.core.indicators import Array, atr
from hawser.core.numbers import MOST_BARS


class VolatilityGuard(Filter, frozen=True, kw_only=True, tag="volatility"):
    KIND = "volatility"
    SAYS = "no entry while the market is too calm or too wild"
    LOOSER = {"low": -1, "high": 1}

    timeframe: Annotated[str, help_text("length of the bars it uses")] = "15m"
    atr_length: Annotated[
        int, help_text("of its ATR", "bars", most=MOST_BARS, name="ATR length")
    ] = 14
    bars: Annotated[
        int, help_text("how many bars the percentile is taken from", "bars", most=MOST_BARS)
    ] = 500
    low: Annotated[
        float, help_text("lowest percentile at which entries are open", "percentile", example="5")
    ] = 0.0
    high: Annotated[
        float, help_text("highest percentile at which entries are open", "percentile", example="95")
    ] = 100.0

    def check(self) -> None:
        check_bars(self, self.timeframe, self.atr_length)
        if not 2 <= self.bars <= 100_000:
            raise self.wrong("bars", "from 2 to 100000")
        if not self.low < self.high <= 100:
            raise self.wrong("high", "more than low, at most 100")

    def verdict(self, context: EntryContext) -> Closed | None:
        value = context.measure(context.instrument.symbol, self.measure_key)
        if not outside(value, self.low, self.high):
            return None
        of = f"of its last {self.bars} on {self.timeframe}"
        if math.isnan(value):
            return Closed("volatility", f"the ATR's percentile {of} is not known yet", 0, self.name)
        text = (
            f"the ATR stands at percentile {value:.0f} {of}, entries from {self.low:g} to "
            f"{self.high:g}"
        )
        return Closed("volatility", text, 0, self.name)

    @property
    def measure_key(self) -> str:
        return f"{PREFIX}atr percentile {self.timeframe} {self.atr_length} {self.bars}"

    def bars_span(self, base_span: int) -> int:
        return timeframe_ns(self.timeframe)

    def measure(self, bars: Bars, span: int) -> float:
        return atr_percentile(bars, self.atr_length, self.bars)

    def column(self, bars: Bars, span: int) -> Array:
        return percentiles(atr(bars.high, bars.low, bars.close, self.atr_length, False), self.bars)

    def shut(self, values: Array, spread: Array, side: int) -> Array:
        return each_outside(values, self.low, self.high)

    def figures(self, context: EntryContext) -> FilterFigures:
        value = context.measure(context.instrument.symbol, self.measure_key)
        of = (
            f"ATR percentile of {context.instrument.symbol} in {self.bars} bars of {self.timeframe}"
        )
        return FilterFigures(fg.number(value, 0), f"{self.low:g} to {self.high:g}", of)


def atr_percentile(bars: Bars, length: int, among: int) -> float:
    """Where the last ATR stands among its own last `among` values, 0 to 100; NaN until there are as
    many."""
    if bars.time.size < length + among - 1:
        return math.nan
    values = atr(bars.high, bars.low, bars.close, length, False)
    return float(percentile_at(values, values.size - 1, among))
