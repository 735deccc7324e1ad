"""Whether a record still stands where it was opened: whatever is written to a file that another
hand took away, or put another in the place of, would be found by nobody.
"""

from __future__ import annotations

import contextlib
import os
import sqlite3
import time
from pathlib import Path

GONE, REPLACED = "its file is gone", "another file has taken its place; that file is put aside"


def _which(path: Path) -> tuple[int, int] | None:
    """A name for the very file at `path`; None where there is none."""
    try:
        found = path.stat()
    except OSError:
        return None
    return found.st_dev, found.st_ino


def beside(path: Path) -> tuple[Path, Path]:
    """The files that SQLite keeps beside a database: what is not in it yet, and the index to
    that."""
    return path.with_name(path.name + "-wal"), path.with_name(path.name + "-shm")


class Standing:
    """The files of a database that was just opened, and the lock on it. `only_gone`: another file
    in their place does not count."""

    def __init__(self, path: Path, lock: Path, only_gone: bool = False) -> None:
        self._path, self._lock, self._only_gone = path, lock, only_gone
        self._files = {one: _which(one) for one in (path, lock, beside(path)[0])}

    def trouble(self) -> str:
        """Why what is written would not be found again; empty: it would."""
        for path, was in self._files.items():
            if was is None:
                self._files[path] = _which(path)  # SQLite had not made it yet
            elif not self._same(path):
                return REPLACED if path == self._path and path.exists() else GONE
        return ""

    def _same(self, path: Path) -> bool:
        now = _which(path)
        return now is not None and (self._only_gone or now == self._files[path])

    @property
    def locked(self) -> bool:
        """Whether the file that was locked is the one that a second Hawser would meet."""
        return self._same(self._lock)

    def make_room(self) -> None:
        """What stands at the record's place and is not it is put aside; what belonged to the lost
        file goes."""
        wal, shm = beside(self._path)
        aside = self._path.with_name(f"{self._path.name}.{time.time_ns() // 1_000_000}.aside")
        for one, to in ((self._path, aside), (wal, beside(aside)[0])):
            if one.exists() and not self._same(one):
                one.rename(to)
        for one in (wal, shm):
            one.unlink(missing_ok=True)


def copied(db: sqlite3.Connection, to: Path) -> None:
    """The whole database, written to the disk at `to`, which others cannot read. Raises
    sqlite3.Error, OSError."""
    to.unlink(missing_ok=True)
    os.close(os.open(to, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))
    with contextlib.closing(sqlite3.connect(to)) as copy:
        db.backup(copy)
    handle = os.open(to, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
