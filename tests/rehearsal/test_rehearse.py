"""`hawser rehearse`: every case with right answers, rules worked by hand, mirror images, and what
must never happen."""

import csv
import io
import itertools
import json
import re
import shlex
from decimal import Decimal
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from hawser.cli import main
from hawser.core.account import Account, Costs, SizeRule
from hawser.core.bars import Bars
from hawser.core.clock import MINUTE
from hawser.core.errors import BadInput
from hawser.core.instrument import Instrument, WeeklySession
from hawser.core.levels import StopRule, TargetRule
from hawser.core.rig import (
    After,
    Amount,
    Basket,
    BreakEven,
    FollowOn,
    Ladder,
    LossStep,
    Measure,
    Rig,
    Step,
    TimeExit,
    Trail,
)
from hawser.core.rules.inside_bar import OPTIMISTIC, PATH, PESSIMISTIC
from hawser.formats.declared import load
from hawser.formats.history_file import read_history
from hawser.formats.rigs import load_rig
from hawser.rehearsal.run import Rehearsal, SignalColumns, check, exit_name
from hawser.rehearsal.trial import Trial
from madeup import CASES, ROOT, needs_cases

FOLDERS = [
    one.parents[1]
    for kind in ("rehearse", "finer", "signals", "fleet")
    for one in sorted(CASES.glob(f"{kind}/*/expected/trades.csv"))
]


def rows(path: Path) -> list[list[str]]:
    with path.open(newline="") as file:
        return list(csv.reader(file))


def in_order(path: Path) -> list[list[str]]:
    """Rows in an order of their own: that of different trades at one time is free."""
    head, *rest = rows(path)
    free = {head.index(name) for name in ("price", "commission", "equity", "heat") if name in head}
    if "heat" in head or "equity" in head:
        return [head, *rest]
    return [head, *sorted(rest, key=lambda row: [x for n, x in enumerate(row) if n not in free])]


def alike(ours: Any, right: Any) -> bool:
    if isinstance(right, dict):
        return set(ours) == set(right) and all(alike(ours[key], right[key]) for key in right)
    if isinstance(right, list):
        return len(ours) == len(right) and all(map(alike, ours, right))
    if ours == right:
        return True
    try:
        return abs(float(ours) - float(right)) <= 1e-6 * max(1.0, abs(float(right)))
    except (TypeError, ValueError):
        return False


@needs_cases
@pytest.mark.parametrize(
    "folder", FOLDERS, ids=lambda folder: f"{folder.parent.name}-{folder.name}"
)
def test_a_case_with_right_answers(folder, tmp_path, monkeypatch):
    monkeypatch.chdir(folder)
    words = shlex.split((folder / "command.txt").read_text())[1:]
    words[words.index("--out") + 1] = str(tmp_path)
    assert main(words) == 0
    for name in ("trades", "fills", "stops", "equity", "refused"):
        if not (folder / f"expected/{name}.csv").exists():
            continue
        ours = in_order(tmp_path / f"{name}.csv")
        right = in_order(folder / f"expected/{name}.csv")
        assert len(ours) == len(right), name
        for one, other in zip(ours, right, strict=True):
            assert all(map(alike, one, other)), (name, one, other)
    report = json.loads((tmp_path / "report.json").read_text())
    right = json.loads((folder / "expected/report.json").read_text())
    for key, value in right.items():
        assert alike(report[key], value), key


# By hand: an index of tick 1, one unit of money a tick, no costs; the ATR is 10 from bar 3 on


INSTRUMENT = Instrument(
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
)
FLAT = [(1000, 1005, 995, 1000)] * 4  # true range 10


def history(bars, signals=None):
    columns = np.array(FLAT + list(bars), float).T
    n = columns.shape[1]
    time = np.arange(n, dtype=np.int64) * MINUTE
    calls = np.zeros(n, np.int8)
    calls[3] = 1
    for bar, value in (signals or {}).items():
        calls[bar] = value
    return Bars(time, *columns, np.zeros(n)), calls


