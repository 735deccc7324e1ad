"""The size of one trade, exact and explained (reckoning sections 4 to 6).

`sized` is the one answer used by the screen, the engine and `hawser size`. It raises Refused with the
reckoning's codes, in the reckoning's order.
"""

from __future__ import annotations

import math

import msgspec

from hawser.core import figures as fg
from hawser.core.account import Account, SizeRule
from hawser.core.errors import Refused
from hawser.core.fx import convert
from hawser.core.instrument import Instrument
from hawser.core.levels import StopRule, TargetRule
from hawser.core.rig import Ladder
from hawser.core.rules.quantity import commission, money_stop_distance, risk_of
from hawser.core.rules.sizes import (
    ALL,
    BUDGET,
    NOTIONAL,
    VOLATILITY,
    AtStop,
    Limits,
    asked_steps,
    cap_steps,
    steps_of_notional,
)
from hawser.core.rules.stops import STOP_NOT_POSITIVE, STOP_OK, STOP_WRONG_SIDE, stop_verdict
from hawser.core.rules.targets import part_and_money


class SizeRequest(msgspec.Struct, frozen=True, kw_only=True):
    """What a size follows from. `bid`, `ask` and `entry` in ticks; `atr`, and `basis` for a stop taken from bars, in
    price units (NaN: not yet known); heat and room in the account's currency."""

    instrument: Instrument
    account: Account
    side: int
    bid: int
    ask: int
    atr: float = math.nan
    basis: float = math.nan
    stop: StopRule | None = None
    targets: tuple[TargetRule, ...] = ()
    entry: int | None = None
    open_heat: float = 0.0
    open_heat_by_currency: dict[str, float] = {}
    positions: int = 0
    day_loss_room: float | None = None
    ladder: Ladder | None = None  # it brings its own stop and target

    @property
    def ref(self) -> int:
        """The expected entry, in ticks."""
        if self.entry is not None:
            return self.entry
        return self.ask if self.side > 0 else self.bid

    @property
    def exit_side(self) -> int:
        """The side of the quote a stop triggers on; for a pending order its level less or plus the spread."""
        if self.entry is not None:
            return self.entry - self.side * (self.ask - self.bid)
        return self.bid if self.side > 0 else self.ask


class TargetSize(msgspec.Struct, frozen=True, gc=False):
    """A target: its number in the plan, level (ticks), quantity (steps; 0 where off or merged), R, net money."""

    number: int
    level: int
    steps: int
    r: float
    money: float


class RungSize(msgspec.Struct, frozen=True, gc=False):
    """A rung of a ladder, 1 being the entry: its level (ticks) and quantity (steps); the average entry and the common
    target (ticks; at 0 or below it is off) once it has filled, and what all would lose at the stop then (money)."""

    number: int
    level: int
    steps: int
    average: float
    target: int
    worst: float


class Cap(msgspec.Struct, frozen=True, gc=False):
    """The most one cap allows, in steps, and whether it is the one that cut the quantity."""

    name: str
    steps: int
    bound: bool = False


class Sizing(msgspec.Struct, frozen=True, kw_only=True, gc=False):
    """The answer. Levels and `r_ticks` in ticks, `asked_steps` and `steps` in steps, money unrounded. Of a ladder,
    `steps` are its first rung's, and the money is that of the whole ladder."""

    ref: int
    stop: int
    r_ticks: int
    asked_steps: int
    steps: int
    risk_money: float
    risk_percent: float
    basis_money: float
    budget: float | None
    tick_value: float
    risk_per_unit: float
    notional: float
    equity_used_percent: float
    margin: float
    spread_percent_of_r: float
    targets: tuple[TargetSize, ...]
    merged: tuple[int, ...]
    caps: tuple[Cap, ...]
    slippage_ticks: float
    rungs: tuple[RungSize, ...] = ()

    @property
    def whole_steps(self) -> int:
        """All that may be entered: of a ladder, every rung."""
        return sum(rung.steps for rung in self.rungs) or self.steps


