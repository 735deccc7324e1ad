"""The record: written before anything leaves, folded back to the same state, refused politely where
it must be."""

import contextlib
import random
import sqlite3
import subprocess
import sys
import zlib

import msgspec
import pytest

from byhand import ByHand
from hawser.cli import main
from hawser.core.errors import Unavailable
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.engine import Engine
from hawser.engine.model.state import EngineState
from hawser.ledger.ledger import Ledger, writable
from hawser.ledger.migrations import STEPS
from hawser.ledger.verify import damage
from hawser.service.runtime.session import Session
from hawser.verification.storm import Storm


def encode(state: EngineState) -> bytes:
    """The state's bytes, as they are after one reading (a whole number given for a float is a float
    then)."""
    once = msgspec.msgpack.decode(msgspec.msgpack.encode(state), type=EngineState)
    return msgspec.msgpack.encode(once)


@pytest.fixture
def ledger(tmp_path):
    made = Ledger(tmp_path / "ledger.sqlite")
    yield made
    made.close()


def test_the_fold_of_the_record_is_the_state(ledger):
    hand = ByHand()
    hand.protect()
    replayed = Engine()
    for event in hand.events:
        ledger.append([(event, replayed.handle(event))])
    assert encode(ledger.restore().state) == encode(hand.engine.state)


def test_rows_come_back_as_they_went_in(ledger):
    hand, engine = ByHand(), Engine()
    hand.place()
    written = []
    for event in hand.events:
        commands = engine.handle(event)
        ledger.append([(event, commands)])
        written += [event, *commands]
    assert [row.item for row in ledger.rows()] == written
    assert [row.seq for row in ledger.rows()] == list(range(1, len(written) + 1))
    submits = list(ledger.rows(kinds=("Submit",)))
    assert [type(row.item) for row in submits] == [cm.Submit]
    assert submits[0].trade == hand.trade.id


def test_a_snapshot_only_makes_it_faster(ledger):
    hand, engine = ByHand(), Engine()
    hand.protect()
    for number, event in enumerate(hand.events):
        ledger.append([(event, engine.handle(event))])
        if number == 5:
            ledger.snapshot(engine.state)
    assert encode(ledger.restore().state) == encode(hand.engine.state)


def test_a_snapshot_that_cannot_be_read_is_passed_over(ledger):
    hand, engine = ByHand(), Engine()
    for event in hand.events:
        ledger.append([(event, engine.handle(event))])
        if event is hand.events[6]:
            ledger.snapshot(engine.state)
    kept = encode(ledger.restore().state)
    first = ledger._db.execute("SELECT * FROM snapshot").fetchone()
    for body in (b"\x93of another shape", first[1][:40] + b"\x01" + first[1][41:], first[1][:-1]):
        ledger._db.execute("UPDATE snapshot SET state = ?", (body,))
        ledger._restored = None
        assert encode(ledger.restore().state) == kept == encode(hand.engine.state)
    ledger._db.execute("UPDATE snapshot SET state = ?, crc = ?", (first[1], first[2]))
    ledger._db.execute(
        "UPDATE shape SET text = text || char(10) || 'EngineState.stopped: Halted', "
        "name = 'another'"
    )
    ledger._db.execute("UPDATE snapshot SET shape = 'another'")
    ledger._restored = None
    # a field of it is gone here: what it said would be lost without a word
    assert ledger._from_snapshot()[1] == 0


def test_a_number_that_cannot_be_written_leaves_nothing_open(ledger):
    """Not even a transaction in which no other one could begin."""
    with pytest.raises(OverflowError):
        ledger.append([(ev.VenueUp(time=1 << 63), [])])
    ledger.append([(ev.VenueUp(time=1), [])])
    assert ledger.seq == 1


@pytest.mark.parametrize(
    "event",
    [
        ev.Rearm(time=1, ask_id="a", reason="half of a \ud83d"),
        ev.MoveStop(time=1, ask_id="a", trade="T1", level=10**30),
    ],
)
def test_what_cannot_be_written_is_known_before_it_is_taken(event):
    assert not writable(event)
    assert writable(ev.Rearm(time=1, ask_id="a", reason="whole \U0001f4a9"))


def test_nothing_half_is_written(ledger):
    hand = ByHand()
    seq = ledger.seq
    ledger._db.execute(
        "CREATE TRIGGER full BEFORE INSERT ON record WHEN NEW.seq > 2 BEGIN SELECT RAISE(ABORT, "
        "'x'); END"
    )
    with pytest.raises(sqlite3.Error):
        ledger.append([(event, []) for event in hand.events])
    assert list(ledger.rows(after=seq)) == []
    ledger._db.execute("DROP TRIGGER full")
    ledger.append([(event, []) for event in hand.events])
    assert ledger.seq == len(hand.events)


def test_only_its_owner_may_read_it_and_only_one_hawser_may_have_it_open(ledger):
    assert ledger.path.stat().st_mode & 0o777 == 0o600
    with pytest.raises(Unavailable) as caught:
        Ledger(ledger.path)
    assert caught.value.code == "ledger_in_use"
    assert "another Hawser" in caught.value.sentence


def test_a_newer_file_is_left_alone(tmp_path):
    path = tmp_path / "ledger.sqlite"
    Ledger(path).close()
    with sqlite3.connect(path) as db:
        db.execute(f"PRAGMA user_version = {len(STEPS) + 1}")
    db.close()
    with pytest.raises(Unavailable) as caught:
        Ledger(path)
    assert caught.value.code == "newer_ledger"