def played(rig, bars, signals=None, order=PESSIMISTIC, leave=None, account=None):
    made, calls = history(bars, signals)
    leaves = np.zeros(calls.size, np.int8)
    for bar, value in (leave or {}).items():
        leaves[bar] = value
    account = account or Account(
        currency="CHF", equity=10_000.0, size=SizeRule("fixed", qty=Decimal(10)), costs=Costs()
    )
    return Rehearsal(made, SignalColumns(calls, leaves), INSTRUMENT, account, rig).run(order)


def rig(**rules):
    return Rig(**({"atr_length": 3, "stop": StopRule(ticks=20.0)} | rules))


def exits(outcome, number=0):
    """What left a trade: bar (from the entry's, 4), why, price, steps."""
    return [
        (int(r[0]) - 4, exit_name(r), r[4], int(r[5]))
        for r in outcome.trades[number].fills
        if r[1] < 0
    ]


def test_the_stop_fills_at_its_level_or_at_a_gap_s_open():
    assert exits(played(rig(), [(1000, 1002, 998, 1000), (1000, 1001, 979, 985)])) == [
        (1, "stop", 980.0, 10)
    ]
    assert exits(played(rig(), [(1000, 1002, 998, 1000), (970, 990, 965, 985)])) == [
        (1, "stop", 970.0, 10)
    ]


@pytest.mark.parametrize(
    ("order", "why"), [(PESSIMISTIC, "stop"), (OPTIMISTIC, "target_1"), (PATH, "target_1")]
)
def test_a_bar_that_reaches_both_sides_is_counted(order, why):
    outcome = played(
        rig(target=(TargetRule(share=1.0, r=1.0),)), [(1000, 1020, 979, 1000)], order=order
    )
    assert exits(outcome)[0][1] == why
    assert outcome.dependent == 1


def test_targets_take_their_shares_nearest_first_and_the_last_takes_the_rest():
    targets = (TargetRule(share=0.35, r=2.0), TargetRule(share=0.65, r=1.0))
    outcome = played(rig(target=targets), [(1000, 1002, 998, 1000), (1000, 1050, 999, 1040)])
    assert exits(outcome) == [(1, "target_2", 1020.0, 7), (1, "target_1", 1040.0, 3)]


def test_break_even_waits_for_its_excursion_and_holds_from_the_next_bar():
    rules = rig(break_even=BreakEven(After(r=1.0), offset_ticks=2.0))
    outcome = played(rules, [(1000, 1020, 999, 1010), (1010, 1012, 1001, 1005)])
    assert outcome.trades[0].moves == [[5, 1002, 0]]
    assert exits(outcome) == [(1, "stop", 1002.0, 10)]


def test_steps_may_be_negative_and_never_loosen():
    rules = rig(
        step=(
            Step(Measure(r=0.5), Measure(r=-0.5)),
            Step(Measure(ticks=30.0), Measure(ticks=-15.0)),
        )
    )
    outcome = played(
        rules, [(1000, 1010, 999, 1005), (1005, 1030, 1001, 1020), (1020, 1021, 1015, 1018)]
    )
    assert [move[1] for move in outcome.trades[0].moves] == [990]  # the second would loosen it


def test_a_trail_is_held_back_at_the_least_distance_and_not_sent_through_the_market():
    rules = rig(trail=Trail(ticks=5.0))
    outcome = played(
        rules, [(1000, 1030, 999, 1026), (1026, 1040, 1027, 1030), (1030, 1031, 1026, 1028)]
    )
    # 1035 lies beyond the close of 1030
    assert [move[1] for move in outcome.trades[0].moves] == [1025]


