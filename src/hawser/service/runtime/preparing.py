"""What the engine's thread needs, loaded in pieces before it begins.

A window that has just been painted does one piece a turn, so that it answers meanwhile. All of it
happens on the one thread that there is, for two reasons. Modules that are loaded on two threads at
once hold both up. And msgspec looks at a class when the first value of it is read, and keeps what
it found: a second thread that reads one meanwhile is given what is half made, and the process ends
in a fault of memory (msgspec 0.22; two of 40 starts that were told to end within two seconds).
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from importlib import import_module

import msgspec

# What needs least comes first: a piece loads what it needs itself, and is to be a small one.
MODULES = (
    "locale",
    "subprocess",
    "sqlite3",
    "traceback",
    "logging",
    "concurrent.futures.thread",
    "ctypes",
    "difflib",
    "hashlib",
    "shutil",
    "socket",
    "uuid",
    "hawser.core.sizing",
    "hawser.core.guards.measures",
    "hawser.engine.clearance.guards",
    "hawser.engine.clearance.entries",
    "hawser.engine.outbox",
    "hawser.engine.protection.parts",
    "hawser.engine.protection.converge",
    "hawser.engine.entries.placing",
    "hawser.engine.guards.money",
    "hawser.engine.guards.tripping",
    "hawser.engine.answers",
    "hawser.engine.rigs.baskets",
    "hawser.engine.reconcile",
    "hawser.engine.engine",
    "hawser.engine.alignment",
    "hawser.ledger.folding",
    "hawser.ledger.ledger",
    "hawser.service.recording",
    "hawser.service.runtime.warming",
    "hawser.service.runtime.bar_store",
    "hawser.service.runtime.venue_messages",
    "hawser.service.runtime.session",
    "hawser.service.watchdog.heartbeat",
    "hawser.service.views.taking",
    "hawser.service.views.guard_picture",
    "hawser.service.runtime.engine_thread",
    "hawser.venue.quay.feed",
    "hawser.venue.quay.store",
    "hawser.venue.quay.quay",
    "hawser.venue.quay.generator",
    "hawser.ledger.verify",
)
PIECE_S = 0.002  # s of classes that are looked at in one piece

_made: set[type[msgspec.Struct]] = set()


def structs(of: type[msgspec.Struct] = msgspec.Struct) -> Iterator[type[msgspec.Struct]]:
    """All our classes of values that are loaded."""
    for one in of.__subclasses__():
        if one.__module__.startswith("hawser."):
            yield one
        yield from structs(one)


def prepared() -> Iterator[None]:
    """Load all of it, a piece for each value that is asked for. On the thread that starts the
    others; what is loaded already takes no time."""
    for name in MODULES:
        import_module(name)
        yield
    began = time.perf_counter()
    for one in [one for one in structs() if one not in _made]:
        msgspec.json.Decoder(one)
        _made.add(one)
        if time.perf_counter() - began > PIECE_S:
            yield
            began = time.perf_counter()
