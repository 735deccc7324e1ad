"""A rig as the numbers that the compiled rules read."""

from __future__ import annotations

import math

import numpy as np

from hawser.core.account import Account, SizeRule
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.core.levels import StopRule, in_ticks
from hawser.core.numbers import or_nan
from hawser.core.rig import After, Amount, Ladder, Measure, Rig
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


def _stop(
    rule: StopRule | None, size: SizeRule, instrument: Instrument
) -> tuple[int, float, float]:
    """Kind, value and offset of the initial stop."""
    if rule is None:
        return int(Kind.LADDER), 0.0, 0.0
    if size.method == "invest":
        return int(Kind.MONEY), float(size.risk or 0.0), 0.0
    if rule.money is not None:
        return int(Kind.MONEY), float(rule.money), 0.0
    if rule.from_bars:
        return int(Kind.COLUMN), 0.0, float(rule.offset_ticks)
    value = in_ticks(rule.price, instrument) if rule.price is not None else float(rule.value)
    return StopRule.KINDS[rule.kind], value, 0.0


def _after(after: After | None) -> tuple[float, int]:
    return (math.nan, 0) if after is None else (or_nan(after.r), after.target or 0)


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
    unit = float(instrument.multiplier * fx)
    fees = instrument.commission
    return trade_levels.Money(
        tick_step=tick * unit * instrument.step_size,
        tick=tick,
        step=instrument.step_size,
        unit_money=unit,
        per_unit=float(fees.per_unit),
        per_notional=float(fees.per_notional),
        minimum=float(fees.minimum),
        entry_slip=float(account.costs.entry_slippage_ticks),
        exit_slip=float(account.costs.exit_slippage_ticks),
    )


def setup_of(rig: Rig, size: SizeRule, instrument: Instrument) -> trade_levels.Setup:
    """The rig's rules; how the account sizes says whose the stop is."""
    stop, stop_value, offset = _stop(rig.stop, size, instrument)
    at, to = _measures([one.at for one in rig.step]), _measures([one.to for one in rig.step])
    values = [
        in_ticks(one.price, instrument) if one.price is not None else float(one.value)
        for one in rig.target
    ]
    needs = (
        size.method == "volatility"
        # whose stop is the money's
        or (rig.stop is not None and rig.stop.kind == "atr" and size.method != "invest")
        or any(one.kind == "atr" and not one.off for one in rig.target)
        or any(measure.atr is not None for one in rig.step for measure in (one.at, one.to))
        or (rig.ladder is not None and rig.ladder.spacing.atr is not None)
    )
    even, trail, ladder, basket = rig.break_even, rig.trail, rig.ladder, rig.basket
    spacing = _measures([ladder.spacing] if ladder else [Measure(ticks=1.0)])
    lost, won = _amount(basket.stop if basket else None), _amount(basket.target if basket else None)
    even_after = _after(even.after if even else None)
    trail_after = _after(trail.after if trail else None)
    return trade_levels.Setup(
        stop=stop,
        stop_value=stop_value,
        stop_offset=offset,
        needs_atr=needs,
        target_kind=np.array([one.KINDS[one.kind] for one in rig.target], np.int64),
        target_value=np.array(values, float),
        target_share=np.array([one.share for one in rig.target], float),
        loss_r=np.array([one.r for one in rig.loss_step], float),
        loss_share=np.array([one.share for one in rig.loss_step], float),
        at_kind=at[0],
        at_value=at[1],
        to_kind=to[0],
        to_value=to[1],
        even=even is not None,
        even_offset=float(even.offset_ticks) if even else 0.0,
        even_costs=bool(even and even.cover_costs),
        even_after=even_after[0],
        even_target=even_after[1],
        trail=TRAILS.get(trail.kind, int(Kind.COLUMN)) if trail else int(Kind.NONE),
        trail_value=float(getattr(trail, trail.kind)) if trail and trail.kind in TRAILS else 0.0,
        trail_base=float(trail.base_ticks) if trail else 0.0,
        trail_close=bool(trail and trail.anchor == "close"),
        trail_offset=float(trail.offset_ticks) if trail else 0.0,
        trail_step=trail.step_ticks if trail else 1,
        trail_after=trail_after[0],
        trail_target=trail_after[1],
        time_bars=(rig.time_exit.bars or 0) if rig.time_exit else 0,
        basket_stop=lost[0],
        basket_stop_percent=lost[1],
        basket_target=won[0],
        basket_target_percent=won[1],
        reverse=rig.reverse,
        rungs=ladder.rungs if ladder else 0,
        spacing_kind=int(spacing[0][0]),
        spacing=float(spacing[1][0]),
        factor=float(ladder.factor) if ladder else 1.0,
        ladder_target=float(ladder.target_ticks) if ladder else 0.0,
        ladder_stop=float(ladder.stop_ticks or 0.0) if ladder else 0.0,
        min_stop=instrument.min_stop_ticks,
        long=rig.allows(1),
        short=rig.allows(-1),
        first_time=EARLIEST if rig.from_ is None else rig.from_,
        last_time=LATEST if rig.to is None else rig.to,
        chain=rig.follow_on.max_chain if rig.follow_on else 0,
    )