def test_a_loss_step_closes_its_share_and_one_behind_the_stop_is_void():
    rules = rig(loss_step=(LossStep(0.5, 0.25),))
    assert exits(played(rules, [(1000, 1001, 989, 995), (995, 996, 979, 985)])) == [
        (0, "loss_step_1", 990.0, 2), (1, "stop", 980.0, 8),
    ]  # fmt: skip
    tight = rig(loss_step=(LossStep(0.5, 0.25),), break_even=BreakEven())
    outcome = played(tight, [(1000, 1010, 999, 1008), (1008, 1009, 985, 990)])
    assert [row[1] for row in exits(outcome)] == ["stop"]


def test_a_time_exit_counts_the_entry_s_bar():
    bars = [(1000, 1005, 995, 1000)] * 5
    assert exits(played(rig(time_exit=TimeExit(bars=2)), bars)) == [(2, "time", 1000.0, 10)]


def test_a_time_exit_by_the_hours_leaves_at_the_open_of_the_last_bar():
    session = WeeklySession((3,), "00:00", "00:07")  # minute bars from Thursday 1 January 1970
    of = msgspec.structs.replace(INSTRUMENT, sessions=(session,))
    made, calls = history([(1000, 1005, 995, 1000)] * 6)
    account = Account(
        currency="CHF", equity=10_000.0, size=SizeRule("fixed", qty=Decimal(10)), costs=Costs()
    )
    nothing = np.zeros(calls.size, np.int8)
    for rule in (TimeExit(session_end=True), TimeExit(before_weekend=True)):
        outcome = Rehearsal(
            made, SignalColumns(calls, nothing), of, account, rig(time_exit=rule)
        ).run(PESSIMISTIC)
        assert exits(outcome) == [(2, "time", 1000.0, 10)]  # at 00:06: the session is over at 00:07
    with pytest.raises(BadInput, match="no sessions"):
        check(rig(time_exit=TimeExit(session_end=True)), account, INSTRUMENT)


def test_a_signal_leaves_turns_or_is_ignored():
    bars = [(1000, 1005, 995, 1000)] * 6
    assert [trade.side for trade in played(rig(), bars, {5: -1}).trades] == [1]
    turned = played(rig(reverse=True), bars, {5: -1})
    assert [trade.side for trade in turned.trades] == [1, -1]
    assert exits(turned) == [(2, "signal", 1000.0, 10)]
    assert turned.trades[1].first == 6
    one_way = played(rig(reverse=True, direction="long"), bars, {5: -1})
    assert [trade.side for trade in one_way.trades] == [1]
    assert exits(one_way) == [(2, "signal", 1000.0, 10)]
    assert exits(played(rig(), bars, leave={5: -1})) == [(2, "signal", 1000.0, 10)]


def test_a_follow_on_turns_after_a_loss_and_stays_after_the_last_target():
    lost = [(1000, 1001, 979, 985)] + [(985, 990, 980, 985)] * 3
    outcome = played(rig(follow_on=FollowOn(1)), lost)
    assert [(trade.side, trade.reason) for trade in outcome.trades] == [
        (1, "signal"),
        (-1, "follow_on"),
    ]
    won = [(1000, 1025, 999, 1020)] + [(1020, 1022, 1018, 1020)] * 3
    again = played(rig(follow_on=FollowOn(1), target=(TargetRule(share=1.0, r=1.0),)), won)
    assert [(trade.side, trade.reason) for trade in again.trades] == [
        (1, "signal"),
        (1, "follow_on"),
    ]


def test_a_basket_ends_a_trade_at_the_next_open():
    rules = rig(basket=Basket(stop=Amount(money=100.0)))
    outcome = played(rules, [(1000, 1001, 988, 989), (989, 992, 985, 990)])
    assert exits(outcome) == [(1, "basket", 989.0, 10)]


