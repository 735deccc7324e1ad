"""The record where its disk fails, in real files: full, held by another program, hanging.
Protection goes on."""

import sqlite3
import threading
from concurrent.futures import Future, wait

import pytest

from calmworld import SYMBOL, World
from hawser.core.clock import SECOND
from hawser.core.errors import BadInput, Unavailable
from hawser.core.guards.news import Calendar, NewsEvent
from hawser.core.levels import StopRule
from hawser.engine.engine import Engine
from hawser.engine.events import Halt, MoveStop, TimerFired
from hawser.engine.model import transitions as states
from hawser.ledger.ledger import Ledger
from hawser.ledger.verify import verify
from hawser.service import recording
from hawser.service.recording import Aside, Here
from hawser.service.runtime.session import Session

LONG = 600.0  # s: what a write may take in these tests, where nothing hangs


class Hanging(Ledger):
    """Whose writes hang while `goes` is not set."""

    def __init__(self, path):
        self.goes = threading.Event()
        self.goes.set()
        super().__init__(path)

    def append(self, entries):
        self.goes.wait()
        super().append(entries)


@pytest.fixture
def hung(tmp_path):
    """A session with a protected trade, whose disk has just begun to hang."""
    way = Aside("test")
    way.patience = LONG
    world = World(Hanging(tmp_path / "ledger.sqlite"), way=way)
    world.place()
    assert world.trade.state == states.PROTECTED
    world.ledger.goes.clear()
    way.patience = 0.0
    yield world
    world.ledger.goes.set()
    way.end()


def lose_the_stop(world):
    """At the venue, without a word; then time for a check to find it."""
    world.venue.book.cancel(
        next(one.id for one in world.venue.book.resting(SYMBOL) if one.kind == "stop")
    )
    world.run(20)


def same_as_its_record(world):
    world.session.write_down()
    state = world.session.engine.state
    path = world.ledger.path
    world.session.close()
    assert not verify(path).line
    again = Ledger(path)
    folded = again.look()
    again.close()
    return (
        folded.orders == state.orders
        and folded.trades == state.trades
        and folded.markets == state.markets
    )


def test_a_file_that_another_program_holds_keeps_no_position_without_its_stop(tmp_path):
    world = World(Ledger(tmp_path / "ledger.sqlite"))
    world.place()
    other = sqlite3.connect(world.ledger.path, isolation_level=None)
    other.execute("BEGIN IMMEDIATE")
    lose_the_stop(world)
    assert world.stops() == world.trade.open_steps > 0
    assert "locked" in world.state.record_down
    assert (tmp_path / "ledger.reserve").exists()  # giving space up helps nobody here
    world.place()
    assert len(world.state.trades) == 1
    other.execute("ROLLBACK")
    world.run(3)
    assert not world.state.record_down
    assert same_as_its_record(world)


def test_a_disk_that_hangs_keeps_no_position_without_its_stop(hung):
    lose_the_stop(hung)
    assert hung.session.recording.hangs
    assert hung.stops() == hung.trade.open_steps > 0
    assert "has not answered" in hung.state.record_down
    hung.ledger.goes.set()
    hung.way.patience = LONG
    wait([hung.session.recording._under_way.done])
    hung.run(3)
    assert not hung.state.record_down
    assert not hung.session.recording.kept
    assert same_as_its_record(hung)


def test_killed_while_the_disk_hangs_the_next_hawser_asks_the_venue(hung, tmp_path):
    lose_the_stop(hung)
    seq = hung.ledger.seq
    copy = tmp_path / "copy.sqlite"
    with sqlite3.connect(copy) as other, sqlite3.connect(hung.ledger.path) as own:
        own.backup(other)
    hung.venue.hang_up()
    hung.venue.pick_up()
    session = Session(hung.session.engine.state.account, hung.venue, Ledger(copy), prefix="S")
    for _ in range(25):
        session.run_until(hung.venue.now + SECOND)
    trade = next(iter(session.engine.state.trades.values()))
    assert session.ledger.seq > seq
    assert trade.state == states.PROTECTED
    # The stop that no record knew is taken back by the next check: one is enough.
    rests = [one for one in hung.venue.book.resting(SYMBOL) if one.kind == "stop"]
    assert sum(one.steps for one in rests) == trade.open_steps
    session.close()


def test_a_fault_while_the_disk_hangs_folds_what_hangs_once(hung):
    """Whether the write that hangs has come to its end by then or not."""
    lose_the_stop(hung)
    before = hung.session.engine.state
    for ended in (False, True):
        if ended:
            hung.ledger.goes.set()
        found = hung.session.recording.engine().state
        assert found.trades == before.trades
        assert found.orders == before.orders


