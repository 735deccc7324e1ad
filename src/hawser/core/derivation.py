"""How a size came about, step by step: labels and figures with their units, for the screen and
`hawser size` alike."""

from __future__ import annotations

import msgspec

from hawser.core import figures as fg
from hawser.core.account import Account, FiledRate, Rate
from hawser.core.clock import SECOND
from hawser.core.field_parser import described
from hawser.core.fx import used
from hawser.core.instrument import Instrument
from hawser.core.size_terms import SizeRequest, Sizing

AT_RISK = "at_risk"  # the step that tells the whole risk


class DerivationStep(msgspec.Struct, frozen=True):
    """One line of the reckoning: what, the figure with its unit, and which step it is."""

    label: str
    figure: str
    code: str


def derivation(request: SizeRequest, sizing: Sizing) -> tuple[DerivationStep, ...]:
    """The steps of the reckoning, each with its unit, in the order a trader would work them."""
    account, instrument = request.account, request.instrument
    currency = account.currency
    steps = [
        _budget_step(account, instrument, sizing),
        DerivationStep(_stop_label(request), instrument.price(sizing.stop), "stop"),
    ]
    steps.append(DerivationStep("R, entry to stop", f"{sizing.r_ticks} t", "r"))
    steps.append(
        DerivationStep(
            "1 tick \u00d7 1 unit", f"{sizing.tick_value:.6g}{fg.GROUP}{currency}", "tick_value"
        )
    )
    steps += _rates(request)
    if sizing.slippage_ticks:
        steps.append(
            DerivationStep(
                "expected slippage, in and out", f"{sizing.slippage_ticks:g} t", "slippage"
            )
        )
    steps += _rungs(request, sizing) if sizing.rungs else _quantity(request, sizing)
    bound = [cap for cap in sizing.caps if cap.bound]
    steps += [
        DerivationStep(
            f"cut by {cap.name.replace('_', ' ')}", f"{instrument.qty(cap.steps)} units", "cap"
        )
        for cap in bound
    ]
    return (*steps, *_whole(request, sizing))


def _rates(request: SizeRequest) -> list[DerivationStep]:
    """The conversion rates it stands on, where each is from and how old it is."""
    account, found = request.account, list[DerivationStep]()
    for pair, rate in used(request.instrument.quote, account.currency, account.rates):
        source, _, target = pair.partition("/")
        mid, age_s = (rate.mid, rate.age_s) if isinstance(rate, Rate) else (rate, 0.0)
        whose = ", from the account's file" if isinstance(rate, FiledRate) else ""
        age = f", {fg.duration(int(age_s) * SECOND)} old" if age_s >= 1 else ""
        found.append(DerivationStep(f"1 {source} in {target}{whose}{age}", f"{mid:.6g}", "rate"))
    return found


def _quantity(request: SizeRequest, sizing: Sizing) -> list[DerivationStep]:
    """From the risk of one unit to the quantity."""
    instrument = request.instrument
    currency = request.account.currency
    steps = list[DerivationStep]()
    qty = sizing.steps * instrument.step_size
    fees = sizing.risk_money - qty * (sizing.r_ticks + sizing.slippage_ticks) * sizing.tick_value
    if fees > 0:
        steps.append(DerivationStep("commission, in and out", fg.money(fees, currency), "fees"))
    steps.append(
        DerivationStep("risk of 1 unit", fg.money(sizing.risk_per_unit, currency), "unit_risk")
    )
    if sizing.budget is not None:
        exact = fg.number(sizing.budget / sizing.risk_per_unit, instrument.qty_digits + 2)
        label = (
            f"{fg.amount(sizing.budget, currency)} \u00f7 "
            f"{fg.amount(sizing.risk_per_unit, currency)}"
        )
        steps.append(DerivationStep(label, f"{exact} units", "quotient"))
        steps.append(
            DerivationStep(
                f"down to the step {instrument.qty_step}",
                f"{instrument.qty(sizing.asked_steps)} units",
                "step",
            )
        )
    return steps


def _rungs(request: SizeRequest, sizing: Sizing) -> list[DerivationStep]:
    """The rungs of a ladder: what each adds, the average and the target then, and what all would
    lose."""
    instrument = request.instrument
    currency = request.account.currency
    found = list[DerivationStep]()
    for rung in sizing.rungs:
        average = instrument.price(round(rung.average))
        found.append(
            DerivationStep(
                f"rung {rung.number} at {instrument.price(rung.level)}",
                f"{instrument.qty(rung.steps)} units",
                "rung",
            )
        )
        out = instrument.price(rung.target) if rung.target > 0 else "no price above zero"
        found.append(DerivationStep(f"  average {average}, out at", out, "rung_average"))
        found.append(
            DerivationStep(
                "  stopped then", fg.money(-rung.worst, currency, sign=True), "rung_stopped"
            )
        )
    return found


def _whole(request: SizeRequest, sizing: Sizing) -> list[DerivationStep]:
    """What all of it risks, is worth and needs."""
    account, currency, steps = request.account, request.account.currency, list[DerivationStep]()
    basis = (
        account.size.basis.replace("_", " ") if account.size.method == "risk_percent" else "equity"
    )
    label = f"at risk = {fg.percent(sizing.risk_percent, 3)} of {basis}"
    steps.append(DerivationStep(label, fg.money(sizing.risk_money, currency), AT_RISK))
    steps.append(
        DerivationStep(
            f"notional, {fg.percent(sizing.equity_used_percent)} of equity",
            fg.money(sizing.notional, currency),
            "notional",
        )
    )
    steps.append(DerivationStep("margin", fg.money(sizing.margin, currency), "margin"))
    steps.append(
        DerivationStep(
            f"spread {request.ask - request.bid} t",
            f"{fg.percent(sizing.spread_percent_of_r)} of R",
            "spread",
        )
    )
    return steps


def _budget_step(account: Account, instrument: Instrument, sizing: Sizing) -> DerivationStep:
    """What the size starts from."""
    rule = account.size
    if rule.method == "risk_percent":
        assert sizing.budget is not None
        basis = fg.amount(sizing.basis_money, account.currency)
        label = f"{rule.basis.replace('_', ' ')} {basis} \u00d7 {rule.percent:g} %"
        return DerivationStep(label, fg.money(sizing.budget, account.currency), "budget")
    if sizing.budget is not None:
        return DerivationStep("risk budget", fg.money(sizing.budget, account.currency), "budget")
    return DerivationStep(
        f"size by {rule.method.replace('_', ' ')}",
        f"{instrument.qty(sizing.asked_steps)} units",
        "budget",
    )


def _stop_label(request: SizeRequest) -> str:
    rule, ladder = request.stop, request.ladder
    if ladder is not None:
        return f"common stop, {ladder.stop_ticks:g} t beyond the last rung"
    if rule is None or rule.kind == "money" or request.account.size.method == "invest":
        return "farthest stop the money allows"
    if rule.kind == "atr":
        return f"stop {rule.atr:g} \u00d7 ATR {request.atr:.{request.instrument.price_digits + 1}f}"
    if rule.from_bars:
        return f"stop {described(rule)}"
    unit = {"percent": " %", "ticks": " t", "price": ""}[rule.kind]
    return "stop at a price" if rule.kind == "price" else f"stop {rule.value:g}{unit} from entry"
