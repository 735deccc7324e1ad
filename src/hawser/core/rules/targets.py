"""Reckoning section 6: where a target stands, and what share of the position it takes."""

from hawser.core.compiled import compiled
from hawser.core.rules.kinds import Kind
from hawser.core.rules.quantity import Fees, commission
from hawser.core.rules.rounding import floor_steps, level_ticks


@compiled
def target_level(kind: int, value: float, ref: float, r_ticks: float, atr: float, side: int) -> int:
    """A target on the grid. `ref`, `r_ticks`, `atr` and, for a price, `value` are in ticks."""
    if kind == Kind.R:
        return level_ticks(ref + side * value * r_ticks, side)
    if kind == Kind.ATR:
        return level_ticks(ref + side * value * atr, side)
    if kind == Kind.PERCENT:
        return level_ticks(ref * (1.0 + side * value / 100.0), side)
    if kind == Kind.TICKS:
        return level_ticks(ref + side * value, side)
    return level_ticks(value, side)


@compiled
def steps_through(cumulative_share: float, steps: int) -> int:
    """Whole steps that the targets up to and including one take together, of a position of
    `steps`."""
    return min(steps, floor_steps(cumulative_share * steps))


@compiled
def part_and_money(
    cumulative_share: float,
    steps: int,
    taken: int,
    step: float,
    distance: float,
    tick_value: float,
    price: float,
    entry_fee: float,
    fees: Fees,
) -> tuple[int, float]:
    """Steps one target takes beyond what earlier ones have `taken`, and its money: gross at its
    `price`, `distance` ticks away, less its exit commission and its share, by quantity, of the one
    entry commission. 0 steps: merged."""
    part = steps_through(cumulative_share, steps) - taken
    if part <= 0:
        return 0, 0.0
    qty = part * step
    exit_fee = commission(qty, price, fees)
    return part, qty * distance * tick_value - exit_fee - entry_fee * part / steps
