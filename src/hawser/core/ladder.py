"""The averaging ladder: rungs, their quantities, and the base quantity whose worst case stays within the budget and the
caps (reckoning section 8)."""

from __future__ import annotations

import math

import msgspec

from hawser.core import figures as fg
from hawser.core.errors import Refused
from hawser.core.rig import Ladder
from hawser.core.rules.quantity import BUDGET_NOISE, commission
from hawser.core.rules.rounding import floor_whole, level_ticks
from hawser.core.rules.stops import STOP_NOT_POSITIVE, STOP_OK, STOP_WRONG_SIDE, stop_verdict
from hawser.core.sizing import SizeRequest, _budget, _Terms


class LadderPlan(msgspec.Struct, frozen=True):
    """Levels in ticks from the first entry on, steps of each rung, the common stop, and what all of it may lose."""

    levels: tuple[int, ...]
    steps: tuple[int, ...]
    stop: int
    r_ticks: int
    risk_money: float


def laid(ladder: Ladder, request: SizeRequest) -> LadderPlan:
    """The ladder for this moment; raises Refused. `request.stop` does not count."""
    terms, instrument, side = _Terms(request), request.instrument, request.side
    if ladder.spacing.atr is not None and not request.atr > 0:
        raise Refused("indicator_not_ready", "The ATR has no value yet: more completed bars are needed.")
    budget = _budget(request.account, request.account.size)
    if budget is None or request.account.size.method == "invest":
        raise Refused("bad_request", "A ladder is sized by a risk: expected size method risk_percent or risk_money.")
    ref, atr = terms.ref, request.atr / instrument.tick_size
    spacing = ladder.spacing.in_ticks(float(ref), 0.0, atr)
    levels = tuple(level_ticks(ref - side * number * spacing, side) for number in range(ladder.rungs))
    assert ladder.stop_ticks is not None  # checked when it was made
    stop = level_ticks(levels[-1] - side * ladder.stop_ticks, side)
    _check(stop, request)
    most = _most(ladder, terms, levels, stop, budget)
    if most < max(1, instrument.qty_min_steps):
        least = max(1, instrument.qty_min_steps)
        money = _worst(ladder, terms, levels, stop, least)
        shown = fg.money(money, request.account.currency)
        sentence = f"The ladder is below the minimum of {instrument.qty(least)}, which would risk {shown}."
        raise Refused("below_min", sentence, min_risk=money)
    return LadderPlan(levels, _steps(ladder, most), stop, abs(ref - stop), _worst(ladder, terms, levels, stop, most))


def _check(stop: int, request: SizeRequest) -> None:
    instrument = request.instrument
    verdict = stop_verdict(stop, request.ref, request.exit_side, request.side, instrument.min_stop_ticks)
    if verdict != STOP_OK:
        code = {STOP_NOT_POSITIVE: "stop_not_positive", STOP_WRONG_SIDE: "stop_wrong_side"}.get(
            verdict, "stop_too_near"
        )
        raise Refused(code, f"The ladder's stop {instrument.price(max(0, stop))} cannot stand there.")


def _steps(ladder: Ladder, base: int) -> tuple[int, ...]:
    return tuple(floor_whole(base * ladder.factor**number) for number in range(ladder.rungs))


def _worst(ladder: Ladder, terms: _Terms, levels: tuple[int, ...], stop: int, base: int) -> float:
    """Every rung filled, then stopped: entry slippage on the first, exit slippage on all, a commission for each fill
    and one for the way out."""
    instrument, costs, side = terms.instrument, terms.account.costs, terms.request.side
    step, tick, total, loss, fees = instrument.step_size, instrument.tick_size, 0, 0.0, 0.0
    for number, (level, steps) in enumerate(zip(levels, _steps(ladder, base), strict=True)):
        slip = costs.exit_slippage_ticks + (costs.entry_slippage_ticks if number == 0 else 0.0)
        loss += (side * (level - stop) + slip) * steps * step * terms.tick_value
        if steps:
            fees += commission(steps * step, level * tick, *terms.fees)
        total += steps
    return loss + fees + commission(total * step, stop * tick, *terms.fees)


def _most(ladder: Ladder, terms: _Terms, levels: tuple[int, ...], stop: int, budget: float) -> int:
    """The largest base quantity, in steps, whose whole ladder is within the budget and every cap."""
    account, policy, instrument, request = terms.account, terms.account.policy, terms.instrument, terms.request
    risks = [budget]
    if policy.max_heat_percent is not None:
        risks.append(policy.max_heat_percent / 100 * account.equity - request.open_heat)
    if policy.max_currency_heat_percent is not None:
        taken = max(request.open_heat_by_currency.get(name, 0.0) for name in instrument.exposure)
        risks.append(policy.max_currency_heat_percent / 100 * account.equity - taken)
    if request.day_loss_room is not None:
        risks.append(request.day_loss_room)
    notionals = []
    if instrument.margin_rate > 0:
        notionals.append(account.free_margin / instrument.margin_rate)
        if policy.max_margin_percent is not None:
            notionals.append(policy.max_margin_percent / 100 * account.free_margin / instrument.margin_rate)
    if policy.max_notional_percent is not None:
        notionals.append(policy.max_notional_percent / 100 * account.equity)
    risk, notional = min(risks) * (1 + BUDGET_NOISE), min(notionals, default=math.inf) * (1 + BUDGET_NOISE)

    def fits(base: int) -> bool:
        steps = _steps(ladder, base)
        worth = sum(level * one for level, one in zip(levels, steps, strict=True)) * instrument.tick_size
        return (
            _worst(ladder, terms, levels, stop, base) <= risk
            and sum(steps) <= instrument.qty_max_steps
            and worth * instrument.step_size * terms.unit_money <= notional
        )

    low, high = 0, max(1, instrument.qty_max_steps)
    while low < high:
        middle = (low + high + 1) // 2
        low, high = (middle, high) if fits(middle) else (low, middle - 1)
    return low
