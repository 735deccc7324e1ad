"""Lines that stops follow over whole histories: supertrend, the parabolic stop, pivots (reckoning
section 3).

Arrays have shape (n,), price units, NaN while a value is not yet known.
"""

from __future__ import annotations

import numpy as np

from hawser.core.compiled import compiled
from hawser.core.indicators import Array, atr, highest


@compiled
def supertrend(
    high: Array, low: Array, close: Array, length: int, factor: float, simple: bool
) -> Array:
    """The line: the final lower band while up, the final upper band while down. It starts down."""
    ranges = atr(high, low, close, length, simple)
    out = np.full(close.size, np.nan)
    upper, lower, direction = np.nan, np.nan, -1
    for i in range(length - 1, close.size):
        mid = (high[i] + low[i]) / 2.0
        basic_upper, basic_lower = mid + factor * ranges[i], mid - factor * ranges[i]
        if i == length - 1:
            upper, lower = basic_upper, basic_lower
        else:
            if basic_upper < upper or close[i - 1] > upper:
                upper = basic_upper
            if basic_lower > lower or close[i - 1] < lower:
                lower = basic_lower
            if close[i] > upper:
                direction = 1
            elif close[i] < lower:
                direction = -1
        out[i] = lower if direction > 0 else upper
    return out


@compiled
def parabolic(
    high: Array, low: Array, close: Array, step: float, ceiling: float
) -> tuple[Array, Array]:
    """The parabolic stop in force during each bar, and the one for the bar after it, which is known
    at its close."""
    n = close.size
    out, following = np.full(n, np.nan), np.full(n, np.nan)
    if n < 2:
        return out, following
    side = 1 if close[1] >= close[0] else -1
    stop = low[0] if side > 0 else high[0]
    extreme = max(high[0], high[1]) if side > 0 else min(low[0], low[1])
    rate = step
    out[1] = stop
    following[1] = _next_parabolic(stop, extreme, rate=rate, side=side, high=high, low=low, index=2)
    for i in range(2, n):
        stop = following[i - 1]
        touched = low[i] <= stop if side > 0 else high[i] >= stop
        if touched:
            side, stop, rate = -side, extreme, step
            if side > 0:
                stop = min(stop, low[i], low[i - 1])
                extreme = high[i]
            else:
                stop = max(stop, high[i], high[i - 1])
                extreme = low[i]
        elif (side > 0 and high[i] > extreme) or (side < 0 and low[i] < extreme):
            extreme = high[i] if side > 0 else low[i]
            rate = min(rate + step, ceiling)
        out[i] = stop
        following[i] = _next_parabolic(
            stop, extreme, rate=rate, side=side, high=high, low=low, index=i + 1
        )
    return out, following


@compiled
def _next_parabolic(
    stop: float, extreme: float, rate: float, side: int, high: Array, low: Array, index: int
) -> float:
    """The stop for bar `index`, clamped to the two bars before it."""
    moved: float = stop + rate * (extreme - stop)
    if side > 0:
        moved = min(moved, low[index - 1], low[index - 2])
    else:
        moved = max(moved, high[index - 1], high[index - 2])
    return moved


@compiled
def pivots(values: Array, before: int, after: int, side: int) -> Array:
    """The last pivot known at each bar: of lows (`side` +1, strictly below their neighbours) or of
    highs (-1)."""
    out = np.full(values.size, np.nan)
    heights = -side * values
    left, right = highest(heights, max(1, before)), highest(heights, max(1, after))
    for i in range(1, values.size):
        j = i - after
        turns = (
            j >= before
            and (before == 0 or heights[j] > left[j - 1])
            and (after == 0 or heights[j] > right[i])
        )
        out[i] = values[j] if turns else out[i - 1]
    return out