class SizingTerms:
    """The figures one request keeps coming back to."""

    def __init__(self, request: SizeRequest) -> None:
        instrument, account = request.instrument, request.account
        self.request, self.instrument, self.account = request, instrument, account
        self.fx = convert(instrument.quote, account.currency, account.rates, account.policy.max_rate_age_s)
        self.unit_money = float(instrument.multiplier * self.fx)
        self.tick_value = instrument.tick_size * self.unit_money
        self.ref = request.ref
        self.ref_price = self.ref * instrument.tick_size
        # A whole number given for a float would be another type to the compiled rules.
        self.slippage = float(account.costs.entry_slippage_ticks + account.costs.exit_slippage_ticks)
        fees = instrument.commission
        self.fees = (self.unit_money, float(fees.per_unit), float(fees.per_notional), float(fees.minimum))
        self.unit_notional = self.ref_price * self.unit_money
        self.step_notional = self.unit_notional * instrument.step_size
        self.budget = budget_of(account, account.size)

    def stand(self, stop: int) -> None:
        """The stop is known: so is what a unit loses at it."""
        loss = abs(self.ref - stop) + self.slippage
        self.at_stop = AtStop(loss, self.tick_value, self.ref_price, stop * self.instrument.tick_size, *self.fees)

    def risk(self, qty: float) -> float:
        return risk_of(qty, *self.at_stop)

    def money_stop(self, budget: float, qty: float) -> int:
        """The farthest stop whose whole risk at `qty` is within `budget`."""
        side = self.request.side
        tick, fees = self.instrument.tick_size, self.fees
        far = money_stop_distance(budget, qty, side, self.ref, tick, self.slippage, self.tick_value, *fees)
        if far < 0:
            sentence = f"The costs alone exceed the risk of {fg.money(budget, self.account.currency)}."
            raise Refused("costs_exceed_risk", sentence, risk=budget)
        return self.ref - side * far


def sized(request: SizeRequest) -> Sizing:
    """Size one trade; raises Refused with the first refusal in the reckoning's order."""
    terms = SizingTerms(request)
    _need_indicators(request)
    if request.ladder is not None:
        from hawser.core.rungs import ladder_sized  # noqa: PLC0415  # it brings NumPy, which a plain size needs not

        return ladder_sized(terms, request.ladder)
    given = _given_steps(terms)
    stop = _stop(terms, given)
    asked = given if given is not None else _asked_steps(terms)
    _check_targets(terms, stop)
    check_positions(request)
    caps, steps = within_caps(terms, asked, _cap_limits(terms))
    if steps < max(1, request.instrument.qty_min_steps):
        raise below_min(terms, caps)
    return _answer(terms, stop, asked, steps, caps)


def check_positions(request: SizeRequest) -> None:
    policy = request.account.policy
    if policy.max_positions is not None and request.positions >= policy.max_positions:
        sentence = f"{request.positions} positions are open; the policy allows {policy.max_positions}."
        raise Refused("max_positions", sentence, positions=request.positions, max_positions=policy.max_positions)


def _need_indicators(request: SizeRequest) -> None:
    if not request.atr > 0 and _needs_atr(request):
        raise Refused("indicator_not_ready", "The ATR has no value yet: more completed bars are needed.")
    stop = _stop_asked(request)
    if stop is not None and stop.from_bars and not request.basis > 0:
        raise Refused("indicator_not_ready", f"The stop's {stop.kind} has no value yet: more bars are needed.")


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
            sentence = f"The quantity {rule.qty} is not a whole number of steps of {instrument.qty_step}."
            raise Refused("qty_off_step", sentence, qty=str(rule.qty), qty_step=str(instrument.qty_step))
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
        stop = terms.money_stop(budget, max(given, instrument.qty_min_steps, 1) * instrument.step_size)
    elif request.stop is None:
        raise Refused("bad_request", "stop: expected one of atr, percent, ticks, price.")
    else:
        spread = request.ask - request.bid
        stop = request.stop.level(instrument, terms.ref, request.atr, request.side, request.basis, spread)
    check_stop(terms, stop)
    terms.stand(stop)
    return stop


