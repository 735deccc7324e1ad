"""The service: inbox, clock, conflation, faults, profiles, the Logbook's lines, and the whole with
its threads."""

import shutil
import sqlite3
import sys
import threading
import time
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from byhand import ByHand
from calmworld import SYMBOL, World
from hawser.core.bars import Bars, joined
from hawser.core.clock import HOUR, MINUTE, SECOND
from hawser.core.errors import BadInput, Unavailable
from hawser.core.guards.declared import Guards, NewsGuard, NewsSources
from hawser.demo import world
from hawser.demo.boot import begin_anew, boot
from hawser.engine import events as ev
from hawser.engine.engine import Engine
from hawser.formats.declared import save
from hawser.ledger.ledger import Ledger
from hawser.service.profiles.last_opened import last_opened, note_opened
from hawser.service.profiles.profile import profile, replay_name
from hawser.service.runtime import opening_history
from hawser.service.runtime.bar_store import ATR_LENGTH, BarStore
from hawser.service.runtime.engine_thread import EngineThread
from hawser.service.runtime.faults import Faults
from hawser.service.runtime.hooks import Hooks
from hawser.service.runtime.runtime import Runtime
from hawser.service.runtime.venue_thread import BEHIND, MOST_PAUSE, PACE, Inbox, Link
from hawser.service.runtime.venue_thread import joined as joined_quotes
from hawser.service.views.logbook_lines import Teller
from hawser.venue import port
from hawser.venue.clock import Clock
from hawser.venue.quay.store import reread
from hawser.verification import world as storm_world
from hawser.verification.storm import Storm
from madeup import NO_JSON, ROOT, pair

EXAMPLES = ROOT / "examples"


def told(symbol, bid, ask, at=1):
    return port.QuoteTold(time=at, symbol=symbol, bid=bid, ask=ask)


# The inbox


def test_nothing_is_joined_while_the_engine_keeps_up():
    inbox = Inbox()
    for number in range(100):
        inbox.put(number, told("A", "1.0", "1.1"))
    assert inbox.joined == 0
    assert sum(inbox.take() is not None for _ in range(101)) == 100


def test_quotes_are_joined_when_behind_but_never_across_other_messages():
    inbox = Inbox()
    for number in range(BEHIND):
        inbox.put(number, port.Accepted(time=number, id="o"))
    inbox.put(1, told("A", "1.0", "1.2"))
    inbox.put(2, told("B", "7.0", "7.1"))
    inbox.put(3, told("A", "1.5", "1.6"))
    inbox.put(4, told("A", "1.2", "1.3"))
    assert inbox.joined == 2
    inbox.put(5, port.Filled(time=5, id="o", fill=port.FillTold("F", 5, "1", "1", 0.0, 0.0)))
    inbox.put(6, told("A", "1.1", "1.2"))
    assert inbox.joined == 2
    found = []
    while (item := inbox.take()) is not None:
        found.append(item[1])
    kinds = [type(item).__name__ for item in found[BEHIND:]]
    assert kinds == ["QuoteTold", "QuoteTold", "Filled", "QuoteTold"]
    first = found[BEHIND]
    assert (first.bid, first.ask, first.high_bid, first.low_ask) == ("1.2", "1.3", "1.5", "1.2")


def test_a_venue_that_fails_each_time_is_asked_less_often_until_it_does_not():
    calls, pauses, faults = iter([True] * 12 + [False, True]), [], []

    venue = Storm(1, "calm").venue
    link = Link(venue, Clock(venue.now), faults.append)

    def next_message(until):
        if next(calls):
            raise RuntimeError("made for the test")

    def wait(seconds):
        pauses.append(seconds)
        return len(pauses) > 14

    venue.next_message, link._stop.wait = next_message, wait
    link._run()
    assert len(faults) == 13
    assert pauses[1] > pauses[0] == PACE
    assert pauses[11:14] == [MOST_PAUSE, MOST_PAUSE, PACE]


