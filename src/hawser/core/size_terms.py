"""What a size follows from, what came of it, and what every way to size shares: the figures of one
request, the checks of the stop and the caps (reckoning sections 4 to 6).
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
from hawser.core.numbers import or_nan
from hawser.core.rig import Ladder
from hawser.core.rules.quantity import AtStop, money_stop_distance, risk_of
from hawser.core.rules.sizes import Limits
from hawser.core.rules.stops import STOP_NOT_POSITIVE, STOP_OK, STOP_WRONG_SIDE, stop_verdict


class SizeRequest(msgspec.Struct, frozen=True, kw_only=True):
    """What a size follows from. `bid`, `ask` and `entry` in ticks; `atr`, and `basis` for a stop
    taken from bars, in price units (NaN: not yet known); heat and room in the account's
    currency."""

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
        """The side of the quote a stop triggers on; for a pending order its level less or plus the
        spread."""
        if self.entry is not None:
            return self.entry - self.side * (self.ask - self.bid)
        return self.bid if self.side > 0 else self.ask


class TargetSize(msgspec.Struct, frozen=True, gc=False):
    """A target: its number in the plan, level (ticks), quantity (steps; 0 where off or merged), R,
    net money."""

    number: int
    level: int
    steps: int
    r: float
    money: float


class RungSize(msgspec.Struct, frozen=True, gc=False):
    """A rung of a ladder, 1 being the entry: its level (ticks) and quantity (steps); the average
    entry and the common target (ticks; at 0 or below it is off) once it has filled, and what all
    would lose at the stop then (money)."""

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
    """The answer. Levels and `r_ticks` in ticks, `asked_steps` and `steps` in steps, money
    unrounded. Of a ladder, `steps` are its first rung's, and the money is that of the whole
    ladder."""

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
        self.fx = convert(
            instrument.quote, account.currency, account.rates, account.policy.max_rate_age_s
        )
        self.unit_money = float(instrument.multiplier * self.fx)
        self.tick_value = instrument.tick_size * self.unit_money
        self.ref = request.ref
        self.ref_price = self.ref * instrument.tick_size
        # A whole number given for a float would be another type to the compiled rules.
        self.slippage = float(
            account.costs.entry_slippage_ticks + account.costs.exit_slippage_ticks
        )
        self.fees = instrument.fees(self.unit_money)
        self.unit_notional = self.ref_price * self.unit_money
        self.step_notional = self.unit_notional * instrument.step_size
        self.budget = budget_of(account, account.size)

    def stand(self, stop: int) -> None:
        """The stop is known: so is what a unit loses at it."""
        loss = abs(self.ref - stop) + self.slippage
        self.at_stop = AtStop(
            loss, self.tick_value, self.ref_price, stop * self.instrument.tick_size, self.fees
        )

    def risk(self, qty: float) -> float:
        return risk_of(qty, self.at_stop)

    def money_stop(self, budget: float, qty: float) -> int:
        """The farthest stop whose whole risk at `qty` is within `budget`."""
        side, tick = self.request.side, self.instrument.tick_size
        far = money_stop_distance(
            budget,
            qty,
            side=side,
            ref_ticks=self.ref,
            tick=tick,
            slippage=self.slippage,
            fees=self.fees,
        )
        if far < 0:
            sentence = (
                f"The costs alone exceed the risk of {fg.money(budget, self.account.currency)}."
            )
            raise Refused("costs_exceed_risk", sentence, risk=budget)
        return self.ref - side * far


def budget_of(account: Account, rule: SizeRule) -> float | None:
    if rule.method == "risk_percent":
        assert rule.percent is not None
        return rule.percent / 100.0 * account.basis_money(rule.basis)
    if rule.method == "risk_money":
        return rule.amount
    return rule.risk if rule.method == "invest" else None


def check_positions(request: SizeRequest) -> None:
    policy = request.account.policy
    if policy.max_positions is not None and request.positions >= policy.max_positions:
        sentence = (
            f"{request.positions} positions are open; the policy allows {policy.max_positions}."
        )
        raise Refused(
            "max_positions",
            sentence,
            positions=request.positions,
            max_positions=policy.max_positions,
        )


def check_stop(terms: SizingTerms, stop: int) -> None:
    request, instrument = terms.request, terms.instrument
    verdict = stop_verdict(
        stop, terms.ref, request.exit_side, request.side, instrument.min_stop_ticks
    )
    if verdict == STOP_OK:
        return
    level, least = instrument.price(stop), max(1, instrument.min_stop_ticks)
    if verdict == STOP_NOT_POSITIVE:
        raise Refused(
            "stop_not_positive", f"The stop would be at {level}, at or below zero.", stop=level
        )
    if verdict == STOP_WRONG_SIDE:
        where = "below" if request.side > 0 else "above"
        sentence = f"The stop {level} is not {where} the entry {instrument.price(terms.ref)}."
        raise Refused("stop_wrong_side", sentence, stop=level, ref=instrument.price(terms.ref))
    # From the exit side, because that is what the venue measures from: the spread is a part of the
    # distance.
    near = abs(request.exit_side - stop)
    sentence = (
        f"The stop {level} is {near} ticks from {instrument.price(request.exit_side)}; at "
        f"least {least}."
    )
    raise Refused("stop_too_near", sentence, stop=level, least_ticks=least)


CAPS = (
    "free_margin",
    "max_notional_percent",
    "max_margin_percent",
    "max_heat_percent",
    "max_currency_heat_percent",
    "day_loss_room",
)


def limits_of(request: SizeRequest) -> Limits:
    """What the caps go by."""
    account, policy, instrument = request.account, request.account.policy, request.instrument
    taken = max(request.open_heat_by_currency.get(name, 0.0) for name in instrument.exposure)
    return Limits(
        equity=float(account.equity),
        free_margin=float(account.free_margin),
        margin_rate=float(instrument.margin_rate),
        max_notional_percent=or_nan(policy.max_notional_percent),
        max_margin_percent=or_nan(policy.max_margin_percent),
        max_heat_percent=or_nan(policy.max_heat_percent),
        max_currency_heat_percent=or_nan(policy.max_currency_heat_percent),
        day_loss_room=or_nan(request.day_loss_room),
        open_heat=float(request.open_heat),
        currency_heat=float(taken),
    )


def within_caps(
    terms: SizingTerms, asked: int, limits: list[tuple[str, int]]
) -> tuple[tuple[Cap, ...], int]:
    """The caps as they are told, and the steps they leave of those `asked`; raises Refused where
    the policy does."""
    # The tightest of all caps binds, whatever its place; the place decides on a tie, and whose name
    # a refusal has.
    steps = asked
    for _, most in limits:
        steps = min(steps, most)
    if steps == asked:
        return tuple([Cap(name, most) for name, most in limits]), steps
    if terms.account.policy.caps == "refuse":
        first = next(name for name, most in limits if most < asked)
        least = next(name for name, most in limits if most == steps)
        shown, most_qty = terms.instrument.qty(asked), terms.instrument.qty(steps)
        sentence = (
            f"The quantity {shown} exceeds {first}; the most that all caps allow is {most_qty}."
        )
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
        f"The size is below the minimum of {instrument.qty(least)}, which would risk "
        f"{fg.money(money, currency)}."
    )
    cap = next((cap for cap in caps if cap.bound), None)
    if cap is not None:
        sentence = f"The cap {cap.name} leaves room for {instrument.qty(cap.steps)}. {sentence}"
    return Refused("below_min", sentence, qty_min=instrument.qty(least), min_risk=money)
