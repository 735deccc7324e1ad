"""Decisions on joined bars, fills on the finer ones inside them, and quotes as bars of one price.

Random histories are compared with a slow reading in `test_against_slow_rehearsal.py`, and with the
live engine in `tests/verification/test_parity.py`.
"""

from __future__ import annotations

import csv
import json
import shutil
from pathlib import Path

import msgspec
import numpy as np
import pytest

from hawser.cli import main
from hawser.core.account import Account, Policy
from hawser.core.bars import Bars
from hawser.core.clock import DAY, HOUR, MINUTE
from hawser.core.errors import BadInput
from hawser.core.guards import declared as dc
from hawser.core.guards.news import Calendar, NewsEvent
from hawser.core.instrument import Commission
from hawser.core.joined_bars import cells, joined_to
from hawser.core.levels import StopRule, TargetRule
from hawser.core.rig import FollowOn, Rig, Trail
from hawser.core.rules.inside_bar import PESSIMISTIC
from hawser.core.timeframes import timeframe
from hawser.formats.rigs import load_rig, save_rig
from hawser.rehearsal.nothing import why_nothing
from hawser.rehearsal.report import growth
from hawser.rehearsal.run import Rehearsal, SignalColumns
from hawser.rehearsal.trial import Trial
from hawser.rehearsal.watch import HistoryPolicy
from madeup import CASES, needs_cases
from randomrigs import PIER as OTHER_PIER

PIER = msgspec.structs.replace(OTHER_PIER, commission=Commission(), sessions=())  # free, and open
ACCOUNT = Account(currency="CHF", equity=10_000.0, policy=Policy())
RIG = Rig(stop=StopRule(ticks=10.0), target=(TargetRule(share=1.0, ticks=10.0),))
FILES = ("trades.csv", "fills.csv", "stops.csv", "equity.csv")
STILL = (1000, 1001, 999, 1000)


def history(rows, at=None, spread=None):
    """Bars of a minute from the epoch on, or at the minutes `at`."""
    minutes = np.arange(len(rows)) if at is None else np.array(at)
    spreads = np.zeros(len(rows)) if spread is None else np.array(spread, float)
    return Bars(minutes.astype(np.int64) * MINUTE, *np.array(rows, float).T, spreads)


def played(bars, signals, text="5m", rig=RIG, policy=None, instrument=PIER):
    calls = np.zeros(bars.time.size, np.int8)
    for row, side in signals.items():
        calls[row] = side
    return Rehearsal(
        bars,
        SignalColumns(calls, np.zeros_like(calls)),
        instrument=instrument,
        account=ACCOUNT,
        rig=rig,
        policy=policy,
        joined=joined_to(bars, timeframe(text)),
    ).run(PESSIMISTIC)


def rows(path: Path) -> list[dict[str, str]]:
    with path.open(newline="") as file:
        return list(csv.DictReader(file))


# Where fills are made


def test_the_finer_bars_say_which_side_came_first():
    falls, rises = (1000, 1000, 985, 985), (985, 1015, 985, 1015)
    up_first = history(
        [STILL] * 6 + [(1000, 1011, 1000, 1005), (1005, 1005, 980, 980)] + [STILL] * 2
    )
    down_first = history([STILL] * 6 + [falls, rises] + [STILL] * 2)
    for made, ended, row in ((up_first, "target_1", 6), (down_first, "stop", 6)):
        outcome = played(made, {4: 1})
        (trade,) = outcome.trades
        assert (trade.first, trade.last, trade.end, outcome.dependent) == (5, row, ended, 0)


def test_a_signal_is_read_at_the_last_finer_bar_there_is():
    bars = history([STILL] * 14, at=[*range(4), *range(5, 15)])  # minute 4 is missing
    assert [trade.first for trade in played(bars, {3: 1}).trades] == [4]
    assert not played(bars, {2: 1}).trades  # the same bar, but not its last


