"""Reckoning section 1: whole numbers despite float noise, and the one rounding rule for levels."""

import math

from hawser.core.compiled import inlined


@inlined
def floor_whole(x: float) -> int:
    """Largest whole number not above `x`; an `x` within noise of a whole number counts as it."""
    nearest = math.floor(x + 0.5)
    if abs(x - nearest) <= min(1e-9 * max(1.0, abs(nearest)), 1e-6):
        return int(nearest)
    return math.floor(x)


@inlined
def ceil_whole(x: float) -> int:
    """Smallest whole number not below `x`, with the same allowance for noise."""
    return -floor_whole(-x)


@inlined
def level_ticks(x: float, side: int) -> int:
    """A computed level, in ticks, on the grid: down for a long position (+1), up for a short one (-1)."""
    if side > 0:
        return floor_whole(x)
    return ceil_whole(x)
