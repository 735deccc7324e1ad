"""Several members on one account: against a rehearsal of one, against the reckoning, and what must
hold whatever the members are."""

from __future__ import annotations

import csv
import json
from collections import Counter
from decimal import Decimal
from pathlib import Path
from random import Random
from typing import Any, NamedTuple

import msgspec
import numpy as np
import pytest
import tomli_w
from test_against_slow_rehearsal import BUDGETS, LIMITS, OTHERS, hours, plain
from test_against_slow_rehearsal import an_account as an_account_file
from test_against_slow_rehearsal import drawn as drawn_files

from hawser.cli import main
from hawser.core.account import Account, Policy, SizeRule
from hawser.core.bars import Bars
from hawser.core.clock import MINUTE
from hawser.core.errors import Refused
from hawser.core.instrument import Instrument
from hawser.core.joined_bars import joined_to
from hawser.core.levels import StopRule
from hawser.core.rig import Rig
from hawser.core.rules.refusals import Refusal
from hawser.core.sizing import sized
from hawser.core.timeframes import timeframe
from hawser.formats.rigs import save_rig
from hawser.rehearsal import batch
from hawser.rehearsal.entries import alone_at, begin
from hawser.rehearsal.fleet.records import MEMBER
from hawser.rehearsal.fleet.run import FleetMember, FleetRehearsal, fleet_of_one
from hawser.rehearsal.records import levels_for
from hawser.rehearsal.run import Outcome, Rehearsal
from randomguards import a_policy
from randomrigs import a_ladder, a_rig, an_account, fitting, history
from slow_fleet import SlowFleet, SlowMember
from slow_rehearsal import seconds

BUDGET = SizeRule(percent=1.0)


def drawn(draw: Random, n: int) -> Rehearsal:
    """Any rehearsal of one instrument: with guards, finer bars, a moving rate, a ladder."""
    bars, signals, instrument = history(draw, n)
    account, laddered = an_account(draw), draw.random() < 0.2
    rig = a_ladder(draw) if laddered else a_rig(draw)
    if laddered:
        account = msgspec.structs.replace(account, size=BUDGET)
    policy = a_policy(draw, bars, instrument) if draw.random() < 0.5 else None
    joined = joined_to(bars, timeframe("5m")) if draw.random() < 0.4 else None
    rates = None
    if draw.random() < 0.3:
        dice = np.random.default_rng(draw.randrange(1 << 30))
        rates = 1.0 + 0.01 * dice.normal(0, 0.2, n).cumsum()
    return Rehearsal(
        bars, signals, instrument, account, fitting(rig, instrument), policy, joined, rates
    )


def same(one: Outcome, other: Outcome) -> None:
    """To the last digit."""
    rows = [np.delete(each.rows.whole[:, :17], batch.FILL_FROM, axis=1) for each in (one, other)]
    np.testing.assert_array_equal(*rows)
    np.testing.assert_array_equal(one.rows.money, other.rows.money)
    for key in ("fills", "moves", "equity"):
        np.testing.assert_array_equal(getattr(one, key), getattr(other, key))
    np.testing.assert_array_equal(one.guarded[:, :4], other.guarded[:, :4])
    assert (one.end, one.held, one.dependent) == (other.end, other.held, other.dependent)


@pytest.mark.parametrize("seed", range(12))
def test_a_fleet_of_one_is_a_rehearsal(seed):
    draw = Random(seed)
    one = drawn(draw, 900)
    for order in range(3):
        fleet = fleet_of_one(one).run(order)
        same(one.run(order), fleet.alone())
        assert fleet.held == fleet.alone().held


# Against a second reading of the reckoning