def check_stop(terms: SizingTerms, stop: int) -> None:
    request, instrument = terms.request, terms.instrument
    verdict = stop_verdict(stop, terms.ref, request.exit_side, request.side, instrument.min_stop_ticks)
    if verdict == STOP_OK:
        return
    level, least = instrument.price(stop), max(1, instrument.min_stop_ticks)
    if verdict == STOP_NOT_POSITIVE:
        raise Refused("stop_not_positive", f"The stop would be at {level}, at or below zero.", stop=level)
    if verdict == STOP_WRONG_SIDE:
        where = "below" if request.side > 0 else "above"
        sentence = f"The stop {level} is not {where} the entry {instrument.price(terms.ref)}."
        raise Refused("stop_wrong_side", sentence, stop=level, ref=instrument.price(terms.ref))
    near = abs(request.exit_side - stop)
    sentence = f"The stop {level} is {near} ticks from {instrument.price(request.exit_side)}; at least {least}."
    raise Refused("stop_too_near", sentence, stop=level, least_ticks=least)


METHODS = {"risk_percent": BUDGET, "risk_money": BUDGET, "volatility": VOLATILITY, "notional_percent": NOTIONAL}


def _asked_steps(terms: SizingTerms) -> int:
    """The quantity the method asks for, before caps, in steps."""
    rule, account = terms.account.size, terms.account
    return asked_steps(
        METHODS[rule.method], float(terms.budget or 0.0), float(rule.percent or 0.0), float(rule.multiple or 0.0),
        float(account.equity), float(terms.request.atr), terms.instrument.step_size, terms.at_stop,
    )  # fmt: skip


def budget_of(account: Account, rule: SizeRule) -> float | None:
    if rule.method == "risk_percent":
        assert rule.percent is not None
        return rule.percent / 100.0 * account.basis_money(rule.basis)
    if rule.method == "risk_money":
        return rule.amount
    return rule.risk if rule.method == "invest" else None


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
            sentence = f"The target {shown} is not {where} the entry {terms.instrument.price(terms.ref)}."
            raise Refused("target_wrong_side", sentence, target=shown)


CAPS = (
    "free_margin", "max_notional_percent", "max_margin_percent", "max_heat_percent", "max_currency_heat_percent",
    "day_loss_room",
)  # fmt: skip


def limits_of(request: SizeRequest) -> Limits:
    """What the caps go by."""
    account, policy, instrument = request.account, request.account.policy, request.instrument
    taken = max(request.open_heat_by_currency.get(name, 0.0) for name in instrument.exposure)
    return Limits(
        float(account.equity), float(account.free_margin), float(instrument.margin_rate),
        _or_nan(policy.max_notional_percent), _or_nan(policy.max_margin_percent), _or_nan(policy.max_heat_percent),
        _or_nan(policy.max_currency_heat_percent), _or_nan(request.day_loss_room), float(request.open_heat),
        float(taken),
    )  # fmt: skip


def _or_nan(value: float | None) -> float:
    return math.nan if value is None else float(value)


def _cap_limits(terms: SizingTerms) -> list[tuple[str, int]]:
    """Every cap that applies with the most steps it allows, in the reckoning's order."""
    found = cap_steps(limits_of(terms.request), terms.instrument.step_size, terms.at_stop)
    limits = [(name, steps) for name, steps in zip(CAPS, found, strict=True) if steps != ALL]
    return [("qty_max", terms.instrument.qty_max_steps), *limits]