def test_a_follow_on_enters_at_the_next_finer_bar_and_counts_no_bar_twice():
    chain = msgspec.structs.replace(RIG, follow_on=FollowOn(max_chain=1))
    down = (1000, 1000, 990, 990)
    bars = history([STILL] * 6 + [down, (990, 991, 989, 990), (990, 990, 979, 979)] + [STILL] * 7)
    outcome = played(bars, {4: 1}, rig=chain)
    assert [(one.side, one.first, one.last) for one in outcome.trades] == [(1, 5, 6), (-1, 7, 8)]
    assert outcome.held == 1  # both in the one bar of minutes 5 to 9


def test_a_short_s_excursion_goes_by_each_finer_bar_s_own_spread():
    spread = [0] * 5 + [0, 9, 0, 0, 0] + [0] * 5
    low = (1000, 1000, 992, 1000)  # with a spread of 9 its lowest ask is 1001
    bars = history([STILL] * 6 + [low] + [STILL] * 8, spread=spread)
    outcome = played(bars, {4: -1})
    assert int(outcome.rows.whole[0, 8]) == -999  # the best exit: at 999 in the other bars


def test_a_stop_moves_at_the_next_bar_s_first_finer_bar_there_is():
    rig = msgspec.structs.replace(RIG, target=(), trail=Trail(ticks=5.0))
    made = [STILL] * 5 + [(1000, 1004, 1000, 1004)] * 5 + [(1004, 1005, 1003, 1004)] * 5
    bars = history(made, at=[*range(10), *range(11, 16)])  # minute 10 is missing
    outcome = played(bars, {4: 1}, rig=rig)
    ((row, level, _),) = outcome.trades[0].moves[:1]
    assert (row, level, int(bars.time[row]) // MINUTE) == (10, 999, 11)


# Guards


def test_a_guard_looks_at_the_time_of_the_entry_s_finer_bar():
    guard = dc.NewsGuard(name="news", before_min=1.0, after_min=1.0, horizon_h=0.0)
    news = (Calendar("tides", (NewsEvent(12 * MINUTE, "CHF", "high", "tide tables"),)),)
    policy = HistoryPolicy(dc.Guards(guard=(guard,)), news)
    whole = history([STILL] * 20)
    late = history([STILL] * 18, at=[*range(10), *range(12, 20)])  # minutes 10 and 11 are missing
    assert played(whole, {9: 1}, policy=policy).count == 1
    refused = played(late, {9: 1}, policy=policy)
    assert refused.count == 0
    assert refused.guarded[:, 0].tolist() == [12 * MINUTE]


def test_a_cool_down_begins_at_the_end_of_the_finer_bar_that_lost():
    guard = dc.CoolDownGuard(name="rest", minutes=3.0, from_r=0.5)
    policy = HistoryPolicy(dc.Guards(guard=(guard,)))
    down = (1000, 1000, 980, 980)
    bars = history([STILL] * 6 + [down] + [STILL] * 8)
    outcome = played(bars, {4: 1, 9: 1}, policy=policy)  # over at minute 10, as the bar opens
    assert [trade.first for trade in outcome.trades] == [5, 10]
    longer = msgspec.structs.replace(guard, minutes=3.5)
    kept = played(bars, {4: 1, 9: 1}, policy=HistoryPolicy(dc.Guards(guard=(longer,))))
    assert [trade.first for trade in kept.trades] == [5]


# Files and words


@needs_cases
@pytest.mark.parametrize(
    "folder", sorted(CASES.glob("rehearse/*"))[::6], ids=lambda path: path.name
)
def test_the_file_s_own_timeframe_changes_nothing(folder, tmp_path, monkeypatch):
    monkeypatch.chdir(folder)
    words = (folder / "command.txt").read_text().split()[1:]
    at = words.index("--out") + 1
    words[at] = str(tmp_path / "plain")
    assert main(words) == 0
    times = [row["time"] for row in rows(folder / "bars.csv")]
    stamps = np.array([text.rstrip("Z") for text in times], "datetime64[ns]").astype(np.int64)
    minutes = int(np.diff(stamps).min()) // MINUTE
    words[at] = str(tmp_path / "same")
    assert main([*words, "--timeframe", f"{minutes}m"]) == 0
    for name in FILES:
        assert (tmp_path / "same" / name).read_bytes() == (tmp_path / "plain" / name).read_bytes()
    plain, same = (
        json.loads((tmp_path / name / "report.json").read_text()) for name in ("plain", "same")
    )
    assert same == plain | {"fine_bars": plain["bars"]}


def files(folder: Path, head: str, lines: list[str], rig: Rig = RIG) -> list[str]:
    """The words of a rehearsal of these lines."""
    (folder / "bars.csv").write_text("\n".join([head, *lines]) + "\n")
    (folder / "instrument.toml").write_text(
        'symbol = "Pier"\nkind = "index"\nquote = "CHF"\ntick = "1"\nmultiplier = 1\n'
        'qty_step = "1"\nqty_min = "1"\nqty_max = "1000"\nmin_stop_ticks = 1\nmargin_rate = 0.0\n'
    )
    (folder / "account.toml").write_text(
        'currency = "CHF"\nequity = 10000\n[costs]\nspread_ticks = 7\n'
    )
    save_rig(rig, folder / "rig.toml")
    words = ["rehearse", "--replace", "--out", str(folder / "out")]
    for name in ("bars.csv", "instrument.toml", "rig.toml", "account.toml"):
        words += [f"--{name.split('.')[0]}", str(folder / name)]
    return words


TICKS = [
    "2031-01-06T08:00:00.25Z,1000,1001,0",
    "2031-01-06T08:01:00Z,1000,1002,0",
    "2031-01-06T08:01:00Z,1001,1003,1",  # of one time the last counts
    "2031-01-06T08:05:01.5Z,1000,1002,0",
    "2031-01-06T08:05:02Z,1013,1014,0",
    "2031-01-06T08:07:00Z,1000,1001,0",
]


def test_ticks_are_bars_of_one_price_with_their_own_spread(tmp_path):
    words = files(tmp_path, "time,bid,ask,signal", TICKS)
    assert main([*words, "--timeframe", "5m"]) == 0
    (trade,) = rows(tmp_path / "out/trades.csv")
    assert (trade["signal_time"], trade["entry_time"], trade["exit_time"]) == (
        "2031-01-06T08:00:00Z",
        "2031-01-06T08:05:01.5Z",
        "2031-01-06T08:05:02Z",
    )
    assert (trade["entry"], trade["exit_reason"]) == ("1002", "target_1")
    report = json.loads((tmp_path / "out/report.json").read_text())
    assert (report["bars"], report["fine_bars"]) == (2, 5)
    assert main(words) == 0  # without a timeframe each is a bar
    assert json.loads((tmp_path / "out/report.json").read_text())["bars"] == 5


@pytest.mark.parametrize(
    ("line", "told"),
    [
        ("2031-01-06T08:09:00Z,1001,1000,0", "row 8, column ask: expected a price at or above"),
        ("2031-01-06T07:09:00Z,1000,1001,0", "row 8, column time: expected a time that is not"),
        ("2031-01-06T08:09:00Z,,1001,0", "row 8, column bid"),
    ],
)
def test_a_tick_that_cannot_be_is_told(tmp_path, capsys, line, told):
    words = files(tmp_path, "time,bid,ask,signal", [*TICKS, line])
    assert main([*words, "--timeframe", "5m"]) == 2
    assert told in capsys.readouterr().err
    assert not (tmp_path / "out").exists()


def minutes(count: int, step: int = 1) -> list[str]:
    """Lines of bars, each so many minutes after the one before."""
    when = np.datetime64("2031-01-06T08:00:00") + np.arange(count) * np.timedelta64(step, "m")
    return [f"{at}Z,1000,1001,999,1000,{int(k == 4)}" for k, at in enumerate(when)]


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("90s", "--timeframe: expected a whole number and m, h, d or w, as 15m"),
        ("0m", "--timeframe: expected a whole number"),
        ("1m", "--timeframe: 1m is finer than the bars, 2m"),
        ("5m", "--timeframe: 5m is no whole multiple of the bars, 2m"),
    ],
)
def test_a_timeframe_that_the_bars_do_not_give_is_refused(tmp_path, capsys, text, told):
    words = files(tmp_path, "time,open,high,low,close,signal", minutes(20, 2))
    assert main([*words, "--timeframe", text]) == 2
    assert told in capsys.readouterr().err
    assert not (tmp_path / "out").exists()


