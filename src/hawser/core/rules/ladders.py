"""The averaging ladder in numbers (reckoning section 8): where its rungs stand, what each takes,
what all may lose."""

import numpy as np

from hawser.core.compiled import compiled
from hawser.core.indicators import Array
from hawser.core.rules.inside_bar import away
from hawser.core.rules.quantity import BUDGET_NOISE
from hawser.core.rules.rounding import floor_steps, level_ticks
from hawser.core.rules.sizes import Limits, cap_money
from hawser.core.rules.trade_levels import Money, fee


@compiled
def lay_rungs(
    ref: int, rungs: int, spacing: float, stop_ticks: float, side: int
) -> tuple[Array, int]:
    """Levels in ticks, shape (rungs,), the first entry's among them, and the common stop beyond the
    last."""
    levels = np.empty(rungs, np.int64)
    for number in range(rungs):
        levels[number] = level_ticks(ref - side * number * spacing, side)
    return levels, away(levels[rungs - 1], -stop_ticks, side)


@compiled
def rung_steps(base: int, rungs: int, factor: float) -> Array:
    """Steps of each rung, shape (rungs,), for a base of `base` steps."""
    out = np.empty(rungs, np.int64)
    for number in range(rungs):
        out[number] = floor_steps(base * factor**number)
    return out


@compiled
def common_target(value: float, entered: int, beyond: float, side: int) -> int:
    """The level of all that is held: `beyond` ticks from the average entry, `value` being prices
    times steps."""
    return level_ticks(value / entered + side * beyond, side)


@compiled
def ladder_worst(
    base: int, levels: Array, stop: int, factor: float, side: int, money: Money
) -> float:
    """Every rung filled, then stopped: entry slippage on the first, exit slippage on all, a
    commission for each fill and one for the way out. Money."""
    steps = rung_steps(base, levels.size, factor)
    loss = fees = 0.0
    total = 0
    for number in range(levels.size):
        slip = money.exit_slip + (money.entry_slip if number == 0 else 0.0)
        ticks = float(side * (levels[number] - stop)) + slip
        loss += ticks * float(steps[number]) * money.step * money.tick * money.fees.unit_money
        if steps[number]:
            fees += fee(money, steps[number], levels[number])
        total += steps[number]
    return loss + fees + fee(money, total, stop)


@compiled
def ladder_most(
    risk: float,
    notional: float,
    most_steps: int,
    levels: Array,
    stop: int,
    factor: float,
    side: int,
    money: Money,
) -> int:
    """The largest base, in steps, whose whole ladder loses at most `risk`, is worth at most
    `notional` and takes at most `most_steps`."""
    low, high = 0, max(1, most_steps)
    if factor > 1:  # the last rung alone would take more than that
        high = min(high, max(0, floor_steps((most_steps + 1) / factor ** (levels.size - 1))))
    while low < high:
        base = (low + high + 1) // 2
        steps = rung_steps(base, levels.size, factor)
        worth = 0.0
        total = 0
        for number in range(levels.size):
            worth += float(levels[number]) * float(steps[number]) * money.tick
            total += steps[number]
        fits = total <= most_steps and worth * money.step * money.fees.unit_money <= notional
        if fits:
            fits = risk >= ladder_worst(
                base, levels, stop=stop, factor=factor, side=side, money=money
            )
        if fits:
            low = base
        else:
            high = base - 1
    return low


@compiled
def ladder_base(
    limits: Limits,
    budget: float,
    most_steps: int,
    levels: Array,
    stop: int,
    factor: float,
    side: int,
    money: Money,
) -> int:
    """The base that budget and caps allow, in steps; 0 where they allow none."""
    free, worth, margin, heat, currency, room = cap_money(limits)
    risk = min(budget, heat, currency, room)
    notional = min(free, worth, margin)
    noise = 1 + BUDGET_NOISE
    if risk <= 0 or notional <= 0:
        return 0
    return ladder_most(
        risk * noise,
        notional * noise,
        most_steps=most_steps,
        levels=levels,
        stop=stop,
        factor=factor,
        side=side,
        money=money,
    )
