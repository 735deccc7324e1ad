"""Reckoning section 6: where a target stands, and what share of the position it takes."""

from hawser.core.compiled import compiled
from hawser.core.rules.rounding import floor_whole, level_ticks

R, ATR, PERCENT, TICKS, PRICE = 0, 1, 2, 3, 4


@compiled
def target_level(kind: int, value: float, ref: float, r_ticks: float, atr: float, side: int) -> int:
    """A target on the grid. `ref`, `r_ticks`, `atr` and, for PRICE, `value` are in ticks."""
    if kind == R:
        return level_ticks(ref + side * value * r_ticks, side)
    if kind == ATR:
        return level_ticks(ref + side * value * atr, side)
    if kind == PERCENT:
        return level_ticks(ref * (1.0 + side * value / 100.0), side)
    if kind == TICKS:
        return level_ticks(ref + side * value, side)
    return level_ticks(value, side)


@compiled
def steps_through(cumulative_share: float, steps: int) -> int:
    """Whole steps that the targets up to and including one take together, of a position of `steps`."""
    return min(steps, floor_whole(cumulative_share * steps))
