"""Reckoning section 4: where an initial stop stands. All prices are in ticks, floats before
rounding."""

from hawser.core.compiled import compiled
from hawser.core.rules.kinds import Kind
from hawser.core.rules.rounding import level_ticks

STOP_OK, STOP_NOT_POSITIVE, STOP_WRONG_SIDE, STOP_TOO_NEAR = 0, 1, 2, 3


@compiled
def stop_level(kind: int, value: float, ref: float, atr: float, side: int) -> int:
    """The stop, on the grid. `ref`, `atr` and, for a price, `value` are in ticks."""
    if kind == Kind.ATR:
        return level_ticks(ref - side * value * atr, side)
    if kind == Kind.PERCENT:
        return level_ticks(ref * (1.0 - side * value / 100.0), side)
    if kind == Kind.TICKS:
        return level_ticks(ref - side * value, side)
    return level_ticks(value, side)


@compiled
def stop_verdict(stop: int, ref: int, exit_side: int, side: int, min_ticks: int) -> int:
    """Whether a rounded stop may stand: one of the STOP_ codes, in the reckoning's order."""
    if stop <= 0:
        return STOP_NOT_POSITIVE
    if side * (ref - stop) <= 0:
        return STOP_WRONG_SIDE
    if side * (exit_side - stop) < max(1, min_ticks):
        return STOP_TOO_NEAR
    return STOP_OK
