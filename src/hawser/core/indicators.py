"""Indicators over whole histories (reckoning section 3). NaN until the full look-back is there.

Those that carry something from bar to bar are written once, as a way that goes on: `..._on` fills
its columns from bar `first` to the end of the history, out of what it `carried` so far. A whole
history is gone through from bar 0; live, each completed bar is one more step of the same.
"""

from __future__ import annotations

import math

import numpy as np

from hawser.core.compiled import compiled

Array = np.ndarray


@compiled
def true_range_at(high: float, low: float, previous_close: float) -> float:
    """True range of a bar that has one before it, in price units."""
    return max(high, previous_close) - min(low, previous_close)


@compiled
def true_range_on(high: Array, low: Array, close: Array, out: Array, first: int) -> None:
    """True ranges, price units."""
    for i in range(first, high.size):
        out[i] = high[i] - low[i] if i == 0 else true_range_at(high[i], low[i], close[i - 1])


@compiled
def true_range(high: Array, low: Array, close: Array) -> Array:
    """The same of a whole history, shape (n,)."""
    out = np.empty(high.size)
    true_range_on(high, low, close, out, 0)
    return out


@compiled
def wilder_next(average: float, value: float, length: int) -> float:
    """One step of Wilder's smoothing."""
    return average + (value - average) / length


@compiled
def window_sums_on(values: Array, length: int, out: Array, carried: Array, first: int) -> None:
    """The sum of the last `length` values at each place. What adding and taking away round off is
    carried along (Neumaier's summation), so that a sum does not depend on what came before its
    window. `carried`: the sum and its rest."""
    total, rest = carried[0], carried[1]
    for i in range(first, values.size):
        for value in (values[i], -values[i - length] if i >= length else 0.0):
            longer = total + value
            part = longer - total
            rest += (total - (longer - part)) + (value - part)
            total = longer
        out[i] = total + rest if i >= length - 1 else np.nan
    carried[0], carried[1] = total, rest


@compiled
def window_sums(values: Array, length: int) -> Array:
    """The same of a whole history, shape (n,)."""
    out = np.empty(values.size)
    window_sums_on(values, length, out, np.zeros(2), 0)
    return out


@compiled
def sma_on(close: Array, length: int, out: Array, carried: Array, first: int) -> None:
    """Simple moving average of the last `length` closes."""
    window_sums_on(close, length, out, carried, first)
    for i in range(first, close.size):
        out[i] /= length


@compiled
def sma(close: Array, length: int) -> Array:
    """The same of a whole history, shape (n,)."""
    out = np.empty(close.size)
    sma_on(close, length, out, np.zeros(2), 0)
    return out


@compiled
def mean_of(values: Array, last: int, length: int) -> float:
    """The mean of the `length` values that end at `last`."""
    total = 0.0
    for i in range(last - length + 1, last + 1):
        total += values[i]
    return total / length


@compiled
def atr_on(
    high: Array,
    low: Array,
    close: Array,
    length: int,
    simple: bool,
    ranges: Array,
    out: Array,
    carried: Array,
    first: int,
) -> None:
    """Average true range, price units; Wilder's smoothing, or the plain mean of the last `length`.
    `ranges`: the true ranges, which are filled too; `carried`: of the plain mean, the sum and its
    rest."""
    n = close.size
    true_range_on(high, low, close, ranges, first)
    if simple:
        window_sums_on(ranges[:n], length, out, carried, first)
        for i in range(first, n):
            out[i] /= length
        return
    for i in range(first, n):
        if i >= length:
            out[i] = wilder_next(out[i - 1], ranges[i], length)
        else:
            out[i] = mean_of(ranges, i, length) if i == length - 1 else np.nan


@compiled
def atr(high: Array, low: Array, close: Array, length: int, simple: bool) -> Array:
    """The same of a whole history, shape (n,); `simple`: the plain mean, else Wilder's."""
    out, ranges = np.empty(close.size), np.empty(close.size)
    atr_on(high, low, close, length, simple, ranges=ranges, out=out, carried=np.zeros(2), first=0)
    return out


