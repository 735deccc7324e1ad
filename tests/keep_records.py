"""Keeps what the engine gives, to the word: run when that has changed on purpose.

Usage: keep_records.py [shape | states]. `test_records.py` replays what is kept: whatever else
changes, the engine decides as it did. With `shape`, only fields that a record can have now are
added to those that it could have before. With `states`, only the check sums of the state are
written anew, where its fields have moved or have other names: the commands must be the same.

- Storms: the seeds are those of 100 that together run the most lines of the engine. Their ledgers
  hold every command.
- Gales: many more, in short: their events, with check sums of the commands and of the whole state
  after each.
- Stories: what each test of the engine told one by hand (`byhand.py`), and `STORIES` drawn ones
  (`anybody.py`), with the commands and a check sum of the whole state after each event.
"""

from __future__ import annotations

import contextlib
import lzma
import sqlite3
import sys
import tempfile
import zlib
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import msgspec
import pytest

from anybody import Anybody
from byhand import ByHand
from hawser.engine.commands import AnyCommand
from hawser.engine.engine import Engine
from hawser.engine.events import AnyEvent
from hawser.ledger import shape
from hawser.ledger.folding import recorded
from hawser.ledger.ledger import Ledger
from hawser.verification.storm import Storm
from keep_ledgers import packed

RECORDS = Path(__file__).with_name("records")
SEEDS = {
    4014: False,
    4020: False,
    4026: False,
    4029: False,
    4028: False,
    4032: False,
    4038: False,
    4044: False,
    4046: False,
    4100: True,
    4103: True,
    4104: True,
    4107: True,
    4109: True,
    4134: True,
    4149: True,
}
MINUTES, KILLS = 8, 0.05
STORIES, ACTS = 150, 120
BOOK = RECORDS / "stories.msgpack.xz"
SHAPE = RECORDS.with_name("ledgers") / "shape.txt"
GALES, GALE = range(4200, 4264), RECORDS / "gales.msgpack.xz"


class Step(msgspec.Struct, array_like=True):
    """One event of a story, the commands that followed, and a check sum of the state that it
    left."""

    event: AnyEvent
    commands: list[AnyCommand]
    state: int


class Brief(msgspec.Struct, array_like=True):
    """One event of a gale, and check sums of the commands that followed and of the state that it
    left."""

    event: AnyEvent
    commands: int
    state: int


def written(events: list[AnyEvent]) -> list[AnyEvent]:
    """Events as a record gives them back."""
    return msgspec.msgpack.decode(msgspec.msgpack.encode(events), type=list[AnyEvent])


def steps_of(events: Iterable[AnyEvent]) -> list[Step]:
    engine = Engine()
    return [
        Step(one, engine.handle(one), zlib.crc32(msgspec.msgpack.encode(engine.state)))
        for one in events
    ]


def briefs_of(events: Iterable[AnyEvent]) -> Iterator[Brief]:
    engine = Engine()
    for one in events:
        commands = zlib.crc32(msgspec.msgpack.encode(engine.handle(one)))
        yield Brief(one, commands, zlib.crc32(msgspec.msgpack.encode(engine.state)))


def gales() -> dict[str, list[Brief]]:
    return msgspec.msgpack.decode(lzma.decompress(GALE.read_bytes()), type=dict[str, list[Brief]])


def stories() -> dict[str, list[Step]]:
    return msgspec.msgpack.decode(lzma.decompress(BOOK.read_bytes()), type=dict[str, list[Step]])


