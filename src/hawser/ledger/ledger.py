"""The ledger: an append-only record of events and commands in SQLite, written before any command
leaves.

State is the fold of the record. Snapshots of the fold only make starting faster: each is tied to a
place in the record, says of which shape it is and has a check sum; one that does not fit is passed
over. What follows is folded on top and compared, command by command, with what was recorded.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import sqlite3
import zlib
from collections.abc import Callable, Iterable, Iterator
from functools import partial
from pathlib import Path
from typing import Any, NamedTuple

import msgspec

from hawser import __version__
from hawser.core.errors import UNDECODABLE, HawserError, Unavailable
from hawser.engine.commands import AnyCommand
from hawser.engine.engine import Engine
from hawser.engine.events import AnyEvent
from hawser.engine.model.state import EngineState
from hawser.ledger import shape
from hawser.ledger.folding import BODY, Fold, decoder, recorded, rules
from hawser.ledger.migrations import migrate
from hawser.ledger.standing import REPLACED, Standing, copied

_encoder = msgspec.msgpack.Encoder()

KEPT_SNAPSHOTS = 2  # beside those at the beginning of a version's lines
# then files change their numbers by themselves, as on some network drives: only absence counts
MOST_REPLACED = 5
LOCKED_OUT = 0.25  # s that another program which holds the file is waited for
RESERVE = 4 * 1024 * 1024  # bytes kept free for the record on a disk that fills up

Entry = tuple[AnyEvent, list[AnyCommand]]


def writable(item: AnyEvent) -> bool:
    """Whether something can be written down: half a character, or a whole number beyond 64 bits,
    cannot."""
    try:
        _encoder.encode(item)
    except (ValueError, OverflowError):
        return False
    return True


class RecordLine(NamedTuple):
    """One line of the record, read back."""

    seq: int
    time: int
    trade: str
    symbol: str
    item: AnyEvent | AnyCommand


class Restored(NamedTuple):
    """The engine as the record has it, and why its state may not be what it was (empty: it is)."""

    engine: Engine
    trouble: str


class Ledger:
    """One file, one writer. Opening it takes a lock that a second Hawser on the same file meets."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._reserve = path.with_suffix(".reserve")
        try:
            path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            if not path.exists():
                os.close(os.open(path, os.O_CREAT | os.O_RDWR, 0o600))
            self._lock = _locked(path.with_suffix(".lock"))
        except OSError as error:
            raise Unavailable("ledger", f"{path}: the ledger cannot be opened ({error})") from error
        try:
            self._db, self._seq = _opened(path)
        except BaseException:
            os.close(self._lock)  # whatever it was: who tries again must not meet our own lock
            raise
        self._replaced = 0  # times that another file stood in its place
        self._standing = self._stands()
        self._restored: Restored | None = None
        self.keep_reserve()

    @property
    def seq(self) -> int:
        """The number of the last line."""
        return int(self._seq)

    def append(self, entries: Iterable[Entry]) -> None:
        """Write events, each followed by its commands, in one durable transaction; all of them or
        none. Raises sqlite3.Error where the disk refuses, and where the record does not stand in
        its place any more."""
        self.check_place()
        rows: list[tuple[object, ...]] = []
        for event, commands in entries:
            for way, item in (("event", event), *(("command", command) for command in commands)):
                body = _encoder.encode(item)
                trade, symbol = getattr(item, "trade", ""), getattr(item, "symbol", "")
                kind, seq = shape.wire_name(type(item)), self._seq + len(rows) + 1
                rows.append((seq, way, event.time, kind, trade, symbol, body, zlib.crc32(body)))
        self._db.execute("BEGIN IMMEDIATE")
        try:
            self._db.executemany("INSERT INTO record VALUES (?, ?, ?, ?, ?, ?, ?, ?)", rows)
            self._db.execute("COMMIT")
        except BaseException:  # also where memory has run out: else no other write could ever begin
            with contextlib.suppress(sqlite3.Error):  # a full disk may have rolled it back already
                self._db.execute("ROLLBACK")
            raise
        self._seq += len(rows)
        self._restored = None

    def rows(
        self, after: int = 0, until: int | None = None, kinds: tuple[str, ...] = ()
    ) -> Iterator[RecordLine]:
        """The record's lines after line `after`, to line `until`, in order; only of `kinds` where
        given. Lines that cannot be read are left out, and those behind a damaged page."""
        where = f" AND kind IN ({','.join('?' * len(kinds))})" if kinds else ""
        query = (
            f"SELECT seq, way, time, trade, symbol, {BODY} FROM record WHERE seq > ? AND seq <= "
            f"?{where} ORDER BY seq"
        )
        last = self._seq if until is None else until
        for seq, way, time, trade, symbol, body in _readable(
            self._db, query, (after, last, *kinds)
        ):
            try:
                item = decoder(way)(body)
            except (HawserError, TypeError, *UNDECODABLE):
                continue
            yield RecordLine(seq, time, trade, symbol, item)

    # The fold

    def restored(self) -> Restored:
        """The fold of the whole record. It is worked out once; who is given the engine owns it."""
        if self._restored is None:
            self._restored = self._fold()
        found, self._restored = self._restored, None
        return found

    def look(self) -> EngineState:
        """The state that the record folds to, to be read and not changed."""
        if self._restored is None:
            self._restored = self._fold()
        return self._restored.engine.state

    def restore(self) -> Engine:
        """The engine alone."""
        return self.restored().engine

    def _fold(self) -> Restored:
        engine, after = self._from_snapshot()
        fold = Fold(engine)
        try:
            for one in recorded(self._db, after):
                fold.take(one)
        # a page of it: what comes behind it is not known
        except (sqlite3.DatabaseError, UnicodeDecodeError) as error:
            fold.ends = str(error)
        engine.seen.clear()
        return Restored(engine, fold.trouble)

    def _from_snapshot(self) -> tuple[Engine, int]:
        """The newest snapshot that can be relied on."""
        query = (
            "SELECT snapshot.seq, state, crc, name, text FROM snapshot JOIN shape ON name = "
            "shape ORDER BY seq DESC"
        )
        for seq, body, crc, name, text in _readable(self._db, query, ()):
            known = (
                name == shape.name_of(shape.state_shape())
                or shape.read(text) <= shape.state_shape()
            )
            if (
                not isinstance(body, bytes)
                or zlib.crc32(body) != crc
                or seq > self._seq
                or not known
            ):
                continue
            with contextlib.suppress(*UNDECODABLE):
                return Engine(msgspec.msgpack.decode(body, type=EngineState)), seq
        return Engine(), 0

    def snapshot(self, state: EngineState, first: bool = False) -> None:
        """Keep the fold up to the last line written. `first`: a version's lines begin behind it."""
        self.snapshot_of(state, first)()

    def snapshot_of(self, state: EngineState, first: bool = False) -> Callable[[], None]:
        """The same in two steps: the state is taken now, and written when what is given back is
        called."""
        return partial(self._write_snapshot, self._seq, _encoder.encode(state), first)

    def _write_snapshot(self, seq: int, body: bytes, first: bool) -> None:
        of = shape.state_shape()
        self._db.execute("BEGIN IMMEDIATE")
        try:
            self._db.execute(
                "INSERT OR IGNORE INTO shape VALUES (?, ?)",
                (shape.name_of(of), shape.written(of)),
            )
            row = (seq, body, zlib.crc32(body), shape.name_of(of), int(first))
            self._db.execute("INSERT OR REPLACE INTO snapshot VALUES (?, ?, ?, ?, ?)", row)
            self._db.execute(
                "DELETE FROM snapshot WHERE NOT first AND seq NOT IN (SELECT seq FROM snapshot "
                "ORDER BY seq DESC"
                f" LIMIT {KEPT_SNAPSHOTS})"
            )
            self._db.execute("COMMIT")
        except BaseException:
            with contextlib.suppress(sqlite3.Error):
                self._db.execute("ROLLBACK")
            raise

    def begin_version(self, state: EngineState) -> None:
        """What is written from here on is written by this version: noted where it is another than
        wrote the last."""
        own = (rules(), shape.name_of(shape.record_shape()))
        last = self._db.execute(
            "SELECT rules, shape FROM version ORDER BY seq DESC LIMIT 1"
        ).fetchone()
        if last == own:
            return
        self.snapshot(state, first=True)
        of = shape.record_shape()
        self._db.execute(
            "INSERT OR IGNORE INTO shape VALUES (?, ?)", (shape.name_of(of), shape.written(of))
        )
        self._db.execute(
            "INSERT OR REPLACE INTO version VALUES (?, ?, ?, ?)", (self._seq, *own, __version__)
        )

    # The disk

    def _stands(self) -> Standing:
        return Standing(self.path, self.path.with_suffix(".lock"), self._replaced > MOST_REPLACED)

    def astray(self) -> str:
        """Why nobody would find what is written now: another hand has taken the file away, or put
        another in its place. Empty: all is as it was."""
        return self._standing.trouble()

    def check_place(self) -> None:
        """Raises sqlite3.Error where the record does not stand in its place any more."""
        astray = self.astray()
        if astray:
            raise sqlite3.OperationalError(astray)

    def put_back(self) -> None:
        """Where the record does not stand in its place any more, write all of it there anew: the
        lost file can still be read. Raises sqlite3.Error."""
        why = self.astray()
        if not why:
            return
        self._replaced += why == REPLACED
        if why == REPLACED and self._replaced > MOST_REPLACED:
            self._standing = self._stands()
            return
        new = self.path.with_suffix(".new")
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            if not self._standing.locked:
                old, self._lock = self._lock, _locked(self.path.with_suffix(".lock"))
                os.close(old)
            copied(self._db, new)
            self._standing.make_room()
            new.replace(self.path)
            lost = self._db
            self._db, self._seq = _opened(self.path)
            lost.close()
        except (OSError, Unavailable) as error:
            raise sqlite3.OperationalError(str(error)) from error
        self._standing = self._stands()

    def keep_reserve(self) -> None:
        """Space on the disk that is given up when it fills, so that what protects can still be
        written."""
        with contextlib.suppress(OSError):
            if self._reserve.exists() and self._reserve.stat().st_size == RESERVE:
                return
            handle = os.open(self._reserve, os.O_CREAT | os.O_WRONLY, 0o600)
            try:
                os.posix_fallocate(handle, 0, RESERVE)
            finally:
                os.close(handle)

    def limit(self, full: bool) -> None:
        """Have nothing more written, as on a full disk; or let it go again. For storms."""
        most = self._db.execute("PRAGMA page_count").fetchone()[0] if full else 1 << 30
        self._db.execute(f"PRAGMA max_page_count = {int(most)}")

    def give_up_reserve(self) -> bool:
        """Whether there was a reserve to give up."""
        try:
            self._reserve.unlink()
        except OSError:
            return False
        return True

    def close(self) -> None:
        self._db.close()
        os.close(self._lock)


