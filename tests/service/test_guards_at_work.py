"""Guards in the running application without its window: files that change, restarts, and the
command for scripts."""

from __future__ import annotations

import json
import subprocess
import sys
import time

import msgspec
import pytest

from byhand import ByHand
from hawser.cli import main
from hawser.core.clock import HOUR, MINUTE, SECOND
from hawser.core.guards import declared as dc
from hawser.core.guards.declared import NewsSources
from hawser.core.guards.news import Calendar, NewsEvent
from hawser.demo import world
from hawser.demo.boot import boot
from hawser.engine import events as ev
from hawser.engine.clearance.entries import entry_verdict
from hawser.formats.declared import load, save
from hawser.ledger.ledger import Ledger
from hawser.ledger.verify import verify
from hawser.service.profiles.profile import profile
from hawser.service.runtime.news_watch import NewsWatch
from hawser.service.runtime.session import Session
from hawser.service.views.guard_picture import picture
from hawser.service.views.taking import taken
from madeup import pair

HEAD = "time,currency,impact,title\n"
EXAMPLES = "examples"


def opened(where, ledger=None) -> Session:
    made = boot(where)
    return Session(made.account, made.venue, made.ledger, prefix="g")


def test_a_latch_and_its_counters_are_there_after_a_restart_and_the_record_replays(tmp_path):
    where = profile("demo", tmp_path)
    session = opened(where)
    session.run_until(session.venue.now + 5 * SECOND)
    session.set_guards(
        dc.Guards(
            guard=(
                dc.LossSwitch(name="Loss", percent=1.0),
                dc.StreakSwitch(name="Streak", losses=3),
                dc.SpreadGuard(name="Median", max_of_median=9.0),
                dc.VolatilityGuard(name="Band", bars=300),
            )
        ),
        "g1",
    )
    session.run_until(session.venue.now + 2 * MINUTE)
    assert session.engine.state.measures["CAD/CHF"]["guard: median spread 30 min"] > 0
    session.ask(ev.Drill(time=session.venue.now, ask_id="d", guard="Loss"))
    session.run_until(session.venue.now + 3 * MINUTE)
    session.close()
    again = opened(where)
    again.run_until(again.venue.now + 10 * SECOND)
    codes = [one.code for one in entry_verdict(again.engine.state, "CAD/CHF")]
    assert codes[0] == "latched"
    again.set_guards(dc.Guards(), "g2")  # taking it away at a restart does not open it
    assert "latched" in [one.code for one in entry_verdict(again.engine.state, "CAD/CHF")]
    path = where.ledger
    again.close()
    found = verify(path)
    assert not found.line, found


def test_a_restart_inside_a_news_window_finds_it_closed_until_its_end(tmp_path):
    where = profile("demo", tmp_path)
    session = opened(where)
    session.run_until(session.venue.now + 5 * SECOND)
    event = NewsEvent(session.venue.now + 2 * MINUTE, "ALL", "high", "Tide tables")
    guard = dc.NewsGuard(name="News", before_min=5.0, after_min=3.0, horizon_h=0.0)
    session.set_guards(dc.Guards(guard=(guard,)), "g1", (Calendar("made up", (event,)),))
    session.run_until(event.time - MINUTE)
    session.close()
    again = opened(where)
    again.run_until(event.time - MINUTE + 2 * SECOND)
    (said,) = entry_verdict(again.engine.state, "CAD/CHF")
    assert (said.code, said.until) == ("news", event.time + 3 * MINUTE)
    again.run_until(said.until - 1)
    assert entry_verdict(again.engine.state, "CAD/CHF")
    again.run_until(said.until)
    assert not entry_verdict(again.engine.state, "CAD/CHF")
    again.close()


def test_a_peak_of_equity_is_not_lost_by_a_kill(tmp_path):
    where = profile("demo", tmp_path)
    session = opened(where)
    session.run_until(session.venue.now + 5 * SECOND)
    session.set_guards(dc.Guards(guard=(dc.DrawdownSwitch(name="Fall", percent=5.0),)), "g1")
    session.take(
        ev.Figures(time=session.venue.now, balance=64_000.0, equity=70_000.0, margin_used=0.0)
    )
    session.take(
        ev.Figures(time=session.venue.now, balance=64_000.0, equity=69_000.0, margin_used=0.0)
    )
    session.ledger.close()  # killed: what was held back for the record is gone
    session.venue.close()
    state = Ledger(where.ledger).restore().state
    assert state.memory["Fall\n"].high == 70_000.0


