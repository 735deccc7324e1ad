"""The ledger file's versions: small named steps, each committed with its record; a newer file is
refused politely."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable

from hawser.core.errors import Unavailable


def _first(db: sqlite3.Connection) -> None:
    # `way` is 'event' or 'command'; commands follow the event that caused them.
    db.execute(
        "CREATE TABLE record (seq INTEGER PRIMARY KEY, way TEXT NOT NULL, time INTEGER NOT NULL, "
        "kind TEXT NOT NULL,"
        " trade TEXT NOT NULL, symbol TEXT NOT NULL, body BLOB NOT NULL)"
    )
    db.execute("CREATE INDEX record_trade ON record (trade) WHERE trade != ''")
    db.execute(
        "CREATE TABLE snapshot (one INTEGER PRIMARY KEY CHECK (one = 1), seq INTEGER, state BLOB)"
    )


def _sums_and_versions(db: sqlite3.Connection) -> None:
    # `crc`: of the body; NULL in lines of before. A snapshot of before says nothing of its shape
    # and is dropped.
    db.execute("ALTER TABLE record ADD COLUMN crc INTEGER")
    db.execute("DROP TABLE snapshot")
    # `first`: it stands at the beginning of a version's lines, and is kept.
    db.execute(
        "CREATE TABLE snapshot (seq INTEGER PRIMARY KEY, state BLOB NOT NULL, crc INTEGER NOT NULL,"
        " shape TEXT NOT NULL, first INTEGER NOT NULL)"
    )
    db.execute("CREATE TABLE shape (name TEXT PRIMARY KEY, text TEXT NOT NULL)")
    # Lines after `seq` were written by this version: what decides (`rules`), and what its record
    # looks like.
    db.execute(
        "CREATE TABLE version (seq INTEGER PRIMARY KEY, rules TEXT NOT NULL, shape TEXT NOT NULL, "
        "hawser TEXT NOT NULL)"
    )


STEPS: list[tuple[str, Callable[[sqlite3.Connection], None]]] = [
    ("record and snapshot", _first),
    ("check sums and versions", _sums_and_versions),
]


def migrate(db: sqlite3.Connection, path: str) -> None:
    """Bring the file to the present version; raises Unavailable for a newer one."""
    version = db.execute("PRAGMA user_version").fetchone()[0]
    if version > len(STEPS):
        raise Unavailable(
            "newer_ledger",
            (
                f"{path}: was written by a newer Hawser (version {version}, not {len(STEPS)}); it "
                "is "
                "left as it is"
            ),
        )
    for number, (_, step) in enumerate(STEPS[version:], start=version + 1):
        db.execute("BEGIN IMMEDIATE")
        step(db)
        db.execute(f"PRAGMA user_version = {number}")
        db.execute("COMMIT")
