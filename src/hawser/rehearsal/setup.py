"""How an account sizes, as the numbers that the compiled rehearsal reads."""

from __future__ import annotations

from hawser.core.account import Account
from hawser.core.instrument import Instrument
from hawser.core.numbers import or_nan
from hawser.core.rules import sizes
from hawser.core.sizing import METHODS
from hawser.rehearsal import entries

BASES = {
    "equity": entries.EQUITY,
    "balance": entries.BALANCE,
    "free_margin": entries.OF_FREE_MARGIN,
}


def sizer_of(account: Account, instrument: Instrument) -> entries.Sizer:
    """How the account sizes. A fixed quantity off the step sizes nothing (`qty_off_step`)."""
    rule, policy = account.size, account.policy
    given, method = 0, METHODS.get(rule.method, sizes.GIVEN)
    if rule.method == "fixed":
        assert rule.qty is not None  # checked when the rule was made
        given = instrument.steps(rule.qty) or -1
    percent = rule.percent if rule.method != "risk_money" else None
    return entries.Sizer(
        method=method,
        percent=or_nan(percent),
        amount=float(rule.amount or 0.0),
        multiple=float(rule.multiple or 0.0),
        given=given,
        basis=BASES[rule.basis],
        balance_off=account.basis_money("balance") - account.equity,
        margin_used=float(account.margin_used),
        margin_rate=float(instrument.margin_rate),
        max_notional_percent=or_nan(policy.max_notional_percent),
        max_margin_percent=or_nan(policy.max_margin_percent),
        max_heat_percent=or_nan(policy.max_heat_percent),
        max_currency_heat_percent=or_nan(policy.max_currency_heat_percent),
        fit=policy.caps == "fit",
        qty_max=instrument.qty_max_steps,
        qty_min=instrument.qty_min_steps,
        most_positions=-1 if policy.max_positions is None else policy.max_positions,
    )
