"""The live engine and the rehearsal over the same bars: the same trades, fills and stop moves, to
the tick."""

from __future__ import annotations

import json
from pathlib import Path
from random import Random

import msgspec
import numpy as np
import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

import wildfleets
from hawser.cli import main
from hawser.core.account import SizeRule
from hawser.core.clock import MINUTE
from hawser.core.errors import BadInput, HawserError
from hawser.core.guards.declared import Guards, SpreadGuard
from hawser.core.joined_bars import joined_to
from hawser.core.levels import StopRule
from hawser.core.rig import Rig, Trail
from hawser.core.rules.inside_bar import OPTIMISTIC, PATH, PESSIMISTIC
from hawser.core.timeframes import timeframe
from hawser.rehearsal.fleet.run import FleetMember, FleetRehearsal, fleet_of_one
from hawser.rehearsal.run import Rehearsal
from hawser.rehearsal.watch import HistoryPolicy
from hawser.verification import parity
from hawser.verification.walk_members import RefusedEntry
from madeup import CASES, needs_cases
from randomguards import a_policy
from randomrigs import a_ladder, a_rig, an_account, fitting, history
from randomsources import a_source_over
from wild import compared

EXAMPLES = Path(__file__).parents[2] / "examples"
FLEETS = sorted(path.parent for path in CASES.glob("fleet/*/command.txt"))
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


# 14 histories for rigs and 5 for ladders, of 1 000 bars each, 12 of 700 under guards and 8 of 500
# for ladders under guards, and 50 wild ones; `tests/wild.py` runs thousands


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


@settings(max_examples=8, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.integers(0, 1 << 40), st.sampled_from([PESSIMISTIC, OPTIMISTIC, PATH]))
def test_random_ladders_under_guards(seed, order):
    """Filters that take the rungs back as they close, and set them out again."""
    draw = Random(seed)
    bars, signals, instrument = history(draw, 500)
    policy = a_policy(draw, bars, instrument)
    cancel = [msgspec.structs.replace(one, then=("cancel",)) for one in policy.guards.guard]
    policy = policy._replace(guards=msgspec.structs.replace(policy.guards, guard=tuple(cancel)))
    account = msgspec.structs.replace(an_account(draw), size=SizeRule(percent=1.0))
    rules = fitting(a_ladder(draw), instrument)
    report = parity.compare(bars, signals, instrument, account, rules, order, policy)
    assert not report.differences, (seed, rules, policy, report.differences[:3])


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


# 30 fleets, 25 of them under guards too, 15 decided on joined bars; `tests/wildfleets.py` runs
# thousands


@settings(max_examples=30, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.integers(0, 1 << 40))
@example(5)  # a follow-on waits for its market, over days on which others trade
@example(27)  # an entry's open has reached a loss step of it; another entry is sized after it
def test_wild_fleets(seed):
    fleets_alike(seed)


@settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.integers(0, 1 << 40))
@example(1066)  # a cool-down from an exit at an open tightens what another member's open allows
@example(1345)  # a streak that ends at an open closes a member that stands before it in the file
@example(1387)  # a week turns within a bar, after a trade has ended at its open
def test_wild_fleets_under_guards(seed):
    fleets_alike(seed, guarded=True)


@settings(max_examples=15, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.integers(0, 1 << 40), st.booleans())
def test_wild_fleets_with_finer_bars_inside(seed, guarded):
    fleets_alike(seed, guarded, finer=True)


def fleets_alike(seed, guarded=False, finer=False):
    try:
        report = wildfleets.compared(seed, guarded, finer)
    except HawserError:  # by both alike
        return
    assert not report.differences, (seed, report.differences[:3])


@needs_cases
@pytest.mark.parametrize("folder", FLEETS, ids=lambda path: path.name)
def test_every_case_of_a_fleet_is_traded_alike(folder, monkeypatch, capsys):
    monkeypatch.chdir(folder)
    words = (folder / "command.txt").read_text().split()[2:]
    out = words.index("--out")
    status = main(["parity", *words[:out], *words[out + 2 :], "--json"])
    report = json.loads(capsys.readouterr().out)
    assert (status, report["same"], report["differences"]) == (0, True, [])
    assert report["fills"] >= 2 * report["trades"] > 0


def test_a_fleet_stands_instead_of_a_history_s_files(capsys):
    fleet = str(EXAMPLES / "two-harbours.toml")
    assert main(["parity", fleet]) == 0
    assert capsys.readouterr().out.endswith(" stop moves: no difference\n")
    assert main(["parity", fleet, "--rig", "rig.toml"]) == 2
    assert "--rig: expected without a fleet" in capsys.readouterr().err
    assert main(["parity", "--bars", "bars.csv"]) == 2
    assert "--instrument: expected, or the file of a fleet" in capsys.readouterr().err


def test_two_rates_of_one_currency_at_a_time_are_refused():
    draw = Random(4)
    bars, signals, instrument = history(draw, 50)
    account = msgspec.structs.replace(an_account(draw), currency="SEK")
    rates = np.linspace(11.0, 12.0, 50)

    def member(name, rates):
        of = Rehearsal(
            bars, signals, instrument, account, fitting(a_rig(Random(3)), instrument), rates=rates
        )
        return FleetMember(name, of)

    fleet = FleetRehearsal([member("Pier", rates), member("Twin", rates)])
    assert not parity.compare_fleet(fleet, PESSIMISTIC).differences
    fleet = FleetRehearsal([member("Pier", rates), member("Twin", rates + 0.001)])
    with pytest.raises(BadInput, match=r"Pier and Twin have different rates of CHF at one time"):
        parity.compare_fleet(fleet, PESSIMISTIC)


def test_an_entry_that_only_one_refuses_is_told():
    ours = [RefusedEntry(30_000_000 * MINUTE, 0, 1, "below_min")]
    theirs = [RefusedEntry(30_000_000 * MINUTE, 0, 1, "free_margin")]
    assert parity.refusals_differ(ours, ours) == []
    assert parity.refusals_differ(ours, theirs, ["Pier"]) == [
        "live only: an entry long of Pier due at 2027-01-15T08:00:00Z refused, below_min",
        "rehearsed only: an entry long of Pier due at 2027-01-15T08:00:00Z refused, free_margin",
    ]


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
    alone = fleet_of_one(Rehearsal(bars, signals, instrument, account, rules))
    trades = parity.rehearsed(alone.run(PESSIMISTIC))
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
