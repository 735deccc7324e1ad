"""Reckoning section 1: whole numbers despite float noise, and the one rounding rule for levels.

No whole number made here is beyond MOST_WHOLE, so that what is reckoned of several stays within 64
bits: a product that wrapped around once let a ladder of 10^11 units pass every cap. What is not a
number becomes the least.
"""

import math

from hawser.core.compiled import inlined

RESOLUTION = 4 * 2.0**-52  # of a float64, relative, with room for a product or two
MOST_WHOLE = 1 << 59
NOT_NEAR = 1.0 - 2e-6  # a part of a whole that no noise makes a whole of


@inlined
def floor_whole(x: float) -> int:
    """Largest whole number not above `x`; an `x` within noise of a whole number counts as it."""
    if not abs(x) < MOST_WHOLE:
        return MOST_WHOLE if x > 0 else -MOST_WHOLE
    below = math.floor(x)
    if x - below < NOT_NEAR:  # by far the most, and quickly told
        return int(below)
    above = below + 1
    return int(above if above - x <= min(1e-9 * max(1.0, abs(above)), 1e-6) else below)


@inlined
def floor_steps(x: float) -> int:
    """The same for a quantity in steps. Of some there are so many that a number's own resolution is
    coarser than the allowance: 0.35 of 90 000 000 000 steps must not be one too few."""
    if not abs(x) < MOST_WHOLE:
        return MOST_WHOLE if x > 0 else -MOST_WHOLE
    below = math.floor(x)
    above = below + 1
    near = max(min(1e-9 * max(1.0, abs(above)), 1e-6), RESOLUTION * abs(x))
    return int(above if above - x <= near else below)


@inlined
def ceil_whole(x: float) -> int:
    """Smallest whole number not below `x`, with the same allowance for noise."""
    return -floor_whole(-x)


@inlined
def level_ticks(x: float, side: int) -> int:
    """A computed level, in ticks, on the grid: down for a long position (+1), up for a short one
    (-1)."""
    if side > 0:
        return floor_whole(x)
    return ceil_whole(x)
