"""Times of a zone's clock as UTC."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np

from hawser.core.clock import MINUTE
from hawser.core.errors import BadInput
from hawser.core.indicators import Array

if TYPE_CHECKING:
    import pyarrow as pa

QUARTER = 15 * MINUTE


def in_zone(stamps: pa.Array, zone: str, never: Callable[[int], BadInput]) -> Array:
    """Local times as UTC ns. The hour that comes twice in autumn is told apart by the order of the
    rows: where the clock goes back from one row to the next, the second has begun. Raises what
    `never` makes of the first row whose time never was.
    """
    import pyarrow as pa
    import pyarrow.compute as pc

    local = np.asarray(stamps.cast(pa.int64()), np.int64)
    if zone == "UTC":
        return local
    # No clock was ever changed within a quarter of an hour: one look at each is enough.
    quarter = local // QUARTER if local.size and local.min() >= 0 else np.arange(local.size)
    begins = np.flatnonzero(np.diff(quarter, prepend=quarter[:1] - 1))
    looked_at, times = pc.take(stamps, begins), np.diff(begins, append=local.size)

    def read(ambiguous: str, nonexistent: str) -> Array:
        made = pc.assume_timezone(looked_at, zone, ambiguous=ambiguous, nonexistent=nonexistent)
        return np.repeat(np.asarray(made.cast(pa.int64()), np.int64) - local[begins], times) + local

    try:
        first = read("earliest", "latest")
        second = read("latest", "latest")
        before = read("earliest", "earliest")
    except (pa.ArrowInvalid, ValueError):
        raise BadInput("bad_zone", f"--tz {zone}: expected the name of a time zone") from None
    missing = np.flatnonzero(before != first)
    if missing.size:
        raise never(int(missing[0]))
    twice = first != second
    edges = np.flatnonzero(np.diff(np.concatenate(([False], twice, [False])).astype(np.int8)))
    for opens, ends in edges.reshape(-1, 2):
        back = np.flatnonzero(np.diff(local[opens:ends]) <= 0)
        if back.size:
            first[opens + back[0] + 1 : ends] = second[opens + back[0] + 1 : ends]
    return first
