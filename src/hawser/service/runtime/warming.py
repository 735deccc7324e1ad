"""Meets every compiled rule once, away from the Qt thread: where the compiled cache is cold, that
is where one waits.

The desk sizes plans itself, through the same rules; it gets its first snapshot only after this.
"""

from __future__ import annotations

import math
from decimal import Decimal

import numpy as np

from hawser.core.account import Account, SizeRule
from hawser.core.bars import Bars, joined
from hawser.core.clock import MINUTE
from hawser.core.entry import EntryRule
from hawser.core.field_parser import read_stop
from hawser.core.guards import limits
from hawser.core.heat import Stake, heat
from hawser.core.indicator_values import basis
from hawser.core.indicators import Array, atr, true_range_at, wilder_next, window_sums
from hawser.core.instrument import Commission, Instrument
from hawser.core.levels import StopRule, TargetRule
from hawser.core.rig import BreakEven, Ladder, LossStep, Measure, Rig, Step, TimeExit, Trail
from hawser.core.rig_numbers import money_of, setup_of
from hawser.core.rules import entries, moving, trade_levels
from hawser.core.rules.bar_close import begun, decided_at, follow_on, moved
from hawser.core.rules.inside_bar import PESSIMISTIC, STOP
from hawser.core.rules.ladders import common_target
from hawser.core.rules.quantity import Fees
from hawser.core.rules.rounding import floor_steps
from hawser.core.rules.targets import steps_through
from hawser.core.size_terms import SizeRequest
from hawser.core.sizing import sized


def prime_rules() -> None:
    """Size made-up trades and move a made-up stop, with the types that are used for real."""
    _indicators()
    instrument = _instrument()
    targets = (TargetRule(share=0.4, r=1.0), TargetRule(share=0.2, price=Decimal(110)))
    for size, stop in (
        (SizeRule(percent=0.5), StopRule(atr=2.0)),
        (SizeRule(method="fixed", qty=Decimal(1)), StopRule(money=50.0)),
        (SizeRule(method="notional_percent", percent=9.0), StopRule(ticks=40.0)),
    ):
        account = Account(currency="CHF", equity=10_000.0, size=size)
        sized(
            SizeRequest(
                instrument=instrument,
                account=account,
                side=1,
                bid=1000,
                ask=1002,
                atr=1.5,
                stop=stop,
                targets=targets,
            )
        )
    ladder = Ladder(3, Measure(ticks=10.0), 15.0, 10.0, 2.0)
    account = Account(currency="CHF", equity=10_000.0, size=SizeRule(percent=0.5))
    sized(
        SizeRequest(
            instrument=instrument,
            account=account,
            side=1,
            bid=1000,
            ask=1002,
            atr=1.5,
            ladder=ladder,
        )
    )
    common_target(2000.0, 2, 15.0, 1)
    heat(
        Stake(
            side=1,
            qty=1.0,
            entry=100.0,
            stop=98.0,
            fees=Fees(1.0, 1.0, 0.0, 0.5),
            exposure=("CHF",),
        )
    )
    steps_through(0.5, 10)
    EntryRule("stop", atr=1.0).level(instrument, 1000, 1002, 1.5, 1)
    entries.held_stop(900, 1000, 1002, 2.0, 1)
    entries.backstop_behind(30, 2.0)
    moving.better_exit(1000, 1004, 1)
    _tending(instrument)
    _guards()


def _instrument() -> Instrument:
    """A made-up one, which nobody sees."""
    return Instrument(
        symbol="prime",
        kind="index",
        quote="CHF",
        tick=Decimal("0.1"),
        multiplier=1.0,
        qty_step=Decimal("0.1"),
        qty_min=Decimal("0.1"),
        qty_max=Decimal(1000),
        margin_rate=0.05,
        commission=Commission(1.0, 0.0001, 0.5),
    )


def _guards() -> None:
    limits.spread_over(
        12.0,
        math.nan,
        r_ticks=math.nan,
        max_ticks=30.0,
        max_of_median=math.nan,
        max_percent_of_r=math.nan,
    )
    limits.in_window(5, 5, 0, 5)
    limits.outside(50.0, 0.0, 100.0)
    limits.lost(100.0, 99.0, 2.0, math.inf)
    limits.percentile_at(np.arange(5.0), 4, 3)
    for times in (np.arange(5, dtype=np.int64), _read_only(np.arange(5, dtype=np.int64))):
        limits.median_at(times, _read_only(np.arange(5.0)), 4, 2)
    limits.against(0.5, 1)
    limits.at_floor(9.0, 8.0)
    limits.full(1, 2)
    limits.losses_in_a_row(1, -2.0)
    limits.cools(-1.0, -0.5, 0.0)
    moving.evened(moving.even_level(1, 1000.5), 900, 1100, 3, 1)


