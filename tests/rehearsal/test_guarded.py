"""Guards in the rehearsal, worked by hand: what refuses an entry, what trips at a close and acts at
the next open."""

import csv
import json
from decimal import Decimal
from random import Random

import msgspec
import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from hawser.cli import main
from hawser.core.account import Account, Costs, SizeRule
from hawser.core.bars import Bars
from hawser.core.clock import MINUTE
from hawser.core.errors import BadInput
from hawser.core.guards import declared as dc
from hawser.core.guards.context import EntryContext
from hawser.core.guards.filters.base import filter_verdict
from hawser.core.guards.limits import SPREAD_OK, spread_over
from hawser.core.guards.news import Calendar, NewsEvent
from hawser.core.instrument import Instrument, WeeklySession
from hawser.core.levels import StopRule, TargetRule
from hawser.core.rig import FollowOn, Ladder, Measure, Rig, Trail
from hawser.core.rules.inside_bar import PESSIMISTIC
from hawser.formats.declared import load
from hawser.rehearsal.guarding import REFUSED, TRIPPED
from hawser.rehearsal.run import Rehearsal, SignalColumns, exit_name
from hawser.rehearsal.watch import HistoryPolicy, acting
from madeup import ROOT
from randomguards import SOURCE, a_policy
from randomrigs import a_rig, an_account, fitting, history

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
    currencies=("CHF",),
)
ACCOUNT = Account(
    currency="CHF", equity=10_000.0, size=SizeRule("fixed", qty=Decimal(10)), costs=Costs()
)
RIG = Rig(atr_length=1, stop=StopRule(ticks=20.0))
STILL = (1000, 1001, 999, 1000)
DOWN = (1000, 1001, 979, 1000)  # to the stop of a long, and back


def played(
    guards,
    bars,
    signals,
    rig=RIG,
    spread=None,
    calendars=(),
    at_once=4096,
    references=None,
    account=ACCOUNT,
    **changes,
):
    """A run over minutes from the epoch on; `signals` by the bar at whose close they come."""
    n = len(bars)
    columns = np.array(bars, float).T
    calls = np.zeros(n, np.int8)
    for bar, side in signals.items():
        calls[bar] = side
    made = Bars(
        np.arange(n, dtype=np.int64) * MINUTE,
        *columns,
        np.zeros(n) if spread is None else np.array(spread),
    )
    policy = HistoryPolicy(
        dc.Guards(guard=tuple(guards), **changes), calendars, "", references or {}
    )
    return Rehearsal(
        made, SignalColumns(calls, np.zeros(n, np.int8)), PIER, account, rig, policy
    ).run(PESSIMISTIC, at_once=at_once)


def entries(outcome):
    return [trade.first for trade in outcome.trades]


def leaves(outcome):
    """The bar, the reason and the price at which each trade was left."""
    return [(trade.last, trade.end, trade.fills[-1][4]) for trade in outcome.trades]