def test_ending_on_a_disk_that_hangs_says_what_is_lost(hung, monkeypatch):
    monkeypatch.setattr(recording, "LAST_WAIT_S", 0.0)
    lose_the_stop(hung)
    with pytest.raises(Unavailable, match="does not answer"):
        hung.session.close()


def test_what_fails_at_once_each_time_leaves_time_for_everything_else(tmp_path, monkeypatch):
    """A rule of ours that raises at a trade's every timer, whatever the reason: the engine goes
    back to its record each time, and the other trades are tended all the same."""
    world = World(Ledger(tmp_path / "ledger.sqlite"))
    world.place(symbol="Harbour 40", stop=StopRule(ticks=400), targets=())
    ill = world.trade.id
    world.place()
    handle = Engine.handle

    def fails(engine, event):
        if isinstance(event, TimerFired) and ill in event.name:
            raise ZeroDivisionError("made up")
        return handle(engine, event)

    monkeypatch.setattr(Engine, "handle", fails)
    for order in world.venue.book.resting("Harbour 40"):
        world.venue.book.cancel(order.id)
    world.session._start(f"retry:{ill}:0", world.session.now)
    lose_the_stop(world)
    assert world.stops() == world.trade.open_steps > 0
    assert 2 < len(world.faults) < 30


def test_a_timer_that_is_asked_for_again_fires_once(tmp_path):
    """Each time that a trade was looked at it had asked for the same moment: eight of them were
    recorded there."""
    world = World(Ledger(tmp_path / "ledger.sqlite"))
    world.place()
    fired, take = [], world.session.take
    world.session.take = lambda event: (fired.append(event), take(event))
    for _ in range(3):
        world.session._start(f"retry:{world.trade.id}:0", world.venue.now + SECOND)
    world.run(2)
    name = f"retry:{world.trade.id}:0"
    assert sum(getattr(event, "name", "") == name for event in fired) == 1
    world.session._start(name, world.venue.now + SECOND)
    world.run(2)
    assert sum(getattr(event, "name", "") == name for event in fired) == 2


class Failing(Here):
    """A way whose every write fails by what no database names, while `fails` is set."""

    fails = False

    def begin(self, work):
        if not self.fails:
            return super().begin(work)
        failed = Future()
        failed.set_exception(MemoryError())
        return failed


def test_whatever_a_write_fails_by_protection_goes_on(tmp_path):
    """Every request of such a session had been lost with the write, the stop's too."""
    way = Failing()
    world = World(Ledger(tmp_path / "ledger.sqlite"), way=way)
    world.place()
    way.fails = True
    lose_the_stop(world)
    assert world.trade.state == states.PROTECTED
    assert world.session.engine.state.record_down == "MemoryError()"
    way.fails = False
    world.run(20)
    assert not world.session.engine.state.record_down
    assert same_as_its_record(world)


def test_memory_that_runs_out_at_the_beginning_keeps_nobody_from_opening(tmp_path, monkeypatch):
    def refused(*_):
        raise MemoryError

    monkeypatch.setattr(Ledger, "begin_version", refused)
    world = World(Ledger(tmp_path / "ledger.sqlite"))
    world.place()
    assert world.trade.state == states.PROTECTED


def test_where_the_system_gives_no_thread_the_write_has_failed(monkeypatch):
    def refused(*_):
        raise RuntimeError("can't start new thread")

    monkeypatch.setattr(threading.Thread, "start", refused)
    assert isinstance(Aside("test").begin(lambda: None).exception(), RuntimeError)


def test_half_of_a_character_keeps_nobody_from_halting(tmp_path):
    """Pasted as the reason: nothing could have been written behind it."""
    world = World(Ledger(tmp_path / "ledger.sqlite"))
    world.place()
    world.session.ask(Halt(time=world.session.engine.state.now, ask_id="H", why="enough \ud83d"))
    world.run(20)
    assert world.session.engine.state.halt.why == "enough ?"
    assert world.trade.state == states.ENDED
    assert same_as_its_record(world)


def test_what_cannot_be_written_down_is_refused_and_changes_nothing(tmp_path):
    world = World(Ledger(tmp_path / "ledger.sqlite"))
    world.place()
    now, stop = world.session.engine.state.now, world.trade.stop
    with pytest.raises(BadInput, match="cannot be written down"):
        world.session.ask(
            MoveStop(time=now, ask_id="M", trade=world.trade.id, level=-(10**30), widen=True)
        )
    with pytest.raises(BadInput, match="cannot be written down"):
        world.session.set_calendars((Calendar("news", (NewsEvent(now, "CHF", "high", "\ud83d"),)),))
    assert world.trade.stop == stop
    lose_the_stop(world)
    assert world.trade.state == states.PROTECTED
    assert same_as_its_record(world)