def within_caps(terms: SizingTerms, asked: int, limits: list[tuple[str, int]]) -> tuple[tuple[Cap, ...], int]:
    """The caps as they are told, and the steps they leave of those `asked`; raises Refused where the policy does."""
    steps = asked
    for _, most in limits:
        steps = min(steps, most)
    if steps == asked:
        return tuple([Cap(name, most) for name, most in limits]), steps
    if terms.account.policy.caps == "refuse":
        first = next(name for name, most in limits if most < asked)
        least = next(name for name, most in limits if most == steps)
        shown, most_qty = terms.instrument.qty(asked), terms.instrument.qty(steps)
        sentence = f"The quantity {shown} exceeds {first}; the most that all caps allow is {most_qty}."
        raise Refused(first, sentence, asked=shown, most=most_qty, tightest=least)
    binding = next(name for name, most in limits if most == steps)
    return tuple(Cap(name, most, name == binding) for name, most in limits), steps


def below_min(terms: SizingTerms, caps: tuple[Cap, ...], risk: float | None = None) -> Refused:
    """`risk`: what the minimum would risk, where it is not the plain risk of a quantity."""
    instrument = terms.instrument
    least = max(1, instrument.qty_min_steps)
    money = terms.risk(least * instrument.step_size) if risk is None else risk
    currency = terms.account.currency
    sentence = (
        f"The size is below the minimum of {instrument.qty(least)}, which would risk {fg.money(money, currency)}."
    )
    cap = next((cap for cap in caps if cap.bound), None)
    if cap is not None:
        sentence = f"The cap {cap.name} leaves room for {instrument.qty(cap.steps)}. {sentence}"
    return Refused("below_min", sentence, qty_min=instrument.qty(least), min_risk=money)


def _split_targets(terms: SizingTerms, stop: int, steps: int) -> tuple[tuple[TargetSize, ...], tuple[int, ...]]:
    """Every target with what it takes, 0 where it is off or merged, and the numbers of the merged (section 6)."""
    request, instrument = terms.request, terms.instrument
    step, tick, r_ticks = instrument.step_size, instrument.tick_size, abs(terms.ref - stop)
    qty = steps * step
    entry_fee = commission(qty, terms.ref_price, *terms.fees)
    found: list[TargetSize] = []
    merged: list[int] = []
    share, taken = 0.0, 0
    for number, rule in enumerate(request.targets, start=1):
        level = terms.ref if rule.off else rule.level(instrument, terms.ref, r_ticks, request.atr, request.side)
        if level == terms.ref or level <= 0:  # off
            found.append(TargetSize(number, terms.ref, 0, 0.0, 0.0))
            continue
        share += rule.share
        distance = request.side * (level - terms.ref)
        part, money = part_and_money(
            share, steps, taken, step, float(distance), terms.tick_value, level * tick, entry_fee, *terms.fees
        )
        taken += part
        if not part:
            merged.append(number)
        found.append(TargetSize(number, level, part, distance / r_ticks, money))
    return tuple(found), tuple(merged)


def _answer(terms: SizingTerms, stop: int, asked: int, steps: int, caps: tuple[Cap, ...]) -> Sizing:
    account, instrument, request = terms.account, terms.instrument, terms.request
    qty, r_ticks = steps * instrument.step_size, abs(terms.ref - stop)
    risk, notional = terms.risk(qty), qty * terms.unit_notional
    rule = account.size
    basis = account.basis_money(rule.basis) if rule.method == "risk_percent" else account.equity
    targets, merged = _split_targets(terms, stop, steps)
    return Sizing(
        ref=terms.ref, stop=stop, r_ticks=r_ticks, asked_steps=asked, steps=steps, risk_money=risk,
        risk_percent=risk / basis * 100, basis_money=basis, budget=terms.budget,
        tick_value=terms.tick_value, risk_per_unit=risk / qty, notional=notional,
        equity_used_percent=notional / account.equity * 100, margin=notional * instrument.margin_rate,
        spread_percent_of_r=(request.ask - request.bid) / r_ticks * 100, targets=targets, merged=merged, caps=caps,
        slippage_ticks=terms.slippage,
    )  # fmt: skip
