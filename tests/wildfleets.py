"""Fleets of instruments that no market shows often, on one account: other times, other rates, ranks
that tie or are not known, baskets, ladders, guards, finer bars inside.

`python tests/wildfleets.py FROM COUNT` compares the live engine with the rehearsal over so many of
them, and tells the seeds that differ.
"""

from __future__ import annotations

import sys
from collections import Counter
from random import Random
from typing import Any

import msgspec
import numpy as np

from hawser.core.account import Policy
from hawser.core.bars import Bars, span_of
from hawser.core.clock import MINUTE
from hawser.core.errors import HawserError
from hawser.core.guards.declared import LossSwitch, NewsGuard, RegimeGuard, SessionGuard
from hawser.core.instrument import Instrument
from hawser.core.joined_bars import joined_to
from hawser.core.rig import Amount, Basket
from hawser.core.rules.inside_bar import OPTIMISTIC, PATH, PESSIMISTIC
from hawser.core.timeframes import Timeframe
from hawser.engine.clearance.guards import whole_account
from hawser.rehearsal.fleet.run import FleetMember, FleetRehearsal
from hawser.rehearsal.run import Rehearsal, SignalColumns
from hawser.rehearsal.watch import HistoryPolicy
from hawser.verification import parity
from randomguards import SOURCE, a_policy
from randomrigs import a_ladder, a_rig, fitting
from wild import a_history, an_account, at_midnight

CAPS = (
    Policy(),
    Policy(),
    Policy(max_positions=1),
    Policy(max_positions=2, caps="refuse"),
    Policy(max_heat_percent=1.3),
    Policy(max_heat_percent=1.3, caps="refuse"),
    Policy(max_currency_heat_percent=0.9),
    Policy(max_margin_percent=60.0),
)


