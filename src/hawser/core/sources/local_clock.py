"""What a zone's clocks show at many moments."""

from __future__ import annotations

from datetime import UTC, datetime
from functools import lru_cache
from zoneinfo import ZoneInfo

import numpy as np

from hawser.core.clock import DAY, HOUR, SECOND
from hawser.core.indicators import Array

LOOK = 6 * HOUR  # a zone changes its offset less often than twice in so long


def offset_at(zone: ZoneInfo, at: int) -> int:
    """How far the zone's clocks are ahead of UTC at a moment (UTC ns), ns."""
    delta = datetime.fromtimestamp(at // SECOND, UTC).astimezone(zone).utcoffset()
    assert delta is not None
    return (delta.days * 86_400 + delta.seconds) * SECOND


@lru_cache(64)
def _changes(name: str, first: int, last: int) -> tuple[Array, Array]:
    """When the offset changes between two of the moments that are looked at, and the offsets
    before the first change and after each."""
    zone = ZoneInfo(name)
    looks = range(first * LOOK, (last + 1) * LOOK + 1, LOOK)
    offsets = [offset_at(zone, at) for at in looks]
    moments, found = [], [offsets[0]]
    for at, before, after in zip(looks, offsets, offsets[1:], strict=False):
        if before == after:
            continue
        low, high = at // SECOND, (at + LOOK) // SECOND
        while high - low > 1:
            middle = (low + high) // 2
            if offset_at(zone, middle * SECOND) == before:
                low = middle
            else:
                high = middle
        moments.append(high * SECOND)
        found.append(after)
    return np.array(moments, np.int64), np.array(found, np.int64)


def local_times(name: str, times: Array) -> tuple[Array, Array]:
    """Of ascending moments (UTC ns) the local day, counted from 1970-01-01, and the time of day in
    ns, in the zone called `name`."""
    if not times.size:
        return times, times
    moments, offsets = _changes(name, int(times[0]) // LOOK, int(times[-1]) // LOOK)
    local = times + offsets[np.searchsorted(moments, times, side="right")]
    return local // DAY, local % DAY
