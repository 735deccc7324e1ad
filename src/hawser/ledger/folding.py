"""The record read back: events with the commands that were recorded with them, and what they fold
to."""

from __future__ import annotations

import hashlib
import sqlite3
import zlib
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path
from typing import Any, NamedTuple

import msgspec

from hawser.core.errors import UNDECODABLE, HawserError
from hawser.engine.alignment import align, effective
from hawser.engine.commands import AnyCommand
from hawser.engine.engine import Engine
from hawser.engine.events import AnyEvent

PACKAGE = Path(__file__).parents[1]


@cache
def decoder(way: str) -> Callable[[bytes], AnyEvent | AnyCommand]:
    """What reads the body of a line: an event, or a command of ours. Made when the first line is
    read: it takes its time, and a window that opens has none to give."""
    made: Callable[[bytes], AnyEvent | AnyCommand] = msgspec.msgpack.Decoder(
        AnyEvent if way == "event" else AnyCommand
    ).decode
    return made


@cache
def rules() -> str:
    """A name for everything that decides: it changes with any file of the core and the engine."""
    digest = hashlib.sha256()
    for folder in ("core", "engine"):
        for path in sorted((PACKAGE / folder).rglob("*.py")):
            digest.update(path.relative_to(PACKAGE).as_posix().encode() + path.read_bytes())
    return digest.hexdigest()[:16]


BODY = "CAST(body AS BLOB)"  # a damaged page may call it text, which is refused where it is none


class Recorded(NamedTuple):
    """One event of the record with the commands behind it; `seq` is its line. `damaged`: it could
    not be read."""

    seq: int
    event: AnyEvent | None
    commands: list[AnyCommand]
    damaged: bool = False


def recorded(
    db: sqlite3.Connection, after: int = 0, until: int | None = None
) -> Iterator[Recorded]:
    """The events after line `after`, in order. A line whose check sum does not fit is told as
    damaged."""
    last = 1 << 62 if until is None else until
    crc_column = "crc" if db.execute("PRAGMA user_version").fetchone()[0] > 1 else "NULL"
    query = (
        f"SELECT seq, way, {BODY}, {crc_column} FROM record WHERE seq > ? AND seq <= ? ORDER BY seq"
    )
    held: Recorded | None = None
    for seq, way, body, crc in db.execute(query, (after, last)):
        bad = not isinstance(body, bytes) or (crc is not None and zlib.crc32(body) != crc)
        item: Any = None
        try:
            item = None if bad else decoder(way)(body)
        except (HawserError, TypeError, *UNDECODABLE):  # not what is due there
            bad = True
        if way == "event":
            if held is not None:
                yield held
            held = Recorded(seq, item, [], bad)
        elif held is not None and item is None:
            held = held._replace(damaged=True)
        elif held is not None:
            held.commands.append(item)
    if held is not None:
        yield held


class Fold:
    """Folds recorded events into an engine; `trouble` says what did not come out as it was
    recorded."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        self.differs = 0  # the first line whose commands come out otherwise
        self.damaged = 0  # the first that could not be read
        self.ends = ""  # why nothing more of the file can be read

    def take(self, one: Recorded) -> None:
        if one.damaged:
            self.damaged = self.damaged or one.seq
        if one.event is None:
            return
        commands = self._handled(one)
        if commands == one.commands or one.damaged:
            return
        if effective(commands) != effective(one.commands):
            self.differs = self.differs or one.seq
        align(self.engine.state, commands, one.commands)

    def _handled(self, one: Recorded) -> list[AnyCommand]:
        """What the engine makes of an event. In a state that other rules have led to, or of a line
        that says what cannot be, it may make nothing of it.
        """
        try:
            return self.engine.handle(one.event)  # type: ignore[arg-type]  # there is one
        except Exception:
            if not self.trouble:
                self.damaged = one.seq
            return []

    @property
    def trouble(self) -> str:
        """Why the state may not be what it was; empty where it is."""
        if self.ends:
            return f"a part of the record cannot be read ({self.ends})"
        if self.damaged:
            return f"line {self.damaged} of the record is damaged"
        if self.differs:
            return f"line {self.differs} of the record was decided by other rules"
        return ""
