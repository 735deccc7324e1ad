"""A rig as the numbers that the compiled rules read."""

from __future__ import annotations

import math

import numpy as np

from hawser.core.account import Account, SizeRule
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.core.levels import StopRule, TargetRule, in_ticks
from hawser.core.numbers import or_nan
from hawser.core.rig import After, Amount, Ladder, Measure, Rig, Trail
from hawser.core.rules import trade_levels
from hawser.core.rules.kinds import Kind

TRAILS = {"atr": int(Kind.ATR), "ticks": int(Kind.TICKS), "percent": int(Kind.PERCENT)}

EARLIEST, LATEST = -(1 << 62), 1 << 62  # of entries, UTC ns, where the rig names no time


def _measures(rules: list[Measure]) -> tuple[Array, Array]:
    kinds = {"r": Kind.R, "ticks": Kind.TICKS, "percent": Kind.PERCENT, "atr": Kind.ATR}
    named = [
        next((key, getattr(one, key)) for key in kinds if getattr(one, key) is not None)
        for one in rules
    ]
    return np.array([kinds[key] for key, _ in named], np.int64), np.array(
        [value for _, value in named], float
    )


def _stop(rule: StopRule | None, size: SizeRule, instrument: Instrument) -> trade_levels.StopSetup:
    """The initial stop."""
    if rule is None:
        return trade_levels.StopSetup(int(Kind.LADDER), 0.0, 0.0)
    if size.method == "invest":
        return trade_levels.StopSetup(int(Kind.MONEY), float(size.risk or 0.0), 0.0)
    if rule.money is not None:
        return trade_levels.StopSetup(int(Kind.MONEY), float(rule.money), 0.0)
    if rule.from_bars:
        return trade_levels.StopSetup(int(Kind.COLUMN), 0.0, float(rule.offset_ticks))
    value = in_ticks(rule.price, instrument) if rule.price is not None else float(rule.value)
    return trade_levels.StopSetup(StopRule.KINDS[rule.kind], value, 0.0)


def _after(after: After | None) -> trade_levels.AfterSetup:
    if after is None:
        return trade_levels.AfterSetup(math.nan, 0)
    return trade_levels.AfterSetup(or_nan(after.r), after.target or 0)


def _amount(amount: Amount | None) -> tuple[float, bool]:
    if amount is None:
        return math.inf, False
    return float(
        amount.money if amount.money is not None else amount.percent or 0.0
    ), amount.money is None


def ladder_spacing(ladder: Ladder, ref: int, atr: float) -> float:
    """How far apart the rungs stand from an entry at `ref`, in ticks as the ATR is."""
    kind, value = _measures([ladder.spacing])
    return float(trade_levels.distance(int(kind[0]), float(value[0]), float(ref), 0.0, atr))


def money_of(account: Account, instrument: Instrument, fx: float) -> trade_levels.Money:
    """What ticks and fills cost at a conversion rate."""
    tick = instrument.tick_size
    fees = instrument.fees(float(instrument.multiplier * fx))
    return trade_levels.Money(
        tick_step=tick * fees.unit_money * instrument.step_size,
        tick=tick,
        step=instrument.step_size,
        fees=fees,
        entry_slip=float(account.costs.entry_slippage_ticks),
        exit_slip=float(account.costs.exit_slippage_ticks),
    )


def setup_of(rig: Rig, size: SizeRule, instrument: Instrument) -> trade_levels.Setup:
    """The rig's rules; how the account sizes says whose the stop is."""
    even, trail, ladder = rig.break_even, rig.trail, rig.ladder
    return trade_levels.Setup(
        stop=_stop(rig.stop, size, instrument),
        targets=trade_levels.TargetSetup(
            np.array([one.KINDS[one.kind] for one in rig.target], np.int64),
            np.array([_target_value(one, instrument) for one in rig.target], float),
            np.array([one.share for one in rig.target], float),
        ),
        losses=trade_levels.LossSetup(
            np.array([one.r for one in rig.loss_step], float),
            np.array([one.share for one in rig.loss_step], float),
        ),
        steps=trade_levels.StepSetup(
            *_measures([one.at for one in rig.step]), *_measures([one.to for one in rig.step])
        ),
        even=trade_levels.EvenSetup(
            even is not None,
            float(even.offset_ticks) if even else 0.0,
            bool(even and even.cover_costs),
            _after(even.after if even else None),
        ),
        trail=_trailing(trail),
        trail_after=_after(trail.after if trail else None),
        basket=trade_levels.BasketSetup(
            *_amount(rig.basket.stop if rig.basket else None),
            *_amount(rig.basket.target if rig.basket else None),
        ),
        ladder=_ladder(ladder),
        entry=trade_levels.EntrySetup(
            long=rig.allows(1),
            short=rig.allows(-1),
            first_time=EARLIEST if rig.from_ is None else rig.from_,
            last_time=LATEST if rig.to is None else rig.to,
            chain=rig.follow_on.max_chain if rig.follow_on else 0,
        ),
        time_bars=(rig.time_exit.bars or 0) if rig.time_exit else 0,
        reverse=rig.reverse,
        min_stop=instrument.min_stop_ticks,
        needs_atr=_needs_atr(rig, size),
    )


def _needs_atr(rig: Rig, size: SizeRule) -> bool:
    return (
        size.method == "volatility"
        # of an investment the stop is the money's
        or (rig.stop is not None and rig.stop.kind == "atr" and size.method != "invest")
        or any(one.kind == "atr" and not one.off for one in rig.target)
        or any(measure.atr is not None for one in rig.step for measure in (one.at, one.to))
        or (rig.ladder is not None and rig.ladder.spacing.atr is not None)
    )


def _target_value(rule: TargetRule, instrument: Instrument) -> float:
    return in_ticks(rule.price, instrument) if rule.price is not None else float(rule.value)


def _trailing(trail: Trail | None) -> trade_levels.Trailing:
    if trail is None:
        return trade_levels.Trailing(int(Kind.NONE), 0.0, 0.0, False, 0.0, 1)
    return trade_levels.Trailing(
        kind=TRAILS.get(trail.kind, int(Kind.COLUMN)),
        value=float(getattr(trail, trail.kind)) if trail.kind in TRAILS else 0.0,
        base=float(trail.base_ticks),
        by_close=trail.anchor == "close",
        offset=float(trail.offset_ticks),
        step=trail.step_ticks,
    )


def _ladder(ladder: Ladder | None) -> trade_levels.LadderSetup:
    if ladder is None:
        return trade_levels.LadderSetup(0, int(Kind.TICKS), 1.0, 1.0, 0.0, 0.0)
    kind, spacing = _measures([ladder.spacing])
    return trade_levels.LadderSetup(
        rungs=ladder.rungs,
        spacing_kind=int(kind[0]),
        spacing=float(spacing[0]),
        factor=float(ladder.factor),
        target=float(ladder.target_ticks),
        stop=float(ladder.stop_ticks or 0.0),
    )