def files(
    draw: Random, folder: Path, minutes: int, moving: bool
) -> tuple[list[str], list[tuple[Rig, Instrument]]]:
    """A fleet drawn at random as files: the arguments of its command, and of each member its rig
    and its instrument."""
    found: list[tuple[Rig, Instrument]] = []
    members, account = [], an_account_file(draw, ladder=True)
    if moving:
        account["currency"] = "NOK"
    if draw.random() < 0.3:
        account["policy"]["max_positions"] = draw.choice([1, 2])
    for number in range(draw.randint(2, 4)):
        name = f"m{number}"
        (folder / name).mkdir()
        rig, instrument = drawn_files(
            draw, folder / name, fine=True, moving=moving and draw.random() < 0.8
        )
        if rig.stop is not None and rig.stop.money is not None:  # it needs a fixed quantity
            rig = msgspec.structs.replace(rig, stop=StopRule(atr=2.0))
            save_rig(rig, folder / name / "rig.toml")
        found.append((rig, instrument))
        (folder / name / "account.toml").write_text(tomli_w.dumps(account))
        members.append(
            {
                "name": name,
                "instrument": f"{name}/instrument.toml",
                "bars": f"{name}/bars.csv",
                "rig": f"{name}/rig.toml",
                "signal": "signal",
                "exit_signal": "leave",
            }
        )
    (folder / "account.toml").write_text(tomli_w.dumps(account))
    fleet: dict[str, Any] = {"name": "Drawn", "account": "account.toml", "member": members}
    if draw.random() < 0.5:
        fleet["rank"] = {"kind": "atr", "length": draw.choice([3, 14])}
    if draw.random() < 0.4:
        fleet["basket"] = draw.choice(
            [
                {"stop": {"percent": 0.6}, "target": {"percent": 0.9}},
                {"stop": {"money": 300.0}},
                {"target": {"percent": 0.4}},
            ]
        )
    if minutes:
        fleet["timeframe"] = f"{minutes}m"
    (folder / "fleet.toml").write_text(tomli_w.dumps(fleet))
    return ["fleet", str(folder / "fleet.toml")], found


def near(value: float) -> Any:
    return pytest.approx(value, rel=1e-6, abs=1e-6)


def agree(draw: Random, folder: Path, minutes: int = 0, moving: bool = False) -> None:
    """The command's files say what the slow reading finds."""
    command, each = files(draw, folder, minutes, moving)
    order = draw.choice(["pessimistic", "optimistic", "path"])
    out = folder / "out"
    assert main([*command, "--order", order, "--out", str(out)]) == 0
    slow = SlowFleet(folder, order, 60 * minutes)
    for member, (rig, instrument) in zip(slow.members, each, strict=True):
        member.left_after = hours(rig, instrument, member.times, member.span)
    slow.run()
    ours = {one.name: rows_of(out / "trades.csv", one.name) for one in slow.members}
    for one in slow.members:
        told = [trade_of(one, row) for row in ours[one.name]]
        assert [{**trade, "id": 0} for trade in one.trades] == told
        numbers = [int(row["id"]) for row in ours[one.name]]
        fills = rows_of(out / "fills.csv", one.name)
        assert sorted(
            (numbers[trade - 1], one.fine_times[row], *rest)
            for trade, row, *rest in slow_fills(one)
        ) == sorted(fill_of(one, row) for row in fills)
        assert sorted(
            (numbers[trade - 1], one.fine_times[row], level, why)
            for trade, row, level, why in one.moves
        ) == sorted(move_of(one, row) for row in rows_of(out / "stops.csv", one.name))
    equity = [
        (
            seconds(row["time"]),
            near(float(row["equity"])),
            near(float(row["heat"])),
            int(row["open"]),
        )
        for row in rows_of(out / "equity.csv")
    ]
    assert slow.equity == equity
    refused = [
        (seconds(row["time"]), row["instrument"], 1 if row["side"] == "long" else -1, row["code"])
        for row in rows_of(out / "refused.csv")
    ]
    assert sorted(slow.refused) == sorted(refused)


def rows_of(path: Path, name: str = "") -> list[dict[str, str]]:
    with path.open(newline="") as file:
        return [row for row in csv.DictReader(file) if not name or row["instrument"] == name]


def trade_of(one: SlowMember, row: dict[str, str]) -> dict[str, Any]:
    tick, step = float(one.tick), float(one.instrument["qty_step"])
    found: dict[str, Any] = {"id": 0, "side": row["side"], "exit_reason": row["exit_reason"]}
    for key in ("entry_time", "exit_time"):
        found[key] = one.fine_times.index(seconds(row[key]))
    found["signal_time"] = one.times.index(seconds(row["signal_time"]))
    found["qty"] = round(float(row["qty"]) / step)
    found["initial_stop"] = round(float(row["initial_stop"]) / tick)
    figures = ("entry", "planned_risk", "net", "r", "mae_r", "mfe_r")
    return found | {key: near(float(row[key])) for key in figures}


def slow_fills(one: SlowMember) -> list[tuple[Any, ...]]:
    return [
        (trade, row, action, why, steps, round(price, 9))
        for trade, row, action, why, price, steps, _ in one.fills
    ]


def fill_of(one: SlowMember, row: dict[str, str]) -> tuple[Any, ...]:
    steps = round(float(row["qty"]) / float(one.instrument["qty_step"]))
    return (
        int(row["trade"]),
        seconds(row["time"]),
        row["action"],
        row["reason"],
        steps,
        round(float(row["price"]), 9),
    )


def move_of(one: SlowMember, row: dict[str, str]) -> tuple[Any, ...]:
    level = round(float(row["level"]) / float(one.tick))
    return int(row["trade"]), seconds(row["time"]), level, row["reason"]