def test_many_writers_lose_nothing():
    inbox = Inbox()

    def write(name):
        for number in range(500):
            inbox.put(number, port.Accepted(time=number, id=f"{name}-{number}"))

    writers = [threading.Thread(target=write, args=(name,)) for name in range(4)]
    for writer in writers:
        writer.start()
    for writer in writers:
        writer.join()
    found = {inbox.take()[1].id for _ in range(2000)}
    assert len(found) == 2000
    assert inbox.take() is None


QUOTES = st.lists(st.tuples(st.integers(100, 200), st.integers(1, 9)), min_size=2, max_size=12)


@given(QUOTES)
def test_what_is_recorded_of_quotes_is_what_they_came_to(quotes):
    hand = ByHand()
    hand.protect()
    hand.engine.seen.clear()
    events = [
        ev.Quote(
            time=hand.now + i,
            symbol="CAD/CHF",
            bid=61000 + bid,
            ask=61000 + bid + wide,
            high_bid=61000 + bid,
            low_ask=61000 + bid + wide,
        )
        for i, (bid, wide) in enumerate(quotes)
    ]
    folded = Engine()
    for event in hand.events:
        folded.handle(event)
    for event in events:
        assert not hand.engine.handle(event)
        assert not hand.engine.decided
    seen = hand.engine.seen.told(hand.engine.state)
    assert not folded.handle(seen)
    assert folded.state == hand.engine.state
    assert not hand.engine.seen


def test_joined_quotes_keep_the_best_of_both():
    both = joined_quotes(
        joined_quotes(told("A", "1.0", "1.4"), told("A", "1.3", "1.5")), told("A", "1.1", "1.2", 9)
    )
    assert (both.time, both.bid, both.ask, both.high_bid, both.low_ask) == (
        9,
        "1.1",
        "1.2",
        "1.3",
        "1.2",
    )


def test_the_clock_pauses_and_runs_at_a_multiple():
    real = [500]
    clock = Clock(1_000, speed=1.0, running=False, real=lambda: real[0])
    real[0] += 20
    assert clock.now() == 1_000
    clock.set(speed=1000.0, running=True)
    real[0] += 20
    assert clock.now() == 21_000
    clock.set(running=False)
    real[0] += 20
    assert clock.now() == 21_000
    clock.set(speed=2.0, running=True)
    real[0] += 20
    assert clock.now() == 21_040


# Bars


def bars_of(count, seed=1):
    rng = np.random.default_rng(seed)
    close = np.round(0.61 + np.cumsum(rng.normal(0, 0.0002, count)), 5)
    open_ = np.r_[0.61, close[:-1]]
    keep = rng.random(count) > 0.1  # gaps
    time_ = np.arange(count, dtype=np.int64) * MINUTE + 400 * 24 * HOUR
    bars = Bars(
        time_, open_, np.maximum(open_, close), np.minimum(open_, close), close, np.full(count, 9.0)
    )
    return bars.mapped(lambda column: column[keep])


def bar_told(bars, index):
    prices = (f"{float(column[index]):.5f}" for column in bars[1:5])
    opened = int(bars.time[index])
    names = dict(zip(("open", "high", "low", "close"), prices, strict=True))
    return port.BarTold(time=opened + MINUTE, symbol="CAD/CHF", opened=opened, spread=9.0, **names)


@given(st.integers(2, 400), st.floats(0, 1), st.integers(0, 20))
def test_bars_taken_one_by_one_equal_bars_joined_at_once(count, part, seed):
    bars = bars_of(count, seed)
    if bars.time.size < 2:
        return
    split = min(bars.time.size - 1, max(1, int(part * bars.time.size)))
    store = BarStore(pair(), MINUTE, bars.mapped(lambda column: column[:split]))
    for index in range(split, bars.time.size):
        store.take(bar_told(bars, index), 0)
    at_once = BarStore(pair(), MINUTE, bars)
    for span, series in store.series.items():
        mine, theirs = series.bars(), at_once.series[span].bars()
        assert mine.time.tolist() == theirs.time.tolist()
        assert mine.high.tolist() == pytest.approx(theirs.high.tolist())
        assert mine.close.tolist() == pytest.approx(theirs.close.tolist())
        both = (series.atr, at_once.series[span].atr)
        assert both[0] == pytest.approx(both[1], nan_ok=True)
        assert (mine.time.size < ATR_LENGTH) == np.isnan(both[0])


