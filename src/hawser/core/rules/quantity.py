"""Reckoning section 5: the risk of a quantity, and the largest quantity within a budget.

Quantities are in units of quantity (`steps * step`), prices in price units, money in the account's
currency. `risk` is a maximum of four straight lines in the quantity (each commission is its minimum
or its rate), so the largest quantity within a budget is the least of four straight answers; a last
look at the whole steps beside it keeps float noise from deciding.
"""

import math

from hawser.core.compiled import compiled

BUDGET_NOISE = 1e-9
MOST_COUNTED = 10**15  # a float counts so many one by one
LOOKS = 8  # at the whole numbers beside an answer: noise puts it one or two off


@compiled
def commission(
    qty: float,
    price: float,
    unit_money: float,
    per_unit: float,
    per_notional: float,
    minimum: float,
) -> float:
    """One fill's commission. `unit_money` is multiplier*fx: money for a move of 1.0 by one unit."""
    return max(minimum, per_unit * qty + per_notional * qty * price * unit_money)


@compiled
def risk_of(
    qty: float,
    loss_ticks: float,
    tick_value: float,
    ref: float,
    stop: float,
    unit_money: float,
    per_unit: float,
    per_notional: float,
    minimum: float,
) -> float:
    """Whole risk of `qty`: `loss_ticks` (R and both slippages) plus the commissions of both
    fills."""
    return (
        qty * loss_ticks * tick_value
        + commission(qty, ref, unit_money, per_unit, per_notional, minimum)
        + commission(qty, stop, unit_money, per_unit, per_notional, minimum)
    )


@compiled
def steps_within(
    budget: float,
    step: float,
    loss_ticks: float,
    tick_value: float,
    ref: float,
    stop: float,
    unit_money: float,
    per_unit: float,
    per_notional: float,
    minimum: float,
) -> int:
    """Largest whole number of steps whose whole risk is at most `budget*(1 + 1e-9)`; 0 where none
    is."""
    most = budget * (1.0 + BUDGET_NOISE)
    per_qty = loss_ticks * tick_value
    rate_in = per_unit + per_notional * ref * unit_money
    rate_out = per_unit + per_notional * stop * unit_money
    best = (most - 2.0 * minimum) / per_qty
    best = min(best, (most - minimum) / (per_qty + rate_in))
    best = min(best, (most - minimum) / (per_qty + rate_out))
    best = min(best, most / (per_qty + rate_in + rate_out))
    steps = _whole_within(best / step, 0)
    for _ in range(LOOKS):
        if steps > 0 and (
            risk_of(
                steps * step,
                loss_ticks,
                tick_value,
                ref,
                stop,
                unit_money,
                per_unit,
                per_notional,
                minimum,
            )
            > most
        ):
            steps -= 1
    for _ in range(LOOKS):
        if steps < MOST_COUNTED and (
            risk_of(
                (steps + 1) * step,
                loss_ticks,
                tick_value,
                ref,
                stop,
                unit_money,
                per_unit,
                per_notional,
                minimum,
            )
            <= most
        ):
            steps += 1
    return steps


@compiled
def money_stop_distance(
    budget: float,
    qty: float,
    side: int,
    ref_ticks: int,
    tick: float,
    slippage_ticks: float,
    tick_value: float,
    unit_money: float,
    per_unit: float,
    per_notional: float,
    minimum: float,
) -> int:
    """Farthest distance in whole ticks at which the whole risk of `qty` is within `budget`; -1:
    costs exceed it."""
    most = budget * (1.0 + BUDGET_NOISE)
    ref = ref_ticks * tick
    cost_in = commission(qty, ref, unit_money, per_unit, per_notional, minimum)
    slip = qty * slippage_ticks * tick_value
    rate_out = per_unit * qty + per_notional * qty * ref * unit_money
    # The exit's notional commission moves with the stop: against the distance for a long, with it
    # for a short.
    slope = qty * tick_value * (1.0 - side * per_notional)
    far = (most - cost_in - slip - minimum) / (qty * tick_value)
    far = min(far, (most - cost_in - slip - rate_out) / slope)
    ticks = _whole_within(far, -1)
    for _ in range(LOOKS):
        if ticks >= 0 and (
            risk_of(
                qty,
                ticks + slippage_ticks,
                tick_value,
                ref,
                (ref_ticks - side * ticks) * tick,
                unit_money,
                per_unit,
                per_notional,
                minimum,
            )
            > most
        ):
            ticks -= 1
    for _ in range(LOOKS):
        if ticks < MOST_COUNTED and (
            risk_of(
                qty,
                ticks + 1 + slippage_ticks,
                tick_value,
                ref,
                (ref_ticks - side * (ticks + 1)) * tick,
                unit_money,
                per_unit,
                per_notional,
                minimum,
            )
            <= most
        ):
            ticks += 1
    return ticks


@compiled
def _whole_within(x: float, least: int) -> int:
    """The whole part of `x`, from `least` to what a float still counts one by one."""
    if not x < MOST_COUNTED:
        return MOST_COUNTED if x > 0 else least
    return max(least, math.floor(max(x, float(least))))
