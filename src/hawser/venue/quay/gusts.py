"""What gusts leave behind while they last: a wide spread, a jumped price, a halted instrument."""

from __future__ import annotations

import msgspec

from hawser.venue.quay import feed as fd
from hawser.venue.quay.weather import WIDER


class Jump(msgspec.Struct, frozen=True):
    """A price that jumped by `ticks` at `since` and is back by `until`."""

    ticks: int
    since: int
    until: int

    def at(self, now: int) -> int:
        """What is left of it, in ticks."""
        left = (self.until - now) / max(1, self.until - self.since)
        return int(self.ticks * min(1.0, max(0.0, left)))


class Gusts:
    """The instruments that a gust has hold of, and until when."""

    def __init__(self) -> None:
        self.wide: dict[str, int] = {}
        self.halted: dict[str, int] = {}
        self.hushed: dict[str, int] = {}  # quotes go on, and are not told
        self.smaller: dict[str, int] = {}  # the venue takes smaller orders
        self.rateless = 0  # until when no rates are told
        self._jumps: dict[str, Jump] = {}

    def jump(self, symbol: str, ticks: int, now: int, until: int) -> None:
        """A price jumps; what is left of an earlier jump goes along."""
        before = self._jumps.get(symbol)
        self._jumps[symbol] = Jump(ticks + (before.at(now) if before else 0), now, until)

    def quoted(self, item: fd.Tick, now: int) -> tuple[int, int]:
        """Bid and ask of a tick as they are shown."""
        bid, ask, jump = item.bid, item.ask, self._jumps.get(item.symbol)
        if jump is not None:
            if now >= jump.until:
                del self._jumps[item.symbol]
            shift = max(jump.at(now), 1 - bid)
            bid, ask = bid + shift, ask + shift
        if self.wide.get(item.symbol, 0) > now:
            ask = bid + int((ask - bid) * WIDER)
        return bid, ask

    def bar(self, item: fd.BarDone) -> fd.BarDone:
        """A completed bar as it was shown: what jumped in it, jumped in it."""
        jump = self._jumps.get(item.symbol)
        if jump is None:
            return item
        first = jump.at(item.opened) if item.opened >= jump.since else 0
        last = jump.at(item.time)
        most = jump.at(max(item.opened, jump.since)) if item.time >= jump.since else 0
        shifts = (first, last, most)
        low = max(1, item.low + min(shifts))
        return item._replace(
            open=max(low, item.open + first),
            high=max(low, item.high + max(shifts)),
            low=low,
            close=max(low, item.close + last),
        )