def noted(outcome):
    """Rows of what guards did; the bar in the place of its time."""
    return [(at // MINUTE, *row[:3]) for at, *row in outcome.guarded.tolist()]


# Filters


def test_news_refuses_from_its_first_nanosecond_and_lets_go_at_its_end():
    guard = dc.NewsGuard(name="news", before_min=2.0, after_min=3.0, horizon_h=0.0)
    calls = {bar: (1 if bar % 2 else -1) for bar in range(1, 14)}
    # each ends at once
    rig = Rig(atr_length=1, stop=StopRule(ticks=20.0), target=(TargetRule(share=1.0, ticks=1.0),))

    def refused(at):
        news = (Calendar("tides", (NewsEvent(at, "CHF", "high", "tide tables"),)),)
        return [row[0] for row in noted(played([guard], [STILL] * 15, calls, rig, calendars=news))]

    assert refused(8 * MINUTE) == [6, 7, 8, 9, 10]
    assert refused(8 * MINUTE + 1) == [7, 8, 9, 10, 11]
    # the window begins a nanosecond before bar 6
    assert refused(8 * MINUTE - 1) == [6, 7, 8, 9, 10]


def test_a_calendar_that_is_not_there_closes_all_and_one_that_ends_closes_from_then_on():
    guard = dc.NewsGuard(name="news", horizon_h=0.1)
    assert entries(played([guard], [STILL] * 12, {2: 1})) == []
    news = (Calendar("tides", (), reaches=15 * MINUTE),)
    rows = noted(
        played(
            [guard],
            [STILL] * 20,
            {2: 1, 9: -1, 15: -1},
            Rig(atr_length=1, stop=StopRule(ticks=20.0), reverse=True),
            calendars=news,
        )
    )
    assert [row[0] for row in rows] == [10, 16]  # six minutes ahead it must reach: up to minute 9


def test_what_news_does_with_an_open_trade_at_the_open_it_closes_at():
    news = (Calendar("tides", (NewsEvent(6 * MINUTE, "ALL", "high", "tide tables"),)),)
    up = (1010, 1011, 1009, 1010)
    bars = [STILL, STILL, STILL, up, up, up, up, STILL, STILL]
    even = dc.NewsGuard(
        name="news", before_min=1.0, after_min=1.0, horizon_h=0.0, then=("break_even",)
    )
    outcome = played([even], bars, {1: 1}, calendars=news)
    assert outcome.trades[0].moves == [[5, 1000, 0]]
    assert leaves(outcome) == [(7, "stop", 1000.0)]
    trailing = Rig(atr_length=1, stop=StopRule(ticks=20.0), trail=Trail(ticks=16.0))
    higher = [*bars[:4], (1010, 1012, 1009, 1010), *bars[5:]]
    moves = played([even], higher, {1: 1}, trailing, calendars=news).trades[0].moves
    # what the trail wanted from bar 5 on never held
    assert moves == [[3, 985, 1], [4, 995, 1], [5, 1000, 0]]
    close = dc.NewsGuard(name="news", before_min=1.0, after_min=1.0, horizon_h=0.0, then=("close",))
    assert leaves(played([close], bars, {1: 1}, calendars=news)) == [(5, "guard", 1010.0)]
    under = [STILL, STILL, STILL, (*DOWN[:2], 990, 995), *[(995, 996, 990, 995)] * 5]
    # no stop above the market
    assert played([even], under, {1: 1}, calendars=news).trades[0].moves == []


def test_a_spread_is_judged_in_ticks_by_its_median_and_as_a_part_of_r():
    spread = [2, 2, 2, 2, 5, 2, 2]
    for guard in (
        dc.SpreadGuard(name="wide", max_ticks=4.0),
        dc.SpreadGuard(name="wide", max_of_median=2.0, window_min=3.0),
        dc.SpreadGuard(name="wide", max_percent_of_r=20.0),
    ):
        outcome = played([guard], [STILL] * 7, {3: 1, 4: 1}, spread=spread)
        assert entries(outcome) == [5], guard
        assert noted(outcome) == [(4, 0, REFUSED, 1)]


def test_a_session_a_regime_and_the_volatility_close_entries():
    hours = WeeklySession((3,), "00:05", "00:08", "UTC")  # 1 January 1970 was a Thursday
    outcome = played(
        [dc.SessionGuard(name="hours", hours=(hours,))], [STILL] * 12, {3: 1, 4: 1, 6: -1, 7: -1}
    )
    assert (entries(outcome), [row[0] for row in noted(outcome)]) == ([5], [4])
    rise = [(1000 + n, 1001 + n, 999 + n, 1000 + n) for n in range(12)]
    regime = dc.RegimeGuard(name="tide", reference="Pier", timeframe="1m", length=3)
    outcome = played([regime], rise, {1: 1, 4: -1, 5: 1})
    assert entries(outcome) == [6]
    # not known yet; below only shorts
    assert noted(outcome) == [(2, 0, REFUSED, 1), (5, 0, REFUSED, -1)]
    wild = [*[STILL] * 7, (1000, 1030, 970, 1000), *[STILL] * 6]
    band = dc.VolatilityGuard(name="band", timeframe="1m", atr_length=1, bars=5, high=80.0)
    outcome = played([band], wild, {3: 1, 7: 1, 8: 1})
    assert (entries(outcome), [row[0] for row in noted(outcome)]) == ([9], [4, 8])


def test_a_regime_of_another_instrument_is_known_as_its_own_bars_end():
    closes = np.array([100.0, 110.0, 90.0])
    other = Bars(
        np.arange(3, dtype=np.int64) * 5 * MINUTE, closes, closes, closes, closes, np.zeros(3)
    )
    guard = dc.RegimeGuard(
        name="tide", reference="Quay 9", timeframe="5m", length=2, entries="above"
    )
    many = dict.fromkeys(range(3, 19), 1)
    rig = Rig(atr_length=1, stop=StopRule(ticks=20.0), target=(TargetRule(share=1.0, ticks=1.0),))
    outcome = played([guard], [STILL] * 20, many, rig, references={"Quay 9": other})
    # known from minute 10; below its average from minute 15
    assert entries(outcome) == list(range(10, 15))
    with pytest.raises(BadInput, match="expected bars of Quay 9"):
        played([guard], [STILL] * 20, many, rig)


# What counts


def test_entries_are_counted_by_the_day_and_a_new_day_has_its_own():
    guard = dc.CountGuard(name="few", most=1)
    outcome = played([guard], [DOWN] * 12, {1: 1, 3: 1, 5: 1, 8: 1, 9: 1}, day_starts="00:08")
    assert entries(outcome) == [2, 9]
    assert [row[0] for row in noted(outcome)] == [4, 6, 10]


def test_a_cool_down_begins_at_the_end_of_the_bar_that_lost():
    guard = dc.CoolDownGuard(name="rest", minutes=2.0)
    calls = dict.fromkeys(range(1, 9), 1)
    # lost by minute 3, closed until minute 5
    assert entries(played([guard], [DOWN] * 10, calls)) == [2, 5, 8]


def test_a_losing_streak_latches_until_the_day_ends():
    guard = dc.StreakSwitch(name="streak", losses=2)
    calls = dict.fromkeys(range(1, 14), 1)
    outcome = played([guard], [DOWN] * 15, calls, day_starts="00:10")
    assert entries(outcome) == [2, 3, 10, 11]
    assert [row[:3] for row in noted(outcome) if row[2] == TRIPPED] == [
        (3, 0, TRIPPED),
        (11, 0, TRIPPED),
    ]


def test_a_day_loss_judged_at_a_close_leaves_at_the_next_open_before_the_new_day_lets_go():
    guard = dc.LossSwitch(name="day", money=100.0, then=("flatten",))
    bars = [STILL, STILL, STILL, (1000, 1001, 985, 989), (988, 990, 987, 989), *[STILL] * 8]
    outcome = played([guard], bars, {1: 1, 5: 1, 8: 1}, day_starts="00:09")
    assert leaves(outcome)[0] == (4, "guard", 988.0)
    assert entries(outcome) == [2, 9]
    assert noted(outcome) == [(3, 0, TRIPPED, 0), (6, 0, REFUSED, 1)]
    assert outcome.held == 2 + len(bars) - 9  # the bar it left at the open of is not held


def test_a_signal_comes_before_a_guard_and_its_turn_is_refused():
    guard = dc.LossSwitch(name="day", money=100.0, then=("flatten",))
    bars = [STILL, STILL, STILL, (1000, 1001, 985, 989), (988, 990, 987, 989), STILL]
    turning = Rig(atr_length=1, stop=StopRule(ticks=20.0), reverse=True)
    outcome = played([guard], bars, {1: 1, 3: -1}, turning)
    assert leaves(outcome) == [(4, "signal", 988.0)]
    assert noted(outcome) == [(3, 0, TRIPPED, 0), (4, 0, REFUSED, -1)]


def test_a_drawdown_without_a_period_is_for_good_and_one_of_a_day_trips_again():
    for period, tripped in (("none", [3]), ("day", [3, 7])):
        guard = dc.DrawdownSwitch(name="fall", money=150.0, period=period)
        outcome = played(
            [guard],
            [STILL, STILL, STILL, DOWN, *[STILL] * 8],
            {1: 1, 5: 1, 9: 1},
            day_starts="00:07",
        )
        assert entries(outcome) == [2]
        assert [row[0] for row in noted(outcome) if row[2] == TRIPPED] == tripped
    first_open = played(
        [guard], [STILL, STILL, STILL, DOWN, *[STILL] * 8], {1: 1, 6: 1}, day_starts="00:07"
    )
    # a limit that is still broken lets nothing pass at the new day's first open
    assert entries(first_open) == [2]


def test_a_drawdown_takes_the_stop_to_the_entry_where_it_may_stand():
    guard = dc.DrawdownSwitch(name="fall", money=150.0, then=("break_even",))
    bars = [
        STILL,
        STILL,
        STILL,
        (1020, 1031, 1019, 1030),
        (1020, 1021, 1009, 1010),
        (1010, 1011, 999, 1005),
        STILL,
    ]
    outcome = played([guard], bars, {1: 1})
    # 200 below the highest close, judged at the close of bar 4
    assert outcome.trades[0].moves == [[5, 1000, 0]]
    assert leaves(outcome) == [(5, "stop", 1000.0)]
    fall = [*bars[:4], (1020, 1021, 994, 995), (995, 996, 990, 992), STILL]
    # the market is below the entry by then
    assert played([guard], fall, {1: 1}).trades[0].moves == []


def test_a_day_that_turns_while_the_limit_is_broken_moves_no_stop_a_second_time():
    guard = dc.DrawdownSwitch(name="fall", money=150.0, period="day", then=("break_even",))
    # below the entry: no stop may stand there
    rise, fall = (1000, 1041, 999, 1040), (1039, 1040, 984, 985)
    # 200 below the highest close: still broken, and a stop might stand at the entry
    above = (1020, 1021, 1019, 1020)
    outcome = played([guard], [STILL, STILL, rise, fall, *[above] * 6], {1: 1}, day_starts="00:07")
    assert [row[0] for row in noted(outcome) if row[2] == TRIPPED] == [3, 7]
    assert outcome.trades[0].moves == []


def test_guards_of_other_sources_and_instruments_do_not_count():
    foreign = dc.CountGuard(name="few", most=0, sources=("elsewhere",))
    other = dc.CountGuard(name="none", most=0, instruments=("Quillan Ferry",))
    assert entries(played([foreign, other], [STILL] * 5, {1: 1})) == [2]


def test_a_follow_on_is_refused_like_any_entry():
    guard = dc.CountGuard(name="few", most=1)
    rig = Rig(atr_length=1, stop=StopRule(ticks=20.0), follow_on=FollowOn(2))
    outcome = played([guard], [STILL, STILL, DOWN, STILL, STILL], {1: 1}, rig)
    assert entries(outcome) == [2]
    assert noted(outcome) == [(3, 0, REFUSED, -1)]


# Whatever the rig and the policy


@settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.integers(0, 1 << 40))
def test_no_trade_begins_while_a_filter_is_closed_and_chunks_change_nothing(seed):
    draw = Random(seed)
    bars, signals, instrument = history(draw, 300)
    policy = a_policy(draw, bars, instrument)
    rig = fitting(a_rig(draw), instrument)
    account = an_account(draw)
    rehearsal = Rehearsal(bars, signals, instrument, account, rig, policy)
    outcome, parts = rehearsal.run(PESSIMISTIC), rehearsal.run(PESSIMISTIC, at_once=2)
    assert noted(outcome) == noted(parts)
    assert [(t.fills, t.moves) for t in outcome.trades] == [
        (t.fills, t.moves) for t in parts.trades
    ]
    timed = [
        one
        for one in policy.guards.guard
        if isinstance(one, (dc.NewsGuard, dc.SessionGuard, dc.SpreadGuard))
    ]
    for trade in outcome.trades:
        context = EntryContext(
            int(bars.time[trade.first]),
            instrument,
            float(bars.spread[trade.first]),
            {},
            policy.calendars,
        )
        for guard in timed:
            if guard.watches(instrument.symbol, SOURCE):
                assert filter_verdict(guard, context) is None
                if isinstance(guard, dc.SpreadGuard):
                    r_ticks = abs(
                        int(outcome.rows.whole[outcome.trades.index(trade), 5]) - trade.stop
                    )
                    nan = float("nan")
                    assert (
                        spread_over(context.spread, nan, r_ticks, nan, nan, guard.max_percent_of_r)
                        == SPREAD_OK
                    )
    assert all(exit_name(row) != "guard" for trade in outcome.trades for row in trade.fills[:-1])


# Files


def test_the_command_writes_what_each_guard_did(tmp_path, capsys):
    rows = ["time,open,high,low,close,signal"]
    rows += [
        f"2031-03-05T09:{n:02d}:00Z,100,101,97,100,{1 if n in (2, 4, 30) else 0}" for n in range(40)
    ]
    (tmp_path / "bars.csv").write_text("\n".join(rows) + "\n")
    (tmp_path / "news.csv").write_text(
        "time,currency,impact,title\n2031-03-05T09:31:00Z,CHF,high,Tide "
        "tables\n2031-03-09T09:31:00Z,CHF,low,Later\n"
    )
    (tmp_path / "guards.toml").write_text(
        '[news]\nfiles = ["news.csv"]\n[[guard]]\nkind = "news"\nname = "News, high"\nhorizon_h = '
        "1\n"
        '[[guard]]\nkind = "trade_count"\nname = "One"\nmost = 1\n'
        '[[guard]]\nkind = "order_rate"\nname = "Rate"\nmost = 5\n'
    )
    (tmp_path / "i.toml").write_text(
        'symbol = "Pier"\nkind = "index"\nquote = "CHF"\ntick = "1"\nmultiplier = 1\nqty_step = '
        '"1"\nqty_min = "1"\n'
        'qty_max = "100"\nmargin_rate = 0.0\nmin_stop_ticks = 1\ncurrencies = ["CHF"]\n'
    )
    (tmp_path / "a.toml").write_text(
        'currency = "CHF"\nequity = 9000.0\n[size]\nmethod = "fixed"\nqty = "1"\n'
    )
    (tmp_path / "r.toml").write_text("[stop]\nticks = 2\n")
    words = [
        "rehearse",
        "--bars",
        "bars.csv",
        "--instrument",
        "i.toml",
        "--rig",
        "r.toml",
        "--account",
        "a.toml",
    ]
    words = [str(tmp_path / word) if "." in word else word for word in words]
    words += [
        "--replace",
        "--out",
        str(tmp_path / "out"),
        "--guards",
        str(tmp_path / "guards.toml"),
    ]
    assert main(words) == 0
    with (tmp_path / "out" / "guards.csv").open(newline="") as file:
        table = list(csv.reader(file))
    assert table == [
        ["time", "guard", "action", "side"],
        ["2031-03-05T09:05:00Z", "One", "refused", "long"],
        ["2031-03-05T09:31:00Z", "News, high", "refused", "long"],
    ]
    found = json.loads((tmp_path / "out" / "report.json").read_text())["guards"]
    assert [(one["name"], one["acts"], one["refused"]) for one in found] == [
        ("News, high", True, 1),
        ("One", True, 1),
        ("Rate", False, 0),
    ]
    capsys.readouterr()
    with (tmp_path / "guards.toml").open("a") as file:
        file.write(
            '[[guard]]\nkind = "regime"\nname = "Tide"\nreference = "Quay 9"\ntimeframe = '
            '"5m"\nlength = 2\n'
        )
    assert main(words) == 2
    assert "expected bars of Quay 9, as with --reference 'Quay 9=FILE'" in capsys.readouterr().err
    assert main([*words, "--reference", f"Quay 9={tmp_path / 'bars.csv'}"]) == 0
    assert main([*words, "--reference", "Quay 9"]) == 2
    assert "expected NAME=FILE" in capsys.readouterr().err


def test_the_policy_that_ships_as_an_example_acts_in_full():
    policy = HistoryPolicy(load(dc.Guards, ROOT / "examples" / "harbour-watch.toml"))
    assert len(acting(policy, "Quillan Ferry", policy.source)) == len(policy.guards.guard) == 6


# Ladders


LADDER = Rig(ladder=Ladder(3, Measure(ticks=10.0), target_ticks=8.0, stop_ticks=30.0))
DEEP = (990, 992, 984, 985)  # through the first further rung at 990


def rungs(guards, bars, calendars=(), **changes):
    """Rows of prices and prices at which the rungs of a long of bar 2 were filled."""
    account = msgspec.structs.replace(ACCOUNT, size=SizeRule(percent=10.0))
    outcome = played(guards, bars, {1: 1}, LADDER, account=account, calendars=calendars, **changes)
    return [(int(row[0]), row[4]) for row in outcome.trades[0].fills if row[1] > 0]


def tides(*moments):
    return (Calendar("tides", tuple(NewsEvent(at, "CHF", "high", "tide") for at in moments)),)


@pytest.mark.parametrize(
    ("then", "filled"),
    [(("cancel",), [(2, 1000), (6, 985)]), ((), [(2, 1000), (4, 990)])],
)
def test_a_filter_takes_rungs_back_while_it_is_closed_and_sets_them_out_again(then, filled):
    """Closed from bar 4 to bar 5; at the open of bar 6 the price is beyond the rung already."""
    guard = dc.NewsGuard(name="news", before_min=0.0, after_min=2.0, horizon_h=0.0, then=then)
    bars = [STILL] * 4 + [DEEP, (985, 986, 984, 985), (985, 986, 984, 985), (985, 986, 984, 985)]
    assert rungs([guard], bars, tides(4 * MINUTE)) == filled


def test_rungs_wait_for_every_guard_once_they_are_taken_back():
    """The news is over as bar 5 closes; a spread that takes nothing back is closed then, and until
    bar 7 opens."""
    news = dc.NewsGuard(name="n", before_min=0.0, after_min=2.0, horizon_h=0.0, then=("cancel",))
    wide = dc.SpreadGuard(name="w", max_ticks=1.0)
    bars = [STILL] * 4 + [DEEP] + [(985, 986, 980, 985)] * 4
    spread = [0, 0, 0, 0, 0, 4, 4, 0, 0]
    kept = rungs([news, wide], bars, tides(4 * MINUTE), spread=spread)
    assert kept == [(2, 1000), (7, 985), (7, 980)]
    # by that alone what waits stays where it is
    assert rungs([wide], bars, spread=[0, 0, 0, 0, 4, 4, 4, 0, 0])[1] == (4, 990)


def test_a_kill_switch_takes_rungs_back_for_good():
    """A fall of 1 % is reached at the close of bar 4, whatever it does with what is open."""
    switch = dc.DrawdownSwitch(name="d", money=1.0)
    bars = [STILL] * 4 + [(1000, 1000, 995, 996)] + [DEEP] * 3
    assert rungs([switch], bars) == [(2, 1000)]
    assert rungs([msgspec.structs.replace(switch, money=9000.0)], bars) == [(2, 1000), (5, 990)]
