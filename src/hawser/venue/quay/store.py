"""Where Quay keeps its own state: an SQLite file beside, never inside, Hawser's ledger."""

from __future__ import annotations

import contextlib
import os
import sqlite3
from collections.abc import Iterable
from pathlib import Path
from typing import Protocol

import msgspec

from hawser.core.errors import UNDECODABLE, Unavailable
from hawser.venue.quay.book import BookOrder, BookState

_encode = msgspec.msgpack.Encoder().encode
_state = msgspec.msgpack.Decoder(BookState).decode
_order = msgspec.msgpack.Decoder(BookOrder).decode


def reread(state: BookState) -> BookState:
    """The state as it would be read back after a restart."""
    return _state(_encode(state))


class Store(Protocol):
    """Where a venue keeps its state."""

    def load(self) -> BookState | None: ...

    def save(self, state: BookState, touched: Iterable[str]) -> None:
        """Write the state; of its orders those `touched`, which are deleted where the state has
        them no more."""

    def close(self) -> None: ...


def _own(path: Path, anew: bool) -> None:
    """A file that only its owner may read, also one that an earlier version left open to others."""
    if path.exists():
        if path.is_file() and path.stat().st_uid == os.getuid():
            path.chmod(0o600)
    elif anew:
        os.close(os.open(path, os.O_CREAT | os.O_RDWR, 0o600))


class BookStore:
    """Writes what has changed in one transaction; a killed process leaves the last whole one.

    The table `book` has one row with everything but the orders, `orders` one for each.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        try:
            path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            for one in (path, *(path.with_name(path.name + more) for more in ("-wal", "-shm"))):
                _own(one, anew=one == path)
            self._db = sqlite3.connect(path, check_same_thread=False, isolation_level=None)
            self._db.execute("PRAGMA journal_mode=WAL")
            self._db.execute("PRAGMA synchronous=NORMAL")
            self._db.execute(
                "CREATE TABLE IF NOT EXISTS book (one INTEGER PRIMARY KEY CHECK (one "
                "= 1), state BLOB)"
            )
            self._db.execute("CREATE TABLE IF NOT EXISTS orders (id TEXT PRIMARY KEY, body BLOB)")
        except (sqlite3.Error, OSError) as error:
            raise Unavailable(
                "store", f"{path}: the simulated venue's state cannot be opened ({error})"
            ) from error

    def load(self) -> BookState | None:
        """The state as it was written last, None where there is none. Raises Unavailable where it
        cannot be read."""
        try:
            return self._read()
        except (sqlite3.Error, *UNDECODABLE) as error:
            self._db.close()
            sentence = f"{self._path}: the simulated venue's state cannot be read ({error})"
            raise Unavailable("store", sentence) from error

    def _read(self) -> BookState | None:
        row = self._db.execute("SELECT state FROM book").fetchone()
        if row is None:
            return None
        state = _state(row[0])  # a file of an older Hawser has its orders in here
        for (body,) in self._db.execute("SELECT body FROM orders ORDER BY rowid"):
            order = _order(body)
            state.orders[order.id] = order
        return state

    def save(self, state: BookState, touched: Iterable[str]) -> None:
        """Write the state; of its orders those `touched`, which are deleted where the state has
        them no more. Raises Unavailable, and changes nothing then.
        """
        try:
            self._write(state, list(touched))
        except sqlite3.Error as error:
            with contextlib.suppress(sqlite3.Error):
                if self._db.in_transaction:
                    self._db.execute("ROLLBACK")
            raise Unavailable(
                "store", f"the simulated venue's state cannot be written ({error})"
            ) from error

    def _write(self, state: BookState, names: list[str]) -> None:
        head = msgspec.structs.replace(state, orders={})
        self._db.execute("BEGIN IMMEDIATE")
        self._db.execute("INSERT OR REPLACE INTO book VALUES (1, ?)", (_encode(head),))
        kept = [(name, _encode(state.orders[name])) for name in names if name in state.orders]
        self._db.executemany(
            (
                "INSERT INTO orders VALUES (?, ?) ON CONFLICT (id) DO UPDATE SET body = "
                "excluded.body"
            ),
            kept,
        )
        gone = [(name,) for name in names if name not in state.orders]
        self._db.executemany("DELETE FROM orders WHERE id = ?", gone)
        self._db.execute("COMMIT")

    def close(self) -> None:
        self._db.close()
