"""A rig as the numbers that the compiled rules read: each rule's own, and what is of the whole."""

from __future__ import annotations

from hawser.core.account import Account, SizeRule
from hawser.core.instrument import Instrument
from hawser.core.rig import (
    Rig,
    basket,
    break_even,
    ladder,
    loss_step,
    step,
    stop,
    target,
    trail,
)
from hawser.core.rig.parts import after_numbers
from hawser.core.rules import trade_levels

EARLIEST, LATEST = -(1 << 62), 1 << 62  # of entries, UTC ns, where the rig names no time


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
    even, trailed = rig.break_even, rig.trail
    return trade_levels.Setup(
        stop=stop.numbers(rig.stop, size, instrument),
        targets=target.numbers(rig.target, instrument),
        losses=loss_step.numbers(rig.loss_step),
        steps=step.numbers(rig.step),
        even=break_even.numbers(even),
        trail=trail.numbers(trailed),
        trail_after=after_numbers(trailed.after if trailed else None),
        basket=basket.numbers(rig.basket),
        ladder=ladder.numbers(rig.ladder),
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