def test_the_unfinished_bar_joins_what_is_done_with_what_is_quoted():
    bars = bars_of(1, 2).mapped(lambda column: np.repeat(column, 1))
    history = Bars(
        np.arange(7, dtype=np.int64) * MINUTE,
        *(np.full(7, v) for v in (1.0, 1.2, 0.9, 1.1)),
        np.full(7, 2.0),
    )
    store = BarStore(pair(), MINUTE, history)
    assert store.forming(MINUTE) is None
    store.quote(7 * MINUTE + SECOND, 1.3, 3.0)
    store.quote(7 * MINUTE + 2 * SECOND, 0.8, 4.0)
    assert store.forming(MINUTE) == (7 * MINUTE, 1.3, 1.3, 0.8, 0.8, 4.0)
    assert store.forming(5 * MINUTE) == (5 * MINUTE, 1.0, 1.3, 0.8, 0.8, 4.0)
    assert bars.time.size <= 1
    assert joined(history, 5 * MINUTE).time.tolist() == [0, 5 * MINUTE]


# Faults, profiles, what was opened last


def test_a_fault_is_written_with_its_trace_and_told_in_one_sentence(tmp_path):
    faults = Faults(tmp_path)
    try:
        raise RuntimeError("the first line\nthe second")
    except RuntimeError as error:
        sentence = faults.record(error)
    assert "RuntimeError: the first line" in sentence
    assert "\n" not in sentence
    written = next((tmp_path / "faults").glob("*.txt"))
    assert "Traceback" in written.read_text()
    assert written.stat().st_mode & 0o777 == 0o600
    assert str(written) in sentence


def test_a_fault_with_half_of_a_character_in_its_words_is_written(tmp_path):
    sentence = Faults(tmp_path).record(ValueError("half \ud83d"))
    [found] = (tmp_path / "faults").glob("*.txt")
    assert "half ?" in sentence
    assert str(found) in sentence
    assert "half \\ud83d" in found.read_text()


def test_a_fault_that_cannot_be_written_is_still_told(tmp_path):
    (tmp_path / "faults").write_text("in the way")
    assert "cannot be written" in Faults(tmp_path).record(ValueError("x"))


def test_a_fault_on_a_disk_that_hangs_is_told_at_once(tmp_path, hanging, monkeypatch):
    faults = Faults(tmp_path)
    monkeypatch.setattr(Path, "write_text", hanging)
    for _ in range(3):
        assert "nowhere, the disk does not answer" in faults.record(ValueError("x"))


def test_profiles_keep_the_demo_apart_from_the_person_s_own(tmp_path, monkeypatch):
    for name in ("DATA", "CONFIG", "STATE"):
        monkeypatch.setenv(f"XDG_{name}_HOME", str(tmp_path / name))
    own, demo = profile("own"), profile("demo")
    assert demo.data != own.data
    assert "hawser-demo" in str(demo.data)
    assert "hawser-demo" in str(demo.config)
    assert "hawser-demo" not in str(own.data)
    assert own.data.stat().st_mode & 0o777 == 0o700
    mark = own.data / "mine"
    mark.write_text("x")
    begin_anew(demo)
    assert mark.exists()


def test_each_history_has_a_profile_of_its_own(tmp_path):
    names = {replay_name("CAD/CHF", tmp_path / name) for name in ("a.csv", "b.csv")}
    assert len(names) == 2
    assert all(name.startswith("replay-cad-chf-") for name in names)


def test_what_was_opened_last_is_found_again(tmp_path):
    with pytest.raises(BadInput) as caught:
        last_opened(tmp_path)
    assert "hawser --bars" in caught.value.sentence
    files = note_opened(
        tmp_path,
        tmp_path / "a.csv",
        instrument=tmp_path / "b.toml",
        accounts=[],
        zone="Europe/Zurich",
        recipe=tmp_path / "r.toml",
        speed=60.0,
    )
    files.keep(tmp_path)
    found = last_opened(tmp_path)
    assert found.recipe == str(tmp_path / "r.toml")
    assert (found.bars, found.zone, found.speed) == (str(tmp_path / "a.csv"), "Europe/Zurich", 60.0)