def test_a_bar_that_lies_across_two_is_refused(tmp_path, capsys):
    lines = [*minutes(9, 2), "2031-01-06T08:19:00Z,1000,1001,999,1000,0"]
    words = files(tmp_path, "time,open,high,low,close,signal", lines)
    assert main([*words, "--timeframe", "4m"]) == 2
    told = capsys.readouterr().err
    assert "the bar of 2031-01-06T08:19:00Z does not lie whole within one of 4m" in told


def test_the_file_s_own_timeframe_is_taken_wherever_its_bars_begin():
    days = history([STILL] * 5)._replace(time=np.arange(5) * DAY + 22 * HOUR)
    assert joined_to(days, timeframe("1d")).bars is days
    with pytest.raises(BadInput, match="does not lie whole within one of 2d"):
        joined_to(days._replace(time=days.time + 12 * HOUR), timeframe("2d"))


def test_the_command_s_timeframe_goes_before_the_rig_s(tmp_path):
    rig = msgspec.structs.replace(RIG, timeframe="5m")
    words = files(tmp_path, "time,open,high,low,close,signal", minutes(60), rig)
    assert load_rig(tmp_path / "rig.toml").timeframe == "5m"

    def bars(*more: str) -> int:
        assert main([*words, *more]) == 0
        return int(json.loads((tmp_path / "out/report.json").read_text())["bars"])

    assert (bars(), bars("--timeframe", "10m")) == (12, 6)
    with pytest.raises(BadInput, match=r"timeframe: expected a whole number"):
        msgspec.structs.replace(RIG, timeframe="soon")