@pytest.mark.parametrize("seed", range(8))
def test_both_readings_agree(seed, tmp_path, capsys):
    draw = Random(seed)
    agree(draw, tmp_path, draw.choice([0, 0, 5, 15]), moving=seed % 3 == 2)


@pytest.mark.parametrize("seed", (3, 8))
def test_a_fleet_of_one_writes_the_files_of_a_rehearsal(seed, tmp_path, monkeypatch, capsys):
    """Byte for byte, but for the added column."""
    draw = Random(seed)
    folder = tmp_path
    drawn_files(draw, folder, fine=True)
    member = {key: f"{key}.toml" for key in ("instrument", "rig")}
    told = {"name": "One", "account": "account.toml"}
    own = {"name": "only one", "bars": "bars.csv", "signal": "signal"}
    (folder / "fleet.toml").write_text(tomli_w.dumps(told | {"member": [member | own]}))
    monkeypatch.chdir(folder)
    words = [f"--{key}={key}.toml" for key in ("instrument", "rig", "account")]
    assert main(["rehearse", "--bars=bars.csv", *words, "--timeframe=5m", "--out=alone"]) == 0
    assert main(["fleet", "fleet.toml", "--timeframe=5m", "--out=fleet"]) == 0
    for name in ("trades", "fills", "stops", "equity"):
        alone = (folder / f"alone/{name}.csv").read_text().splitlines()
        fleet = (folder / f"fleet/{name}.csv").read_text().splitlines()
        if name == "equity":
            assert [line.rsplit(",", 2)[0] for line in fleet] == alone
        else:
            assert fleet[0].replace(",instrument,", ",") == alone[0]
            assert [line.replace(",only one,", ",") for line in fleet[1:]] == alone[1:]
    alone, fleet = (
        json.loads((folder / f"{name}/report.json").read_text()) for name in ("alone", "fleet")
    )
    alone["members"][0]["instrument"] = "only one"
    assert fleet == alone
    assert fleet["members"][0]["net"] == pytest.approx(alone["net"])
    assert fleet["correlation"] in ([[1.0]], [[None]])


# What holds of any fleet


def named(rehearsals: list[Rehearsal]) -> list[FleetMember]:
    return [FleetMember(f"m{number}", one) for number, one in enumerate(rehearsals)]


def of_one_account(draw: Random, count: int, **policy: Any) -> list[Rehearsal]:
    account = msgspec.structs.replace(an_account(draw), size=BUDGET, policy=Policy(**policy))
    found = []
    for _ in range(count):
        bars, signals, instrument = history(draw, 500)
        rig = fitting(a_ladder(draw) if draw.random() < 0.2 else a_rig(draw), instrument)
        found.append(Rehearsal(bars, signals, instrument, account, rig))
    return found


@pytest.mark.parametrize("seed", range(4))
def test_members_that_share_nothing_may_stand_in_any_order(seed):
    """With a fixed sum at risk and no cap that binds, nobody knows of the others."""
    draw = Random(seed)
    each = of_one_account(draw, 3)
    free = msgspec.structs.replace(
        each[0].account, equity=1e9, size=SizeRule("risk_money", amount=250.0)
    )
    each = [Rehearsal(*parts(one)._replace(account=free)) for one in each]
    outcome = FleetRehearsal(named(each)).run(0)
    turned = FleetRehearsal(named(each[::-1])).run(0)
    for one, own, other in zip(each, outcome.of, turned.of[::-1], strict=True):
        alone = one.run(0)
        for found in (own.trades, other.trades):
            np.testing.assert_array_equal(found.fills, alone.fills)
            np.testing.assert_array_equal(found.moves, alone.moves)
    assert outcome.end == pytest.approx(turned.end)


class Parts(NamedTuple):
    bars: Any
    signals: Any
    instrument: Any
    account: Any
    rig: Any


def parts(one: Rehearsal) -> Parts:
    prices = one.history.prices
    tick = one.instrument.tick_size
    bars = Bars(
        one.time,
        *(prices[name] * tick for name in ("open", "high", "low", "close")),
        prices["spread"].astype(float),
    )
    return Parts(bars, one.signals, one.instrument, one.account, one.rig)


