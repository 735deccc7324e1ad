"""Guards and the basket of a fleet, worked by hand: what one member brings about for the others."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest
from test_guarded import ACCOUNT, DOWN, PIER, RIG, STILL

from hawser.core.bars import Bars
from hawser.core.clock import MINUTE
from hawser.core.guards import declared as dc
from hawser.core.instrument import WeeklySession
from hawser.core.rig import Amount, Basket, TimeExit
from hawser.rehearsal.fleet.report import correlation
from hawser.rehearsal.fleet.run import FleetMember, FleetOutcome, FleetRehearsal
from hawser.rehearsal.guarding import REFUSED, TRIPPED
from hawser.rehearsal.run import Rehearsal, SignalColumns, exit_name
from hawser.rehearsal.watch import HistoryPolicy

SLUICE = msgspec.structs.replace(PIER, symbol="Sluice")
FALLING = (1000, 1001, 989, 990)  # a long is 10 ticks down at the close, its stop is not reached
LOW = (990, 991, 989, 990)


def played(
    guards,
    first,
    second,
    signals,
    basket=None,
    sources=("", ""),
    times=None,
    rigs=(RIG, RIG),
) -> FleetOutcome:
    """Two members over minutes; `signals` by member and bar; `times` of the second's bars."""
    members, policies = [], []
    for number, (bars, instrument) in enumerate(((first, PIER), (second, SLUICE))):
        n = len(bars)
        calls = np.zeros(n, np.int8)
        for bar, side in signals[number].items():
            calls[bar] = side
        opened = np.arange(n) if times is None or number == 0 else np.array(times)
        made = Bars(opened.astype(np.int64) * MINUTE, *np.array(bars, float).T, np.zeros(n))
        policy = HistoryPolicy(dc.Guards(guard=tuple(guards)), (), sources[number], {})
        policies.append(policy if guards else None)
        members.append(
            FleetMember(
                instrument.symbol,
                Rehearsal(
                    made,
                    SignalColumns(calls, np.zeros(n, np.int8)),
                    instrument,
                    ACCOUNT,
                    rigs[number],
                    policies[-1],
                    since=0,
                ),
            )
        )
    return FleetRehearsal(members, basket, policies[0], sources).run(0)


def trades(outcome, member):
    """The bars of entry and exit of a member's trades, and why each was left."""
    one = outcome.of[member].trades
    return [(trade.first, trade.last, exit_name(trade.fills[-1])) for trade in one.trades]


