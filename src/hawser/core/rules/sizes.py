"""Reckoning section 5, in numbers: how many steps a method asks for, and how many each cap allows.

Money in the account's currency; a cap that is not set is given as NaN and answers ALL.
"""

import math
from typing import NamedTuple

from hawser.core.compiled import compiled
from hawser.core.rules.quantity import (
    BUDGET_NOISE,
    AtStop,
    commission,
    risk_of,
    steps_within,
)
from hawser.core.rules.rounding import floor_steps

BUDGET, VOLATILITY, NOTIONAL, GIVEN = 0, 1, 2, 3
# places of the caps in the reckoning's order
FREE_CAP, NOTIONAL_CAP, MARGIN_CAP, HEAT_CAP, CURRENCY_CAP, ROOM_CAP = range(6)
ALL = 1 << 60
PLENTY = ALL >> 20  # steps, for a search that has to end


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


UNBOUND = Limits(
    equity=1.0,
    free_margin=math.inf,
    margin_rate=0.0,
    max_notional_percent=math.nan,
    max_margin_percent=math.nan,
    max_heat_percent=math.nan,
    max_currency_heat_percent=math.nan,
    day_loss_room=math.nan,
    open_heat=0.0,
    currency_heat=0.0,
)


@compiled
def only_cap(limits: Limits, number: int) -> Limits:
    """One cap by itself, by its number in the order of `cap_steps`; all others bind nothing."""
    # free margin takes the first place with whatever its rate; a part of it is the third
    margin = number in (FREE_CAP, MARGIN_CAP)
    return Limits(
        equity=limits.equity,
        free_margin=limits.free_margin if margin else math.inf,
        margin_rate=limits.margin_rate if margin else 0.0,
        max_notional_percent=limits.max_notional_percent if number == NOTIONAL_CAP else math.nan,
        max_margin_percent=limits.max_margin_percent if number == MARGIN_CAP else math.nan,
        max_heat_percent=limits.max_heat_percent if number == HEAT_CAP else math.nan,
        max_currency_heat_percent=(
            limits.max_currency_heat_percent if number == CURRENCY_CAP else math.nan
        ),
        day_loss_room=limits.day_loss_room if number == ROOM_CAP else math.nan,
        open_heat=limits.open_heat,
        currency_heat=limits.currency_heat,
    )


@compiled
def steps_of_notional(money: float, step_notional: float) -> int:
    """Whole steps whose notional does not exceed `money`."""
    return max(0, floor_steps(money / step_notional))


@compiled
def asked_steps(
    method: int,
    budget: float,
    percent: float,
    multiple: float,
    equity: float,
    atr: float,
    step: float,
    at_stop: AtStop,
) -> int:
    """What a method asks for before caps; GIVEN asks for nothing here. `atr` in price units."""
    if method == BUDGET:
        return steps_within(budget, step, at_stop)
    money = percent / 100.0 * equity
    if method == NOTIONAL:
        return steps_of_notional(money, at_stop.ref * at_stop.fees.unit_money * step)
    return max(0, floor_steps(money / (multiple * atr * at_stop.fees.unit_money * step)))


@compiled
def _notional_cap(money: float, step_notional: float) -> int:
    return (
        steps_of_notional(max(0.0, money) * (1.0 + BUDGET_NOISE), step_notional)
        if money < math.inf
        else ALL
    )


@compiled
def _risk_cap(money: float, step: float, at_stop: AtStop) -> int:
    if money == math.inf:
        return ALL
    return steps_within(money, step, at_stop) if money > 0 else 0


@compiled
def cap_money(limits: Limits) -> tuple[float, float, float, float, float, float]:
    """What free margin, notional and margin allow to be held, and what heat, currency heat and day
    loss room allow to be lost; money, infinite where a cap is not set."""
    free = notional = margin = heat = currency = room = math.inf
    if limits.margin_rate > 0:
        free = limits.free_margin / limits.margin_rate
        if not math.isnan(limits.max_margin_percent):
            margin = limits.max_margin_percent / 100 * limits.free_margin / limits.margin_rate
    if not math.isnan(limits.max_notional_percent):
        notional = limits.max_notional_percent / 100 * limits.equity
    if not math.isnan(limits.max_heat_percent):
        heat = limits.max_heat_percent / 100 * limits.equity - limits.open_heat
    if not math.isnan(limits.max_currency_heat_percent):
        currency = limits.max_currency_heat_percent / 100 * limits.equity - limits.currency_heat
    if not math.isnan(limits.day_loss_room):
        room = limits.day_loss_room
    return free, notional, margin, heat, currency, room


@compiled
def cap_steps(limits: Limits, step: float, at_stop: AtStop) -> tuple[int, int, int, int, int, int]:
    """What each cap allows, in the reckoning's order."""
    worth = at_stop.ref * at_stop.fees.unit_money * step
    free, notional, margin, heat, currency, room = cap_money(limits)
    return (
        _notional_cap(free, worth),
        _notional_cap(notional, worth),
        _notional_cap(margin, worth),
        _risk_cap(heat, step, at_stop),
        _risk_cap(currency, step, at_stop),
        _risk_cap(room, step, at_stop),
    )


class Quantity(NamedTuple):
    """What a method asks for, what each cap allows (in the reckoning's order), and the least of all
    that, in steps; the whole risk of those and the commission of entering them, money."""

    asked: int
    caps: tuple[int, int, int, int, int, int]
    steps: int
    risk: float
    entry_fee: float


@compiled
def quantity(
    method: int,
    given: int,
    budget: float,
    percent: float,
    multiple: float,
    atr: float,
    step: float,
    most: int,
    limits: Limits,
    at_stop: AtStop,
) -> Quantity:
    """All that follows from a stop, in one call: `given` steps with GIVEN; `most` that may be
    traded at once. `atr` in price units."""
    asked = given
    if method != GIVEN:
        asked = asked_steps(
            method,
            budget,
            percent=percent,
            multiple=multiple,
            equity=limits.equity,
            atr=atr,
            step=step,
            at_stop=at_stop,
        )
    caps, steps = cap_steps(limits, step, at_stop), min(asked, most)
    for cap in caps:
        steps = min(steps, cap)
    qty = steps * step
    entry_fee = commission(qty, at_stop.ref, at_stop.fees)
    return Quantity(asked, caps, steps, risk_of(qty, at_stop), entry_fee)