def test_weeks_begin_on_mondays():
    days = history([STILL] * 21)._replace(time=np.arange(21) * DAY + 4 * DAY)
    assert (joined_to(days, timeframe("1w")).bars.time // DAY).tolist() == [4, 11, 18]
    assert (joined_to(days, timeframe("7d")).bars.time // DAY).tolist() == [0, 7, 14, 21]
    assert timeframe("4h").span == 4 * HOUR


def test_growth_beyond_any_number_is_none():
    assert growth(4.0, 1e-6) is None
    assert growth(2.0, 1.0) == 100.0
    assert growth(0.0, 1.0) is None


# What is told


def test_no_trade_says_why(tmp_path, capsys):
    head = "time,open,high,low,close,signal"
    words = files(tmp_path, head, [line[:-1] + "0" for line in minutes(20)])
    assert main(words) == 0
    assert "None of the 20 bars has a signal" in capsys.readouterr().out
    longs = [line[:-1] + ("1" if k in (3, 19) else "0") for k, line in enumerate(minutes(20))]
    words = files(tmp_path, head, longs, msgspec.structs.replace(RIG, direction="short"))
    assert main(words) == 0
    told = capsys.readouterr().out
    assert "2 signals, and none was entered" in told
    assert "1: the rig's direction is short" in told
    assert "1: no bar follows at which it could be entered" in told
    words = files(tmp_path, head, longs, msgspec.structs.replace(RIG, stop=StopRule(atr=2.0)))
    assert main(words) == 0
    assert "ATR" in capsys.readouterr().out


def test_what_was_done_is_told_and_how_much_hangs_on_the_order(tmp_path, capsys):
    wide = [
        "2031-01-06T08:05:00Z,1000,1020,1000,1000,0",
        "2031-01-06T08:06:00Z,1000,1000,980,980,0",
    ]
    lines = minutes(5) + wide + [line.replace("T08:0", "T09:0") for line in minutes(5)]
    words = files(tmp_path, "time,open,high,low,close,signal", lines)
    assert main([*words, "--timeframe", "5m"]) == 0
    told = capsys.readouterr().out
    assert "1 trade over 3 bars" in told
    assert "in 0 bars of the 12 finer ones; without them it would in 1 of 3" in told
    assert f"Written: {tmp_path / 'out'}/" in told
    shutil.rmtree(tmp_path / "out")


def test_bars_of_another_program_are_rehearsed_by_a_recipe(tmp_path, capsys):
    words = files(tmp_path, "time,open,high,low,close,signal", minutes(30))
    assert main(words) == 0
    plain = {name: (tmp_path / "out" / name).read_bytes() for name in FILES}
    rows_of = [line.replace("Z,", ",").replace(",", ";") for line in minutes(30)]
    (tmp_path / "bars.csv").write_text("\n".join(["when;o;h;l;c;call", *rows_of]) + "\n")
    (tmp_path / "recipe.toml").write_text(
        'separator = ";"\nzone = "UTC"\nkeep = ["call"]\n[columns]\ntime = "when"\nopen = "o"\n'
        'high = "h"\nlow = "l"\nclose = "c"\n'
    )
    words += ["--recipe", str(tmp_path / "recipe.toml")]
    assert main([*words, "--signal", "call"]) == 0
    assert {name: (tmp_path / "out" / name).read_bytes() for name in FILES} == plain
    assert main(words) == 2
    assert "keep: expected the column signal among those kept" in capsys.readouterr().err


def test_signals_that_no_guard_refused_are_told_beside_those_that_one_did():
    """All but the guards' were told as not looked at."""
    guard = dc.NewsGuard(name="news", before_min=1.0, after_min=1.0, horizon_h=0.0)
    news = (Calendar("tides", (NewsEvent(10 * MINUTE, "CHF", "high", "tide tables"),)),)
    policy = HistoryPolicy(dc.Guards(guard=(guard,)), news)
    rig = msgspec.structs.replace(RIG, stop=StopRule(ticks=20_000.0), target=())
    bars = history([STILL] * 30)
    calls = np.zeros(30, np.int8)
    calls[[9, 14, 29]] = 1
    made = Rehearsal(
        bars,
        SignalColumns(calls, np.zeros_like(calls)),
        instrument=PIER,
        account=ACCOUNT,
        rig=rig,
        policy=policy,
        joined=joined_to(bars, timeframe("5m")),
    )
    told = why_nothing(made, made.run(PESSIMISTIC))
    assert told[0] == "3 signals, and none was entered"
    assert "1: the guard 'news' was closed" in told
    assert "1: no bar follows at which it could be entered" in told
    assert any(line.startswith("1: ") and "stop" in line.lower() for line in told)
    assert len(told) == 4


def test_a_trial_decides_on_the_rig_s_own_bars():
    bars = history([STILL] * 6 + [(1000, 1011, 1000, 1005), (1005, 1005, 980, 980)] + [STILL] * 12)
    rig = msgspec.structs.replace(RIG, timeframe="5m")
    trial = Trial(bars, PIER, ACCOUNT, rig)
    whole = played(bars, {4: 1}).trades[0]
    for start in range(5):  # wherever one points within the first bar
        found = trial.one(start, 1)
        assert (found.first, found.last) == (whole.first, whole.last) == (5, 6)
        assert found.exits[0].why == whole.end == "target_1"
    assert trial.one(17, 1) == "No bar follows this one: there is nothing to trade"
    assert trial.fan(1, 50, 3).results.size + trial.fan(1, 50, 3).running == 2
    with pytest.raises(BadInput, match="finer than"):
        Trial(bars._replace(time=bars.time * 15), PIER, ACCOUNT, rig)


def test_volume_adds_up_over_a_bar_and_of_any_other_column_the_last_cell_counts():
    """Reckoning section 10: what a source sees of decision bars."""
    nan = np.nan
    column = np.array([1.0, 2.0, 4.0, nan, 8.0, nan, nan])
    firsts, ends = np.array([0, 2, 5, 7]), np.array([2, 5, 7, 7])
    assert cells("volume", column, firsts, ends).tolist()[:2] == [3.0, 12.0]
    assert np.isnan(cells("volume", column, firsts, ends)[2:]).all()  # nothing known, no row
    assert cells("weft", column, firsts, ends).tolist()[:2] == [2.0, 8.0]
    assert np.isnan(cells("weft", column, firsts, ends)[2:]).all()
