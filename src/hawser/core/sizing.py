"""The size of one trade, exact and explained (reckoning sections 4 to 6).

`sized` is the one answer used by the screen, the engine and `hawser size`. It raises Refused with
the reckoning's codes, in the reckoning's order.
"""

from __future__ import annotations

from hawser.core.errors import Refused
from hawser.core.levels import StopRule, TargetRule
from hawser.core.rules.sizes import (
    ALL,
    BUDGET,
    GIVEN,
    NOTIONAL,
    VOLATILITY,
    Quantity,
    quantity,
    steps_of_notional,
)
from hawser.core.rules.targets import part_and_money
from hawser.core.size_terms import (
    CAPS,
    Cap,
    SizeRequest,
    Sizing,
    SizingTerms,
    TargetSize,
    below_min,
    check_positions,
    check_stop,
    limits_of,
    within_caps,
)


def sized(request: SizeRequest) -> Sizing:
    """Size one trade; raises Refused with the first refusal in the reckoning's order."""
    # Each line may refuse. Their order is the reckoning's (section 5), so that the same request is
    # refused for the same reason on the screen, in the engine and in a file.
    terms = SizingTerms(request)
    check_indicators(request)
    if request.ladder is not None:
        # it brings NumPy, which a plain size needs not
        from hawser.core.rungs import ladder_sized  # noqa: PLC0415

        return ladder_sized(terms, request.ladder)
    # A quantity that is given comes before the stop, because a stop by money follows from it.
    given = _given_steps(terms)
    stop = _stop(terms, given)
    _check_targets(terms, stop)
    check_positions(request)
    found = _quantity(terms, given)
    caps, steps = within_caps(terms, found.asked, _cap_limits(terms, found))
    if steps < max(1, request.instrument.qty_min_steps):
        raise below_min(terms, caps)
    return _answer(terms, stop, found, caps)


def check_indicators(request: SizeRequest) -> None:
    """Raise Refused `indicator_not_ready` where the ATR or what the stop stands on has no value
    yet."""
    if not request.atr > 0 and _needs_atr(request):
        raise Refused(
            "indicator_not_ready", "The ATR has no value yet: more completed bars are needed."
        )
    stop = _stop_asked(request)
    if stop is not None and stop.from_bars and not request.basis > 0:
        raise Refused(
            "indicator_not_ready",
            f"The stop's {stop.kind} has no value yet: more bars are needed.",
        )


def _stop_asked(request: SizeRequest) -> StopRule | None:
    """The stop that is looked at: where money is invested, its risk is the stop."""
    return None if request.account.size.method == "invest" else request.stop


def _needs_atr(request: SizeRequest) -> bool:
    rules = [_stop_asked(request), *(rule for rule in request.targets if not rule.off)]
    spaced = request.ladder is not None and request.ladder.spacing.atr is not None
    sized_by = request.account.size.method == "volatility"
    return sized_by or spaced or any(rule is not None and rule.kind == "atr" for rule in rules)


def _given_steps(terms: SizingTerms) -> int | None:
    """The quantity where the method fixes it before the stop is known (`fixed`, `invest`)."""
    rule, instrument = terms.account.size, terms.instrument
    if rule.method == "fixed":
        assert rule.qty is not None  # checked when the rule was made
        steps = instrument.steps(rule.qty)
        if steps is None:
            sentence = (
                f"The quantity {rule.qty} is not a whole number of steps of {instrument.qty_step}."
            )
            raise Refused(
                "qty_off_step", sentence, qty=str(rule.qty), qty_step=str(instrument.qty_step)
            )
        return steps
    if rule.method == "invest":
        assert rule.amount is not None
        return steps_of_notional(float(rule.amount), terms.step_notional)
    return None


def _stop(terms: SizingTerms, given: int | None) -> int:
    request, instrument, rule = terms.request, terms.instrument, terms.account.size
    if rule.method == "invest" or (request.stop is not None and request.stop.money is not None):
        if given is None:
            raise Refused("bad_request", "A stop by money needs a fixed quantity.")
        budget = rule.risk if rule.method == "invest" else request.stop.money  # type: ignore[union-attr]
        assert budget is not None
        stop = terms.money_stop(
            budget, max(given, instrument.qty_min_steps, 1) * instrument.step_size
        )
    elif request.stop is None:
        raise Refused("bad_request", "stop: expected one of atr, percent, ticks, price.")
    else:
        spread = request.ask - request.bid
        stop = request.stop.level(
            instrument,
            terms.ref,
            atr=request.atr,
            side=request.side,
            basis=request.basis,
            spread=spread,
        )
    check_stop(terms, stop)
    terms.stand(stop)
    return stop


