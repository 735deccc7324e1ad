"""The ledger: an append-only record of events and commands in SQLite, written before any command leaves.

State is the fold of the record. A snapshot of the fold only makes starting faster; it is tied to a place in the
record, and what follows that place is folded on top.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import sqlite3
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import NamedTuple

import msgspec

from hawser.core.errors import Unavailable
from hawser.engine.commands import AnyCommand
from hawser.engine.engine import Engine
from hawser.engine.events import AnyEvent
from hawser.engine.state import EngineState
from hawser.ledger.migrations import migrate

_encoder = msgspec.msgpack.Encoder()
_event = msgspec.msgpack.Decoder(AnyEvent)
_command = msgspec.msgpack.Decoder(AnyCommand)
_state = msgspec.msgpack.Decoder(EngineState)

Entry = tuple[AnyEvent, list[AnyCommand]]


class Row(NamedTuple):
    """One line of the record, read back."""

    seq: int
    time: int
    trade: str
    symbol: str
    item: AnyEvent | AnyCommand


class Ledger:
    """One file, one writer. Opening it takes a lock that a second Hawser on the same file meets."""

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            if not path.exists():
                os.close(os.open(path, os.O_CREAT | os.O_RDWR, 0o600))
            self._lock = _locked(path.with_suffix(".lock"))
            self._db = sqlite3.connect(path, isolation_level=None, check_same_thread=False)
            self._db.execute("PRAGMA journal_mode=WAL")
            self._db.execute("PRAGMA synchronous=FULL")
            migrate(self._db, str(path))
        except (sqlite3.Error, OSError) as error:
            raise Unavailable("ledger", f"{path}: the ledger cannot be opened ({error})") from error
        self._seq = self._db.execute("SELECT coalesce(max(seq), 0) FROM record").fetchone()[0]

    @property
    def seq(self) -> int:
        """The number of the last line."""
        return int(self._seq)

    def append(self, entries: Iterable[Entry]) -> None:
        """Write events, each followed by its commands, in one durable transaction; all of them or none."""
        rows: list[tuple[object, ...]] = []
        for event, commands in entries:
            for way, item in (("event", event), *(("command", command) for command in commands)):
                rows.append((self._seq + len(rows) + 1, way, event.time, *_described(item)))
        self._db.execute("BEGIN IMMEDIATE")
        try:
            self._db.executemany("INSERT INTO record VALUES (?, ?, ?, ?, ?, ?, ?)", rows)
            self._db.execute("COMMIT")
        except sqlite3.Error:
            with contextlib.suppress(sqlite3.Error):  # a full disk may have rolled it back already
                self._db.execute("ROLLBACK")
            raise
        self._seq += len(rows)

    def rows(self, after: int = 0, until: int | None = None, kinds: tuple[str, ...] = ()) -> Iterator[Row]:
        """The record's lines after line `after`, to line `until`, in order; only of `kinds` where given."""
        where = f" AND kind IN ({','.join('?' * len(kinds))})" if kinds else ""
        query = f"SELECT seq, way, time, trade, symbol, body FROM record WHERE seq > ? AND seq <= ?{where} ORDER BY seq"
        last = self._seq if until is None else until
        for seq, way, time, trade, symbol, body in self._db.execute(query, (after, last, *kinds)):
            decode = _event if way == "event" else _command
            yield Row(seq, time, trade, symbol, decode.decode(body))

    def restore(self) -> Engine:
        """An engine with the fold of the whole record."""
        row = self._db.execute("SELECT seq, state FROM snapshot").fetchone()
        engine, after = Engine(), 0
        if row is not None:
            with contextlib.suppress(msgspec.MsgspecError):  # a snapshot of an older shape: fold from the start
                engine, after = Engine(_state.decode(row[1])), row[0]
        query = "SELECT body FROM record WHERE seq > ? AND way = 'event' ORDER BY seq"
        for (body,) in self._db.execute(query, (after,)):
            engine.handle(_event.decode(body))
        return engine

    def snapshot(self, state: EngineState) -> None:
        """Keep the fold up to the last line written."""
        self._db.execute("INSERT OR REPLACE INTO snapshot VALUES (1, ?, ?)", (self._seq, _encoder.encode(state)))

    def close(self) -> None:
        self._db.close()
        os.close(self._lock)


def _described(item: AnyEvent | AnyCommand) -> tuple[str, str, str, bytes]:
    """Kind, trade, instrument and body of one line."""
    return type(item).__name__, getattr(item, "trade", ""), getattr(item, "symbol", ""), _encoder.encode(item)


def _locked(path: Path) -> int:
    """Hold `path` for this process; the kernel lets go of it when the process ends, however it ends."""
    handle = os.open(path, os.O_CREAT | os.O_RDWR, 0o600)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        os.close(handle)
        raise Unavailable(
            "ledger_in_use", f"{path.with_suffix('.sqlite')}: another Hawser has this account open"
        ) from None
    return handle
