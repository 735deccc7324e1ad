"""What msgspec knows of our classes, made before there is a second thread.

It looks at a class when the first value of it is read, and keeps what it found. A second thread
that reads one meanwhile is given what is half made, and the process ends in a fault of memory
(msgspec 0.22; two of 40 starts that were told to end within two seconds). So all of it is made
first.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cache

import msgspec


def structs(of: type[msgspec.Struct] = msgspec.Struct) -> Iterator[type[msgspec.Struct]]:
    """All our classes of values that are loaded."""
    for one in of.__subclasses__():
        if one.__module__.startswith("hawser."):
            yield one
        yield from structs(one)


@cache
def make_all() -> None:
    """Have msgspec look at every class; once for a process, on the thread that starts the
    others."""
    for one in structs():
        msgspec.json.Decoder(one)
