"""The decisions of the guards as compiled functions (reckoning section 9): one home for the live engine and the
rehearsal. Times UTC ns, spreads and distances in ticks, money in the account's currency; a NaN limit is none."""

from __future__ import annotations

import numpy as np

from hawser.core.compiled import compiled
from hawser.core.indicators import Array

SPREAD_OK, SPREAD_TICKS, SPREAD_MEDIAN, SPREAD_OF_R = range(4)


@compiled
def spread_over(
    spread: float, median: float, r_ticks: float, max_ticks: float, max_of_median: float, max_percent_of_r: float
) -> int:
    """Which limit a spread is beyond, the first in this order; a spread at its limit is within it. A median or an R
    that is not known (NaN) holds nothing back."""
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
    """Where a value stands among the `length` up to it, itself among them: 0 the lowest, 100 the highest, equals count
    half. NaN until there are as many, or where one of them is NaN."""
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
    loss = start - now
    return loss > 0.0 and (loss * 100.0 >= percent * start or loss >= money)


@compiled
def median_of(values: Array) -> float:
    """The median; NaN of nothing."""
    return np.nan if values.size == 0 else float(np.median(values))