def _tending(instrument: Instrument) -> None:
    rig = Rig(
        stop=StopRule(atr=2.0),
        target=(TargetRule(share=0.5, r=1.0),),
        break_even=BreakEven(cover_costs=True),
        step=(Step(Measure(r=1.0), Measure(r=0.5)),),
        trail=Trail(atr=3.0),
        loss_step=(LossStep(0.5, 0.5),),
        time_exit=TimeExit(5),
    )
    account = Account(currency="CHF", equity=10_000.0, size=SizeRule(percent=0.5))
    setup = setup_of(rig, account.size, instrument)
    money = money_of(account, instrument, 1.0)
    targets, parts, losses, loss_parts, at, to = np.empty((6, 1), np.int64)
    trade_levels.lay_targets(
        setup, 1, ref=1000, r_ticks=30, atr=15.0, steps=10, levels=targets, parts=parts
    )
    trade_levels.lay_losses(
        setup, 1, ref=1000, r_ticks=30, steps=10, levels=losses, parts=loss_parts
    )
    rules = trade_levels.lay_rules(
        setup, money, side=1, ref=1000, r_ticks=30, steps=10, parts=parts, cash=10_000.0
    )
    trade_levels.lay_steps(setup, 1, ref=1000, r_ticks=30, atr=15.0, at=at, to=to)
    moved(
        rules,
        1,
        ref=1000,
        step_at=at,
        step_to=to,
        atr=15.0,
        line=0.0,
        stop=970,
        best=1040,
        close=1030,
        exit_side=1030,
        ready=0,
    )
    decided_at(rules, 0, leave=0, lived=1, side=1, won=0.0, last=False)
    follow_on(setup, 1, ref=1000, last=STOP, stop=970, chain=0)
    begun(rules.trail_begins, 10, 0)
    floor_steps(0.5 * 10)


def _indicators() -> None:
    time, prices = np.arange(20, dtype=np.int64) * MINUTE, np.full(20, 100.0)
    bars = joined(
        Bars(time=time, open=prices, high=prices, low=prices, close=prices, spread=prices),
        5 * MINUTE,
    )
    atr(bars.high, bars.low, bars.close, 2, False)
    window_sums(bars.close, 2)
    wilder_next(1.0, true_range_at(2.0, 1.0, 1.5), 14)
    # to the compiler arrays that may not be written are another type
    for kept in (bars, bars.mapped(_read_only)):
        for stop in (
            "3 bars",
            "channel 2",
            "pivot 1 1",
            "sma 2",
            "ema 2",
            "supertrend 2 2",
            "parabolic",
        ):
            for side in (1, -1):
                basis(read_stop(stop, "CHF"), kept, side)


def _read_only(column: Array) -> Array:
    copy = column.copy()
    copy.flags.writeable = False
    return copy


def prime_trials() -> None:
    """Load what a trial needs, which is more than the rest together; not on a thread that somebody
    waits for."""
    from hawser.rehearsal.trial import Trial

    trial = Trial(*_made_up())
    for side in (1, -1):
        trial.one(20, side)
        trial.fan(side, 5, 1)


def prime_rehearsal() -> None:
    """A whole rehearsal with its report, for the cache alone."""
    from hawser.rehearsal.report import report
    from hawser.rehearsal.run import Rehearsal, SignalColumns
    from hawser.rehearsal.tables import OutcomeTables

    bars, instrument, account, rig = _made_up()
    signal = (np.arange(60) % 9 == 5).astype(np.int8)
    rehearsal = Rehearsal(
        bars, SignalColumns(signal, np.zeros_like(signal)), instrument, account, rig
    )
    outcome = rehearsal.run(PESSIMISTIC)
    report(outcome, rehearsal.time, "pessimistic", 252, (0.0, 0.0))
    OutcomeTables(
        rehearsal, outcome, lambda times: [str(time) for time in times.tolist()], str
    ).fills()


def prime_fleet() -> None:
    """A fleet, for the cache alone."""
    from hawser.rehearsal.fleet.run import fleet_of_one
    from hawser.rehearsal.run import Rehearsal, SignalColumns

    bars, instrument, account, rig = _made_up()
    signal = (np.arange(60) % 9 == 5).astype(np.int8)
    calls = SignalColumns(signal, np.zeros_like(signal))
    fleet_of_one(Rehearsal(bars, calls, instrument, account, rig)).run(PESSIMISTIC)


def _made_up() -> tuple[Bars, Instrument, Account, Rig]:
    time, steps = np.arange(60, dtype=np.int64) * MINUTE, np.arange(60) % 7
    close = 100.0 + steps
    bars = Bars(
        time=time,
        open=close,
        high=close + 2.0,
        low=close - 2.0,
        close=close,
        spread=np.full(60, 1.0),
    )
    instrument = _instrument()
    account = Account(currency="CHF", equity=10_000.0, size=SizeRule(percent=0.5))
    rig = Rig(stop=StopRule(bars=3), target=(TargetRule(share=0.5, r=1.0),), trail=Trail(bars=2))
    return bars.mapped(_read_only), instrument, account, rig
