"""What filters need of completed bars: the median spread, the ATR's percentile, the distance from an average.

The same columns serve the rehearsal; the live engine gets the last value of each with the bar it belongs to, so that a
record of its events replays it.
"""

from __future__ import annotations

import math
from collections.abc import Callable

from hawser.core.bars import Bars
from hawser.core.clock import MINUTE, TIMEFRAMES
from hawser.core.guards.declared import Guards, RegimeGuard, SpreadGuard, VolatilityGuard
from hawser.core.guards.limits import median_at, medians, percentile_at, percentiles
from hawser.core.indicators import Array, atr, ema, sma

PREFIX = "guard: "  # of every key, among what completed bars carry


def median_key(guard: SpreadGuard) -> str:
    return f"{PREFIX}median spread {guard.window_min:g} min"


def percentile_key(guard: VolatilityGuard) -> str:
    return f"{PREFIX}atr percentile {guard.timeframe} {guard.atr_length} {guard.bars}"


def regime_key(guard: RegimeGuard) -> str:
    return f"{PREFIX}{guard.average} {guard.length} {guard.timeframe}"


def median_spread(bars: Bars, span: int, window_min: float) -> float:
    """The median of the spreads of the bars in the last `window_min` minutes of these, ticks."""
    if not bars.time.size:
        return math.nan
    since = int(bars.time[-1]) + span - round(window_min * MINUTE)
    return float(median_at(bars.time, bars.spread, bars.time.size - 1, since))


def median_column(bars: Bars, span: int, window_min: float) -> Array:
    """The same at each bar's close."""
    return medians(bars.time, bars.spread, span, round(window_min * MINUTE))


def atr_percentile(bars: Bars, length: int, among: int) -> float:
    """Where the last ATR stands among its own last `among` values, 0 to 100; NaN until there are as many."""
    if bars.time.size < length + among - 1:
        return math.nan
    values = atr(bars.high, bars.low, bars.close, length, False)
    return float(percentile_at(values, values.size - 1, among))


def percentile_column(bars: Bars, length: int, among: int) -> Array:
    """The same at each bar's close."""
    return percentiles(atr(bars.high, bars.low, bars.close, length, False), among)


def above_average(bars: Bars, guard: RegimeGuard) -> float:
    """How far the last close is above its average, percent; NaN until the average has a value."""
    return float(above_column(bars, guard)[-1]) if bars.time.size >= guard.length else math.nan


def above_column(bars: Bars, guard: RegimeGuard) -> Array:
    """The same at each bar's close."""
    average = (sma if guard.average == "sma" else ema)(bars.close, guard.length)
    found: Array = 100.0 * (bars.close / average - 1.0)
    return found


def measures_for(
    guards: Guards, symbol: str, span: int, base_span: int, bars_of: Callable[[int], Bars]
) -> dict[str, float]:
    """What the guards want to know at the bar of `span` ns of an instrument that has just completed, by key."""
    found: dict[str, float] = {}
    for guard in guards.guard:
        if isinstance(guard, SpreadGuard) and span == base_span and guard.covers(symbol):
            if guard.max_of_median is not None:
                found[median_key(guard)] = median_spread(bars_of(span), span, guard.window_min)
        elif isinstance(guard, VolatilityGuard) and span == TIMEFRAMES[guard.timeframe] and guard.covers(symbol):
            found[percentile_key(guard)] = atr_percentile(bars_of(span), guard.atr_length, guard.bars)
        elif isinstance(guard, RegimeGuard) and span == TIMEFRAMES[guard.timeframe] and symbol == guard.reference:
            found[regime_key(guard)] = above_average(bars_of(span), guard)
    return found
