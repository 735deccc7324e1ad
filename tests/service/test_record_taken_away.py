"""Another hand takes the record away, or puts another file in its place, while Hawser runs with
it."""

import shutil
import sqlite3
import threading

import msgspec
import pytest

from calmworld import World
from hawser.core.errors import Unavailable
from hawser.engine import events as ev
from hawser.engine.model import transitions as states
from hawser.engine.model.state import EngineState
from hawser.ledger import standing
from hawser.ledger.ledger import Ledger
from hawser.ledger.standing import beside
from hawser.ledger.verify import verify
from hawser.service.recording import Aside


def whole(path):
    for one in (path, *beside(path)):
        one.unlink()


def the_file(path):
    path.unlink()


def what_is_not_in_it_yet(path):
    beside(path)[0].unlink()


def another_copy(path):
    """As a program does that synchronises a folder: a file of another name takes the place."""
    other = path.with_name("incoming")
    with sqlite3.connect(other) as db:
        db.execute("CREATE TABLE other (x)")
    other.replace(path)


def another_name(path):
    path.rename(path.with_name("moved"))


def the_folder(path):
    shutil.rmtree(path.parent)


def the_lock(path):
    path.with_suffix(".lock").unlink()


def go_on(world: World) -> None:
    """As in the application, which takes what happens in short steps."""
    for _ in range(20):
        world.run(0.25)


def same(one: EngineState, other: EngineState) -> bool:
    once, again = (
        msgspec.msgpack.encode(
            msgspec.msgpack.decode(msgspec.msgpack.encode(state), type=EngineState)
        )
        for state in (one, other)
    )
    return once == again


HANDS = [whole, the_file, what_is_not_in_it_yet, another_copy, another_name, the_folder, the_lock]


@pytest.mark.parametrize("hand", HANDS)
def test_a_record_that_was_taken_away_is_put_back_whole_and_told(tmp_path, hand):
    ledger = Ledger(tmp_path / "own" / "ledger.sqlite")
    world = World(ledger)
    world.place()
    since = len(world.entries)
    hand(ledger.path)
    go_on(world)
    assert ledger.path.stat().st_mode & 0o777 == 0o600
    assert {"record_down", "record_up"} <= set(world.told(since))
    assert world.trade.state == states.PROTECTED
    world.place(side=-1)
    assert world.trade.side == -1
    world.session.write_down()
    assert same(ledger.restore().state, world.state)
    found = verify(ledger.path)  # by another connection, which has what stands there
    assert not found.line
    assert found.events > since
    with pytest.raises(Unavailable, match="another Hawser"):
        Ledger(ledger.path)
    state = world.state
    world.session.close()
    assert not beside(ledger.path)[0].exists()
    again = Ledger(ledger.path)
    assert same(again.restore().state, state)
    again.close()


def test_the_file_that_took_its_place_is_kept_under_a_name_of_its_own(tmp_path):
    ledger = Ledger(tmp_path / "ledger.sqlite")
    world = World(ledger)
    another_copy(ledger.path)
    go_on(world)
    (aside,) = tmp_path.glob("*.aside")
    with sqlite3.connect(aside) as db:
        assert db.execute("SELECT count(*) FROM other").fetchone() == (0,)
    world.session.close()


def test_a_record_that_is_put_back_by_hand_afterwards_is_the_other_file(tmp_path):
    """It was moved away for longer than a moment: what Hawser has written since is in its own."""
    ledger = Ledger(tmp_path / "ledger.sqlite")
    world = World(ledger)
    another_name(ledger.path)
    go_on(world)
    world.place()
    ledger.path.with_name("moved").replace(ledger.path)
    go_on(world)
    world.session.write_down()
    assert same(ledger.restore().state, world.state)
    world.session.close()
    assert len(list(tmp_path.glob("*.aside"))) == 1
    assert not verify(ledger.path).line


def test_nothing_is_entered_while_the_record_cannot_be_put_back_and_what_is_open_stays_protected(
    tmp_path,
):
    ledger = Ledger(tmp_path / "own" / "ledger.sqlite")
    world = World(ledger)
    world.place()
    shutil.rmtree(ledger.path.parent)
    ledger.path.parent.write_text("no folder")
    go_on(world)
    world.place(side=-1)
    assert world.state.record_down
    assert len(world.venue.book.state.positions) == 1
    ledger.path.parent.unlink()
    go_on(world)
    assert not world.state.record_down
    world.place(side=-1)
    assert len(world.venue.book.state.positions) == 2
    world.session.close()
    assert not verify(ledger.path).line