METHODS = {
    "risk_percent": BUDGET,
    "risk_money": BUDGET,
    "volatility": VOLATILITY,
    "notional_percent": NOTIONAL,
}


def _quantity(terms: SizingTerms, given: int | None) -> Quantity:
    """What the method asks for, what the caps allow, and what that risks: one call, because each
    costs more than it works out."""
    rule, instrument = terms.account.size, terms.instrument
    return quantity(
        METHODS[rule.method] if given is None else GIVEN,
        given or 0,
        float(terms.budget or 0.0),
        percent=float(rule.percent or 0.0),
        multiple=float(rule.multiple or 0.0),
        atr=float(terms.request.atr),
        step=instrument.step_size,
        most=instrument.qty_max_steps,
        limits=limits_of(terms.request),
        at_stop=terms.at_stop,
    )


def _target_level(terms: SizingTerms, rule: TargetRule, stop: int) -> int:
    request = terms.request
    return rule.level(terms.instrument, terms.ref, abs(terms.ref - stop), request.atr, request.side)


def _check_targets(terms: SizingTerms, stop: int) -> None:
    side = terms.request.side
    for rule in terms.request.targets:
        if rule.price is None or rule.off:
            continue
        level = _target_level(terms, rule, stop)
        if side * (level - terms.ref) < 0:
            shown = terms.instrument.price(level)
            where = "above" if side > 0 else "below"
            sentence = (
                f"The target {shown} is not {where} the entry {terms.instrument.price(terms.ref)}."
            )
            raise Refused("target_wrong_side", sentence, target=shown)


def _cap_limits(terms: SizingTerms, found: Quantity) -> list[tuple[str, int]]:
    """Every cap that applies with the most steps it allows, in the reckoning's order."""
    limits = [(name, steps) for name, steps in zip(CAPS, found.caps, strict=True) if steps != ALL]
    return [("qty_max", terms.instrument.qty_max_steps), *limits]


def _split_targets(
    terms: SizingTerms, stop: int, steps: int, entry_fee: float
) -> tuple[tuple[TargetSize, ...], tuple[int, ...]]:
    """Every target with what it takes, 0 where it is off or merged, and the numbers of the merged
    (section 6)."""
    request, instrument = terms.request, terms.instrument
    step, tick, r_ticks = instrument.step_size, instrument.tick_size, abs(terms.ref - stop)
    found: list[TargetSize] = []
    merged: list[int] = []
    share, taken = 0.0, 0
    for number, rule in enumerate(request.targets, start=1):
        level = (
            terms.ref
            if rule.off
            else rule.level(instrument, terms.ref, r_ticks, request.atr, request.side)
        )
        if level == terms.ref or level <= 0:  # off
            found.append(TargetSize(number, terms.ref, 0, 0.0, 0.0))
            continue
        share += rule.share
        distance = request.side * (level - terms.ref)
        part, money = part_and_money(
            share,
            steps,
            taken=taken,
            step=step,
            distance=float(distance),
            tick_value=terms.tick_value,
            price=level * tick,
            entry_fee=entry_fee,
            fees=terms.fees,
        )
        taken += part
        if not part:
            merged.append(number)
        found.append(TargetSize(number, level, part, distance / r_ticks, money))
    return tuple(found), tuple(merged)


def _answer(terms: SizingTerms, stop: int, found: Quantity, caps: tuple[Cap, ...]) -> Sizing:
    account, instrument, request = terms.account, terms.instrument, terms.request
    steps, risk = found.steps, found.risk
    qty, r_ticks = steps * instrument.step_size, abs(terms.ref - stop)
    notional = qty * terms.unit_notional
    rule = account.size
    basis = account.basis_money(rule.basis) if rule.method == "risk_percent" else account.equity
    targets, merged = _split_targets(terms, stop, steps, found.entry_fee)
    return Sizing(
        ref=terms.ref,
        stop=stop,
        r_ticks=r_ticks,
        asked_steps=found.asked,
        steps=steps,
        risk_money=risk,
        risk_percent=risk / basis * 100,
        basis_money=basis,
        budget=terms.budget,
        tick_value=terms.tick_value,
        risk_per_unit=risk / qty,
        notional=notional,
        equity_used_percent=notional / account.equity * 100,
        margin=notional * instrument.margin_rate,
        spread_percent_of_r=(request.ask - request.bid) / r_ticks * 100,
        targets=targets,
        merged=merged,
        caps=caps,
        slippage_ticks=terms.slippage,
    )
