"""From a signal to a trade, compiled: level the stop, size it, lay every rule (reckoning sections 4 to 8).

The rules are those of `core/rules`, the same that `core/sizing.py` calls with a request; here they are called with a
history's columns. What would be refused there is no entry here.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from hawser.core.compiled import compiled
from hawser.core.indicators import Array
from hawser.core.rules.ladders import ladder_most, ladder_worst, rung_levels, rung_steps
from hawser.core.rules.quantity import BUDGET_NOISE, commission, money_stop_distance, risk_of
from hawser.core.rules.rounding import floor_whole
from hawser.core.rules.sizes import BUDGET, GIVEN, AtStop, Limits, asked_steps, cap_steps, steps_of_notional
from hawser.core.rules.stops import PRICE, STOP_OK, stop_level, stop_verdict
from hawser.core.rules.targets import PRICE as TARGET_PRICE
from hawser.core.rules.targets import steps_through, target_level
from hawser.core.rules.tending import FAR, away, break_even_at
from hawser.rehearsal.loop import History, Levels, Money, Rules, Spare, Trade

R, TICKS, PERCENT, ATR = 0, 1, 2, 3  # kinds of a distance
EQUITY, BALANCE, FREE_MARGIN = 0, 1, 2
COLUMN_STOP, MONEY_STOP, LADDER_STOP = 10, 11, 12
AT_ONCE = -1e15  # an excursion that every trade has


class Sizer(NamedTuple):
    """How an account sizes: `method` as in `core/rules/sizes.py`; percentages not set are NaN; `balance_off` is balance
    less equity at the start. With GIVEN: `given` steps, or an investment of `amount` (given 0)."""

    method: int
    percent: float
    amount: float
    multiple: float
    given: int
    basis: int
    balance_off: float
    margin_used: float
    margin_rate: float
    max_notional_percent: float
    max_margin_percent: float
    max_heat_percent: float
    max_currency_heat_percent: float
    fit: bool
    qty_max: int
    qty_min: int
    no_positions: bool  # the policy allows none


class Setup(NamedTuple):
    """A rig's rules before they are laid: kinds and values as numbers, one array for each list of them."""

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


class Begun(NamedTuple):
    """A trade to be played; `steps` 0: there is no entry."""

    trade: Trade
    levels: Levels
    rules: Rules
    risk: float


@compiled
def distance(kind: int, value: float, ref: float, r_ticks: float, atr: float) -> float:
    """A rig's measure as ticks."""
    if kind == R:
        return value * r_ticks
    if kind == TICKS:
        return value
    return ref * value / 100.0 if kind == PERCENT else value * atr


@compiled
def _limits(sizer: Sizer, equity: float) -> Limits:
    return Limits(
        equity, equity - sizer.margin_used, sizer.margin_rate, sizer.max_notional_percent, sizer.max_margin_percent,
        sizer.max_heat_percent, sizer.max_currency_heat_percent, math.nan, 0.0, 0.0,
    )  # fmt: skip


@compiled
def _budget(sizer: Sizer, equity: float) -> float:
    if math.isnan(sizer.percent):
        return sizer.amount
    basis = equity
    if sizer.basis == BALANCE:
        basis = max(0.0, equity + sizer.balance_off)
    elif sizer.basis == FREE_MARGIN:
        basis = equity - sizer.margin_used
    return sizer.percent / 100.0 * basis


@compiled
def _at_stop(money: Money, ref: int, stop: int) -> AtStop:
    loss = abs(ref - stop) + money.entry_slip + money.exit_slip
    return AtStop(
        loss, money.tick * money.unit_money, ref * money.tick, stop * money.tick, money.unit_money, money.per_unit,
        money.per_notional, money.minimum,
    )  # fmt: skip


@compiled
def _initial_stop(
    history: History, setup: Setup, money: Money, given: int, side: int, decided: int, ref: int, spread: int
) -> int:
    """The stop's level; -1 where there is none."""
    if setup.stop == MONEY_STOP:
        qty = given * money.step
        slip = money.entry_slip + money.exit_slip
        far = money_stop_distance(
            setup.stop_value, qty, side, ref, money.tick, slip, money.tick * money.unit_money, money.unit_money,
            money.per_unit, money.per_notional, money.minimum,
        )  # fmt: skip
        return ref - side * far if far >= 0 else -1
    if setup.stop == COLUMN_STOP:
        base = history.stop_long[decided] if side > 0 else history.stop_short[decided]
        if not base > 0:
            return -1
        value = base - side * setup.stop_offset + (spread if side < 0 else 0)
        return stop_level(PRICE, value, float(ref), 0.0, side)
    return stop_level(setup.stop, setup.stop_value, float(ref), history.atr[decided], side)


