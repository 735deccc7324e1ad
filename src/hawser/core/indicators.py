"""Indicators over whole histories (reckoning section 3). NaN until the full look-back is there."""

from __future__ import annotations

import numpy as np

from hawser.core.compiled import compiled

Array = np.ndarray


@compiled
def true_range_at(high: float, low: float, previous_close: float) -> float:
    """True range of a bar that has one before it, in price units."""
    return max(high, previous_close) - min(low, previous_close)


@compiled
def true_range(high: Array, low: Array, close: Array) -> Array:
    """True ranges, shape (n,), price units."""
    out = np.empty(high.size)
    for i in range(high.size):
        out[i] = high[i] - low[i] if i == 0 else true_range_at(high[i], low[i], close[i - 1])
    return out


@compiled
def wilder_next(average: float, value: float, length: int) -> float:
    """One step of Wilder's smoothing."""
    return average + (value - average) / length


@compiled
def atr(high: Array, low: Array, close: Array, length: int, simple: bool) -> Array:
    """Average true range, shape (n,), price units; Wilder's smoothing, or the plain mean of the last `length`."""
    ranges = true_range(high, low, close)
    out = np.full(ranges.size, np.nan)
    if ranges.size < length:
        return out
    total = 0.0
    for i in range(length):
        total += ranges[i]
    out[length - 1] = total / length
    for i in range(length, ranges.size):
        if simple:
            total = 0.0
            for j in range(i - length + 1, i + 1):
                total += ranges[j]
            out[i] = total / length
        else:
            out[i] = wilder_next(out[i - 1], ranges[i], length)
    return out
