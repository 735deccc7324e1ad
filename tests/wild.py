"""Histories that no market shows often: holes, one-tick instruments, prices of 10^9 ticks, huge
spreads, broken weeks.

`python tests/wild.py FROM COUNT` compares the live engine with the rehearsal over so many of them,
whatever each has for account, rig, ladder and guards, and tells the seeds that differ; with `finer`
behind it, decided on joined bars and filled on the finer ones inside.
"""

from __future__ import annotations

import sys
from collections import Counter
from decimal import Decimal
from random import Random

import msgspec
import numpy as np

from hawser.core.account import Account, Costs, Policy, SizeRule
from hawser.core.bars import Bars, span_of
from hawser.core.clock import DAY, HOUR, MINUTE
from hawser.core.errors import HawserError
from hawser.core.guards.declared import LossSwitch
from hawser.core.instrument import Commission, Instrument, WeeklySession
from hawser.core.joined_bars import joined_to
from hawser.core.rules.inside_bar import OPTIMISTIC, PATH, PESSIMISTIC
from hawser.core.timeframes import Timeframe
from hawser.engine.clearance.guards import whole_account
from hawser.rehearsal import watch
from hawser.rehearsal.run import SignalColumns
from hawser.verification import parity
from randomguards import a_policy
from randomrigs import a_ladder, a_rig, fitting

SESSIONS = (
    (),
    (),
    (WeeklySession((0, 1, 2, 3, 4), "09:00", "17:30", "Europe/Zurich"),),
    (
        WeeklySession((6, 0, 1, 2, 3), "22:00", "24:00", "America/New_York"),
        WeeklySession((0, 1, 2, 3, 4), "00:00", "21:00", "America/New_York"),
    ),
    (WeeklySession((0, 1, 2, 3, 4), "01:30", "03:10", "Europe/Zurich"),),
    # it pauses, and never closes for a day
    (WeeklySession(tuple(range(7)), "00:00", "21:00", "America/New_York"),),
    (WeeklySession(tuple(range(7)), "00:00", "24:00"),),
)
FEES = (
    Commission(0, 0, 0),
    Commission(0.5, 0.0001, 2.0),
    Commission(0, 0.002, 0),
    Commission(0, 0, 15),
)
STARTS = tuple(
    int(np.datetime64(text).astype("datetime64[ns]").astype(np.int64))
    # the last two: the clocks change
    for text in ("2027-01-15T16:00", "2026-03-28T20:00", "2026-10-24T18:00")
)
POLICIES = (
    Policy(),
    Policy(max_heat_percent=0.7),
    Policy(max_notional_percent=90.0),
    Policy(max_margin_percent=40.0),
    Policy(caps="refuse", max_heat_percent=3.0),
    Policy(max_currency_heat_percent=0.9),
)


def an_instrument(draw: Random) -> Instrument:
    kind = draw.choice(["index", "index", "fx"])
    return Instrument(
        symbol="Wild",
        kind=kind,
        quote=draw.choice(["CHF", "USD"]),
        base="CAD" if kind == "fx" else None,
        tick=Decimal(draw.choice(["1", "0.00001", "0.25", "0.1", "100", "0.0000001"])),
        multiplier=draw.choice([1.0, 0.01, 1000.0, 100000.0]),
        qty_step=Decimal(draw.choice(["1", "0.01", "0.3", "0.0001"])),
        qty_min=Decimal(0),
        qty_max=Decimal(draw.choice([5, 1000, 1000000])),
        margin_rate=draw.choice([0.0, 0.0, 0.05, 1.0]),
        min_stop_ticks=draw.choice([0, 0, 1, 7, 40]),
        commission=draw.choice(FEES),
        sessions=draw.choice(SESSIONS),
    )


