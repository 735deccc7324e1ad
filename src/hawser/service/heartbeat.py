"""A sign of life in the state folder, once a second, for a watcher in another process."""

from __future__ import annotations

import contextlib
import os
import time
from pathlib import Path

import msgspec

EVERY = 1.0  # seconds


class Pulse(msgspec.Struct, frozen=True):
    """Written at `time` (UTC seconds) by process `pid`, which then had so many positions open and entries waiting.
    `ended`: it has ended on purpose. `venue`: the socket of a venue that outlives it, or nothing."""

    time: float
    pid: int
    account: str
    open: int
    waiting: int
    venue: str = ""
    ended: bool = False


class Heart:
    """Writes the pulse; a disk that cannot take it costs nothing but the pulse."""

    def __init__(self, path: Path, account: str, venue: str = "") -> None:
        self.path, self._account, self._venue = path, account, venue
        self._next = 0.0

    def beat(self, now: float, held: int, waiting: int, ended: bool = False) -> None:
        """At `now` of a clock that only goes on; less than a second after the last one nothing is written."""
        if now < self._next and not ended:
            return
        self._next = now + EVERY
        pulse = Pulse(time.time(), os.getpid(), self._account, held, waiting, self._venue, ended)
        fresh = self.path.with_suffix(".new")
        with contextlib.suppress(OSError):
            fresh.write_bytes(msgspec.json.encode(pulse))
            fresh.replace(self.path)


def read_pulse(path: Path) -> Pulse | None:
    """The last sign of life; None where there is none that can be read."""
    try:
        return msgspec.json.decode(path.read_bytes(), type=Pulse)
    except (OSError, msgspec.MsgspecError):
        return None
