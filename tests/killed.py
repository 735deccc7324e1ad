"""A Hawser to be killed: trades through a storm on a real ledger and a real venue file, and says
what it wrote down.

Usage: killed.py FOLDER SEED [LINE]. After every durable write it prints the ledger's line and the
digest of the state. With LINE it kills itself there: the test says where each of its kills fell, so
that they can be played again.
"""

from __future__ import annotations

import hashlib
import os
import signal
import sys
from pathlib import Path

import msgspec

from hawser.engine.model.state import EngineState
from hawser.ledger.ledger import Ledger
from hawser.venue.quay.store import BookStore
from hawser.verification.places import place_of
from hawser.verification.storm import Storm


def digest(state: EngineState) -> str:
    once = msgspec.msgpack.decode(msgspec.msgpack.encode(state), type=EngineState)
    return hashlib.sha256(msgspec.msgpack.encode(once)).hexdigest()[:16]


class Told(Storm):
    """Tells what it wrote, as soon as it is written; ends at line `last`."""

    last = 1 << 62

    def heard(self, entry) -> None:  # type: ignore[no-untyped-def]
        super().heard(entry)
        session = getattr(self, "session", None)
        if session is None or session.engine.seen or self.ledger is None:
            return
        # while the disk is full the state is ahead of what is written
        if session.extent.lines == self.ledger.seq:
            print(self.ledger.seq, digest(session.engine.state), flush=True)
        if self.ledger.seq >= self.last:
            os.kill(os.getpid(), signal.SIGKILL)


def open_storm(folder: Path, seed: int, kind: type[Storm] = Storm) -> Storm:
    ledger, venue = Ledger(folder / "ledger.sqlite"), BookStore(folder / "quay.sqlite")
    # each start is of another seed, and goes on here
    return kind(seed, "gale", ledger, venue, place=place_of(0))


if __name__ == "__main__":
    Told.last = int(sys.argv[3]) if len(sys.argv) > 3 else Told.last
    open_storm(Path(sys.argv[1]), int(sys.argv[2]), Told).run(100_000)