def test_an_account_that_cannot_be_converted_is_refused_before_anything_opens(tmp_path):
    account = tmp_path / "account.toml"
    account.write_text('currency = "SEK"\nequity = 1000.0\n')
    with pytest.raises(BadInput, match="No conversion rate from CHF to SEK"):
        opening_history.Inputs(
            EXAMPLES / "quillan-ferry-5m.csv", EXAMPLES / "quillan-ferry.toml", account
        )


# Lines


def test_every_event_and_command_of_a_storm_has_its_line():
    storm, teller, lines = Storm(21, "gale"), Teller(), []
    take = storm.session._listener

    def heard(entry):
        take(entry)
        lines.extend(teller.lines(*entry))

    storm.session._listener = heard
    teller.lines(
        ev.Opened(
            time=0,
            prefix="S",
            account=storm.state.account,
            instruments=tuple(storm.state.instruments.values()),
        ),
        [],
    )
    storm.run(6)
    kinds = {line.kind for line in lines}
    assert {"asked", "decided", "sent", "venue", "timer", "market"} <= kinds
    assert all(line.text and "{" not in line.text for line in lines)
    sent = [line for line in lines if line.kind == "sent" and "[S." in line.text]
    assert sent
    assert all(line.trade and line.symbol for line in sent)


# The whole, with threads


class Heard:
    """Collects what the runtime tells, and waits for it."""

    def __init__(self):
        self.snapshots, self.lines, self.faults, self.failed, self.pictures = [], [], [], [], []
        self.tells = []
        self.ready = threading.Event()

    def hooks(self):
        return Hooks(
            snapshot=self.snapshots.append,
            lines=self.lines.extend,
            ready=self.ready.set,
            fault=self.faults.append,
            failed=self.failed.append,
            guards=self.pictures.append,
            told=self.tells.append,
        )

    def until(self, condition, seconds=300):  # only one that is hung waits so long
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            if self.snapshots and condition(self.snapshots[-1]):
                return self.snapshots[-1]
            time.sleep(0.01)
        raise AssertionError(f"it never happened: {self.failed} {self.faults[-2:]}")


@pytest.fixture
def started(tmp_path, morning):
    shutil.copytree(morning, tmp_path, dirs_exist_ok=True)
    running = []

    def start(**options):
        heard = Heard()
        runtime = Runtime(profile("demo", tmp_path), boot, heard.hooks(), **options)
        runtime.start()
        running.append(runtime)
        assert heard.ready.wait(300), heard.failed
        return runtime, heard

    yield start
    for runtime in running:
        runtime.stop()


def test_the_demo_opens_in_the_middle_of_a_day_the_same_every_time(started):
    runtime, heard = started(running=False)
    found = heard.until(lambda s: s.link_up and not s.exposed and s.trades)
    held = [(t.symbol, t.side, t.open_steps, t.stop) for t in found.trades if t.open_steps]
    assert found.time == world.OPENS_AT
    assert len(held) >= 3
    assert len({t.side for t in found.trades if t.open_steps}) == 2
    assert any(view.closed for view in found.instruments)
    assert all(t.covered for t in found.trades if t.open_steps)
    runtime.stop()
    begin_anew(runtime.profile)
    _, again = started(running=False)
    second = again.until(lambda s: s.link_up and not s.exposed and s.trades)
    assert [(t.symbol, t.side, t.open_steps, t.stop) for t in second.trades if t.open_steps] == held
    assert second.equity == found.equity


def test_whatever_lies_in_the_place_of_what_hawser_wrote_it_opens(started, tmp_path):
    """Settings have a sentence of their own: people write those."""
    where = profile("demo", tmp_path)
    for damaged in NO_JSON:
        for path in (where.heartbeat, where.alerts_waiting):
            path.write_bytes(damaged)
        runtime, heard = started(running=False)
        heard.until(lambda s: s.link_up and any(t.open_steps for t in s.trades))
        runtime.stop()