def test_a_basket_target_in_percent_is_of_the_cash_at_entry_and_no_percent_less():
    # 100.50 of 10 000: ten ticks win 100, eleven 110
    rules = rig(basket=Basket(target=Amount(percent=1.005)))
    outcome = played(
        rules, [(1000, 1010, 999, 1010), (1010, 1011, 1009, 1011), (1011, 1012, 1010, 1011)]
    )
    assert exits(outcome) == [(2, "basket", 1011.0, 10)]


def test_a_ladder_stays_within_its_budget_when_all_is_lost():
    account = Account(currency="CHF", equity=10_000.0, size=SizeRule(percent=2.0), costs=Costs())
    ladder = Ladder(
        rungs=3, spacing=Measure(ticks=10.0), target_ticks=15.0, stop_ticks=10.0, factor=2.0
    )
    rules = Rig(atr_length=3, ladder=ladder)
    outcome = played(rules, [(1000, 1001, 985, 987), (987, 988, 960, 965)], account=account)
    trade = outcome.trades[0]
    # twice as much would lose 220, not 200
    assert [int(row[5]) for row in trade.fills if row[1] > 0] == [1, 2, 4]
    assert trade.planned_risk == 1 * 30 + 2 * 20 + 4 * 10
    assert trade.net == pytest.approx(-trade.planned_risk)


def test_what_is_open_at_the_end_is_closed_without_slippage():
    account = Account(
        currency="CHF",
        equity=10_000.0,
        size=SizeRule("fixed", qty=Decimal(10)),
        costs=Costs(0, 1, 5),
    )
    outcome = played(rig(), [(1000, 1005, 995, 1003)], account=account)
    assert exits(outcome) == [(0, "end", 1003.0, 10)]
    assert outcome.equity[-1] == pytest.approx(10_000 + (1003 - 1001) * 10)


# Properties


def walk(seed: int, n: int = 120) -> np.ndarray:
    draw = np.random.default_rng(seed)
    close = 1000 + draw.integers(-8, 9, n).cumsum()
    opens = np.concatenate([[1000], close[:-1]]) + draw.integers(-3, 4, n)
    high = np.maximum(opens, close) + draw.integers(0, 6, n)
    low = np.minimum(opens, close) - draw.integers(0, 6, n)
    return np.array([opens, high, low, close], float)


def run_of(prices, calls, rules, order=PESSIMISTIC, at_once=4096):
    n = prices.shape[1]
    bars = Bars(np.arange(n, dtype=np.int64) * MINUTE, *prices, np.zeros(n))
    size = (
        SizeRule("fixed", qty=Decimal(20))
        if rules.ladder is None
        else SizeRule("risk_money", amount=2000.0)
    )
    account = Account(currency="CHF", equity=1e6, size=size, costs=Costs(0, 1, 2))
    return Rehearsal(
        bars, SignalColumns(calls, np.zeros(n, np.int8)), INSTRUMENT, account, rules
    ).run(order, None, at_once)


RULES = st.builds(
    lambda even, step, trail, loss, target, bars: rig(
        stop=StopRule(ticks=25.0),
        break_even=BreakEven(After(r=even)) if even else None,
        step=(Step(Measure(r=step), Measure(r=step / 2)),) if step else (),
        trail=Trail(ticks=trail) if trail else None,
        loss_step=(LossStep(loss, 0.5),) if loss else (),
        target=(TargetRule(share=0.4, r=target), TargetRule(share=0.3, r=2 * target))
        if target
        else (),
        time_exit=TimeExit(bars=bars) if bars else None,
    ),
    st.sampled_from([0.0, 0.5, 1.0]),
    st.sampled_from([0.0, 0.6, 1.2]),
    st.sampled_from([0.0, 10.0, 30.0]),
    st.sampled_from([0.0, 0.4]),
    st.sampled_from([0.0, 0.5, 1.5]),
    st.sampled_from([0, 7]),
)


