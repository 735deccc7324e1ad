"""Lines that stops follow over whole histories: supertrend, the parabolic stop, pivots (reckoning
section 3).

Arrays have shape (n,), price units, NaN while a value is not yet known.
"""

from __future__ import annotations

import numpy as np

from hawser.core.compiled import compiled
from hawser.core.indicators import Array, atr_on, highest


@compiled
def supertrend_on(
    high: Array,
    low: Array,
    close: Array,
    length: int,
    factor: float,
    simple: bool,
    ranges: Array,
    atrs: Array,
    out: Array,
    ways: Array,
    carried: Array,
    first: int,
) -> None:
    """The line: the final lower band while up, the final upper band while down. It starts down.
    `ways`: +1 up, -1 down, NaN while not known; `ranges` and `atrs` are filled too; `carried`: two
    figures of the ATR, the upper and lower band and the direction."""
    atr_on(high, low, close, length, simple, ranges=ranges, out=atrs, carried=carried, first=first)
    upper, lower, way = carried[2], carried[3], carried[4]
    for i in range(first, close.size):
        if i < length - 1:
            out[i] = ways[i] = np.nan
            continue
        mid = (high[i] + low[i]) / 2.0
        basic_upper, basic_lower = mid + factor * atrs[i], mid - factor * atrs[i]
        if i == length - 1:
            upper, lower, way = basic_upper, basic_lower, -1.0
        else:
            if basic_upper < upper or close[i - 1] > upper:
                upper = basic_upper
            if basic_lower > lower or close[i - 1] < lower:
                lower = basic_lower
            if close[i] > upper:
                way = 1.0
            elif close[i] < lower:
                way = -1.0
        out[i] = lower if way > 0 else upper
        ways[i] = way
    carried[2], carried[3], carried[4] = upper, lower, way


@compiled
def supertrend(
    high: Array, low: Array, close: Array, length: int, factor: float, simple: bool
) -> Array:
    """The line over a whole history."""
    n = close.size
    out = np.empty(n)
    supertrend_on(
        high,
        low,
        close,
        length=length,
        factor=factor,
        simple=simple,
        ranges=np.empty(n),
        atrs=np.empty(n),
        out=out,
        ways=np.empty(n),
        carried=np.zeros(5),
        first=0,
    )
    return out


@compiled
def parabolic_on(
    high: Array,
    low: Array,
    close: Array,
    step: float,
    ceiling: float,
    out: Array,
    following: Array,
    ways: Array,
    carried: Array,
    first: int,
) -> None:
    """The parabolic stop in force during each bar (`out`), and the one for the bar after it, which
    is known at its close. `ways`: +1 where it stands below, -1 above, NaN while not known;
    `carried`: the extreme, the rate and the side."""
    extreme, rate, side = carried[0], carried[1], carried[2]
    for i in range(first, close.size):
        if i == 0:
            out[i] = following[i] = ways[i] = np.nan
            continue
        if i == 1:
            side = 1.0 if close[1] >= close[0] else -1.0
            stop = low[0] if side > 0 else high[0]
            extreme = max(high[0], high[1]) if side > 0 else min(low[0], low[1])
            rate = step
        else:
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
        out[i], ways[i] = stop, side
        following[i] = _next_parabolic(
            stop, extreme, rate=rate, side=side, high=high, low=low, index=i + 1
        )
    carried[0], carried[1], carried[2] = extreme, rate, side


@compiled
def parabolic(
    high: Array, low: Array, close: Array, step: float, ceiling: float
) -> tuple[Array, Array]:
    """Both over a whole history."""
    n = close.size
    out, following = np.empty(n), np.empty(n)
    parabolic_on(
        high,
        low,
        close,
        step,
        ceiling,
        out=out,
        following=following,
        ways=np.empty(n),
        carried=np.zeros(3),
        first=0,
    )
    return out, following


@compiled
def _next_parabolic(
    stop: float, extreme: float, rate: float, side: float, high: Array, low: Array, index: int
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