def test_the_gauge_of_a_silent_feed_is_what_the_switch_counts():
    hand = ByHand()
    other = msgspec.structs.replace(pair(), symbol="NZD/SEK")
    hand.engine.state.instruments[other.symbol] = other
    guards = (
        dc.SilenceSwitch(name="All", seconds=60, per="account"),
        dc.SilenceSwitch(name="Each", seconds=60),
    )
    hand.do(ev.ChangeGuards, ask_id="G", guards=dc.Guards(guard=guards))
    for symbol in ("CAD/CHF", "NZD/SEK"):
        hand.do(ev.Quote, symbol=symbol, bid=60_000, ask=60_010, high_bid=60_000, low_ask=60_010)
    hand.later(40)
    hand.quote(60_000, 60_010)
    views = {view.name: view for view in picture(hand.engine.state, "CAD/CHF").views}
    assert (views["All"].now, views["Each"].now) == ("0 s", "40 s")
    hand.later(20)
    hand.later(5)
    views = {
        (view.name, view.subject): view for view in picture(hand.engine.state, "CAD/CHF").views
    }
    assert (views["All", ""].now, views["All", ""].closed) == ("25 s", None)
    assert views["Each", "NZD/SEK"].closed.code == "latched"
    # it can be drilled
    assert (views["Each", "CAD/CHF"].now, views["Each", "CAD/CHF"].closed) == ("25 s", None)


def test_at_stake_is_what_a_stop_would_still_cost_and_no_commission_twice():
    hand = ByHand()
    hand.do(ev.Figures, balance=64_000.0, equity=64_000.0, margin_used=0.0)
    policy = dc.Guards(guard=(dc.LossSwitch(name="Loss", money=1_000.0),))
    hand.do(ev.ChangeGuards, ask_id="G", guards=policy)
    hand.protect()
    trade, instrument = hand.trade, hand.engine.state.instruments["CAD/CHF"]
    hand.quote(trade.stop + 300, trade.stop + 312)
    qty, unit = instrument.qty_step * trade.open_steps, instrument.multiplier
    fee = max(instrument.commission.minimum, instrument.commission.per_unit * float(qty))
    falls = 300 * instrument.tick_size * float(qty) * unit
    falls += 2 * fee - trade.commission  # both ways, less what has been paid
    [view] = picture(hand.engine.state, "CAD/CHF").views
    assert view.gauge.stake == pytest.approx(falls / 1_000.0)


def test_of_two_limits_the_gauge_shows_the_nearer():
    hand = ByHand()
    hand.do(ev.Figures, balance=64_000.0, equity=64_000.0, margin_used=0.0)
    for money, limit in ((500.0, "500.00\u00a0CHF"), (900.0, "1.00\u00a0%")):
        policy = dc.Guards(
            loosen="now", guard=(dc.LossSwitch(name="Loss", percent=1.0, money=money),)
        )
        hand.do(ev.ChangeGuards, ask_id=f"G{money}", guards=policy)
        assert picture(hand.engine.state, "CAD/CHF").views[0].limit == limit


def test_a_guard_of_one_source_closes_for_plans_by_hand_where_it_names_them():
    hand = ByHand()
    for source, codes in (("by hand", ["spread"]), ("robot", [])):
        guard = dc.SpreadGuard(name=source, max_ticks=2, sources=(source,))
        hand.do(ev.ChangeGuards, ask_id=source, guards=dc.Guards(loosen="now", guard=(guard,)))
        shown = taken(hand.engine.state)
        assert [one.code for one in shown.instruments[0].closed] == codes
        assert (shown.spread_limit("CAD/CHF") == 2) == bool(codes)


