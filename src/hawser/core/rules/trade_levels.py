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
from hawser.core.rules.quantity import Fees, commission
from hawser.core.rules.rounding import ceil_whole, floor_steps
from hawser.core.rules.targets import steps_through, target_level

AT_ONCE = -(1 << 60)  # an excursion that every trade has
NO_TARGET = 40  # a target that no trade has


class Money(NamedTuple):
    """What ticks and fills of an instrument cost. `tick_step`: money of one tick of one step;
    `tick` in price units, `step` in units of quantity; slippages in ticks."""

    tick_step: float
    tick: float
    step: float
    fees: Fees
    entry_slip: float
    exit_slip: float


class Trailing(NamedTuple):
    """How a trail follows the market: `value` of its kind behind the best price or the close
    (`by_close`), or `offset` behind a line of its own; `base` ticks more. It moves by whole
    `step`s."""

    kind: int  # Kind.NONE: there is no trail
    value: float
    base: float
    by_close: bool
    offset: float
    step: int


class Begins(NamedTuple):
    """When a rule begins: at an excursion in whole ticks, or once a target has filled."""

    excursion: int
    target: int  # its number; 0: the excursion counts


class Even(NamedTuple):
    """Break-even of one trade."""

    level: int  # in ticks; NO_LEVEL: there is no such rule
    offset: float  # ticks beyond the entry, and whether the costs count: what the level is made of
    costs: bool
    begins: Begins


class BasketRules(NamedTuple):
    """The loss and the profit, in money, at which all is closed; infinite where not set."""

    stop: float
    target: float


class Rules(NamedTuple):
    """A rig's rules for one trade: distances and levels in ticks."""

    min_stop: int
    even: Even
    trail: Trailing
    trail_begins: Begins
    time_bars: int
    basket: BasketRules
    reverse: bool
    ladder_target: float  # ticks beyond the average entry; 0: no ladder


class StopSetup(NamedTuple):
    """The first stop: its `Kind`, and its value; `offset` ticks beyond a column's."""

    kind: int
    value: float
    offset: float


class TargetSetup(NamedTuple):
    """The targets, one place in each array for each."""

    kind: Array
    value: Array
    share: Array


class LossSetup(NamedTuple):
    """The loss steps: at how many R, and what share goes."""

    r: Array
    share: Array


class StepSetup(NamedTuple):
    """The steps of the stop: where they act, and where they lead."""

    at_kind: Array
    at_value: Array
    to_kind: Array
    to_value: Array


class AfterSetup(NamedTuple):
    """When a rule begins: at so many R (NaN: at once), or once a target has filled."""

    r: float
    target: int  # its number; 0: R counts


class EvenSetup(NamedTuple):
    on: bool
    offset: float
    costs: bool
    after: AfterSetup


class BasketSetup(NamedTuple):
    """Loss and profit at which all is closed: money, or percent of the equity at entry."""

    stop: float
    stop_percent: bool
    target: float
    target_percent: bool


class LadderSetup(NamedTuple):
    rungs: int  # 0: no ladder
    spacing_kind: int
    spacing: float
    factor: float
    target: float
    stop: float


class EntrySetup(NamedTuple):
    """Which entries the rig allows; times in UTC ns."""

    long: bool
    short: bool
    first_time: int
    last_time: int
    chain: int  # most follow-ons in a row


class Setup(NamedTuple):
    """A rig's rules before they are laid: kinds and values as numbers."""

    stop: StopSetup
    targets: TargetSetup
    losses: LossSetup
    steps: StepSetup
    even: EvenSetup
    trail: Trailing
    trail_after: AfterSetup
    basket: BasketSetup
    ladder: LadderSetup
    entry: EntrySetup
    time_bars: int
    reverse: bool
    min_stop: int
    needs_atr: bool


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
    return commission(steps * money.step, price * money.tick, money.fees)