@compiled
def _steps(sizer: Sizer, setup: Setup, money: Money, given: int, equity: float, atr: float, at_stop: AtStop) -> int:
    """The quantity after every cap; 0 where it is refused."""
    asked = given
    if sizer.method != GIVEN:
        budget = _budget(sizer, equity) if sizer.method == BUDGET else 0.0
        asked = asked_steps(
            sizer.method, budget, sizer.percent, sizer.multiple, equity, atr * money.tick, money.step, at_stop
        )
    steps = min(asked, sizer.qty_max)
    for cap in cap_steps(_limits(sizer, equity), money.step, at_stop):
        steps = min(steps, cap)
    if steps < max(1, sizer.qty_min) or (steps < asked and not sizer.fit):
        return 0
    return steps


@compiled
def _fees(money: Money, steps: int, price: int) -> float:
    return commission(
        steps * money.step, price * money.tick, money.unit_money, money.per_unit, money.per_notional, money.minimum
    )


@compiled
def _ladder(
    sizer: Sizer, setup: Setup, money: Money, side: int, ref: int, exit_side: int, atr: float, equity: float
) -> tuple[int, int, float, Array, Array]:
    """Stop, base steps (0: refused), worst case, levels and steps of all rungs."""
    spacing = distance(setup.spacing_kind, setup.spacing, float(ref), 0.0, atr)
    levels = rung_levels(ref, setup.rungs, spacing, side)
    stop = away(levels[setup.rungs - 1], -setup.ladder_stop, side)
    limits, risk, notional = _limits(sizer, equity), _budget(sizer, equity), math.inf
    if not math.isnan(limits.max_heat_percent):
        risk = min(risk, limits.max_heat_percent / 100 * equity)
    if not math.isnan(limits.max_currency_heat_percent):
        risk = min(risk, limits.max_currency_heat_percent / 100 * equity)
    if limits.margin_rate > 0:
        notional = limits.free_margin / limits.margin_rate
        if not math.isnan(limits.max_margin_percent):
            notional = min(notional, limits.max_margin_percent / 100 * notional)
    if not math.isnan(limits.max_notional_percent):
        notional = min(notional, limits.max_notional_percent / 100 * equity)
    base = 0
    if stop_verdict(stop, ref, exit_side, side, setup.min_stop) == STOP_OK and risk > 0 and notional > 0:
        noise = 1 + BUDGET_NOISE
        base = ladder_most(
            risk * noise, notional * noise, sizer.qty_max, levels, stop, setup.factor, side, money.entry_slip,
            money.exit_slip, money.tick, money.step, money.unit_money, money.per_unit, money.per_notional,
            money.minimum,
        )  # fmt: skip
    if base < max(1, sizer.qty_min):
        base = 0
    worst = ladder_worst(
        base, levels, stop, setup.factor, side, money.entry_slip, money.exit_slip, money.tick, money.step,
        money.unit_money, money.per_unit, money.per_notional, money.minimum,
    )  # fmt: skip
    return stop, base, worst, levels[1:].copy(), rung_steps(base, setup.rungs, setup.factor)[1:].copy()


@compiled
def _targets(setup: Setup, side: int, ref: int, r_ticks: int, atr: float, steps: int) -> tuple[Array, Array]:
    """Levels of the targets (the entry's where one is off) and what each takes of `steps`."""
    count = setup.target_kind.size
    levels, parts = np.empty(count, np.int64), np.zeros(count, np.int64)
    share, taken = 0.0, 0
    for k in range(count):
        kind, value = setup.target_kind[k], setup.target_value[k]
        off = value == 0 or setup.target_share[k] == 0
        levels[k] = ref if off else target_level(kind, value, float(ref), float(r_ticks), atr, side)
        if levels[k] == ref or levels[k] <= 0:
            levels[k] = ref
            continue
        share += setup.target_share[k]
        parts[k] = max(0, steps_through(share, steps) - taken)
        taken += parts[k]
    return levels, parts


@compiled
def _after(after: float, target: int, r_ticks: int, parts: Array) -> tuple[float, int]:
    """An activation as an excursion in ticks and a target's number; a merged target waits for the one it went into."""
    if target == 0:
        return (AT_ONCE if math.isnan(after) else after * r_ticks), 0
    while target <= parts.size and parts[target - 1] == 0:
        target += 1
    return 0.0, target if target <= parts.size else 40