LADDERS = st.builds(
    lambda rungs, spacing, factor, even, bars: Rig(
        atr_length=3,
        ladder=Ladder(rungs, Measure(ticks=spacing), 12.5, 10.0, factor),
        break_even=BreakEven(After(r=even)) if even else None,
        time_exit=TimeExit(bars=bars) if bars else None,
        follow_on=FollowOn(2),
    ),
    st.integers(2, 4),
    st.sampled_from([4.0, 7.5]),
    st.sampled_from([0.6, 1.0, 2.0]),
    st.sampled_from([0.0, 0.4]),
    st.sampled_from([0, 9]),
)


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 10_000), RULES | LADDERS, st.sampled_from([PESSIMISTIC, OPTIMISTIC, PATH]))
def test_stops_only_tighten_nothing_more_closes_than_was_open_and_a_mirror_gives_a_mirror(
    seed, rules, order
):
    prices = walk(seed)
    calls = np.random.default_rng(seed).choice([-1, 0, 0, 0, 0, 1], prices.shape[1]).astype(np.int8)
    found = run_of(prices, calls, rules, order)
    for trade in found.trades:
        levels = [trade.stop, *(move[1] for move in trade.moves)]
        assert all(trade.side * (b - a) > 0 for a, b in itertools.pairwise(levels))
        # all that was entered left, and no more
        assert sum(row[5] * row[1] for row in trade.fills) == 0
    mirror = 2400 - prices[[0, 2, 1, 3]]
    other = run_of(mirror, -calls, rules, order)
    assert [(t.first, t.last, t.end, -t.side) for t in found.trades] == [
        (t.first, t.last, t.end, t.side) for t in other.trades
    ]
    assert [t.net for t in other.trades] == pytest.approx([t.net for t in found.trades])


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 10_000), RULES | LADDERS, st.sampled_from([1, 2, 5]))
def test_how_many_trades_are_played_at_once_changes_nothing(seed, rules, at_once):
    prices = walk(seed, 400)
    calls = np.random.default_rng(seed).choice([-1, 0, 0, 0, 1], prices.shape[1]).astype(np.int8)
    whole, parts = run_of(prices, calls, rules), run_of(prices, calls, rules, at_once=at_once)
    assert [(t.fills, t.moves, t.net) for t in whole.trades] == [
        (t.fills, t.moves, t.net) for t in parts.trades
    ]
    assert np.array_equal(whole.equity, parts.equity)


def test_a_rung_lowers_the_target_for_all_from_the_next_bar_on():
    account = Account(currency="CHF", equity=10_000.0, size=SizeRule(percent=2.0), costs=Costs())
    rules = Rig(atr_length=3, ladder=Ladder(2, Measure(ticks=10.0), 6.0, 10.0))
    # the rung at 990; the average and 6 ticks: 1001
    bars = [(1000, 1003, 990, 1002), (1002, 1002, 999, 1000)]
    trade = played(rules, bars, account=account).trades[0]
    assert [(int(row[0]) - 4, row[1] > 0, row[4]) for row in trade.fills] == [
        (0, True, 1000.0),
        (0, True, 990.0),
        (1, False, 1002.0),  # it opens beyond the new target
    ]


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 10_000), RULES | LADDERS)
def test_a_rule_that_never_acts_changes_nothing(seed, rules):
    prices = walk(seed)
    calls = np.random.default_rng(seed).choice([-1, 0, 0, 0, 1], prices.shape[1]).astype(np.int8)
    idle = msgspec.structs.replace(
        rules,
        basket=Basket(stop=Amount(money=1e12)),
        step=(*rules.step, Step(Measure(r=900.0), Measure(r=899.0))),
    )
    plain, more = run_of(prices, calls, rules), run_of(prices, calls, idle)
    assert [(t.fills, t.moves) for t in plain.trades] == [(t.fills, t.moves) for t in more.trades]
    assert np.array_equal(plain.equity, more.equity)


