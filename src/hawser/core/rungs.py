"""The size of an averaging ladder: the largest whose worst case fits, and what each rung makes of
it (reckoning 8)."""

from __future__ import annotations

import math

from hawser.core.errors import Refused
from hawser.core.rig import Ladder, ladder_spacing
from hawser.core.rig_numbers import money_of
from hawser.core.rules.ladders import (
    common_target,
    ladder_base,
    ladder_worst,
    lay_rungs,
    rung_steps,
)
from hawser.core.rules.quantity import commission
from hawser.core.rules.sizes import PLENTY, UNBOUND, Limits, only_cap
from hawser.core.rules.targets import part_and_money
from hawser.core.size_terms import (
    CAPS,
    Cap,
    RungSize,
    Sizing,
    SizingTerms,
    TargetSize,
    below_min,
    check_positions,
    check_stop,
    limits_of,
    within_caps,
)


def ladder_sized(terms: SizingTerms, rule: Ladder) -> Sizing:
    """The largest ladder whose worst case is within the budget and every cap (reckoning section
    8)."""
    request = terms.request
    instrument = terms.instrument
    account = terms.account
    side = terms.request.side
    if account.size.method not in ("risk_percent", "risk_money"):
        raise Refused(
            "bad_request",
            f"Only a risk sizes a ladder, not {account.size.method.replace('_', ' ')}.",
        )
    spacing = ladder_spacing(rule, terms.ref, request.atr / instrument.tick_size)
    levels, stop = lay_rungs(terms.ref, rule.rungs, spacing, float(rule.stop_ticks or 0.0), side)
    stop = int(stop)
    check_stop(terms, stop)
    terms.stand(stop)
    check_positions(request)
    money = money_of(account, instrument, terms.fx)
    factor = float(rule.factor)
    budget = float(terms.budget or 0.0)

    def most(limits: Limits, money_to_lose: float, steps: int) -> int:
        return int(
            ladder_base(
                limits,
                money_to_lose,
                most_steps=steps,
                levels=levels,
                stop=stop,
                factor=factor,
                side=side,
                money=money,
            )
        )

    asked, least = most(UNBOUND, budget, PLENTY), max(1, instrument.qty_min_steps)
    found = [("qty_max", most(UNBOUND, math.inf, instrument.qty_max_steps))]
    found += [
        (name, most(only, math.inf, PLENTY)) for name, only in _one_by_one(limits_of(request))
    ]
    caps, base = within_caps(terms, asked, found)
    if base < least:
        raise below_min(
            terms,
            caps,
            float(ladder_worst(least, levels, stop=stop, factor=factor, side=side, money=money)),
        )
    steps = rung_steps(base, rule.rungs, factor)

    def worst(number: int) -> float:
        return float(
            ladder_worst(base, levels[:number], stop=stop, factor=factor, side=side, money=money)
        )

    rungs, value, total = [], 0.0, 0
    for number, (level, part) in enumerate(
        zip(levels.tolist(), steps.tolist(), strict=True), start=1
    ):
        value, total = value + level * part, total + part
        target = int(common_target(value, total, float(rule.target_ticks), side))
        rungs.append(
            RungSize(
                number=number,
                level=level,
                steps=part,
                average=value / total,
                target=target,
                worst=worst(number),
            )
        )
    return _ladder_answer(terms, stop, asked=asked, base=base, caps=caps, rungs=tuple(rungs))


def _one_by_one(limits: Limits) -> list[tuple[str, Limits]]:
    """Each cap that applies, by itself."""
    applies = [
        limits.margin_rate > 0,
        not math.isnan(limits.max_notional_percent),
        limits.margin_rate > 0 and not math.isnan(limits.max_margin_percent),
        not math.isnan(limits.max_heat_percent),
        not math.isnan(limits.max_currency_heat_percent),
        not math.isnan(limits.day_loss_room),
    ]
    return [
        (name, only_cap(limits, number))
        for number, (name, there) in enumerate(zip(CAPS, applies, strict=True))
        if there
    ]


def _ladder_answer(
    terms: SizingTerms,
    stop: int,
    asked: int,
    base: int,
    caps: tuple[Cap, ...],
    rungs: tuple[RungSize, ...],
) -> Sizing:
    account, instrument, request = terms.account, terms.instrument, terms.request
    step, r_ticks, risk = instrument.step_size, abs(terms.ref - stop), rungs[-1].worst
    total = sum(rung.steps for rung in rungs)
    notional = rungs[-1].average * instrument.tick_size * terms.unit_money * total * step
    basis = (
        account.basis_money(account.size.basis)
        if account.size.method == "risk_percent"
        else account.equity
    )
    entry_fee = commission(base * step, terms.ref_price, terms.fees)
    beyond = request.side * (rungs[0].target - terms.ref)
    part, money = part_and_money(
        1.0,
        base,
        taken=0,
        step=step,
        distance=float(beyond),
        tick_value=terms.tick_value,
        price=rungs[0].target * instrument.tick_size,
        entry_fee=entry_fee,
        fees=terms.fees,
    )
    target = TargetSize(1, rungs[0].target, part, beyond / r_ticks, money)
    if target.level <= 0:  # no price is there: it is off, until the average has risen
        target = TargetSize(1, terms.ref, 0, 0.0, 0.0)
    return Sizing(
        ref=terms.ref,
        stop=stop,
        r_ticks=r_ticks,
        asked_steps=asked,
        steps=base,
        risk_money=risk,
        risk_percent=risk / basis * 100,
        basis_money=basis,
        budget=terms.budget,
        tick_value=terms.tick_value,
        risk_per_unit=risk / (total * step),
        notional=notional,
        equity_used_percent=notional / account.equity * 100,
        margin=notional * instrument.margin_rate,
        spread_percent_of_r=(request.ask - request.bid) / r_ticks * 100,
        targets=(target,),
        merged=(),
        caps=caps,
        slippage_ticks=terms.slippage,
        rungs=rungs,
    )
