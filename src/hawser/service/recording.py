"""A session's record: what was decided is written down before it leaves, all of it in order.

What cannot be written stays in memory until it can be. A disk that hangs counts as one that cannot
be written: who waits for it would keep a position without its stop for as long. The write that
hangs goes on meanwhile, on a thread of its own, and nothing else is written until it has come to
its end, one way or the other.
"""

from __future__ import annotations

import contextlib
import sqlite3
import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from concurrent.futures import wait as waited
from typing import NamedTuple, Protocol

import msgspec

from hawser.core.clock import SECOND
from hawser.core.errors import BadInput, Unavailable
from hawser.engine.engine import Engine
from hawser.engine.events import AnyEvent
from hawser.engine.model.state import EngineState
from hawser.ledger.folding import Fold, Recorded
from hawser.ledger.ledger import Entry, Ledger, writable

SNAPSHOT_EVERY = 5_000  # lines
WRITE_AGAIN = SECOND  # between tries to write where it failed
AT_ONCE = 500  # entries of what was kept meanwhile
WRITE_WAIT_S = 1.0  # s of real time that a write may take before what protects leaves without it
LAST_WAIT_S = 5.0  # s, at the end

Work = Callable[[], None]
_encode = msgspec.msgpack.Encoder().encode


def recordable(event: AnyEvent) -> AnyEvent:
    """What comes from outside, as it can be written down: half of a character in its own text
    becomes a question mark. Raises BadInput where that does not help, for the record would never
    get past it."""
    if writable(event):
        return event
    texts = {
        name: text
        for name in event.__struct_fields__
        if isinstance(text := getattr(event, name), str)
    }
    legible = {name: text.encode(errors="replace").decode() for name, text in texts.items()}
    event = msgspec.structs.replace(event, **legible)
    if not writable(event):
        raise BadInput("unwritable", "Not done: a text or a number of it cannot be written down")
    return event


class Way(Protocol):
    """How work is done that writes. `patience`: s of real time that it may take."""

    patience: float

    def begin(self, work: Work) -> Future[None]: ...

    def end(self) -> None:
        """Nothing more is to be done; what has begun still comes to its end."""
        ...


def carried_out(work: Work, done: Future[None]) -> Future[None]:
    """Do it now; `done` has what came of it."""
    try:
        work()
        done.set_result(None)
    except Exception as error:
        done.set_exception(error)
    return done


class Here:
    """On the calling thread, however long it takes."""

    patience = WRITE_WAIT_S

    def begin(self, work: Work) -> Future[None]:
        return carried_out(work, Future())

    def end(self) -> None:
        pass


class Aside:
    """On a thread of its own, one piece of work after another."""

    patience = WRITE_WAIT_S

    def __init__(self, name: str) -> None:
        self._pool = ThreadPoolExecutor(1, name)

    def begin(self, work: Work) -> Future[None]:
        try:
            return self._pool.submit(work)
        except RuntimeError as error:  # the system gives no thread for it
            failed: Future[None] = Future()
            failed.set_exception(error)
            return failed

    def end(self) -> None:
        self._pool.shutdown(wait=False)


class Written(NamedTuple):
    """Whether all is written; if not, why, where it was tried; how many entries had been kept until
    now."""

    whole: bool
    why: str = ""
    healed: int = 0


class _Write(NamedTuple):
    """A piece of work that has begun: how many of the kept entries it writes, and till when it is
    waited for, s."""

    entries: int
    done: Future[None]
    until: float


class Extent(msgspec.Struct, frozen=True):
    """How far a record goes: what its order ids begin with, and the number of its last line."""

    record: str = ""
    lines: int = 0