def test_news_files_are_watched_and_read_again(tmp_path):
    now, heard, faults = [int(time.time()) * SECOND], [], []
    watch = NewsWatch(lambda: now[0], heard.append, faults.append)
    folder = tmp_path / "news"
    folder.mkdir()
    watch.watch(NewsSources(files=(str(folder),)))
    watch._look()
    assert heard == [()]  # there are none, and that is known
    stamp = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(now[0] // SECOND + 600))
    (folder / "a.csv").write_text(f"{HEAD}{stamp},CHF,high,x\n")
    watch._look()
    watch._look()  # nothing has changed: it is not read again
    assert len(heard) == 2
    assert heard[-1][0].events[0].title == "x"
    (folder / "a.csv").write_text("nonsense\n")
    watch._look()
    assert heard[-1][0].state == "unreadable"
    now[0] += 7 * HOUR
    watch._look()
    assert len(heard) == 4
    watch.start()
    watch.stop()
    assert not faults
    (folder / "a.csv").write_text("something else\n")
    watch.read(NewsSources(files=(str(folder),)), heard.append)
    watch._look()
    # it has been stopped: what is not read any more says nothing of the files
    assert len(heard) == 4


@pytest.fixture
def files(tmp_path):
    guards = tmp_path / "guards.toml"
    (tmp_path / "news.csv").write_text(f"{HEAD}2031-01-08T12:00:00Z,CHF,high,Rate decision\n")
    policy = dc.Guards(
        news=dc.NewsSources(files=("news.csv",)),
        guard=(
            dc.NewsGuard(name="News", missing="warn"),
            dc.SpreadGuard(name="Spread", max_percent_of_r=10.0),
        ),
    )
    save(policy, guards)
    assert load(dc.Guards, guards) == policy
    return guards


def said(capsys, *arguments) -> tuple[int, dict]:
    status = main(
        ["guards", *map(str, arguments), "--instrument", f"{EXAMPLES}/quillan-ferry.toml", "--json"]
    )
    return status, json.loads(capsys.readouterr().out)


@pytest.mark.parametrize(
    ("at", "status"),
    [
        ("2031-01-08T11:44:59.999999Z", 0),
        ("2031-01-08T11:45:00Z", 1),
        ("2031-01-08T13:29:59.999999+01:00", 1),
        ("2031-01-08T13:30:00+01:00", 0),
    ],
)
def test_the_command_says_what_a_script_may_do_at_a_moment(files, capsys, at, status):
    found, answer = said(capsys, "--guards", files, "--at", at)
    assert found == status
    assert answer["open"] == (not status)
    assert [one["guard"] for one in answer["verdicts"]] == ["News", "Spread"]
    if status:
        assert answer["verdicts"][0]["code"] == "news"
        assert answer["verdicts"][0]["until"] == "2031-01-08T12:30:00Z"


def test_the_command_takes_the_spread_from_the_bars_and_r_from_the_caller(files, capsys):
    given = [
        "--guards",
        files,
        "--at",
        "2031-01-08T10:00:00Z",
        "--bars",
        f"{EXAMPLES}/quillan-ferry-5m.csv",
    ]
    assert said(capsys, *given, "--side", "long", "--r-ticks", "100")[0] == 0
    status, answer = said(capsys, *given, "--side", "long", "--r-ticks", "5")
    assert status == 1
    assert "of R, at most 10.0" in answer["verdicts"][1]["message"]


@pytest.mark.parametrize(
    ("arguments", "word"),
    [
        (["--at", "soon"], "--at soon: expected ISO 8601"),
        (["--at", "2031-01-08T11:00"], "expected an offset"),
        (["--at", "2031-01-08T11:00Z", "--bars", "a", "--bars", "b"], "as many as --instrument"),
    ],
)
def test_the_command_names_what_is_wrong(files, capsys, arguments, word):
    status = main(
        [
            "guards",
            "--guards",
            str(files),
            "--instrument",
            f"{EXAMPLES}/quillan-ferry.toml",
            *arguments,
        ]
    )
    told = capsys.readouterr()
    assert status == 2
    assert word in told.err
    assert not told.out


def test_the_command_knows_the_latches_of_a_recorded_session(tmp_path, files):
    where = profile("demo", tmp_path)
    session = opened(where)
    session.set_guards(dc.Guards(guard=(dc.FloorSwitch(name="Floor", money=1.0),)), "g1")
    session.ask(ev.Drill(time=session.venue.now, ask_id="d", guard="Floor"))
    session.close()
    instrument = tmp_path / "one.toml"
    save(next(one for one, _ in world.INSTRUMENTS if one.symbol == "Tin Z"), instrument)
    command = [
        sys.executable,
        "-m",
        "hawser",
        "guards",
        "--session",
        str(where.ledger),
        "--at",
        "2031-03-06T00:00:00Z",
        "--instrument",
        str(instrument),
    ]
    ran = subprocess.run(command, capture_output=True, text=True, check=False)
    assert (ran.returncode, ran.stderr) == (1, "")
    assert ran.stdout.strip() == "Tin Z  Floor (equity floor): CLOSED: Floor: a drill"
    assert Ledger(where.ledger).restore().state.memory  # and nothing was changed by asking