@pytest.mark.parametrize("seed", range(6))
def test_heat_is_never_above_its_cap_at_an_entry(seed):
    """At an entry all open heat and that of the entry itself are within the cap; later the stops
    only tighten, but equity may fall."""
    draw = Random(100 + seed)
    each = of_one_account(draw, 4, max_heat_percent=1.5, max_currency_heat_percent=1.2)
    outcome = FleetRehearsal(named(each)).run(draw.randrange(3))
    assert outcome.count > 50
    before = np.concatenate([[outcome.start], outcome.equity[:-1]])
    most = np.maximum(before, outcome.equity).max()
    # all are quoted in francs, so that the cap of a currency, 1.2 %, is the nearer one
    assert outcome.heat.max() <= 0.012 * most * (1 + 1e-6)


def test_room_that_runs_out_changes_nothing(monkeypatch):
    draw = Random(5)
    each = of_one_account(draw, 3)
    whole = FleetRehearsal(named(each)).run(0)
    monkeypatch.setattr("hawser.rehearsal.fleet.run.TRADES", 4)
    small = FleetRehearsal(named(each))
    reached: list[int] = []
    monkeypatch.setattr("hawser.rehearsal.fleet.run.STRETCH", 37)
    outcome = small.run(0, reached.append)
    np.testing.assert_array_equal(whole.rows.whole, outcome.rows.whole)
    np.testing.assert_array_equal(whole.equity, outcome.equity)
    assert reached == sorted(reached)
    assert len(reached) > whole.equity.size // 37


def test_what_a_rehearsal_refuses_has_the_code_of_a_size():
    """The compiled order of refusals is the one of `sized`, which has the sentences."""
    seen: Counter[str] = Counter()
    for seed in range(60):
        draw = Random(seed)
        bars, signals, instrument = history(draw, 60)
        account = msgspec.to_builtins(an_account(draw), builtin_types=(Decimal,))
        account["size"] = plain(draw.choice([*BUDGETS, *OTHERS, {"method": "fixed", "qty": "0.3"}]))
        limits = {key: draw.choice(some) for key, some in LIMITS.items() if draw.random() < 0.3}
        account["policy"] = limits | {
            "caps": draw.choice(["fit", "refuse"]),
            "max_positions": draw.choice([0, 1, 5]),
        }
        rig = msgspec.structs.replace(fitting(a_rig(draw), instrument), step=())
        if draw.random() < 0.3:
            rig = msgspec.structs.replace(rig, stop=StopRule(money=draw.choice([2.0, 90.0])))
        instrument = msgspec.structs.replace(
            instrument,
            qty_max=draw.choice([Decimal(5), Decimal(1000)]),
            margin_rate=draw.choice([0.0, 0.5]),
        )
        made = msgspec.convert(plain(account), Account, strict=False)
        of = Rehearsal(bars, signals, instrument, made, rig)
        for bar in range(0, 55, 9):
            for side in (1, -1):
                ours = begun_at(of, bar, side)
                try:
                    size = sized(of.request(bar, side))
                    assert (ours.refusal, ours.trade.steps) == (0, size.steps)
                    assert ours.risk == pytest.approx(size.risk_money)
                except Refused as refusal:
                    assert Refusal(ours.refusal).code == refusal.code
                    seen[refusal.code] += 1
    assert len(seen) > 6, seen


def begun_at(of: Rehearsal, bar: int, side: int) -> Any:
    return begin(
        of.history,
        of.money,
        sizer=of.sizer,
        setup=of.setup,
        side=side,
        first=bar + 1,
        at=int(of.history.bars["end"][bar]),
        now=alone_at(of.sizer, float(of.account.equity)),
        levels=levels_for(of.setup),
    )


def test_a_bar_of_one_row_that_opens_later_is_still_a_finer_one():
    """Each hour has one bar of five minutes, at no full hour; the rows tell the time, not the
    bars."""
    draw = Random(11)
    bars, signals, instrument = history(draw, 240)
    rig = fitting(a_rig(draw), instrument)
    account = msgspec.structs.replace(an_account(draw), size=BUDGET)

    def member(first: int) -> Rehearsal:
        hours = np.arange(240, dtype=np.int64) * 12 + np.where(np.arange(240) % 2, 0, 11)
        own = bars._replace(time=(30_000_000 // 60 * 60 + 5 * (hours + first)) * MINUTE)
        joined = joined_to(own, timeframe("1h"))
        assert joined.bars.time.size == 240
        return Rehearsal(own, signals, instrument, account, rig, None, joined)

    one = member(0)
    for order in range(3):
        same(one.run(order), fleet_of_one(one).run(order).alone())
    outcome = FleetRehearsal(named([one, member(0)])).run(0)
    own = [of.trades.fills[0, 0] for of in outcome.of]
    assert own[0] == own[1]
    entry = one.fine_time[int(own[0])]
    assert entry not in one.time  # it was entered at the time of a row
    assert outcome.rows.whole[:2, MEMBER].tolist() == [0, 1]
