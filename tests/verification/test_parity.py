"""The live engine and the rehearsal over the same bars: the same trades, fills and stop moves, to
the tick."""

from __future__ import annotations

import json
from random import Random

import msgspec
import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from hawser.cli import main
from hawser.core.account import SizeRule
from hawser.core.errors import BadInput, HawserError
from hawser.core.guards.declared import Guards, SpreadGuard
from hawser.core.joined_bars import joined_to
from hawser.core.levels import StopRule
from hawser.core.rig import Rig, Trail
from hawser.core.rules.inside_bar import OPTIMISTIC, PATH, PESSIMISTIC
from hawser.core.timeframes import timeframe
from hawser.rehearsal.watch import HistoryPolicy
from hawser.verification import parity
from madeup import CASES, needs_cases
from randomguards import a_policy
from randomrigs import a_ladder, a_rig, an_account, fitting, history
from randomsources import a_source_over
from wild import compared

FOLDERS = [
    path.parent
    for path in sorted(CASES.glob("rehearse/*/command.txt"))
    + sorted(CASES.glob("finer/*/command.txt"))
    if not (path.parent / "source.toml").exists()  # those of rules that enter wait for them
]


def traded_alike(draw, make, account, order):
    bars, signals, instrument = history(draw, 1000)
    rules = fitting(make(draw), instrument)
    report = parity.compare(bars, signals, instrument, account, rules, order)
    assert not report.differences, (rules, report.differences[:3])


# 14 histories for rigs and 5 for ladders, of 1 000 bars each, 12 of 700 under guards, and 50 wild
# ones; `tests/wild.py` runs thousands


@settings(max_examples=14, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.integers(0, 1 << 40), st.sampled_from([PESSIMISTIC, OPTIMISTIC, PATH]))
def test_random_rigs(seed, order):
    draw = Random(seed)
    traded_alike(draw, a_rig, an_account(draw), order)


@settings(max_examples=5, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.integers(0, 1 << 40), st.sampled_from([PESSIMISTIC, OPTIMISTIC, PATH]))
def test_random_ladders(seed, order):
    draw = Random(seed)
    size = draw.choice([SizeRule(percent=1.0), SizeRule("risk_money", amount=250.0)])
    traded_alike(draw, a_ladder, msgspec.structs.replace(an_account(draw), size=size), order)


@settings(max_examples=12, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.integers(0, 1 << 40), st.sampled_from([PESSIMISTIC, OPTIMISTIC, PATH]))
def test_random_guards(seed, order):
    draw = Random(seed)
    bars, signals, instrument = history(draw, 700)
    rules, policy = fitting(a_rig(draw), instrument), a_policy(draw, bars, instrument)
    report = parity.compare(bars, signals, instrument, an_account(draw), rules, order, policy)
    assert not report.differences, (rules, policy, report.differences[:3])


@settings(max_examples=8, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.integers(0, 1 << 40), st.sampled_from([PESSIMISTIC, OPTIMISTIC, PATH]))
def test_random_sources(seed, order):
    """Rules that enter and leave as they like, a long and a short at once among them."""
    draw = Random(seed)
    bars, _, instrument = history(draw, 700)
    said = a_source_over(draw, bars)
    rules = fitting(a_rig(draw), instrument)
    policy = a_policy(draw, bars, instrument) if draw.random() < 0.5 else None
    report = parity.compare(bars, said, instrument, an_account(draw), rules, order, policy)
    assert not report.differences, (seed, rules, report.differences[:3])


@settings(max_examples=50, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.integers(0, 1 << 40))
@example(871433)  # a guard flattens at the last close
def test_wild_histories(seed):
    try:
        report = compared(seed)
    except HawserError:  # by both alike
        return
    assert not report.differences, (seed, report.differences[:3])


@settings(max_examples=40, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.integers(0, 1 << 40))
def test_wild_histories_with_finer_bars_inside(seed):
    try:
        report = compared(seed, finer=True)
    except HawserError:
        return
    assert not report.differences, (seed, report.differences[:3])


def test_what_the_two_do_otherwise_inside_a_bar_is_refused():
    bars, _, _ = history(Random(1), 100)
    joined = joined_to(bars, timeframe("2m"))
    rules = Rig(stop=StopRule(atr=2.0), trail=Trail(bars=3, timeframe="5m"))
    with pytest.raises(BadInput, match=r"trail.timeframe: bars of 5m cannot be joined"):
        parity.check_inside(rules, None, joined)
    spread = SpreadGuard(name="wide", max_ticks=3.0, then=("close",))
    with pytest.raises(BadInput, match=r"guard 'wide': then: it acts at once"):
        parity.check_inside(
            Rig(stop=StopRule(atr=2.0)), HistoryPolicy(Guards(guard=(spread,))), joined
        )


@needs_cases
@pytest.mark.parametrize("folder", FOLDERS, ids=lambda path: f"{path.parent.name}-{path.name}")
def test_every_case_is_traded_alike(folder, monkeypatch, capsys):
    monkeypatch.chdir(folder)
    words = (folder / "command.txt").read_text().split()[2:]
    out = words.index("--out")
    words = ["parity", *words[:out], *words[out + 2 :], "--json"]
    status = main([word for i, word in enumerate(words) if word != "--json" or i == len(words) - 1])
    told = capsys.readouterr()
    report = json.loads(told.out)
    assert (status, report["same"], report["differences"]) == (0, True, [])
    assert report["fills"] >= 2 * report["trades"]


def test_a_difference_is_told_with_its_trade_and_place():
    draw = Random(7)
    bars, signals, instrument = history(draw, 400)
    account, rules = an_account(draw), fitting(a_rig(Random(3)), instrument)
    trades = parity.rehearsed(
        parity.Rehearsal(bars, signals, instrument, account, rules).run(PESSIMISTIC)
    )
    assert not parity.differences(trades, trades)
    bar, what, price, steps = trades[1].fills[-1]
    spoilt = [*trades]
    spoilt[1] = msgspec.structs.replace(
        trades[1], fills=[*trades[1].fills[:-1], (bar, what, price + 1, steps)]
    )
    found = parity.differences(spoilt[:-1], trades)
    assert len(found) == 2
    assert found[0].startswith("trade 2, fills: live")
    assert found[1] == f"live {len(trades) - 1} trades, rehearsed {len(trades)}"
    assert "2 differences" in parity.written(parity.Report(400, len(trades), 1, 1, found))
