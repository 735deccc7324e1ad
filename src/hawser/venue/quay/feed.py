"""What feeds Quay: ticks, completed bars, rates and trading hours in order of time."""

from __future__ import annotations

from typing import NamedTuple, Protocol

from hawser.core.bars import Bars
from hawser.core.instrument import Instrument


class Tick(NamedTuple):
    """Bid and ask in ticks."""

    time: int
    symbol: str
    bid: int
    ask: int


class BarDone(NamedTuple):
    """A completed base bar, bid prices in ticks, spread in ticks."""

    time: int
    symbol: str
    opened: int
    open: int
    high: int
    low: int
    close: int
    spread: float


class FeedRate(NamedTuple):
    time: int
    pair: str
    mid: float


class Hours(NamedTuple):
    """An instrument opens or closes until `until` (0: not known)."""

    time: int
    symbol: str
    open: bool
    until: int


FeedItem = Tick | BarDone | FeedRate | Hours


class Feed(Protocol):
    """A source of feed items. `seek` sets the time it starts from; items come in order of time."""

    instruments: dict[str, Instrument]
    base_span: int
    start: int

    def seek(self, now: int) -> None: ...

    def history(self, symbol: str) -> Bars: ...

    def next_time(self) -> int:
        """Time of the next item; a very large number where there is none."""
        ...

    def pop(self) -> FeedItem: ...


NEVER = 2**62