def test_trades_and_the_halt_survive_a_restart(started):
    runtime, heard = started(speed=20.0)
    before = heard.until(lambda s: s.link_up and s.trades)
    runtime.stop()
    runtime, heard = started(speed=20.0)
    after = heard.until(lambda s: s.link_up and not s.closed)
    assert {t.id for t in after.trades} >= {t.id for t in before.trades if t.open_steps}
    runtime.ask(lambda now, ask_id: ev.Halt(time=now, ask_id=ask_id, why="by hand"))
    heard.until(lambda s: s.halted and not any(t.open_steps for t in s.trades))
    runtime.stop()
    runtime, heard = started(speed=20.0)
    found = heard.until(lambda s: s.link_up)
    assert found.halted
    assert found.closed[0].code == "halted"
    runtime.ask(lambda now, ask_id: ev.Rearm(time=now, ask_id=ask_id, reason="looked at it"))
    heard.until(lambda s: not s.halted)


@pytest.mark.parametrize("running", [False, True])
def test_a_policy_takes_effect_together_with_its_news(started, tmp_path, running):
    (tmp_path / "far.csv").write_text(
        "time,currency,impact,title\n2099-01-01T00:00:00Z,CHF,low,Far ahead\n"
    )
    strict = Guards(
        loosen="now",
        news=NewsSources(files=(str(tmp_path / "far.csv"),)),
        guard=(NewsGuard(name="Strict", then=("flatten",)),),
    )
    where = profile("demo", tmp_path)
    save(Guards(loosen="now"), where.guards)  # no guard, and so no news either
    runtime, heard = started(running=False)
    before = heard.until(lambda s: s.link_up and any(t.open_steps for t in s.trades))
    if running:
        runtime.change_guards(strict)
    else:
        runtime.stop()
        save(strict, where.guards)
        runtime, heard = started(running=False)

    def looked_at(guards):
        runtime.look_at_guards()
        return heard.pictures and heard.pictures[-1].policy == guards

    heard.until(lambda _: looked_at(strict))
    # an opening waits for no news: entries are closed until it is read, and nothing else follows
    if not running:
        heard.until(
            lambda _: (
                looked_at(strict)
                and heard.pictures[-1].calendar != "The news has not been read yet"
            )
        )
    assert heard.pictures[-1].calendar.startswith("far.csv: good")
    runtime.change_guards(Guards(loosen="now"))  # nor is it judged without, when it goes
    after = heard.until(lambda _: looked_at(Guards(loosen="now")))
    assert [t.state for t in after.trades if t.open_steps] == [
        t.state for t in before.trades if t.open_steps
    ]
    assert [line.text for line in heard.lines if "Strict closes entries" in line.text] == []


def test_an_unexpected_error_takes_nothing_down(started, monkeypatch):
    runtime, heard = started(speed=20.0)
    before = heard.until(lambda s: s.link_up and s.trades)

    def broken(engine):
        def boom(event):
            monkeypatch.undo()
            raise RuntimeError("made for the test")

        monkeypatch.setattr(engine.session.engine, "handle", boom)

    runtime.do(broken)
    runtime.ask(lambda now, ask_id: ev.CloseTrade(time=now, ask_id=ask_id, trade="T0"))
    found = heard.until(lambda s: s.faults == 1 and s.link_up and not s.closed)
    assert {t.id for t in found.trades} == {t.id for t in before.trades}
    heard.until(lambda _: heard.faults)
    assert "made for the test" in heard.faults[0]
    assert "tending goes on" in heard.faults[0]
    assert list((runtime.profile.state / "faults").glob("*.txt"))
    runtime.ask(lambda now, ask_id: ev.CloseAll(time=now, ask_id=ask_id))
    heard.until(lambda s: not any(t.open_steps for t in s.trades))