def a_history(draw: Random, n: int) -> tuple[Bars, SignalColumns, Instrument]:
    """Bars, signals and what they are of."""
    dice, instrument = np.random.default_rng(draw.randrange(1 << 30)), an_instrument(draw)
    base = draw.choice([30, 120, 1000, 61000, 5_000_000, 3_000_000_000])
    stride = draw.choice([1, 2, 8, 60])
    close = base + dice.integers(-stride, stride + 1, n).cumsum()
    floor = max(3, base // 3)
    close = np.abs(close - floor) + floor
    gap, wick = draw.choice([0, 1, 6, 40]), draw.choice([0, 1, 6, 40])
    opens = np.concatenate([[base], close[:-1]]) + dice.integers(-3, 4, n) * dice.choice(
        [0, gap], n
    )
    opens = np.maximum(opens, 1)
    high = np.maximum(opens, close) + dice.integers(0, wick + 1, n)
    low = np.maximum(1, np.minimum(opens, close) - dice.integers(0, wick + 1, n))
    if draw.random() < 0.3:  # bars of one price
        still = dice.random(n) < 0.3
        still[0] = False
        for i in np.nonzero(still)[0]:
            opens[i] = high[i] = low[i] = close[i] = close[i - 1]
    prices = np.round(
        np.array([opens, high, low, close], float) * instrument.tick_size, instrument.price_digits
    )
    wide = float(draw.choice([0, 2, 30, 400]))
    spread = dice.choice([0.0, wide, 3.0 * wide, 1.0], n, p=[0.1, 0.6, 0.1, 0.2])
    span = draw.choice([MINUTE, 5 * MINUTE, HOUR, DAY])
    jumps = np.ones(n, np.int64)
    if draw.random() < 0.6:
        jumps = np.where(dice.random(n) < 0.05, dice.integers(2, 400, n), 1)
    jumps[:3] = 0, 1, 1
    time = draw.choice(STARTS) // span * span + jumps.cumsum() * span
    signal = dice.choice([-1, 0, 0, 0, 0, 1], n).astype(np.int8)
    leave = dice.choice([-1] + [0] * 10 + [1], n).astype(np.int8)
    return Bars(time, *prices, spread), SignalColumns(signal, leave), instrument


def an_account(draw: Random, instrument: Instrument) -> Account:
    size = draw.choice(
        [
            SizeRule("fixed", qty=instrument.qty_step * draw.choice([1, 3, 50])),
            SizeRule(percent=1.0),
            SizeRule(percent=5.0, basis="free_margin"),
            SizeRule(percent=2.0, basis="balance"),
            SizeRule("risk_money", amount=250.0),
            SizeRule("volatility", percent=0.5, multiple=1.0),
            SizeRule("notional_percent", percent=150.0),
            SizeRule("invest", amount=20000.0, risk=300.0),
        ]
    )
    costs = draw.choice([Costs(0, 0, 0), Costs(0, 1, 2), Costs(0, 0, 9), Costs(0, 25, 0)])
    return Account(
        currency="CHF",
        equity=40000.0,
        size=size,
        costs=costs,
        policy=draw.choice(POLICIES),
        rates={"USD/CHF": 0.88},
    )


def at_midnight(policy: watch.HistoryPolicy) -> watch.HistoryPolicy:
    """A loss that is counted by its trades, of one instrument or source, is known at every moment,
    the account's where it is valued: at each close. Where a day turns within the bar of an entry,
    the two do not begin at the same figure.
    """
    alone = any(
        isinstance(guard, LossSwitch) and not whole_account(guard) for guard in policy.guards.guard
    )
    if not alone:
        return policy
    return policy._replace(
        guards=msgspec.structs.replace(policy.guards, zone="UTC", day_starts="00:00")
    )


def compared(seed: int, finer: bool = False) -> parity.Report:
    """One seed's history, live and rehearsed; raises a HawserError for what both refuse. `finer`:
    decided on joined bars."""
    draw = Random(seed)
    bars, signals, instrument = a_history(draw, draw.choice([200, 500]))
    account, order = an_account(draw, instrument), draw.choice([PESSIMISTIC, OPTIMISTIC, PATH])
    kind = draw.random()
    # also under guards, which take rungs back
    laddered = not 0.2 <= kind <= 0.85 and account.size.method in ("risk_percent", "risk_money")
    rig = fitting((a_ladder if laddered else a_rig)(draw), instrument)
    policy = at_midnight(a_policy(draw, bars, instrument)) if kind > 0.5 else None
    if not finer:
        return parity.compare(bars, signals, instrument, account, rig, order, policy)
    span = span_of(bars.time) * draw.choice([2, 3, 5, 15])
    joined = joined_to(bars, Timeframe(span, 0, "a multiple"))
    parity.check_inside(rig, policy, joined)
    return parity.compare(bars, signals, instrument, account, rig, order, policy, joined)


def main() -> int:
    first, count = map(int, sys.argv[1:3])
    finer = sys.argv[3:] == ["finer"]
    trades, differing, refused = 0, 0, Counter[str]()
    for seed in range(first, first + count):
        try:
            report = compared(seed, finer)
        except HawserError as error:
            refused[error.code] += 1
            continue
        trades += report.trades
        if report.differences:
            differing += 1
            print(seed, *report.differences[:3], sep="\n  ", flush=True)
    print(f"{count} seeds, {trades} trades, {differing} differ; refused: {dict(refused)}")
    return 1 if differing else 0


if __name__ == "__main__":
    sys.exit(main())