@contextlib.contextmanager
def ledger_for(path: Path) -> Iterator[Ledger]:
    """A ledger that stays open, unless the block raises: who tries again must not meet our own
    lock."""
    ledger = Ledger(path)
    try:
        yield ledger
    except BaseException:
        ledger.close()
        raise


def _opened(path: Path) -> tuple[sqlite3.Connection, int]:
    """The database, of this version, and the number of its last line; raises Unavailable."""
    try:
        db = sqlite3.connect(path, LOCKED_OUT, isolation_level=None, check_same_thread=False)
        try:
            db.text_factory = readable
            db.execute("PRAGMA journal_mode=WAL")
            db.execute("PRAGMA synchronous=FULL")
            migrate(db, str(path))
            _check_record_shape(db, path)
            last = db.execute("SELECT coalesce(max(seq), 0) FROM record").fetchone()[0]
        except BaseException:
            db.close()
            raise
    except (sqlite3.Error, OSError, UnicodeDecodeError) as error:
        raise Unavailable("ledger", f"{path}: the ledger cannot be opened ({error})") from error
    return db, int(last)


def _readable(
    db: sqlite3.Connection, query: str, values: tuple[object, ...]
) -> Iterator[tuple[Any, ...]]:
    """Rows as far as they can be read: behind a damaged page there are none."""
    # SQLite's sentence may be damaged text itself
    with contextlib.suppress(sqlite3.DatabaseError, UnicodeDecodeError):
        yield from db.execute(query, values)


def readable(text: bytes) -> str:
    """Text of the file, also where a damaged page has made none of it."""
    return text.decode("utf-8", "replace")


def _check_record_shape(db: sqlite3.Connection, path: Path) -> None:
    """Events of a shape that is gone would fold to something else without a word."""
    for name, text in db.execute(
        "SELECT name, text FROM shape WHERE name IN (SELECT shape FROM version)"
    ):
        if name == shape.name_of(shape.record_shape()):
            continue
        if name != shape.name_of(shape.read(text)):
            raise Unavailable(
                "ledger",
                f"{path}: is damaged: which lines it has cannot be told; it is left as it is",
            )
        gone = shape.read(text) - shape.record_shape()
        if gone:
            raise Unavailable(
                "other_record",
                (
                    f"{path}: has lines that this Hawser cannot read ({min(gone)}); it "
                    "is left as it is"
                ),
            )


def _locked(path: Path) -> int:
    """Hold `path` for this process; the kernel lets go of it when the process ends, however it
    ends."""
    handle = os.open(path, os.O_CREAT | os.O_RDWR, 0o600)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        os.close(handle)
        raise Unavailable(
            "ledger_in_use", f"{path.with_suffix('.sqlite')}: another Hawser has this account open"
        ) from None
    return handle