# Files


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("[stop]\natr = 2\n[trial]\natr = 3\n", "nearest known one is trail"),
        ("name = 'x'\n", "expected a [stop] or a [ladder]"),
        (
            "[ladder]\nrungs = 3\nspacing = { atr = 1.0 }\ntarget_ticks = 5\n",
            "without a common stop is refused",
        ),
        ("from = 2031-03-06T08:00:00\n[stop]\natr = 2\n", "expected a time with an offset"),
        ("[stop]\natr = 2\n[trail]\natr = 3\nticks = 4\n", "exactly one of"),
        ("[stop]\natr = 2\n[[loss_step]]\nr = 1.5\nshare = 0.5\n", "between 0 and 1"),
    ],
)
def test_a_wrong_rig_is_told_in_one_sentence(tmp_path, text, told):
    path = tmp_path / "rig.toml"
    path.write_text(text)
    with pytest.raises(BadInput, match=told.replace("[", r"\[")) as caught:
        load_rig(path)
    assert str(path) in caught.value.sentence


@needs_cases
def test_a_wrong_column_writes_nothing(tmp_path, capsys, monkeypatch):
    monkeypatch.chdir(FOLDERS[0])
    words = [
        "rehearse",
        "--bars",
        "bars.csv",
        "--instrument",
        "instrument.toml",
        "--rig",
        "rig.toml",
    ]
    words += ["--account", "account.toml", "--out", str(tmp_path / "out"), "--signal", "close"]
    assert main(words) == 2
    assert "row 2" in capsys.readouterr().err
    assert not (tmp_path / "out").exists()


def rated(tmp_path, *more, rate=None):
    """A pair whose price is another currency than the account's, with or without a column."""
    bars = tmp_path / "bars.csv"
    head, *lines = (ROOT / "examples/quillan-ferry-5m.csv").read_text().splitlines()[:2_000]
    told = [line if rate is None else f"{line},{rate(at)}" for at, line in enumerate(lines)]
    bars.write_text("\n".join([head if rate is None else f"{head},rate", *told, ""]))
    account = tmp_path / "account.toml"
    text = (ROOT / "examples/account.toml").read_text()
    account.write_text(re.sub(r'currency = "\w+"', 'currency = "NOK"', text) + RATES)
    words = ["rehearse", "--replace", "--bars", str(bars), "--out", str(tmp_path / "out")]
    for name in ("instrument", "rig"):
        file = {"instrument": "quillan-ferry.toml", "rig": "slow-harbour.toml"}[name]
        words += [f"--{name}", str(ROOT / "examples" / file)]
    status = main([*words, "--account", str(account), *more])
    found = (tmp_path / "out/trades.csv").read_text() if status == 0 else ""
    return status, found, bars


RATES = '[rates]\n"CHF/NOK" = 11.5\n'


def test_a_rate_that_stays_is_the_account_s_whichever_way_it_is_told(tmp_path, capsys):
    status, right, bars = rated(tmp_path)
    assert status == 0 and right.count("\n") > 10
    assert close(rated(tmp_path, rate=lambda at: 11.5)[1], right)
    pair = tmp_path / "pair.csv"
    times = [line.split(",")[0] for line in bars.read_text().splitlines()[1:]]
    for name, price in (("CHF/NOK", 11.5), ("NOK/CHF", 1 / 11.5)):
        told = [f"{time},{price!r},{price!r},{price!r},{price!r}" for time in times[::7]]
        pair.write_text("\n".join(["time,open,high,low,close", *told, ""]))
        assert close(rated(tmp_path, "--rate", f"{name}={pair}")[1], right)
    assert not close(rated(tmp_path, rate=lambda at: 11.5 + at / 1_000)[1], right)