@compiled
def _laid(
    setup: Setup, money: Money, side: int, ref: int, r_ticks: int, steps: int, parts: Array, cash: float
) -> Rules:
    even, cost = FAR, 0.0
    if setup.even:
        if setup.even_costs:
            cost = 2 * _fees(money, steps, ref) / (steps * money.tick_step) + money.entry_slip + money.exit_slip
        even = break_even_at(ref, side, setup.even_offset, cost)
    even_after, even_target = _after(setup.even_after, setup.even_target, r_ticks, parts)
    trail_after, trail_target = _after(setup.trail_after, setup.trail_target, r_ticks, parts)
    lost = setup.basket_stop / 100.0 * cash if setup.basket_stop_percent else setup.basket_stop
    won = setup.basket_target / 100.0 * cash if setup.basket_target_percent else setup.basket_target
    return Rules(
        setup.min_stop, even, even_after, even_target, setup.trail, setup.trail_value, setup.trail_base,
        setup.trail_close, setup.trail_offset, setup.trail_step, trail_after, trail_target, setup.time_bars, lost, won,
        setup.reverse, setup.ladder_target,
    )  # fmt: skip


@compiled
def _wrong_target(setup: Setup, side: int, ref: int) -> bool:
    """Whether a target at a price lies on the wrong side of the entry."""
    for k in range(setup.target_kind.size):
        if setup.target_kind[k] == TARGET_PRICE and setup.target_value[k] and setup.target_share[k]:
            level = target_level(TARGET_PRICE, setup.target_value[k], float(ref), 0.0, 0.0, side)
            if side * (level - ref) < 0:
                return True
    return False


@compiled
def begin(history: History, money: Money, sizer: Sizer, setup: Setup, side: int, decided: int, cash: float) -> Begun:
    """The trade for a signal at the close of `decided`, entered at the next open."""
    first = decided + 1
    bid, spread = history.open[first], history.spread[first]
    ref = bid + spread if side > 0 else bid
    exit_side = bid if side > 0 else bid + spread
    atr, equity = history.atr[decided], max(cash, 1e-9)
    rungs = later = np.empty(0, np.int64)
    stop, steps, risk, given = -1, 0, 0.0, sizer.given
    known = (atr > 0 or not setup.needs_atr) and not sizer.no_positions
    if sizer.method == GIVEN and given == 0:  # an investment
        given = steps_of_notional(sizer.amount, ref * money.tick * money.unit_money * money.step)
    if known and setup.rungs:
        stop, steps, risk, rungs, later = _ladder(sizer, setup, money, side, ref, exit_side, atr, equity)
    elif known:
        stop = _initial_stop(
            history, setup, money, max(given, sizer.qty_min, 1), side, decided, ref, spread
        )  # fmt: skip
        if stop_verdict(stop, ref, exit_side, side, setup.min_stop) == STOP_OK and not _wrong_target(setup, side, ref):
            at_stop = _at_stop(money, ref, stop)
            steps = _steps(sizer, setup, money, given, equity, atr, at_stop)
            risk = risk_of(
                steps * money.step, at_stop.loss_ticks, at_stop.tick_value, at_stop.ref, at_stop.stop,
                at_stop.unit_money, at_stop.per_unit, at_stop.per_notional, at_stop.minimum,
            )  # fmt: skip
    r_ticks = abs(ref - stop)
    targets, parts = _targets(setup, side, ref, r_ticks, atr, steps)
    losses, loss_parts = np.empty(setup.loss_r.size, np.int64), np.empty(setup.loss_r.size, np.int64)
    for k in range(setup.loss_r.size):
        losses[k] = away(ref, -setup.loss_r[k] * r_ticks, side)
        loss_parts[k] = floor_whole(setup.loss_share[k] * steps)
    step_at, step_to = np.empty(setup.at_kind.size), np.empty(setup.at_kind.size, np.int64)
    for k in range(setup.at_kind.size):
        step_at[k] = distance(setup.at_kind[k], setup.at_value[k], float(ref), float(r_ticks), atr)
        step_to[k] = away(ref, distance(setup.to_kind[k], setup.to_value[k], float(ref), float(r_ticks), atr), side)
    trade = Trade(side, first, ref, steps, stop, step_at, step_to)
    spare = Spare(parts.copy(), loss_parts.copy(), later.copy(), np.empty((40, 4), np.int64))
    levels = Levels(side * targets, parts, side * losses, loss_parts, side * rungs, later, spare)
    return Begun(trade, levels, _laid(setup, money, side, ref, r_ticks, max(1, steps), parts, cash), risk)
