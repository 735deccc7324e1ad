"""The averaging ladder in numbers (reckoning section 8): where its rungs stand, what each takes, what all may lose."""

import numpy as np

from hawser.core.compiled import compiled
from hawser.core.indicators import Array
from hawser.core.rules.quantity import commission
from hawser.core.rules.rounding import floor_whole, level_ticks


@compiled
def rung_levels(ref: int, rungs: int, spacing: float, side: int) -> Array:
    """Levels in ticks, shape (rungs,), the first entry's among them."""
    out = np.empty(rungs, np.int64)
    for number in range(rungs):
        out[number] = level_ticks(ref - side * number * spacing, side)
    return out


@compiled
def rung_steps(base: int, rungs: int, factor: float) -> Array:
    """Steps of each rung, shape (rungs,), for a base of `base` steps."""
    out = np.empty(rungs, np.int64)
    for number in range(rungs):
        out[number] = floor_whole(base * factor**number)
    return out


@compiled
def ladder_worst(
    base: int,
    levels: Array,
    stop: int,
    factor: float,
    side: int,
    entry_slip: float,
    exit_slip: float,
    tick: float,
    step: float,
    unit_money: float,
    per_unit: float,
    per_notional: float,
    minimum: float,
) -> float:
    """Every rung filled, then stopped: entry slippage on the first, exit slippage on all, a commission for each fill
    and one for the way out. Money."""
    steps = rung_steps(base, levels.size, factor)
    loss = fees = 0.0
    total = 0
    for number in range(levels.size):
        slip = exit_slip + (entry_slip if number == 0 else 0.0)
        loss += (side * (levels[number] - stop) + slip) * steps[number] * step * tick * unit_money
        if steps[number]:
            price = levels[number] * tick
            fees += commission(steps[number] * step, price, unit_money, per_unit, per_notional, minimum)
        total += steps[number]
    return loss + fees + commission(total * step, stop * tick, unit_money, per_unit, per_notional, minimum)


@compiled
def ladder_most(
    risk: float,
    notional: float,
    most_steps: int,
    levels: Array,
    stop: int,
    factor: float,
    side: int,
    entry_slip: float,
    exit_slip: float,
    tick: float,
    step: float,
    unit_money: float,
    per_unit: float,
    per_notional: float,
    minimum: float,
) -> int:
    """The largest base, in steps, whose whole ladder loses at most `risk`, is worth at most `notional` and takes at
    most `most_steps`."""
    low, high = 0, max(1, most_steps)
    while low < high:
        base = (low + high + 1) // 2
        steps = rung_steps(base, levels.size, factor)
        worth = 0.0
        total = 0
        for number in range(levels.size):
            worth += levels[number] * steps[number] * tick
            total += steps[number]
        fits = total <= most_steps and worth * step * unit_money <= notional
        if fits:
            fits = risk >= ladder_worst(
                base, levels, stop, factor, side, entry_slip, exit_slip, tick, step, unit_money, per_unit, per_notional,
                minimum,
            )  # fmt: skip
        if fits:
            low = base
        else:
            high = base - 1
    return low