@pytest.mark.parametrize("where", ["_open", "_serve"])
def test_who_asks_where_nobody_tends_is_told(tmp_path, morning, monkeypatch, where):
    """It waited for ever, a flatten among others."""

    def boom(*_):
        raise RuntimeError("made for the test")

    shutil.copytree(morning, tmp_path, dirs_exist_ok=True)
    heard = Heard()
    runtime = Runtime(profile("demo", tmp_path), boot, heard.hooks(), running=False)
    monkeypatch.setattr(EngineThread, where, boom)
    alerted = []
    monkeypatch.setattr(runtime.alerts, "tell_fault", alerted.append)
    runtime.start()
    runtime._thread.join(300)
    assert heard.failed
    runtime.ask(lambda now, ask_id: ev.Halt(time=now, ask_id=ask_id, why="by hand"))
    assert "Nothing was sent" in heard.faults[-1]
    assert bool(alerted) == (where == "_serve")  # whom an alert reaches is read while opening
    assert all("Tending has stopped" in text for text in alerted)


def test_whatever_fails_beside_it_tending_goes_on(started):
    """The picture for a window, the Logbook's lines, and even who is told of the faults."""
    runtime, heard = started(speed=20.0)
    heard.until(lambda s: s.link_up and s.trades and not s.closed)
    failed, held = [], []

    def broken(*values):
        failed.append(values)
        raise RuntimeError("made for the test")

    hooks = runtime.hooks._replace(snapshot=broken, lines=broken, fault=broken)
    runtime.hooks = hooks
    runtime.do(lambda engine: setattr(engine, "hooks", hooks))
    runtime.alerts.tell_fault = broken
    runtime.ask(lambda now, ask_id: ev.CloseAll(time=now, ask_id=ask_id))
    end = time.monotonic() + 300
    while not held or held[-1]:
        runtime.do(
            lambda engine: held.append(
                sum(trade.open_steps for trade in engine.session.engine.state.live())
            )
        )
        time.sleep(0.05)
        assert time.monotonic() < end, failed[-1:]
    assert failed
    assert list((runtime.profile.state / "faults").glob("*.txt"))


def test_where_the_system_has_no_room_for_what_is_beside_it_tending_begins(started, monkeypatch):
    """No thread for the news, alerts, the look at the record and the answers to a watch."""
    start, refused = threading.Thread.start, []

    def begin(thread):
        if thread.name in ("news", "record", "voice") or thread.name.startswith("alerts"):
            refused.append(thread.name)
            raise RuntimeError("can't start new thread")
        start(thread)

    monkeypatch.setattr(threading.Thread, "start", begin)
    runtime, heard = started(speed=20.0)
    heard.until(lambda s: s.link_up and any(t.open_steps for t in s.trades) and not s.exposed)
    runtime.ask(lambda now, ask_id: ev.CloseAll(time=now, ask_id=ask_id))
    heard.until(lambda s: not any(t.open_steps for t in s.trades))
    assert {"news", "record", "voice"} < set(refused)
    assert len(heard.faults) >= 4  # news, alerts, the look at the record, the answers to a watch
    runtime.stop()
    monkeypatch.undo()
    again, _ = started(running=False)  # it has let go of the record
    again.stop()


def test_a_window_that_lacks_bars_is_sent_all_of_them_and_else_one_at_a_time(tmp_path):
    world, sent = World(), []
    hooks = Hooks(bar=sent.append, bars=lambda *told: sent.append("all"))
    runtime = Runtime(profile("demo", tmp_path), boot, hooks)

    engine = EngineThread(runtime)
    engine.session = world.session

    def heard():
        while not runtime.asks.empty():
            runtime.asks.get()(engine)
        found, sent[:] = list(sent), []
        return ["one" if isinstance(one, ev.BarCompleted) else one for one in found]

    engine.teller.begin(world.state)
    world.session._listener = engine.heard
    runtime.watch(SYMBOL, MINUTE)
    assert heard() == ["all"]
    world.run(130)
    assert heard() == ["one", "one"]
    until = world.venue.now + 5 * MINUTE
    while world.venue.next_message(until) is not None:  # nobody hears it
        pass
    world.another_answers(list(storm_world.WORLD), reread(world.venue.book.state))
    assert heard()[-1] == "all"
    world.run(60)
    assert heard() == ["one"]


OPENED: list[str] | None = None  # by the engine's thread, where somebody wants to know


def opens(event, told):
    if (
        event in ("open", "sqlite3.connect")
        and OPENED is not None
        and threading.current_thread().name == "engine"
    ):
        OPENED.append(str(told[0]))


