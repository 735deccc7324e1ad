"""A rig and an account as the numbers that the compiled rehearsal reads."""

from __future__ import annotations

import math

import numpy as np

from hawser.core.account import Account
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.core.plan import StopRule, in_ticks
from hawser.core.rig import After, Amount, Measure, Rig
from hawser.core.rules import sizes
from hawser.core.sizing import METHODS
from hawser.rehearsal import entries, loop

TRAILS = {"atr": loop.ATR_TRAIL, "ticks": loop.TICKS_TRAIL, "percent": loop.PERCENT_TRAIL}
BASES = {"equity": entries.EQUITY, "balance": entries.BALANCE, "free_margin": entries.FREE_MARGIN}


def _or_nan(value: float | None) -> float:
    return math.nan if value is None else float(value)


def sizer_of(account: Account, instrument: Instrument) -> entries.Sizer:
    """How the account sizes. A fixed quantity off the step sizes nothing (`qty_off_step`)."""
    rule, policy = account.size, account.policy
    given, method = 0, METHODS.get(rule.method, sizes.GIVEN)
    if rule.method == "fixed":
        assert rule.qty is not None  # checked when the rule was made
        given = instrument.steps(rule.qty) or -1
    percent = rule.percent if rule.method != "risk_money" else None
    return entries.Sizer(
        method, _or_nan(percent), float(rule.amount or 0.0), float(rule.multiple or 0.0), given, BASES[rule.basis],
        account.basis_money("balance") - account.equity, float(account.margin_used), float(instrument.margin_rate),
        _or_nan(policy.max_notional_percent), _or_nan(policy.max_margin_percent), _or_nan(policy.max_heat_percent),
        _or_nan(policy.max_currency_heat_percent), policy.caps == "fit", instrument.qty_max_steps,
        instrument.qty_min_steps, policy.max_positions == 0,
    )  # fmt: skip


def _measures(rules: list[Measure]) -> tuple[Array, Array]:
    kinds = {"r": entries.R, "ticks": entries.TICKS, "percent": entries.PERCENT, "atr": entries.ATR}
    named = [next((key, getattr(one, key)) for key in kinds if getattr(one, key) is not None) for one in rules]
    return np.array([kinds[key] for key, _ in named], np.int64), np.array([value for _, value in named], float)


def _stop(rule: StopRule | None, account: Account, instrument: Instrument) -> tuple[int, float, float]:
    """Kind, value and offset of the initial stop."""
    if rule is None:
        return entries.LADDER_STOP, 0.0, 0.0
    if account.size.method == "invest":
        return entries.MONEY_STOP, float(account.size.risk or 0.0), 0.0
    if rule.money is not None:
        return entries.MONEY_STOP, float(rule.money), 0.0
    if rule.from_bars:
        return entries.COLUMN_STOP, 0.0, float(rule.offset_ticks)
    value = in_ticks(rule.price, instrument) if rule.price is not None else float(rule.value)
    return StopRule.KINDS[rule.kind], value, 0.0


def _after(after: After | None) -> tuple[float, int]:
    return (math.nan, 0) if after is None else (_or_nan(after.r), after.target or 0)


def _amount(amount: Amount | None) -> tuple[float, bool]:
    if amount is None:
        return math.inf, False
    return float(amount.money if amount.money is not None else amount.percent or 0.0), amount.money is None


def setup_of(rig: Rig, account: Account, instrument: Instrument) -> entries.Setup:
    """The rig's rules."""
    stop, stop_value, offset = _stop(rig.stop, account, instrument)
    at, to = _measures([one.at for one in rig.step]), _measures([one.to for one in rig.step])
    values = [
        in_ticks(one.price, instrument) if one.price is not None else float(one.value)  # type: ignore[arg-type]  # not a price
        for one in rig.target
    ]
    needs = (
        account.size.method == "volatility" or (rig.stop is not None and rig.stop.kind == "atr")
        or any(one.kind == "atr" and not one.off for one in rig.target)
        or any(measure.atr is not None for one in rig.step for measure in (one.at, one.to))
        or (rig.ladder is not None and rig.ladder.spacing.atr is not None)
    )  # fmt: skip
    even, trail, ladder, basket = rig.break_even, rig.trail, rig.ladder, rig.basket
    spacing = _measures([ladder.spacing] if ladder else [Measure(ticks=1.0)])
    lost, won = _amount(basket.stop if basket else None), _amount(basket.target if basket else None)
    return entries.Setup(
        stop, stop_value, offset, needs, np.array([one.KINDS[one.kind] for one in rig.target], np.int64),
        np.array(values, float), np.array([one.share for one in rig.target], float),
        np.array([one.r for one in rig.loss_step], float), np.array([one.share for one in rig.loss_step], float),
        *at, *to, even is not None, float(even.offset_ticks) if even else 0.0, bool(even and even.cover_costs),
        *_after(even.after if even else None), TRAILS.get(trail.kind, loop.COLUMN_TRAIL) if trail else loop.NO_TRAIL,
        float(getattr(trail, trail.kind)) if trail and trail.kind in TRAILS else 0.0,
        float(trail.base_ticks) if trail else 0.0, bool(trail and trail.anchor == "close"),
        float(trail.offset_ticks) if trail else 0.0, trail.step_ticks if trail else 1,
        *_after(trail.after if trail else None), (rig.time_exit.bars or 0) if rig.time_exit else 0, *lost, *won,
        rig.reverse, ladder.rungs if ladder else 0, int(spacing[0][0]), float(spacing[1][0]),
        float(ladder.factor) if ladder else 1.0, float(ladder.target_ticks) if ladder else 0.0,
        float(ladder.stop_ticks or 0.0) if ladder else 0.0, instrument.min_stop_ticks, rig.allows(1), rig.allows(-1),
        -(1 << 62) if rig.from_ is None else rig.from_, 1 << 62 if rig.to is None else rig.to,
        rig.follow_on.max_chain if rig.follow_on else 0,
    )  # fmt: skip
