"""A recorded session replayed through a fresh engine, and every command compared with the one that
was recorded."""

from __future__ import annotations

import sqlite3
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

import msgspec

from hawser.core.errors import UNDECODABLE, BadInput
from hawser.engine.engine import Engine
from hawser.engine.model.state import EngineState
from hawser.ledger import shape
from hawser.ledger.folding import Fold, recorded, rules
from hawser.ledger.ledger import readable
from hawser.ledger.migrations import STEPS

_encode = msgspec.msgpack.Encoder().encode


class Verdict(NamedTuple):
    """What the replay found. `line` is the first that differs (0: none), `recorded` and `replayed`
    its two versions; `earlier`: lines that other versions wrote, which are not replayed."""

    events: int
    commands: int
    line: int = 0
    recorded: str = ""
    replayed: str = ""
    earlier: int = 0


def folded(path: Path) -> EngineState:
    """What the record at `path` comes to, which may be in use; nothing is written. Raises BadInput
    where it is none."""
    with _reading(path) as db:
        engine, after = _begun(db)
        fold = Fold(engine)
        for one in recorded(db, after):
            fold.take(one)
        if fold.damaged:
            raise BadInput("bad_ledger", f"{path}: {fold.trouble}; hawser verify tells more")
        return fold.engine.state


def verify(path: Path) -> Verdict:
    """Replay the ledger at `path`, which may be in use; raises BadInput where it is no ledger."""
    with _reading(path) as db:
        engine, earlier = _begun(db)
        events = commands = 0
        for one in recorded(db, earlier):
            if one.event is None or one.damaged:
                told = "a line that does not fit its check sum"
                return Verdict(
                    events=events,
                    commands=commands,
                    line=one.seq,
                    recorded=told,
                    replayed="(not replayed)",
                    earlier=earlier,
                )
            line = one.seq
            try:
                due = [_encode(command) for command in engine.handle(one.event)]
            except Exception as error:  # an event that cannot have happened
                told = f"{shape.wire_name(type(one.event))} {_shown(_encode(one.event))}"
                return Verdict(
                    events=events,
                    commands=commands,
                    line=line,
                    recorded=told,
                    replayed=f"(cannot be: {error or type(error).__name__})",
                    earlier=earlier,
                )
            events += 1
            for number, command in enumerate(one.commands, start=1):
                body, replayed = _encode(command), due[number - 1] if number <= len(due) else b""
                if body != replayed:
                    told = f"{shape.wire_name(type(command))} {_shown(body)}"
                    return Verdict(
                        events=events,
                        commands=commands,
                        line=line + number,
                        recorded=told,
                        replayed=_shown(replayed),
                        earlier=earlier,
                    )
                commands += 1
            if len(due) > len(one.commands):
                return Verdict(
                    events=events,
                    commands=commands,
                    line=line + len(one.commands) + 1,
                    recorded="(no command)",
                    replayed=_shown(due[len(one.commands)]),
                    earlier=earlier,
                )
        return Verdict(events, commands, earlier=earlier)


def damage(path: Path) -> str:
    """What is wrong with the file at `path`, which may be in use: SQLite's own check, and every
    line's check sum. Empty where nothing is. Raises BadInput where it is no ledger."""
    with _reading(path) as db:
        found = str(db.execute("PRAGMA quick_check(1)").fetchone()[0])
        if found != "ok":
            return found.splitlines()[0]
        if db.execute("PRAGMA user_version").fetchone()[0] > 1:
            for seq, body, crc in db.execute(
                "SELECT seq, CAST(body AS BLOB), crc FROM record WHERE crc IS NOT NULL"
            ):
                if zlib.crc32(body) != crc:
                    return f"line {seq} is not what was written"
    return ""


def _begun(db: sqlite3.Connection) -> tuple[Engine, int]:
    """An engine at the beginning of the lines that this version's rules wrote, and the lines
    before."""
    if db.execute("PRAGMA user_version").fetchone()[0] < 2:
        return Engine(), 0
    first = 0
    for seq, name in db.execute("SELECT seq, rules FROM version ORDER BY seq DESC"):
        if name != rules():
            break
        first = seq
    if not first:
        return Engine(), 0
    query = "SELECT state, crc, text FROM snapshot JOIN shape ON name = shape WHERE seq = ?"
    row = db.execute(query, (first,)).fetchone()
    if row is None or zlib.crc32(row[0]) != row[1] or not shape.read(row[2]) <= shape.state_shape():
        return Engine(), 0
    return Engine(msgspec.msgpack.decode(row[0], type=EngineState)), first


def _shown(body: bytes) -> str:
    return str(msgspec.msgpack.decode(body)) if body else "(no command)"


@contextmanager
def _reading(path: Path) -> Iterator[sqlite3.Connection]:
    """The ledger at `path` to be read; raises BadInput."""
    if not path.is_file():
        raise BadInput("unreadable", f"{path}: expected a ledger file")
    try:
        db = sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True)
        db.text_factory = readable
        try:
            version = db.execute("PRAGMA user_version").fetchone()[0]
            if not 1 <= version <= len(STEPS):
                raise BadInput(
                    "bad_ledger",
                    f"{path}: expected a ledger of version 1 to {len(STEPS)}, found {version}",
                )
            yield db
        finally:
            db.close()
    except (sqlite3.Error, *UNDECODABLE) as error:
        raise BadInput("bad_ledger", f"{path}: expected a ledger file ({error})") from None
