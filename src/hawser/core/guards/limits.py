"""The decisions of the guards as compiled functions (reckoning section 9): one home for the live
engine and the rehearsal. Times UTC ns, spreads and distances in ticks, money in the account's
currency; a NaN limit is none."""

from __future__ import annotations

import numpy as np

from hawser.core.compiled import compiled
from hawser.core.indicators import Array

# of a limit that is reached, and of money that is none: what sums of floats may be off
NOISE, CENT_NOISE = 1e-9, 1e-7
# what a rehearsal counts for a guard
COUNT, COOL_DOWN, STREAK, LOSS, DRAWDOWN, FLOOR = range(6)
SPREAD_OK, SPREAD_TICKS, SPREAD_MEDIAN, SPREAD_OF_R = range(4)


@compiled
def spread_over(
    spread: float,
    median: float,
    r_ticks: float,
    max_ticks: float,
    max_of_median: float,
    max_percent_of_r: float,
) -> int:
    """Which limit a spread is beyond, the first in this order; a spread at its limit is within it.
    A median or an R that is not known (NaN) holds nothing back."""
    if spread > max_ticks:
        return SPREAD_TICKS
    if spread > max_of_median * median:
        return SPREAD_MEDIAN
    if spread * 100.0 > max_percent_of_r * r_ticks:
        return SPREAD_OF_R
    return SPREAD_OK


@compiled
def in_window(at: int, time: int, before: int, after: int) -> bool:
    """Whether `at` lies in `[time - before, time + after)`."""
    return time - before <= at < time + after


@compiled
def percentile_at(values: Array, index: int, length: int) -> float:
    """Where a value stands among the `length` up to it, itself among them: 0 the lowest, 100 the
    highest, equals count half. NaN until there are as many, or where one of them is NaN."""
    if length < 2 or index < length - 1:
        return np.nan
    below, own = 0.0, values[index]
    if np.isnan(own):
        return np.nan
    for i in range(index - length + 1, index):
        if np.isnan(values[i]):
            return np.nan
        below += 1.0 if values[i] < own else (0.5 if values[i] == own else 0.0)
    return 100.0 * below / (length - 1)


@compiled
def outside(value: float, low: float, high: float) -> bool:
    """Whether a value lies outside `[low, high]`; one that is not known is outside."""
    return not low <= value <= high


@compiled
def lost(start: float, now: float, percent: float, money: float) -> bool:
    """Whether `start - now` has reached a limit in percent of `start` or in money."""
    loss = (start - now) * (1.0 + NOISE)
    return loss > 0.0 and (loss * 100.0 >= percent * start or loss >= money)


@compiled
def at_floor(equity: float, floor: float) -> bool:
    """Whether equity has come down to its floor."""
    return equity <= floor * (1.0 + NOISE)


@compiled
def losses_in_a_row(before: int, net: float) -> int:
    """How many trades in a row have lost, with one more of this result."""
    return before + 1 if net < -CENT_NOISE else 0


@compiled
def cools(net: float, r: float, from_r: float) -> bool:
    """Whether a trade's loss is one that a cool-down follows."""
    return net < -CENT_NOISE and -r * (1.0 + NOISE) >= from_r


@compiled
def full(count: int, most: int) -> bool:
    """Whether a period has all its entries."""
    return count >= most


@compiled
def median_at(times: Array, spreads: Array, index: int, first_end: int) -> float:
    """The median of the spreads, as far as they are known, of the bars up to `index` from the first
    that opens at `first_end` or later, the one at `index` among them in any case; NaN of none."""
    first = index
    while first > 0 and times[first - 1] >= first_end:
        first -= 1
    part = spreads[first : index + 1]
    known = part[~np.isnan(part)]
    return np.nan if known.size == 0 else float(np.median(known))


@compiled
def medians(times: Array, spreads: Array, span: int, window: int) -> Array:
    """At each bar: the median of those that opened in the `window` ns up to its end."""
    out = np.empty(times.size)
    for index in range(times.size):
        out[index] = median_at(times, spreads, index, times[index] + span - window)
    return out


@compiled
def against(above: float, wanted: int) -> bool:
    """Whether a regime closes: what stands `above` its average (percent; NaN: not known, which
    closes) is not on the wanted side, +1 above, -1 below; 0: either will do."""
    return np.isnan(above) or (wanted != 0 and not wanted * above > 0)


@compiled
def each_against(values: Array, wanted: int) -> Array:
    out = np.empty(values.size, np.bool_)
    for index in range(values.size):
        out[index] = against(values[index], wanted)
    return out


@compiled
def each_outside(values: Array, low: float, high: float) -> Array:
    out = np.empty(values.size, np.bool_)
    for index in range(values.size):
        out[index] = outside(values[index], low, high)
    return out


@compiled
def each_spread_over(
    spreads: Array, median: Array, max_ticks: float, max_of_median: float
) -> Array:
    """Whether each spread is beyond a limit that asks for no trade."""
    out = np.empty(spreads.size, np.bool_)
    for index in range(spreads.size):
        beyond = spread_over(
            spreads[index],
            median[index],
            r_ticks=np.nan,
            max_ticks=max_ticks,
            max_of_median=max_of_median,
            max_percent_of_r=np.nan,
        )
        out[index] = beyond != SPREAD_OK
    return out


@compiled
def percentiles(values: Array, length: int) -> Array:
    """`percentile_at` of every value."""
    out = np.empty(values.size)
    for index in range(values.size):
        out[index] = percentile_at(values, index, length)
    return out
