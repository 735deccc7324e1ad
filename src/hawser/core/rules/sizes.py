"""Reckoning section 5, in numbers: how many steps a method asks for, and how many each cap allows.

Money in the account's currency; a cap that is not set is given as NaN and answers ALL.
"""

import math
from typing import NamedTuple

from hawser.core.compiled import compiled
from hawser.core.rules.quantity import BUDGET_NOISE, steps_within
from hawser.core.rules.rounding import floor_whole

BUDGET, VOLATILITY, NOTIONAL, GIVEN = 0, 1, 2, 3
ALL = 1 << 60


class AtStop(NamedTuple):
    """What a unit loses at its stop, as the functions of `quantity.py` take it."""

    loss_ticks: float
    tick_value: float
    ref: float
    stop: float
    unit_money: float
    per_unit: float
    per_notional: float
    minimum: float


class Limits(NamedTuple):
    """What the caps go by: money, percentages (NaN: not set), heat already open."""

    equity: float
    free_margin: float
    margin_rate: float
    max_notional_percent: float
    max_margin_percent: float
    max_heat_percent: float
    max_currency_heat_percent: float
    day_loss_room: float
    open_heat: float
    currency_heat: float


@compiled
def steps_of_notional(money: float, step_notional: float) -> int:
    """Whole steps whose notional does not exceed `money`."""
    return max(0, floor_whole(money / step_notional))


@compiled
def asked_steps(
    method: int, budget: float, percent: float, multiple: float, equity: float, atr: float, step: float, at_stop: AtStop
) -> int:
    """What a method asks for before caps; GIVEN asks for nothing here. `atr` in price units."""
    if method == BUDGET:
        return _within(budget, step, at_stop)
    money = percent / 100.0 * equity
    if method == NOTIONAL:
        return steps_of_notional(money, at_stop.ref * at_stop.unit_money * step)
    return max(0, floor_whole(money / (multiple * atr * at_stop.unit_money * step)))


@compiled
def _within(budget: float, step: float, at_stop: AtStop) -> int:
    return steps_within(
        budget, step, at_stop.loss_ticks, at_stop.tick_value, at_stop.ref, at_stop.stop, at_stop.unit_money,
        at_stop.per_unit, at_stop.per_notional, at_stop.minimum,
    )  # fmt: skip


@compiled
def _notional_cap(money: float, step_notional: float) -> int:
    return steps_of_notional(max(0.0, money) * (1.0 + BUDGET_NOISE), step_notional)


@compiled
def _risk_cap(money: float, step: float, at_stop: AtStop) -> int:
    return _within(money, step, at_stop) if money > 0 else 0


@compiled
def cap_steps(limits: Limits, step: float, at_stop: AtStop) -> tuple[int, int, int, int, int, int]:
    """What free margin, notional, margin, heat, currency heat and day loss room allow, in the reckoning's order."""
    worth = at_stop.ref * at_stop.unit_money * step
    free = notional = margin = heat = currency = room = ALL
    if limits.margin_rate > 0:
        free = _notional_cap(limits.free_margin / limits.margin_rate, worth)
        if not math.isnan(limits.max_margin_percent):
            margin = _notional_cap(limits.max_margin_percent / 100 * limits.free_margin / limits.margin_rate, worth)
    if not math.isnan(limits.max_notional_percent):
        notional = _notional_cap(limits.max_notional_percent / 100 * limits.equity, worth)
    if not math.isnan(limits.max_heat_percent):
        heat = _risk_cap(limits.max_heat_percent / 100 * limits.equity - limits.open_heat, step, at_stop)
    if not math.isnan(limits.max_currency_heat_percent):
        most = limits.max_currency_heat_percent / 100 * limits.equity - limits.currency_heat
        currency = _risk_cap(most, step, at_stop)
    if not math.isnan(limits.day_loss_room):
        room = _risk_cap(limits.day_loss_room, step, at_stop)
    return free, notional, margin, heat, currency, room
