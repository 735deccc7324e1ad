"""What filters look at, and what they say of one entry at one moment: nothing, or why it is closed,
until when."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import NamedTuple

import msgspec

from hawser.core.guards.news import Calendar
from hawser.core.instrument import Instrument


class Closed(msgspec.Struct, frozen=True):
    """One reason entries are closed; `until` UTC ns, 0 where nobody knows; `guard`: the name of
    that which says so."""

    code: str
    text: str
    until: int = 0
    guard: str = ""


def longest_first(closed: Iterable[Closed]) -> list[Closed]:
    """What holds entries back longest first: what ends nobody knows when, then what ends last."""
    return sorted(closed, key=lambda one: (one.until > 0, -one.until))


class EntryContext(NamedTuple):
    """What filters look at. `spread` in ticks (NaN: no quote); `side` 0 and `r_ticks` NaN where no
    plan is meant; `measures` by instrument, as each filter names its own."""

    at: int
    instrument: Instrument
    spread: float
    measures: dict[str, dict[str, float]]
    calendars: tuple[Calendar, ...]
    side: int = 0
    r_ticks: float = math.nan

    def measure(self, symbol: str, key: str) -> float:
        return self.measures.get(symbol, {}).get(key, math.nan)