def test_who_tends_opens_no_file(started, monkeypatch):
    """A disk may hang, and all tending with it: the look for a watch and the trace of a fault once
    waited for it."""
    sys.addaudithook(opens)
    runtime, heard = started(speed=600.0)
    first = heard.until(lambda s: s.link_up and s.trades)
    opened: list[str] = []
    monkeypatch.setattr(sys.modules[__name__], "OPENED", opened)
    runtime.sentry._next = 0.0
    runtime.do(lambda session: 1 / 0)
    runtime.look_at_guards()
    heard.until(lambda s: heard.faults and s.time > first.time + 2 * MINUTE)
    assert not opened


def test_a_second_hawser_on_the_same_ledger_is_refused(started):
    runtime, _ = started(running=False)
    other = Heard()
    second = Runtime(runtime.profile, boot, other.hooks())
    second.start()
    second._thread.join(300)
    assert other.failed
    assert "another Hawser" in other.failed[0]


def test_a_record_that_is_damaged_far_back_is_told_and_tending_goes_on(started):
    runtime, heard = started(running=False)
    heard.until(lambda s: s.link_up and s.trades)
    runtime.stop()
    with sqlite3.connect(runtime.profile.ledger) as db:
        db.execute("UPDATE record SET body = body || x'00' WHERE seq = 40")
    db.close()
    _, again = started(running=False)
    again.until(lambda s: s.link_up and s.trades)
    again.until(lambda _: any("line 40 is not what was written" in fault for fault in again.faults))
    assert not again.failed


def test_an_older_copy_of_the_record_opens_with_entries_closed(started):
    runtime, heard = started(running=False)
    heard.until(lambda s: s.link_up and s.trades)
    runtime.stop()
    ledger = runtime.profile.ledger
    older = ledger.read_bytes()
    runtime, heard = started(running=False)
    assert not heard.until(lambda s: s.link_up).halted  # it is the same record
    runtime.stop()
    ledger.write_bytes(older)
    runtime, heard = started(running=False)
    found = heard.until(lambda s: s.link_up)
    assert found.halted
    assert "older than what was done" in found.halt_why
    # nothing is closed or stripped for it
    assert all(t.covered for t in found.trades if t.open_steps)


def test_a_record_that_cannot_be_written_closes_entries_and_heals_itself(started, monkeypatch):
    _, heard = started(speed=20.0)
    heard.until(lambda s: s.link_up and s.trades and not s.closed)

    def full(self, entries):
        raise sqlite3.OperationalError("database or disk is full")

    with monkeypatch.context() as patch:
        patch.setattr(Ledger, "append", full)
        shut = heard.until(lambda s: s.closed)
        assert [one.code for one in shut.closed] == ["record_down"]
    heard.until(lambda s: not s.closed)
    assert not heard.failed
    # told a moment after it shows
    heard.until(lambda _: any(tell.code == "record_up" for tell in heard.tells))
    codes = [tell.code for tell in heard.tells]
    assert codes.count("record_down") == codes.count("record_up") == 1


def test_own_history_is_replayed(tmp_path):
    inputs = opening_history.Inputs(
        EXAMPLES / "quillan-ferry-5m.csv",
        EXAMPLES / "quillan-ferry.toml",
        EXAMPLES / "account.toml",
    )
    heard = Heard()
    runtime = Runtime(
        profile("own", tmp_path),
        lambda where: opening_history.boot(inputs, where),
        heard.hooks(),
        speed=600.0,
    )
    runtime.start()
    try:
        first = heard.until(lambda s: s.link_up and s.instruments and s.instruments[0].bid)
        assert first.currency == "CHF"
        later = heard.until(lambda s: s.time > first.time + 20 * MINUTE)
        assert later.instruments[0].instrument.symbol == "Quillan Ferry"
    finally:
        runtime.stop()


def test_a_folder_that_cannot_be_made_is_told(tmp_path):
    (tmp_path / "data").write_text("in the way")
    with pytest.raises((Unavailable, OSError)):
        profile("demo", tmp_path)
