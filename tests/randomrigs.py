"""Rigs, histories and accounts drawn at random, for the tests that compare one way of running them
with another."""

from __future__ import annotations

from decimal import Decimal
from random import Random

import msgspec
import numpy as np

from hawser.core.account import Account, Costs, SizeRule
from hawser.core.bars import Bars
from hawser.core.clock import MINUTE
from hawser.core.hours import ever_closes
from hawser.core.instrument import Commission, Instrument, WeeklySession
from hawser.core.rig import Rig, TimeExit
from hawser.rehearsal.run import SignalColumns
from hawser.verification import rigs
from madeup import pair

PIER = Instrument(
    symbol="Pier",
    kind="index",
    quote="CHF",
    tick=Decimal(1),
    multiplier=1.0,
    qty_step=Decimal(1),
    qty_min=Decimal(1),
    qty_max=Decimal(1000),
    margin_rate=0.0,
    min_stop_ticks=1,
    commission=Commission(0.5, 0.0001, 2.0),
    sessions=(WeeklySession((0, 1, 2, 3, 4), "09:00", "17:30", "Europe/Zurich"),),
)
INSTRUMENTS = (PIER, pair())
COSTS = (Costs(0, 0, 0), Costs(0, 1, 2), Costs(0, 0, 1))


def history(draw: Random, n: int) -> tuple[Bars, SignalColumns, Instrument]:
    """A walk of whole ticks with gaps, its signals, and what it is of."""
    dice, instrument = np.random.default_rng(draw.randrange(1 << 30)), draw.choice(INSTRUMENTS)
    start = 1000 if instrument is PIER else 61_000
    close = start + dice.integers(-8, 9, n).cumsum()
    close = np.abs(close - 400) + 400  # never near zero
    opens = np.concatenate([[start], close[:-1]]) + dice.integers(-3, 4, n) * dice.choice(
        [1, 1, 1, 6], n
    )
    high = np.maximum(opens, close) + dice.integers(0, 6, n)
    low = np.minimum(opens, close) - dice.integers(0, 6, n)
    prices = np.round(
        np.array([opens, high, low, close], float) * instrument.tick_size, instrument.price_digits
    )
    spread = dice.choice([0.0, 2.0, 3.0], n)
    bars = Bars((30_000_000 + np.arange(n, dtype=np.int64)) * MINUTE, *prices, spread)
    signals = dice.choice([-1, 0, 0, 0, 0, 1], n).astype(np.int8)
    leave = dice.choice([-1, 0, 0, 0, 0, 0, 0, 0, 0, 1], n).astype(np.int8)
    return bars, SignalColumns(signals, leave), instrument


def an_account(draw: Random) -> Account:
    """An account that sizes in one of the ways there are."""
    size = draw.choice(
        [
            SizeRule("fixed", qty=Decimal(20)),
            SizeRule(percent=1.0),
            SizeRule("risk_money", amount=250.0),
            SizeRule("volatility", percent=0.5, multiple=1.0),
            SizeRule("notional_percent", percent=150.0),
        ]
    )
    return Account(currency="CHF", equity=40_000.0, size=size, costs=draw.choice(COSTS))


def a_rig(draw: Random) -> Rig:
    """Any rig but a ladder, some of them for a part of the history."""
    begins = 30_000_000 * MINUTE
    window = (begins + 200 * MINUTE, begins + 700 * MINUTE) if draw.random() < 0.2 else (None, None)
    return msgspec.structs.replace(rigs.a_rig(draw), from_=window[0], to=window[1])


a_ladder = rigs.a_ladder


def fitting(rig: Rig, instrument: Instrument) -> Rig:
    """The rig without what the instrument could not carry out."""
    timed = rig.time_exit
    if timed is None or ever_closes(instrument.sessions):
        return rig
    return msgspec.structs.replace(rig, time_exit=TimeExit(timed.bars) if timed.bars else None)
