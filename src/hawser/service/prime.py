"""Meets every compiled rule once, away from the Qt thread: where the compiled cache is cold, that is where one waits.

The desk sizes plans itself, through the same rules; it gets its first snapshot only after this.
"""

from __future__ import annotations

from decimal import Decimal

import numpy as np

from hawser.core.account import Account, SizeRule
from hawser.core.bars import Bars, joined
from hawser.core.basis import basis
from hawser.core.clock import MINUTE
from hawser.core.entry import EntryRule
from hawser.core.heat import Stake, heat
from hawser.core.indicators import Array, atr, true_range_at, wilder_next
from hawser.core.instrument import Commission, Instrument
from hawser.core.plan import StopRule, TargetRule
from hawser.core.rules import entries, moving
from hawser.core.rules.targets import steps_through
from hawser.core.sizing import SizeRequest, sized
from hawser.core.typed import read_stop


def prime_rules() -> None:
    """Size made-up trades and move a made-up stop, with the types that are used for real."""
    _indicators()
    instrument = Instrument(
        symbol="prime", kind="index", quote="CHF", tick=Decimal("0.1"), multiplier=1.0, qty_step=Decimal("0.1"),
        qty_min=Decimal("0.1"), qty_max=Decimal(1000), margin_rate=0.05, commission=Commission(1.0, 0.0001, 0.5),
    )  # fmt: skip
    targets = (TargetRule(share=0.4, r=1.0), TargetRule(share=0.2, price=Decimal(110)))
    for size, stop in (
        (SizeRule(percent=0.5), StopRule(atr=2.0)),
        (SizeRule(method="fixed", qty=Decimal(1)), StopRule(money=50.0)),
        (SizeRule(method="notional_percent", percent=9.0), StopRule(ticks=40.0)),
    ):
        account = Account(currency="CHF", equity=10_000.0, size=size)
        sized(SizeRequest(instrument=instrument, account=account, side=1, bid=1000, ask=1002, atr=1.5, stop=stop,
                          targets=targets))  # fmt: skip
    heat(Stake(1, 1.0, 100.0, 98.0, 1.0, (1.0, 0.0, 0.5), ("CHF",)))
    steps_through(0.5, 10)
    EntryRule("stop", atr=1.0).level(instrument, 1000, 1002, 1.5, 1)
    entries.held_stop(900, 1000, 1002, 2.0, 1)
    entries.backstop_behind(30, 2.0)
    best = moving.better_exit(1000, 1004, 1)
    candidate = moving.trail_atr(float(best), 0.0, 3.0, 15.0, 1)
    if moving.counted(candidate, 900, 1, 1):
        moving.sendable(candidate, 900, 1003, 10, 1)


def _indicators() -> None:
    time, prices = np.arange(20, dtype=np.int64) * MINUTE, np.full(20, 100.0)
    bars = joined(Bars(time, prices, prices, prices, prices, prices), 5 * MINUTE)
    atr(bars.high, bars.low, bars.close, 2, False)
    wilder_next(1.0, true_range_at(2.0, 1.0, 1.5), 14)
    for kept in (bars, bars.mapped(_read_only)):  # to the compiler arrays that may not be written are another type
        for stop in ("pivot 1 1", "sma 2", "ema 2", "supertrend 2 2", "parabolic"):
            basis(read_stop(stop, "CHF"), kept, 1)


def _read_only(column: Array) -> Array:
    copy = column.copy()
    copy.flags.writeable = False
    return copy
