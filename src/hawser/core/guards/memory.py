"""What a guard remembers between events. It is part of the engine's state, and so of the record's
snapshots."""

from __future__ import annotations

import msgspec


class SoFar(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a trade had come to at a moment, to be taken from what it comes to later: realised less
    commissions, money, and what floated, money (NaN where no rate was known, then `ticks` times
    steps are valued when one is)."""

    realised: float
    floating: float
    ticks: float


class GuardMemory(msgspec.Struct, forbid_unknown_fields=True):
    """What one guard remembers of one subject. `[start, end)`: its present period; `base`: the
    equity when that began, `high`: the highest since it watches, both NaN until the venue has told
    any; `won`: results of trades ended in the period, `before`: what those live when it began had
    come to; `count`: entries in the period, or losses in a row; `times`: of what it counts in a
    window."""

    start: int = 0
    end: int = 0
    base: float = 0.0
    high: float = 0.0
    won: float = 0.0
    before: dict[str, SoFar] = {}
    count: int = 0
    times: list[int] = []
    until: int = 0  # a cool-down's end
    shut: bool = False  # a filter, as it was found last
    latched: int = 0  # a kill switch: since when; 0: it is not
    latched_until: int = 0  # 0: until it is re-armed
    why: str = ""
    code: str = ""  # of a guard that only warns: what it last warned of
    tripped: int = 0  # when it last closed

    def within(self, now: int, window: int) -> list[int]:
        """When what is counted happened in the last `window` ns."""
        return [time for time in self.times if time > now - window]

    def one_more(self, now: int, window: int) -> int:
        """Count one more of what happened in the last `window` ns; how many those are."""
        self.times = [*self.within(now, window), now]
        return len(self.times)
