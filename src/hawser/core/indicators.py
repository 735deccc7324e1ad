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
def window_sums(values: Array, length: int) -> Array:
    """The sum of the last `length` values at each place, shape (n,), in one pass. What adding and
    taking away round off is carried along (Neumaier's summation), so that a sum does not depend on
    what came before its window.
    """
    out = np.full(values.size, np.nan)
    total, rest = 0.0, 0.0
    for i in range(values.size):
        for value in (values[i], -values[i - length] if i >= length else 0.0):
            longer = total + value
            part = longer - total
            rest += (total - (longer - part)) + (value - part)
            total = longer
        if i >= length - 1:
            out[i] = total + rest
    return out


@compiled
def atr(high: Array, low: Array, close: Array, length: int, simple: bool) -> Array:
    """Average true range, shape (n,), price units; Wilder's smoothing, or the plain mean of the
    last `length`."""
    ranges = true_range(high, low, close)
    if simple:
        return window_sums(ranges, length) / length
    out = np.full(ranges.size, np.nan)
    if ranges.size < length:
        return out
    total = 0.0
    for i in range(length):
        total += ranges[i]
    out[length - 1] = total / length
    for i in range(length, ranges.size):
        out[i] = wilder_next(out[i - 1], ranges[i], length)
    return out


@compiled
def sma(close: Array, length: int) -> Array:
    """Simple moving average of the last `length` closes."""
    return window_sums(close, length) / length


@compiled
def ema(close: Array, length: int) -> Array:
    """Exponential moving average, alpha = 2/(length+1), seeded with the simple average."""
    out = np.full(close.size, np.nan)
    if close.size < length:
        return out
    total = 0.0
    for i in range(length):
        total += close[i]
    out[length - 1] = total / length
    alpha = 2.0 / (length + 1.0)
    for i in range(length, close.size):
        out[i] = out[i - 1] + alpha * (close[i] - out[i - 1])
    return out


@compiled
def rsi(close: Array, length: int) -> Array:
    """Relative strength, 0 to 100, with Wilder's smoothing; the first value is at index
    `length`."""
    out = np.full(close.size, np.nan)
    gain, loss = 0.0, 0.0
    for i in range(1, close.size):
        change = close[i] - close[i - 1]
        up, down = max(change, 0.0), max(-change, 0.0)
        if i <= length:
            gain += up / length
            loss += down / length
        else:
            gain, loss = wilder_next(gain, up, length), wilder_next(loss, down, length)
        if i >= length:
            if loss == 0.0:
                out[i] = 100.0 if gain > 0.0 else 50.0
            else:
                out[i] = 100.0 * gain / (gain + loss)
    return out


@compiled
def highest(values: Array, length: int) -> Array:
    """The highest of the last `length` values, in one pass: places that may still be the highest,
    falling values."""
    out = np.full(values.size, np.nan)
    places = np.empty(values.size, np.int64)
    first, behind = 0, 0
    for i in range(values.size):
        while behind > first and values[places[behind - 1]] <= values[i]:
            behind -= 1
        places[behind] = i
        behind += 1
        if places[first] <= i - length:
            first += 1
        if i >= length - 1:
            out[i] = values[places[first]]
    return out


@compiled
def lowest(values: Array, length: int) -> Array:
    """The lowest of the last `length` values."""
    return -highest(-values, length)