class Recording:
    """Writes a ledger in one `way`; without a ledger everything counts as written."""

    def __init__(self, ledger: Ledger | None, way: Way) -> None:
        self.ledger, self.kept = ledger, list[Entry]()
        self._way = way
        self._under_way: _Write | None = None
        self._again_at = 0
        # whether the record still stands in its place: asked aside
        self._look: Future[None] | None = None
        self._look_at, self._gone = 0, ""
        # the state at the last snapshot, and what was recorded after it
        self._base, self._since = b"", list[Entry]()
        self._snapshot_at = ledger.seq if ledger else 0

    def open(self, state: EngineState, trouble: str) -> None:
        """A session begins with this state. `trouble`: it is no fold of the record, and so is kept
        as it is. What cannot be written now keeps nobody from opening: each line that follows says
        whether it can."""
        self._base = _encode(state)
        if self.ledger is None:
            return
        with contextlib.suppress(Exception):
            if trouble:
                self.ledger.snapshot(state, first=True)
            self.ledger.begin_version(state)

    @property
    def hangs(self) -> bool:
        """Whether a write takes longer than it may."""
        found = self._under_way
        return found is not None and not found.done.done() and time.monotonic() > found.until

    @property
    def lines(self) -> int:
        """How many lines the record has, with those that could not be written yet."""
        if self.ledger is None:
            return 0
        written, found = self.ledger.seq, self._under_way
        gone = found.entries if found is not None and found.done.done() else 0
        return written + sum(1 + len(commands) for _, commands in self.kept[gone:])

    def due(self, now: int) -> bool:
        """Whether what was kept is to be tried again, or the record does not stand in its place any
        more."""
        if self.ledger is None:
            return False
        if self.kept:
            return now >= self._again_at
        self._look_aside(self.ledger, now)
        return bool(self._gone)

    def _look_aside(self, ledger: Ledger, now: int) -> None:
        """Hear what the last look has found, and begin another from time to time: never on the
        calling thread, which a disk that hangs would hold up."""
        if self._look is not None and self._look.done():
            error, self._look = self._look.exception(), None
            self._gone = str(error) if error is not None else ""
        elif self._look is None and self._under_way is None and now >= self._look_at:
            self._look_at, self._look = now + WRITE_AGAIN, self._way.begin(ledger.check_place)

    def write(self, batch: list[Entry], now: int) -> Written:
        """Write what was kept, then this."""
        if self.ledger is None:
            return Written(True)
        behind = len(self.kept)
        self.kept += batch
        self._since += batch
        if behind and now < self._again_at:
            return Written(False)
        try:
            if not self.kept and self._gone:
                gone, self._gone = self._gone, ""
                return self._failed(gone, now)
            while self.kept or self._under_way is not None:
                self._some(self.ledger, AT_ONCE if behind else len(self.kept), bool(behind))
        except TimeoutError:
            return self._failed(f"the disk has not answered for {self._way.patience:g} s", now)
        except sqlite3.Error as error:
            return self._failed(str(error), now)
        # memory that has run out, say: what protects does not wait for its reason
        except Exception as error:
            return self._failed(repr(error), now)
        if behind:
            self._look, self._gone = None, ""  # what was seen before counts no more
            self._later(self.ledger.keep_reserve)
        return Written(True, healed=behind)

    def _failed(self, why: str, now: int) -> Written:
        self._again_at = now + WRITE_AGAIN
        return Written(False, why)

    def _some(self, ledger: Ledger, most: int, again: bool) -> None:
        """Write the first of what is kept; raises TimeoutError where that takes too long, and goes
        on with it the next time."""
        if self._under_way is None:
            some = self.kept[:most]
            self._begin(len(some), lambda: _append(ledger, some, again))
        assert self._under_way is not None
        count, done, until = self._under_way
        _, unfinished = waited([done], max(0.0, until - time.monotonic()))
        if unfinished:
            raise TimeoutError
        self._under_way = None
        error = done.exception()
        if error is not None and (count or not isinstance(error, sqlite3.Error)):
            raise error
        del self.kept[:count]

    def _begin(self, count: int, work: Work) -> None:
        self._under_way = _Write(
            count, self._way.begin(work), time.monotonic() + self._way.patience
        )

    def _later(self, work: Work) -> None:
        """What nobody waits for, and what the disk may refuse."""
        if self._under_way is None:
            self._begin(0, work)

    def keep_snapshot(self, state: EngineState) -> None:
        """Keep the fold from time to time, where it is the fold of all that is written."""
        ledger = self.ledger
        if (
            ledger is None
            or self.kept
            or self._under_way is not None
            or ledger.seq - self._snapshot_at < SNAPSHOT_EVERY
        ):
            return
        self._snapshot_at = ledger.seq
        self._base, self._since = _encode(state), []
        self._later(ledger.snapshot_of(state))

    def engine(self) -> Engine:
        """The engine anew from what was recorded. The disk is not asked: it may be what hangs just
        then."""
        fold = Fold(Engine(msgspec.msgpack.decode(self._base, type=EngineState)))
        for event, commands in self._since:
            fold.take(Recorded(0, event, commands))
        fold.engine.seen.clear()
        return fold.engine

    def close(self, state: EngineState) -> None:
        """Keep the fold, and let go of the file. Raises Unavailable where something could not be
        written: it is lost, and the venue knows what is open."""
        ended = self._settle(LAST_WAIT_S)
        self._way.end()
        ledger = self.ledger
        if ledger is None:
            return
        if not ended:
            raise Unavailable(
                "ledger",
                f"{ledger.path}: the disk does not answer; the last of the record is lost",
            )
        with contextlib.suppress(Exception):  # once more
            _append(ledger, self.kept, True)
            self.kept = []
            ledger.snapshot(state)  # it only makes starting faster
        lost, astray = len(self.kept), ledger.astray()
        ledger.close()
        if astray:
            raise Unavailable(
                "ledger", f"{ledger.path}: {astray}; it could not be put back and is lost"
            )
        if lost:
            raise Unavailable(
                "ledger",
                f"{ledger.path}: the last {lost} events could not be written and are lost",
            )

    def _settle(self, patience: float | None) -> bool:
        """Let the write that is under way come to its end; whether it has."""
        if self._under_way is None:
            return True
        count, done, _ = self._under_way
        _, unfinished = waited([done], patience)
        if unfinished:
            return False
        self._under_way = None
        if done.exception() is None:
            del self.kept[:count]
        return True


def _append(ledger: Ledger, entries: list[Entry], again: bool) -> None:
    """Write; where the disk is full, once more in the space that was kept for it. `again`: it could
    not be written before, because the record was taken away perhaps."""
    try:
        if again:
            ledger.put_back()
        ledger.append(entries)
    except sqlite3.Error as error:
        held = getattr(error, "sqlite_errorcode", 0) & 0xFF in (
            sqlite3.SQLITE_BUSY,
            sqlite3.SQLITE_LOCKED,
        )
        if held or ledger.astray() or not ledger.give_up_reserve():
            raise
        ledger.append(entries)