class Listener:
    """A plug-in that keeps what the tests told each engine by hand. What a test changed in the
    state itself cannot be told again, so such a story is left out; so is what a property draws,
    which is another with each edit of it."""

    def __init__(self) -> None:
        self.found: dict[str, list[Step]] = {}
        self.left_out: list[str] = []
        self.hands: list[ByHand] = []

    @pytest.hookimpl(wrapper=True)
    def pytest_runtest_call(self, item: pytest.Item) -> Any:
        self.hands = []
        begin = ByHand.__init__

        def noted(hand: ByHand, **changes: Any) -> None:
            self.hands.append(hand)
            begin(hand, **changes)

        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(ByHand, "__init__", noted)
            result = yield
        if not hasattr(getattr(item, "obj", None), "hypothesis"):
            for number, hand in enumerate(self.hands):
                self._keep(f"{item.nodeid} {number}", hand)
        return result

    def _keep(self, name: str, hand: ByHand) -> None:
        try:
            steps = steps_of(written(hand.events))
        # it raised nothing when it was told first: the state had been changed by hand
        except Exception:
            steps = []
        if [command for step in steps for command in step.commands] == hand.all:
            self.found[name] = steps
        else:
            self.left_out.append(name)


def keep_stories() -> None:
    listener = Listener()
    engine = Path(__file__).with_name("engine")
    assert pytest.main(["-q", "-p", "no:cacheprovider", str(engine)], plugins=[listener]) == 0
    found = listener.found
    for seed in range(STORIES):
        anybody = Anybody(seed)
        for _ in range(ACTS):
            anybody.act()
        found[f"drawn {seed}"] = steps_of(written(anybody.hand.events))
    BOOK.write_bytes(lzma.compress(msgspec.msgpack.encode(found), preset=9))
    print(
        f"{len(found)} stories, {sum(map(len, found.values()))} events; left out: "
        f"{listener.left_out}"
    )


def keep_storm(seed: int, guards: bool) -> None:
    with tempfile.TemporaryDirectory() as place:
        path = Path(place) / "ledger.sqlite"
        storm = Storm(seed, "gale", Ledger(path), kills=KILLS, guards=guards)
        found = storm.run(MINUTES)
        assert not found.broken, found
        storm.session.close()
        (RECORDS / f"{seed}.sqlite.xz").write_bytes(packed(path))


def keep_gales() -> None:
    found = {}
    for seed in GALES:
        with tempfile.TemporaryDirectory() as place:
            path = Path(place) / "ledger.sqlite"
            storm = Storm(seed, "gale", Ledger(path), kills=KILLS, guards=seed % 2 == 1)
            assert not storm.run(MINUTES).broken, seed
            storm.session.close()
            with contextlib.closing(sqlite3.connect(path)) as db:
                events = [one.event for one in recorded(db, 0) if one.event is not None]
        found[f"gale {seed}"] = list(briefs_of(events))
    GALE.write_bytes(lzma.compress(msgspec.msgpack.encode(found), preset=9))
    print(f"{len(found)} gales, {sum(map(len, found.values()))} events")


def keep_shape() -> None:
    kept = shape.read(SHAPE.read_text().rstrip("\n")) if SHAPE.exists() else frozenset()
    SHAPE.write_text(shape.written(kept | shape.record_shape()) + "\n")


def keep_states() -> None:
    """The same events and commands, with the check sums of the state as it is written now."""
    told = stories()
    for name, steps in told.items():
        again = steps_of(one.event for one in steps)
        assert [one.commands for one in steps] == [one.commands for one in again], name
        told[name] = again
    BOOK.write_bytes(lzma.compress(msgspec.msgpack.encode(told), preset=9))
    blown = gales()
    for name, briefs in blown.items():
        now = list(briefs_of(one.event for one in briefs))
        assert [one.commands for one in briefs] == [one.commands for one in now], name
        blown[name] = now
    GALE.write_bytes(lzma.compress(msgspec.msgpack.encode(blown), preset=9))


if __name__ == "__main__":
    keep_shape()
    if sys.argv[1:] == ["states"]:
        keep_states()
        sys.exit()
    if sys.argv[1:] == ["shape"]:
        sys.exit()
    RECORDS.mkdir(exist_ok=True)
    for old in RECORDS.iterdir():
        old.unlink()
    keep_stories()
    keep_gales()
    for seed, guards in SEEDS.items():
        keep_storm(seed, guards)
