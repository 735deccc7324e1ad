"""A rig's rules laid on one trade: from kinds and values to levels in ticks (reckoning sections 6
and 7), compiled.

`core/rig_numbers.py` turns a rig's file into a `Setup`; the rehearsal and the live engine lay it by
the same functions.
"""

from __future__ import annotations

import math
from typing import NamedTuple

from hawser.core.compiled import compiled, inlined
from hawser.core.indicators import Array
from hawser.core.rules.inside_bar import NO_LEVEL, away, break_even_at
from hawser.core.rules.kinds import Kind
from hawser.core.rules.quantity import commission
from hawser.core.rules.rounding import ceil_whole, floor_steps
from hawser.core.rules.targets import steps_through, target_level

AT_ONCE = -(1 << 60)  # an excursion that every trade has
NO_TARGET = 40  # a target that no trade has


class Money(NamedTuple):
    """`tick_step`: money of one tick of one step; commissions as in the core; slippages in
    ticks."""

    tick_step: float
    tick: float
    step: float
    unit_money: float
    per_unit: float
    per_notional: float
    minimum: float
    entry_slip: float
    exit_slip: float


class Rules(NamedTuple):
    """A rig's rules for one trade: distances in ticks, levels in ticks. `after`: an excursion in
    whole ticks, and a target's number (0: none)."""

    min_stop: int
    break_even: int  # its level; NO_LEVEL: no such rule
    break_even_after: int
    break_even_target: int
    trail: int
    trail_value: float
    trail_base: float
    trail_close: bool
    trail_offset: float
    trail_step: int
    trail_after: int
    trail_target: int
    time_bars: int
    basket_stop: float
    basket_target: float
    reverse: bool
    ladder_target: float  # ticks beyond the average entry; 0: no ladder


class Setup(NamedTuple):
    """A rig's rules before they are laid: kinds and values as numbers, one array for each list of
    them."""

    stop: int
    stop_value: float
    stop_offset: float
    needs_atr: bool
    target_kind: Array
    target_value: Array
    target_share: Array
    loss_r: Array
    loss_share: Array
    at_kind: Array
    at_value: Array
    to_kind: Array
    to_value: Array
    even: bool
    even_offset: float
    even_costs: bool
    even_after: float  # R; NaN: at once
    even_target: int
    trail: int
    trail_value: float
    trail_base: float
    trail_close: bool
    trail_offset: float
    trail_step: int
    trail_after: float
    trail_target: int
    time_bars: int
    basket_stop: float
    basket_stop_percent: bool
    basket_target: float
    basket_target_percent: bool
    reverse: bool
    rungs: int  # 0: no ladder
    spacing_kind: int
    spacing: float
    factor: float
    ladder_target: float
    ladder_stop: float
    min_stop: int
    long: bool
    short: bool
    first_time: int
    last_time: int
    chain: int  # most follow-ons in a row


@compiled
def distance(kind: int, value: float, ref: float, r_ticks: float, atr: float) -> float:
    """A rig's measure as ticks."""
    if kind == Kind.R:
        return value * r_ticks
    if kind == Kind.TICKS:
        return value
    return ref * value / 100.0 if kind == Kind.PERCENT else value * atr


@compiled
def fee(money: Money, steps: float, price: float) -> float:
    return commission(
        steps * money.step,
        price * money.tick,
        money.unit_money,
        money.per_unit,
        money.per_notional,
        money.minimum,
    )


@inlined
def lay_targets(
    setup: Setup,
    side: int,
    ref: int,
    r_ticks: int,
    atr: float,
    steps: int,
    levels: Array,
    parts: Array,
) -> None:
    """Write the levels of the targets (the entry's where one is off) and what each takes of
    `steps`."""
    share, taken = 0.0, 0
    for k in range(setup.target_kind.size):
        parts[k] = 0
        kind, value = setup.target_kind[k], setup.target_value[k]
        off = value == 0 or setup.target_share[k] == 0
        levels[k] = ref if off else target_level(kind, value, float(ref), float(r_ticks), atr, side)
        if levels[k] == ref or levels[k] <= 0:
            levels[k] = ref
            continue
        share += setup.target_share[k]
        parts[k] = max(0, steps_through(share, steps) - taken)
        taken += parts[k]


@compiled
def _after(
    after: float, target: int, r_ticks: int, parts: Array, laddered: bool
) -> tuple[int, int]:
    """An activation as an excursion in ticks and a target's number; a merged target waits for the
    one it went into. A ladder has one target, of its own."""
    if target == 0:
        return (AT_ONCE if math.isnan(after) else ceil_whole(after * r_ticks)), 0
    if laddered:
        return 0, 1 if target == 1 else NO_TARGET
    while target <= parts.size and parts[target - 1] == 0:
        target += 1
    return 0, target if target <= parts.size else NO_TARGET


@inlined
def lay_rules(
    setup: Setup,
    money: Money,
    side: int,
    ref: int,
    r_ticks: int,
    steps: int,
    parts: Array,
    cash: float,
) -> Rules:
    even, cost = NO_LEVEL, 0.0
    if setup.even:
        if setup.even_costs:
            cost = (
                2 * fee(money, steps, ref) / (steps * money.tick_step)
                + money.entry_slip
                + money.exit_slip
            )
        even = break_even_at(ref, side, setup.even_offset + cost, setup.even_costs)
    even_after, even_target = _after(
        setup.even_after, setup.even_target, r_ticks, parts, setup.rungs > 0
    )
    trail_after, trail_target = _after(
        setup.trail_after, setup.trail_target, r_ticks, parts, setup.rungs > 0
    )
    lost = setup.basket_stop / 100.0 * cash if setup.basket_stop_percent else setup.basket_stop
    won = setup.basket_target / 100.0 * cash if setup.basket_target_percent else setup.basket_target
    return Rules(
        min_stop=setup.min_stop,
        break_even=even,
        break_even_after=even_after,
        break_even_target=even_target,
        trail=setup.trail,
        trail_value=setup.trail_value,
        trail_base=setup.trail_base,
        trail_close=setup.trail_close,
        trail_offset=setup.trail_offset,
        trail_step=setup.trail_step,
        trail_after=trail_after,
        trail_target=trail_target,
        time_bars=setup.time_bars,
        basket_stop=lost,
        basket_target=won,
        reverse=setup.reverse,
        ladder_target=setup.ladder_target,
    )


@inlined
def lay_losses(
    setup: Setup, side: int, ref: int, r_ticks: int, steps: int, levels: Array, parts: Array
) -> None:
    """Write the levels of the loss steps, and what each takes of `steps`."""
    for k in range(setup.loss_r.size):
        levels[k] = away(ref, -setup.loss_r[k] * r_ticks, side)
        parts[k] = floor_steps(setup.loss_share[k] * steps)


@inlined
def lay_steps(
    setup: Setup, side: int, ref: int, r_ticks: int, atr: float, at: Array, to: Array
) -> None:
    """Write where the steps act, as excursions in whole ticks, and the levels they lead to."""
    for k in range(setup.at_kind.size):
        at[k] = ceil_whole(
            distance(setup.at_kind[k], setup.at_value[k], float(ref), float(r_ticks), atr)
        )
        to[k] = away(
            ref,
            distance(setup.to_kind[k], setup.to_value[k], float(ref), float(r_ticks), atr),
            side,
        )