def noted(outcome, what):
    """The minute, the guard and the member of what guards did."""
    return [
        (row[0] // MINUTE, row[1], row[4]) for row in outcome.guarded.tolist() if row[2] == what
    ]


def test_a_day_loss_of_the_account_counts_all_and_flattens_all():
    loss = dc.LossSwitch(name="day", money=150.0, then=("flatten",))
    outcome = played(
        [loss], [STILL, FALLING, LOW, LOW], [STILL, FALLING, LOW, LOW], ({0: 1}, {0: 1})
    )
    # each is 100 down at the close of bar 1: together they are beyond 150, and leave at the next
    assert trades(outcome, 0) == trades(outcome, 1) == [(1, 2, "guard")]
    assert noted(outcome, TRIPPED) == [(1, 0, -1)]


def test_a_loss_by_instrument_counts_by_member():
    loss = dc.LossSwitch(name="each", money=150.0, then=("close",), per="instrument")
    outcome = played(
        [loss], [STILL, FALLING, LOW, LOW], [STILL, FALLING, LOW, LOW], ({0: 1}, {0: 1})
    )
    assert trades(outcome, 0) == trades(outcome, 1) == [(1, 3, "end")]
    one = dc.LossSwitch(name="one", money=90.0, then=("close",), instruments=("Sluice",))
    outcome = played(
        [one], [STILL, FALLING, LOW, LOW], [STILL, FALLING, LOW, LOW], ({0: 1}, {0: 1})
    )
    assert trades(outcome, 0) == [(1, 3, "end")]
    assert trades(outcome, 1) == [(1, 2, "guard")]
    assert noted(outcome, TRIPPED) == [(1, 0, 1)]


def test_a_streak_of_the_account_goes_over_members_and_one_by_source_does_not():
    streak = dc.StreakSwitch(name="two", losses=2)
    bars = [STILL, DOWN, STILL, STILL, STILL]
    outcome = played([streak], bars, bars, ({0: 1, 2: 1}, {0: 1, 2: 1}))
    assert trades(outcome, 0) == trades(outcome, 1) == [(1, 1, "stop")]
    assert noted(outcome, REFUSED) == [(3, 0, 0), (3, 0, 1)]
    assert [row[3] for row in outcome.refused.tolist()] == [18, 18]
    apart = dc.StreakSwitch(name="two", losses=2, per="source")
    outcome = played([apart], bars, bars, ({0: 1, 2: 1}, {0: 1, 2: 1}), sources=("ebb", "flow"))
    assert trades(outcome, 0) == trades(outcome, 1) == [(1, 1, "stop"), (3, 4, "end")]


def test_a_count_is_that_of_whom_it_watches():
    count = dc.CountGuard(name="one a day", most=1)
    bars = [STILL] * 4
    outcome = played([count], bars, bars, ({0: 1}, {0: 1}))
    # in the order of the file the first takes the only entry
    assert [len(trades(outcome, m)) for m in (0, 1)] == [1, 0]
    each = dc.CountGuard(name="one a day", most=1, per="instrument")
    outcome = played([each], bars, bars, ({0: 1}, {0: 1}))
    assert [len(trades(outcome, m)) for m in (0, 1)] == [1, 1]


def test_a_filter_that_flattens_as_it_closes_leaves_nothing_open():
    """It is closed for one member alone, and closes the trades of all."""
    shut = WeeklySession((0, 1, 2, 3, 4, 5, 6), "00:03", "01:00", "UTC")
    guard = dc.SessionGuard(
        name="noon", closed_hours=(shut,), instruments=("Sluice",), then=("flatten",)
    )
    outcome = played([guard], [STILL] * 6, [STILL] * 6, ({0: 1}, {0: 1}))
    assert trades(outcome, 0) == trades(outcome, 1) == [(1, 3, "guard")]
    closes = msgspec.structs.replace(guard, then=("close",))
    outcome = played([closes], [STILL] * 6, [STILL] * 6, ({0: 1}, {0: 1}))
    assert trades(outcome, 0) == [(1, 5, "end")]
    assert trades(outcome, 1) == [(1, 3, "guard")]


@pytest.mark.parametrize("first", [0, 1], ids=["first", "last"])
def test_what_an_exit_at_an_open_trips_acts_at_this_open_wherever_it_stands(first):
    """One leaves at the open of minute 3 by its time and has lost; the other goes with it."""
    streak = dc.StreakSwitch(name="one", losses=1, then=("close",))
    bars, calls = [STILL, STILL, FALLING, LOW, LOW, LOW], ({0: 1}, {0: 1})
    timed = [RIG, RIG]
    timed[first] = msgspec.structs.replace(RIG, time_exit=TimeExit(bars=2))
    outcome = played([streak], bars, bars, calls, rigs=timed)
    assert trades(outcome, first) == [(1, 3, "time")]
    assert trades(outcome, 1 - first) == [(1, 3, "guard")]
    assert noted(outcome, TRIPPED) == [(3, 0, -1)]


def test_what_is_closed_before_a_member_begins_does_not_close_with_its_first_bar():
    """Its volatility is not known for the first bars, as that of the other was not."""
    calm = dc.VolatilityGuard(
        name="calm",
        timeframe="1m",
        atr_length=2,
        bars=3,
        low=0.0,
        high=100.0,
        sources=("flow",),
        then=("flatten",),
    )
    outcome = played(
        [calm],
        [STILL] * 9,
        [STILL] * 5,
        ({0: 1}, {}),
        sources=("ebb", "flow"),
        times=(4, 5, 6, 7, 8),
    )
    assert trades(outcome, 0) == [(1, 8, "end")]


def test_who_has_no_bar_leaves_at_its_next():
    loss = dc.LossSwitch(name="day", money=150.0, then=("flatten",))
    second = [STILL, FALLING, LOW, LOW]  # at the minutes 0, 1, 4, 5
    outcome = played(
        [loss], [STILL, STILL, FALLING, LOW, LOW], second, ({0: 1}, {0: 1}), times=(0, 1, 4, 5)
    )
    assert trades(outcome, 0) == [(1, 3, "guard")]
    assert trades(outcome, 1) == [(1, 2, "guard")]  # its bar of minute 4


def test_the_fleet_s_basket_closes_all_and_lets_what_is_due_lapse():
    basket = Basket(stop=Amount(money=150.0))
    bars = [STILL, FALLING, LOW, LOW, LOW]
    outcome = played((), bars, bars, ({0: 1}, {0: 1, 1: -1}), basket)
    assert trades(outcome, 0) == trades(outcome, 1) == [(1, 2, "basket")]
    late = played((), bars, bars, ({0: 1, 3: 1}, {0: 1, 2: 1}), Basket(stop=Amount(money=100.0)))
    # the signal of bar 2 comes while the group is closed: it begins another
    assert trades(late, 1) == [(1, 2, "basket"), (3, 4, "end")]
    first = played((), bars, bars, ({0: 1}, {1: 1}), Basket(stop=Amount(money=100.0)))
    assert trades(first, 1) == []
    assert first.refused.tolist() == [[2 * MINUTE, 1, 1, 19]]


def test_a_member_without_deviation_correlates_with_nothing():
    daily = np.array([[0.0, 5.0, 0.0], [10.0, 5.0, -3.0], [15.0, 5.0, 4.0], [40.0, 5.0, -20.0]])
    found = correlation(daily)
    assert found[1] == [None, None, None]
    assert found[0][0] == found[2][2] == 1.0
    a, b = np.diff(daily[:, 0]), np.diff(daily[:, 2])
    assert abs(found[0][2] - np.corrcoef(a, b)[0, 1]) < 1e-12
    assert correlation(daily[:1]) == [[None] * 3] * 3