def _other_times(draw: Random, bars: Bars, times: np.ndarray[Any, Any], n: int) -> Bars:
    """The prices of `bars` at times of another history: all, some or later ones of them."""
    how = draw.random()
    picked = times
    if how < 0.3:
        kept = np.random.default_rng(draw.randrange(1 << 30)).random(times.size) < 0.7
        kept[:3] = True  # the length of its bars is to be seen
        picked = times[kept]
    elif how < 0.5:
        picked = times[times.size // 3 :] if draw.random() < 0.5 else times[: times.size // 2]
    size = min(picked.size, bars.time.size)
    if size > 1 and span_of(picked[:size]) != span_of(times):
        picked = times
        size = min(times.size, bars.time.size)
    return bars._replace(
        time=picked[:size],
        **{name: getattr(bars, name)[:size] for name in ("open", "high", "low", "close", "spread")},
    )


def _rates(draw: Random, times: np.ndarray[Any, Any]) -> np.ndarray[Any, Any]:
    """What a currency is worth at each of these times; the same at the same."""
    steps = np.random.default_rng(7).integers(-3, 4, 997)
    return 0.88 + 0.001 * steps[(times // span_of(times)) % 997]


def a_fleet(seed: int, guarded: bool = False, finer: bool = False) -> tuple[FleetRehearsal, int]:
    """One seed's fleet, and the order inside its bars; raises a HawserError where it is refused."""
    draw = Random(seed)
    n, count = draw.choice([150, 400]), draw.choice([2, 2, 3, 5])
    bars, signals, first = a_history(draw, n)
    account = msgspec.structs.replace(an_account(draw, first), policy=draw.choice(CAPS))
    moving = draw.random() < 0.3
    joined_span = span_of(bars.time) * draw.choice([2, 3, 5, 15])
    ranked, common = draw.random() < 0.6, bars.time
    policy: HistoryPolicy | None = None
    if guarded:
        policy = _fitting(at_midnight(a_policy(draw, bars, first)), bars)
    members = []
    for number in range(count):
        if number:
            bars, signals, instrument = a_history(draw, n)
            bars = _other_times(draw, bars, common, n)
        else:
            instrument = first
        instrument = _called(instrument, number)
        signals = SignalColumns(*(one[: bars.time.size] for one in signals))
        laddered = draw.random() < 0.2 and account.size.method in ("risk_percent", "risk_money")
        rig = fitting((a_ladder if laddered else a_rig)(draw), instrument)
        joined = joined_to(bars, Timeframe(joined_span, 0, "a multiple")) if finer else None
        rehearsal = Rehearsal(
            bars,
            signals,
            instrument,
            account,
            rig,
            _of(policy, number),
            joined,
            rates=_rates(draw, bars.time) if moving and instrument.quote != "CHF" else None,
            since=int(common[0]),
        )
        if finer and joined is not None:
            parity.check_inside(rig, policy, joined)
        members.append(FleetMember(instrument.symbol, rehearsal, _rank(draw, rehearsal, ranked)))
    basket = None
    if draw.random() < 0.5:
        basket = Basket(
            stop=draw.choice([None, Amount(percent=0.8), Amount(money=300.0)]),
            target=draw.choice([Amount(percent=1.0), Amount(money=250.0)]),
        )
    sources = [_source(number) for number in range(count)] if guarded else ()
    order = draw.choice([PESSIMISTIC, OPTIMISTIC, PATH])
    return FleetRehearsal(members, basket, policy, sources), order


def _fitting(policy: HistoryPolicy, bars: Bars) -> HistoryPolicy:
    """Without regimes, which refer to one instrument, and without what the clock turns while no bar
    closes: within a bar the engine acts then at once, the rehearsal at its close; over a hole a
    loss that is counted by its trades begins with the open behind it, or the close before it."""
    aside: tuple[type, ...] = (RegimeGuard,)
    if span_of(bars.time) > MINUTE:
        aside += (SessionGuard, NewsGuard)
    whole = bool((np.diff(bars.time) == span_of(bars.time)).all())
    kept = tuple(
        one
        for one in policy.guards.guard
        if not isinstance(one, aside)
        and (whole or not isinstance(one, LossSwitch) or whole_account(one))
    )
    return policy._replace(guards=msgspec.structs.replace(policy.guards, guard=kept))


def _source(number: int) -> str:
    return SOURCE if number % 2 == 0 else "elsewhere"


def _of(policy: HistoryPolicy | None, number: int) -> HistoryPolicy | None:
    return None if policy is None else policy._replace(source=_source(number))


def _called(instrument: Instrument, number: int) -> Instrument:
    return msgspec.structs.replace(instrument, symbol=f"Wild {number}")


def _rank(draw: Random, of: Rehearsal, ranked: bool) -> np.ndarray[Any, Any] | None:
    if not ranked:
        return None
    dice = np.random.default_rng(draw.randrange(1 << 30))
    return dice.choice([1.0, 2.0, 2.0 + 1e-11, np.nan, -3.0], of.time.size)


def compared(seed: int, guarded: bool = False, finer: bool = False) -> parity.Report:
    """One seed's fleet, live and rehearsed; raises a HawserError where it is refused."""
    return parity.compare_fleet(*a_fleet(seed, guarded, finer))


def main() -> int:
    first, count = map(int, sys.argv[1:3])
    guarded, finer = "guarded" in sys.argv, "finer" in sys.argv
    trades, bars, differing, refused = 0, 0, 0, Counter[str]()
    for seed in range(first, first + count):
        try:
            report = compared(seed, guarded, finer)
        except HawserError as error:
            refused[error.code] += 1
            continue
        trades, bars = trades + report.trades, bars + report.bars
        if report.differences:
            differing += 1
            print(seed, *report.differences[:3], sep="\n  ", flush=True)
    print(
        f"{count} seeds, {bars} openings, {trades} trades, {differing} differ; refused: "
        f"{dict(refused)}"
    )
    return 1 if differing else 0


if __name__ == "__main__":
    sys.exit(main())
