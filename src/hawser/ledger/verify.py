"""A recorded session replayed through a fresh engine, and every command compared with the one that was recorded."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

import msgspec

from hawser.core.errors import BadInput
from hawser.engine.engine import Engine
from hawser.engine.events import AnyEvent
from hawser.engine.state import EngineState
from hawser.ledger.migrations import STEPS

_event = msgspec.msgpack.Decoder(AnyEvent)
_encode = msgspec.msgpack.Encoder().encode


class Verdict(NamedTuple):
    """What the replay found. `line` is the first that differs (0: none), `recorded` and `replayed` its two versions."""

    events: int
    commands: int
    line: int = 0
    recorded: str = ""
    replayed: str = ""


def folded(path: Path) -> EngineState:
    """What the record at `path` comes to, which may be in use; nothing is written. Raises BadInput where it is none."""
    engine = Engine()
    for _, way, _, body in _lines(path):
        if way == "event":
            engine.handle(_event.decode(body))
    return engine.state


def verify(path: Path) -> Verdict:
    """Replay the ledger at `path`, which may be in use; raises BadInput where it is no ledger."""
    engine = Engine()
    events = commands = 0
    due: list[bytes] = []
    for seq, way, kind, body in _lines(path):
        if way == "event":
            if due:
                return Verdict(events, commands, seq, "(no command)", _shown(due[0]))
            due = [_encode(command) for command in engine.handle(_event.decode(body))]
            events += 1
        else:
            replayed = due.pop(0) if due else b""
            if replayed != body:
                return Verdict(events, commands, seq, f"{kind} {_shown(body)}", _shown(replayed))
            commands += 1
    return Verdict(events, commands)


def _shown(body: bytes) -> str:
    return str(msgspec.msgpack.decode(body)) if body else "(no command)"


def _lines(path: Path) -> Iterator[tuple[int, str, str, bytes]]:
    if not path.is_file():
        raise BadInput("unreadable", f"{path}: expected a ledger file")
    try:
        db = sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True)
        try:
            version = db.execute("PRAGMA user_version").fetchone()[0]
            if not 1 <= version <= len(STEPS):
                raise BadInput("bad_ledger", f"{path}: expected a ledger of version 1 to {len(STEPS)}, found {version}")
            yield from db.execute("SELECT seq, way, kind, body FROM record ORDER BY seq")
        finally:
            db.close()
    except (sqlite3.Error, msgspec.MsgspecError) as error:
        raise BadInput("bad_ledger", f"{path}: expected a ledger file ({error})") from None
