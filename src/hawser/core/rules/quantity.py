"""Reckoning section 5: the risk of a quantity, and the largest quantity within a budget.

Quantities are in units of quantity (`steps * step`), prices in price units, money in the account's
currency. `risk` is a maximum of four straight lines in the quantity (each commission is its minimum
or its rate), so the largest quantity within a budget is the least of four straight answers; a last
look at the whole steps beside it keeps float noise from deciding.
"""

import math
from typing import NamedTuple

from hawser.core.compiled import compiled, inlined

BUDGET_NOISE = 1e-9
MOST_COUNTED = 10**15  # a float counts so many one by one
LOOKS = 8  # at the whole numbers beside an answer: noise puts it one or two off


class Fees(NamedTuple):
    """What a fill costs, in the account's currency. `unit_money` is multiplier*fx: the money of a
    move of 1.0 by one unit."""

    unit_money: float
    per_unit: float
    per_notional: float
    minimum: float


class AtStop(NamedTuple):
    """What a unit loses at its stop: R and both slippages in ticks, the money of a tick of one
    unit, and the prices at which it is entered and left."""

    loss_ticks: float
    tick_value: float
    ref: float
    stop: float
    fees: Fees


@compiled
def commission(qty: float, price: float, fees: Fees) -> float:
    """One fill's commission."""
    rate = fees.per_unit * qty + fees.per_notional * qty * price * fees.unit_money
    return max(fees.minimum, rate)


@compiled
def risk_of(qty: float, at: AtStop) -> float:
    """Whole risk of `qty`: R and both slippages plus the commissions of both fills."""
    return (
        qty * at.loss_ticks * at.tick_value
        + commission(qty, at.ref, at.fees)
        + commission(qty, at.stop, at.fees)
    )


@compiled
def result_at_stop(side: int, qty: float, entry: float, stop: float, fees: Fees) -> float:
    """Money where what is open, from its average entry, leaves at its stop: the commissions of both
    fills paid; negative is a loss. Prices in price units."""
    paid = commission(qty, entry, fees) + commission(qty, stop, fees)
    return side * (stop - entry) * qty * fees.unit_money - paid


@compiled
def steps_within(budget: float, step: float, at: AtStop) -> int:
    """Largest whole number of steps whose whole risk is at most `budget*(1 + 1e-9)`; 0 where none
    is."""
    most, fees = budget * (1.0 + BUDGET_NOISE), at.fees
    per_qty = at.loss_ticks * at.tick_value
    rate_in = fees.per_unit + fees.per_notional * at.ref * fees.unit_money
    rate_out = fees.per_unit + fees.per_notional * at.stop * fees.unit_money
    # Each fill costs its minimum or its rate: four straight lines; the least answer holds.
    best = (most - 2.0 * fees.minimum) / per_qty
    best = min(best, (most - fees.minimum) / (per_qty + rate_in))
    best = min(best, (most - fees.minimum) / (per_qty + rate_out))
    best = min(best, most / (per_qty + rate_in + rate_out))
    steps = _whole_within(best / step, 0)
    for _ in range(LOOKS):
        if steps > 0 and risk_of(steps * step, at) > most:
            steps -= 1
    for _ in range(LOOKS):
        if steps < MOST_COUNTED and risk_of((steps + 1) * step, at) <= most:
            steps += 1
    return steps


@inlined
def _at_distance(
    ticks: int, side: int, ref_ticks: int, tick: float, slippage: float, fees: Fees
) -> AtStop:
    return AtStop(
        ticks + slippage,
        tick * fees.unit_money,
        ref_ticks * tick,
        (ref_ticks - side * ticks) * tick,
        fees,
    )


@compiled
def money_stop_distance(
    budget: float, qty: float, side: int, ref_ticks: int, tick: float, slippage: float, fees: Fees
) -> int:
    """Farthest distance in whole ticks at which the whole risk of `qty` is within `budget`; -1:
    costs exceed it. `slippage` of both fills, in ticks."""
    most = budget * (1.0 + BUDGET_NOISE)
    ref = ref_ticks * tick
    tick_value = tick * fees.unit_money
    cost_in = commission(qty, ref, fees)
    slip = qty * slippage * tick_value
    rate_out = fees.per_unit * qty + fees.per_notional * qty * ref * fees.unit_money
    # The exit's notional commission moves with the stop: against the distance for a long, with it
    # for a short.
    slope = qty * tick_value * (1.0 - side * fees.per_notional)
    far = (most - cost_in - slip - fees.minimum) / (qty * tick_value)
    far = min(far, (most - cost_in - slip - rate_out) / slope)
    ticks = _whole_within(far, -1)
    for _ in range(LOOKS):
        at = _at_distance(ticks, side, ref_ticks=ref_ticks, tick=tick, slippage=slippage, fees=fees)
        if ticks >= 0 and risk_of(qty, at) > most:
            ticks -= 1
    for _ in range(LOOKS):
        at = _at_distance(
            ticks + 1, side, ref_ticks=ref_ticks, tick=tick, slippage=slippage, fees=fees
        )
        if ticks < MOST_COUNTED and risk_of(qty, at) <= most:
            ticks += 1
    return ticks


@compiled
def _whole_within(x: float, least: int) -> int:
    """The whole part of `x`, from `least` to what a float still counts one by one."""
    if not x < MOST_COUNTED:
        return MOST_COUNTED if x > 0 else least
    return max(least, math.floor(max(x, float(least))))
