"""Where Quay keeps its own state: an SQLite file beside, never inside, Hawser's ledger."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import msgspec

from hawser.core.errors import Unavailable
from hawser.venue.quay.book import BookState

_encode = msgspec.msgpack.Encoder().encode
_decode = msgspec.msgpack.Decoder(BookState).decode


def reread(state: BookState) -> BookState:
    """The state as it would be read back after a restart."""
    return _decode(_encode(state))


class BookStore:
    """Writes the whole state in one transaction; a killed process leaves the last whole one."""

    def __init__(self, path: Path) -> None:
        try:
            path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            self._db = sqlite3.connect(path, check_same_thread=False, isolation_level=None)
            self._db.execute("PRAGMA journal_mode=WAL")
            self._db.execute("PRAGMA synchronous=NORMAL")
            self._db.execute("CREATE TABLE IF NOT EXISTS book (one INTEGER PRIMARY KEY CHECK (one = 1), state BLOB)")
        except (sqlite3.Error, OSError) as error:
            raise Unavailable("store", f"{path}: the simulated venue's state cannot be opened ({error})") from error

    def load(self) -> BookState | None:
        row = self._db.execute("SELECT state FROM book").fetchone()
        return _decode(row[0]) if row else None

    def save(self, state: BookState) -> None:
        self._db.execute("INSERT OR REPLACE INTO book VALUES (1, ?)", (_encode(state),))

    def close(self) -> None:
        self._db.close()