def test_a_column_of_rates_is_read_only_where_one_is_needed(tmp_path):
    """Another program may call anything `rate`; `hawser lines` and an account in the price's own
    currency have no use for it."""
    bars = tmp_path / "bars.csv"
    head, *lines = (ROOT / "examples/quillan-ferry-5m.csv").read_text().splitlines()[:300]
    bars.write_text("\n".join([f"{head},rate", *(f"{line}," for line in lines), ""]))
    instrument = load(Instrument, ROOT / "examples/quillan-ferry.toml")
    assert read_history(bars, instrument).rate is None
    words = ["rehearse", "--bars", str(bars), "--out", str(tmp_path / "own")]
    words += ["--instrument", str(ROOT / "examples/quillan-ferry.toml")]
    words += ["--rig", str(ROOT / "examples/slow-harbour.toml")]
    assert main([*words, "--account", str(ROOT / "examples/account.toml")]) == 0


def close(one: str, other: str) -> bool:
    """Whether two tables say the same but for the last digits."""
    rows = zip(csv.reader(io.StringIO(one)), csv.reader(io.StringIO(other)), strict=True)
    pairs = [pair for mine, theirs in rows for pair in zip(mine, theirs, strict=True)]
    return all(a == b or float(a) == pytest.approx(float(b), rel=1e-9) for a, b in pairs)


def test_a_rate_that_cannot_be_is_one_sentence(tmp_path, capsys):
    pair = tmp_path / "pair.csv"
    pair.write_text("time,open,high,low,close\n2031-01-06T08:00:00Z,1,1,1,1\n")
    for more, rate, told in (
        (["--rate", f"CHF/USD={pair}"], None, "expected the pair of CHF and NOK"),
        (["--rate", "CHF/NOK"], None, "expected PAIR=FILE"),
        (["--rate", "CHF/NOK=gone.csv"], None, "gone.csv"),
        ([], lambda at: 0 if at == 5 else 1, "row 7, column rate: expected a rate above 0"),
        ([], lambda at: "" if at == 5 else 1, "row 7, column rate: expected a number"),
    ):
        assert rated(tmp_path, *more, rate=rate)[0] == 2
        assert told in capsys.readouterr().err


def test_only_files_that_are_written_are_replaced(tmp_path, monkeypatch):
    """A rehearsal writes no `refused.csv`: one that stands there is somebody's own."""
    rated(tmp_path)
    own = tmp_path / "out/refused.csv"
    own.write_text("mine\n")
    rated(tmp_path)
    assert own.read_text() == "mine\n"
    assert (tmp_path / "out/trades.csv").exists()


def test_a_stop_by_money_needs_a_quantity_that_is_given(tmp_path):
    """With a share of the equity at risk nobody has said how many units the money is for."""
    bars, calls = history([(1000, 1005, 995, 1000)] * 3)
    account = Account(currency="CHF", equity=10_000.0, size=SizeRule(percent=1.0))
    signals = SignalColumns(calls, np.zeros_like(calls))
    one = Rehearsal(bars, signals, INSTRUMENT, account, Rig(stop=StopRule(money=50.0)))
    assert one.run(PESSIMISTIC).count == 0
    with pytest.raises(BadInput, match=r"stop\.money: needs a fixed quantity"):
        check(one.rig, account, INSTRUMENT)
    told = Trial(bars, INSTRUMENT, account, one.rig).one(4, 1)
    assert told == "No entry from here: A stop by money needs a fixed quantity."


def test_a_switch_that_only_flattens_is_told(tmp_path):
    """It keeps no entry out and watches nobody, and what it did stands in the file all the same."""
    guards = tmp_path / "guards.toml"
    guards.write_text(
        '[[guard]]\nkind = "drawdown"\nname = "All"\npercent = 0.5\nthen = ["flatten"]\n'
        'instruments = ["Elsewhere"]\n'
    )
    rated(tmp_path, "--guards", str(guards))
    assert [row[1:] for row in rows(tmp_path / "out/guards.csv")[1:]] == [["All", "tripped", ""]]
    report = json.loads((tmp_path / "out/report.json").read_text())
    assert report["guards"][0]["tripped"] == 1