@inlined
def money_at(money: Money, units: Array, at: int) -> Money:
    """`money` at the conversion rate of one row of prices. `units`: the money of a move of 1.0 by
    one unit at each row; of no length where the rate stays."""
    if units.size == 0:
        return money
    unit = units[at]
    fees = money.fees
    return Money(
        tick_step=money.tick * unit * money.step,
        tick=money.tick,
        step=money.step,
        fees=Fees(unit, fees.per_unit, fees.per_notional, fees.minimum),
        entry_slip=money.entry_slip,
        exit_slip=money.exit_slip,
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
    for k in range(setup.targets.kind.size):
        parts[k] = 0
        kind, value = setup.targets.kind[k], setup.targets.value[k]
        off = value == 0 or setup.targets.share[k] == 0
        levels[k] = (
            ref
            if off
            else target_level(
                kind, value, ref=float(ref), r_ticks=float(r_ticks), atr=atr, side=side
            )
        )
        if levels[k] == ref or levels[k] <= 0:
            levels[k] = ref
            continue
        share += setup.targets.share[k]
        parts[k] = max(0, steps_through(share, steps) - taken)
        taken += parts[k]


@compiled
def _begins(after: AfterSetup, r_ticks: int, parts: Array, laddered: bool) -> Begins:
    """When a rule of one trade begins; a merged target waits for the one it went into. A ladder has
    one target, of its own."""
    target = after.target
    if target == 0:
        return Begins(AT_ONCE if math.isnan(after.r) else ceil_whole(after.r * r_ticks), 0)
    if laddered:
        return Begins(0, 1 if target == 1 else NO_TARGET)
    while target <= parts.size and parts[target - 1] == 0:
        target += 1
    return Begins(0, target if target <= parts.size else NO_TARGET)


@inlined
def even_level_of(offset: float, costs: bool, money: Money, side: int, ref: int, steps: int) -> int:
    """Where break-even lies, in ticks: `offset` beyond the entry, and the `costs` where they count,
    at the money of the moment."""
    cost = 0.0
    if costs:
        both = 2 * fee(money, steps, ref) / (steps * money.tick_step)
        cost = both + money.entry_slip + money.exit_slip
    return break_even_at(ref, side, offset + cost, costs)


@inlined
def _even(
    setup: Setup, money: Money, side: int, ref: int, r_ticks: int, steps: int, parts: Array
) -> Even:
    even, level = setup.even, NO_LEVEL
    if even.on:
        level = even_level_of(even.offset, even.costs, money, side=side, ref=ref, steps=steps)
    begins = _begins(even.after, r_ticks, parts, setup.ladder.rungs > 0)
    return Even(level, even.offset, even.costs, begins)


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
    """The rules of a trade of `steps`, whose targets take `parts`; `cash`: equity at entry."""
    basket = setup.basket
    return Rules(
        min_stop=setup.min_stop,
        even=_even(setup, money, side=side, ref=ref, r_ticks=r_ticks, steps=steps, parts=parts),
        trail=setup.trail,
        trail_begins=_begins(setup.trail_after, r_ticks, parts, setup.ladder.rungs > 0),
        time_bars=setup.time_bars,
        basket=BasketRules(
            basket.stop / 100.0 * cash if basket.stop_percent else basket.stop,
            basket.target / 100.0 * cash if basket.target_percent else basket.target,
        ),
        reverse=setup.reverse,
        ladder_target=setup.ladder.target,
    )


@inlined
def lay_losses(
    setup: Setup, side: int, ref: int, r_ticks: int, steps: int, levels: Array, parts: Array
) -> None:
    """Write the levels of the loss steps, and what each takes of `steps`."""
    for k in range(setup.losses.r.size):
        levels[k] = away(ref, -setup.losses.r[k] * r_ticks, side)
        parts[k] = floor_steps(setup.losses.share[k] * steps)


@inlined
def lay_steps(
    setup: Setup, side: int, ref: int, r_ticks: int, atr: float, at: Array, to: Array
) -> None:
    """Write where the steps act, as excursions in whole ticks, and the levels they lead to."""
    steps, entry, of = setup.steps, float(ref), float(r_ticks)
    for k in range(steps.at_kind.size):
        reach = distance(steps.at_kind[k], steps.at_value[k], entry, of, atr)
        secured = distance(steps.to_kind[k], steps.to_value[k], entry, of, atr)
        at[k] = ceil_whole(reach)
        to[k] = away(ref, secured, side)