def test_at_the_end_it_is_put_back_once_more_or_told_as_lost(tmp_path):
    for folder in (tmp_path / "a", tmp_path / "b"):
        ledger = Ledger(folder / "ledger.sqlite")
        world = World(ledger)
        state = world.state
        shutil.rmtree(folder)
        if folder.name == "a":
            world.session.close()
            assert same(Ledger(ledger.path).restore().state, state)
        else:
            folder.write_text("no folder")
            world.session.flush()
            with pytest.raises(Unavailable, match="lost"):  # also where nothing waits to be written
                world.session.recording.close(world.state)


def test_a_second_hawser_that_began_where_the_record_was_keeps_its_own(tmp_path):
    """The folder was moved away: nobody there met our lock."""
    ledger = Ledger(tmp_path / "own" / "ledger.sqlite")
    world = World(ledger)
    world.place()
    ledger.path.parent.rename(tmp_path / "moved")
    second = Ledger(ledger.path)
    go_on(world)
    assert world.state.record_down
    assert "another Hawser" in world.state.record_down or "place" in world.state.record_down
    second.append([])
    second.close()
    go_on(world)
    assert not world.state.record_down
    world.session.close()


def test_an_empty_record_where_there_was_one_is_told_as_lost(tmp_path):
    world = World(Ledger(tmp_path / "ledger.sqlite"))
    world.place()
    last = world.session.extent
    world.ledger.close()
    whole_but_lock = (world.ledger.path, *beside(world.ledger.path))
    for path in whole_but_lock:
        path.unlink(missing_ok=True)
    world.ledger = Ledger(world.ledger.path)
    since = len(world.entries)
    world.open(last)
    assert "record_older" in world.told(since)
    assert world.state.halt is not None
    world.session.close()


def test_a_record_whose_last_word_is_that_it_cannot_be_written_opens_well_where_it_can(tmp_path):
    """A kill in the moment between the two: it stayed closed for good, because nothing was left to
    be healed."""
    ledger = Ledger(tmp_path / "ledger.sqlite")
    world = World(ledger)
    world.session.take(ev.RecordFailed(time=world.venue.now, why="the disk is full"))
    rows = [(row.item, []) for row in ledger.rows()]
    assert isinstance(rows[-2][0], ev.RecordFailed)
    world.venue.hang_up()
    ledger.close()
    world.venue.pick_up()
    world.ledger = Ledger(ledger.path)
    assert world.ledger.look().record_down
    world.open()
    assert not world.state.record_down
    assert "record_up" in world.told()
    world.session.close()


def test_where_files_seem_to_be_others_all_the_time_only_their_absence_counts(
    tmp_path, monkeypatch
):
    """As on some network drives: the record was put aside and written anew each second."""
    ledger = Ledger(tmp_path / "ledger.sqlite")
    world = World(ledger)
    numbers = iter(range(10**9))
    monkeypatch.setattr(
        standing, "_which", lambda path: (0, next(numbers)) if path.exists() else None
    )
    ledger._standing = ledger._stands()
    for _ in range(10):
        go_on(world)
    assert not world.state.record_down
    assert len(list(tmp_path.glob("*.aside"))) <= 5
    the_file(ledger.path)
    go_on(world)
    assert ledger.path.exists()
    assert not world.state.record_down
    world.session.close()


def test_the_engine_s_thread_never_looks_at_the_file_which_a_disk_that_hangs_would_hold_up(
    tmp_path, monkeypatch
):
    world = World(Ledger(tmp_path / "ledger.sqlite"), way=Aside("writer"))
    which, looked = standing._which, []

    def noted(path):
        looked.append(threading.current_thread() is threading.main_thread())
        return which(path)

    with monkeypatch.context() as patched:
        patched.setattr(standing, "_which", noted)
        world.place()
        go_on(world)
    assert looked
    assert not any(looked)
    world.session.close()