@compiled
def ema_on(close: Array, length: int, out: Array, first: int) -> None:
    """Exponential moving average, alpha = 2/(length+1), seeded with the simple average."""
    alpha = 2.0 / (length + 1.0)
    for i in range(first, close.size):
        if i >= length:
            out[i] = out[i - 1] + alpha * (close[i] - out[i - 1])
        else:
            out[i] = mean_of(close, i, length) if i == length - 1 else np.nan


@compiled
def ema(close: Array, length: int) -> Array:
    """The same of a whole history, shape (n,)."""
    out = np.empty(close.size)
    ema_on(close, length, out, 0)
    return out


@compiled
def rsi_on(close: Array, length: int, out: Array, carried: Array, first: int) -> None:
    """Relative strength, 0 to 100, with Wilder's smoothing; the first value is at index `length`.
    `carried`: the average gain and loss."""
    gain, loss = carried[0], carried[1]
    for i in range(first, close.size):
        change = close[i] - close[i - 1] if i > 0 else 0.0
        up, down = max(change, 0.0), max(-change, 0.0)
        if i <= length:
            gain += up / length
            loss += down / length
        else:
            gain, loss = wilder_next(gain, up, length), wilder_next(loss, down, length)
        if i < length:
            out[i] = np.nan
        elif loss == 0.0:
            out[i] = 100.0 if gain > 0.0 else 50.0
        else:
            out[i] = 100.0 * gain / (gain + loss)
    carried[0], carried[1] = gain, loss


@compiled
def rsi(close: Array, length: int) -> Array:
    """The same of a whole history, shape (n,)."""
    out = np.empty(close.size)
    rsi_on(close, length, out, np.zeros(2), 0)
    return out


@compiled
def extremes_on(
    values: Array, length: int, sign: float, out: Array, places: Array, carried: Array, first: int
) -> None:
    """The highest (`sign` +1) or lowest (-1) of the last `length` values. `places`: those that may
    still be it, from the first to the one behind the last of them, which are `carried`."""
    start, behind = int(carried[0]), int(carried[1])
    for i in range(first, values.size):
        value = sign * values[i]
        while behind > start and sign * values[places[behind - 1]] <= value:
            behind -= 1
        places[behind] = i
        behind += 1
        if places[start] <= i - length:
            start += 1
        out[i] = values[places[start]] if i >= length - 1 else np.nan
    carried[0], carried[1] = start, behind


@compiled
def _extremes(values: Array, length: int, sign: float) -> Array:
    out, places = np.empty(values.size), np.empty(values.size, np.int64)
    extremes_on(values, length, sign, out=out, places=places, carried=np.zeros(2), first=0)
    return out


@compiled
def highest(values: Array, length: int) -> Array:
    """The highest of the last `length` values, in one pass."""
    return _extremes(values, length, 1.0)


@compiled
def lowest(values: Array, length: int) -> Array:
    """The lowest of the last `length` values."""
    return _extremes(values, length, -1.0)


@compiled
def deviations_on(close: Array, length: int, means: Array, deviations: Array, first: int) -> None:
    """The mean of the last `length` closes and their population standard deviation; each window by
    itself, so that equal prices give equal values."""
    for i in range(first, close.size):
        if i < length - 1:
            means[i] = deviations[i] = np.nan
            continue
        # four sums side by side: one would make each addition wait for the one before
        start, whole = i - length + 1, i - length + 1 + length // 4 * 4
        a = b = c = d = 0.0
        for j in range(start, whole, 4):
            a += close[j]
            b += close[j + 1]
            c += close[j + 2]
            d += close[j + 3]
        for j in range(whole, i + 1):
            a += close[j]
        mean = (a + b + c + d) / length
        a = b = c = d = 0.0
        for j in range(start, whole, 4):
            a += (close[j] - mean) ** 2
            b += (close[j + 1] - mean) ** 2
            c += (close[j + 2] - mean) ** 2
            d += (close[j + 3] - mean) ** 2
        for j in range(whole, i + 1):
            a += (close[j] - mean) ** 2
        means[i], deviations[i] = mean, math.sqrt((a + b + c + d) / length)


@compiled
def apart_on(means: Array, deviations: Array, factor: float, out: Array, first: int) -> None:
    """So many deviations from the mean."""
    for i in range(first, means.size):
        out[i] = means[i] + factor * deviations[i]