def test_what_is_no_ledger_is_told(tmp_path):
    path = tmp_path / "ledger.sqlite"
    path.write_bytes(b"this is not a database, but it is long enough to look like one" * 40)
    with pytest.raises(Unavailable, match="cannot be opened"):
        Ledger(path)


def test_every_command_that_left_had_been_written_down(tmp_path):
    ledger = Ledger(tmp_path / "ledger.sqlite")
    storm = Storm(3, "squall", ledger)  # whose disk has room
    other = sqlite3.connect(ledger.path)  # sees only what is committed
    send, unwritten = storm.session.venue.send, []

    def watched(request, at):
        order = getattr(request, "id", "QueryAll").encode()
        rows = other.execute(
            "SELECT count(*) FROM record WHERE way='command' AND instr(body, ?)", (order,)
        )
        if not rows.fetchone()[0]:
            unwritten.append(request)
        send(request, at)

    storm.session.venue.send = watched
    storm.run(8)
    other.close()
    storm.session.close()
    assert storm.found.requests > 20
    assert not unwritten


def test_quotes_are_recorded_in_short_and_fold_to_the_same(tmp_path):
    ledger = Ledger(tmp_path / "ledger.sqlite")
    storm = Storm(11, "squall", ledger)
    storm.run(6)
    storm.session.write_down()
    told = storm.session.counts["updates"]
    kept = sum(1 for _ in ledger.rows(kinds=("Quote", "Figures", "RateSeen", "Seen")))
    assert kept < told / 2
    assert encode(ledger.restore().state) == encode(storm.state)
    storm.session.close()


def test_hawser_verify(tmp_path, capsys):
    path = tmp_path / "ledger.sqlite"
    storm = Storm(9, "gale", Ledger(path))
    storm.run(3)
    assert main(["verify", str(path)]) == 0  # while it is in use
    assert "every command is the same" in capsys.readouterr().out
    done = subprocess.run(
        [sys.executable, "-m", "hawser", "verify", str(path)], capture_output=True, check=False
    )
    assert done.returncode == 0, done.stdout  # interpreted, what was recorded compiled
    storm.session.close()
    with sqlite3.connect(path) as db:
        seq, body = db.execute(
            "SELECT seq, body FROM record WHERE kind = 'Submit' AND instr(body, 'risk')"
        ).fetchone()
        other = body.replace(b"risk", b"rusk")
        db.execute("UPDATE record SET body = ? WHERE seq = ?", (other, seq))
    db.close()
    assert main(["verify", str(path)]) == 1
    assert "its check sum" in capsys.readouterr().out
    assert damage(path) == f"line {seq} is not what was written"
    with sqlite3.connect(path) as db:
        db.execute("UPDATE record SET crc = ? WHERE seq = ?", (zlib.crc32(other), seq))
    db.close()
    assert main(["verify", str(path)]) == 1
    told = capsys.readouterr().out
    assert f"line {seq}" in told
    assert "rusk" in told
    assert damage(path) == ""


def test_hawser_verify_refuses_what_is_no_ledger(tmp_path, capsys):
    for name, content in (("none", None), ("text", b"not a database"), ("empty", b"")):
        path = tmp_path / name
        if content is not None:
            path.write_bytes(content)
        assert main(["verify", str(path)]) == 2
        assert capsys.readouterr().err.count("\n") == 1


def test_replaying_the_record_gives_the_recorded_commands(tmp_path):
    ledger = Ledger(tmp_path / "ledger.sqlite")
    storm = Storm(5, "gale", ledger)
    storm.run(5)
    engine, due = Engine(), []
    for row in ledger.rows():
        if isinstance(row.item, ev.Event):
            assert due == []
            due = engine.handle(row.item)
        else:
            assert due.pop(0) == row.item
    storm.session.close()


def test_a_damaged_page_is_refused_in_a_sentence_or_opens_with_what_can_be_read(tmp_path):
    """Each page of a file in turn. What opens says what is wrong, so that nothing is sent before
    the venue has told what it holds, and its Logbook ends where the file does."""
    path = tmp_path / "ledger.sqlite"
    storm = Storm(2, "gale", Ledger(path))
    storm.run(3)
    storm.session.close()
    whole, page = path.read_bytes(), 4096
    opened = refused = troubled = 0
    damaged = [whole[:at] + bytes(page) + whole[at + page :] for at in range(0, len(whole), page)]
    draw = random.Random(1)
    for _ in range(60):
        some = bytearray(whole)
        for _ in range(draw.randint(1, 5)):
            some[draw.randrange(len(some))] = draw.randrange(256)
        damaged.append(bytes(some))
    for number, content in enumerate(damaged):
        one = tmp_path / f"{number}.sqlite"
        one.write_bytes(content)
        try:
            ledger = Ledger(one)
        except Unavailable as error:
            assert one.name in error.sentence
            refused += 1
            continue
        opened += 1
        found = ledger.restored()
        troubled += bool(found.trouble)
        session = Session(storm.account, storm.venue, ledger, prefix="S")
        assert session.engine.state.suspect == found.trouble
        list(ledger.rows())
        with contextlib.suppress(Unavailable):
            session.close()
    assert opened > 20
    assert troubled > 2
    assert refused > 2
