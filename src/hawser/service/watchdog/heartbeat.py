"""A sign of life in the state folder, once a second, for a watcher in another process."""

from __future__ import annotations

import contextlib
import os
import time
from concurrent.futures import Future, wait
from functools import partial
from pathlib import Path

import msgspec

from hawser.core.errors import UNDECODABLE
from hawser.service.recording import LAST_WAIT_S, Extent, Here, Way
from hawser.service.watchdog.voice import Voice

EVERY = 1.0  # seconds


class Pulse(msgspec.Struct, frozen=True):
    """Written at `time` (UTC seconds) by process `pid`, which then had so many positions open and
    entries waiting. `ended`: it has ended on purpose. `venue`: the socket of a venue that outlives
    it, or nothing. `extent`: how far its record went: one that is opened later and ends before is
    an older copy."""

    time: float
    pid: int
    account: str
    open: int
    waiting: int
    venue: str = ""
    ended: bool = False
    extent: Extent = Extent()


class Heart:
    """Writes the pulse; a disk that cannot take it, or hangs, costs nothing but the pulse."""

    def __init__(self, path: Path, account: str, venue: str = "", way: Way | None = None) -> None:
        self.path, self._account, self._venue = path, account, venue
        self._next, self._way = 0.0, way or Here()
        self._risked = False  # whether the last pulse said that something is open or waits
        self._writing: Future[None] | None = None
        self._voice: Voice | None = None
        self._at_work = time.monotonic()

    def speak(self) -> None:
        """From now on a watch that sees no pulse is answered too: what keeps it from the disk is no
        death."""
        self._voice = Voice(self.path, lambda: time.monotonic() - self._at_work)

    def beat(
        self, now: float, held: int, waiting: int, ended: bool = False, extent: Extent | None = None
    ) -> None:
        """At `now` of a clock that only goes on; less than a second after the last one nothing is
        written, unless there is something to lose for the first time: a watch would think that the
        dead one had nothing."""
        self._at_work = time.monotonic()
        risks = held + waiting > 0
        first = risks and not self._risked
        if now < self._next and not (ended or first):
            return
        self._next = now + EVERY
        if self._writing is not None and not self._writing.done() and not ended:
            return
        self._risked = risks
        pulse = Pulse(
            time=time.time(),
            pid=os.getpid(),
            account=self._account,
            open=held,
            waiting=waiting,
            venue=self._venue,
            ended=ended,
            extent=extent or Extent(),
        )
        self._writing = self._way.begin(partial(self._write, msgspec.json.encode(pulse)))
        if ended:
            wait([self._writing], LAST_WAIT_S)

    def end(self) -> None:
        """Nothing more is written, and nobody is answered."""
        self._way.end()
        if self._voice is not None:
            self._voice.end()

    def _write(self, pulse: bytes) -> None:
        fresh = self.path.with_suffix(".new")
        try:
            fresh.write_bytes(pulse)
            fresh.replace(self.path)
        # another hand has removed the folder: the next one finds it again
        except FileNotFoundError:
            with contextlib.suppress(OSError):
                self.path.parent.mkdir(mode=0o700, parents=True)
        except OSError:
            with contextlib.suppress(OSError):
                self._write_over(pulse)

    def _write_over(self, pulse: bytes) -> None:
        """Where the disk is full, over the last pulse, which takes no room: a watch would take
        Hawser for dead, and may close everything. Who reads it half-written looks again."""
        with self.path.open("r+b") as file:
            file.write(pulse.ljust(self.path.stat().st_size))


def read_pulse(path: Path) -> Pulse | None:
    """The last sign of life; None where there is none that can be read."""
    try:
        return msgspec.json.decode(path.read_bytes(), type=Pulse)
    except (OSError, *UNDECODABLE):
        return None
