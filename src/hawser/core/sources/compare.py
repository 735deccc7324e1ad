"""Comparisons that float noise does not decide (reckoning section 12), over columns that go on."""

from __future__ import annotations

import math

from hawser.core.compiled import compiled, inlined
from hawser.core.indicators import Array

NOISE = 1e-10  # of the larger of the two


@inlined
def over(x: float, y: float) -> bool:
    """Whether x > y beyond noise; never where one is not known."""
    return x - y > NOISE * max(abs(x), abs(y))


@inlined
def ranks_before(x: float, y: float) -> bool:
    """Whether an entry ranked `x` comes before one ranked `y`; what is not known comes last
    (reckoning section 13)."""
    return over(x, y) or (math.isnan(y) and not math.isnan(x))


@compiled
def above_on(a: Array, b: Array, short: Array, longs: Array, shorts: Array, first: int) -> None:
    """`a` above `b` for long, below `short` for short."""
    for i in range(first, a.size):
        known = not (math.isnan(a[i]) or math.isnan(b[i]) or math.isnan(short[i]))
        longs[i] = known and over(a[i], b[i])
        shorts[i] = known and over(short[i], a[i])


@compiled
def crosses_on(a: Array, b: Array, short: Array, longs: Array, shorts: Array, first: int) -> None:
    """`a` comes above `b` for long, below `short` for short, and both bars are known."""
    for i in range(first, a.size):
        known = i > 0
        for j in (i - 1, i):
            known = known and not (math.isnan(a[j]) or math.isnan(b[j]) or math.isnan(short[j]))
        longs[i] = known and over(a[i], b[i]) and not over(a[i - 1], b[i - 1])
        shorts[i] = known and over(short[i], a[i]) and not over(short[i - 1], a[i - 1])


@compiled
def rises_on(a: Array, bars: int, longs: Array, shorts: Array, first: int) -> None:
    """`a` is above where it was `bars` before, or below."""
    for i in range(first, a.size):
        longs[i] = i >= bars and over(a[i], a[i - bars])
        shorts[i] = i >= bars and over(a[i - bars], a[i])


@compiled
def breaks_on(
    close: Array, high: Array, low: Array, longs: Array, shorts: Array, first: int
) -> None:
    """The close beyond the highest or lowest of the bars before, which `high` and `low` have at
    the bar before."""
    for i in range(first, close.size):
        known = i > 0 and not (math.isnan(high[i - 1]) or math.isnan(low[i - 1]))
        longs[i] = known and over(close[i], high[i - 1])
        shorts[i] = known and over(low[i - 1], close[i])


@compiled
def flips_on(ways: Array, longs: Array, shorts: Array, first: int) -> None:
    """The direction turns up, or down."""
    for i in range(first, ways.size):
        longs[i] = i > 0 and ways[i] > 0 and ways[i - 1] < 0
        shorts[i] = i > 0 and ways[i] < 0 and ways[i - 1] > 0


@compiled
def says_on(column: Array, longs: Array, shorts: Array, first: int) -> None:
    """A column of +1, -1, 0; what is not known says nothing."""
    for i in range(first, column.size):
        longs[i] = column[i] == 1.0
        shorts[i] = column[i] == -1.0


@compiled
def clock_on(
    days: Array,
    hands: Array,
    at: int,
    within: int,
    on: Array,
    longs: Array,
    done: Array,
    first: int,
    start: int,
    size: int,
) -> None:
    """Whether the bar after each is the first of its local day to open at or after `at`, at most
    `within` after it by the hands of the clock.

    `days` and `hands`: local day number and time of day (ns) of each opening from bar `start` on,
    and of the bar behind the `size` bars where that is known. `on`: which weekdays count. `done`:
    the day on which a bar has opened at or after `at` last, and how many bars have been asked.
    """
    for i in range(first, size):
        while done[1] <= i:
            k = done[1] - start
            if hands[k] >= at:
                done[0] = days[k]
            done[1] += 1
        j = i + 1 - start
        longs[i] = (
            j < days.size
            and hands[j] >= at
            and hands[j] - at <= within
            and days[j] != done[0]
            and on[(days[j] + 3) % 7]
        )
