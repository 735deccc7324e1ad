"""A person's own bar history as Quay's feed: each bar becomes a path of quotes from open to close.

Inside a bar the path runs from the open to the nearer extreme, to the other, to the close; what is
between the bars' four prices is drawn straight. The bars themselves are handed on unchanged.
"""

from __future__ import annotations

import numpy as np

from hawser.core.bars import Bars, length_of
from hawser.core.instrument import Instrument
from hawser.venue.quay import feed as fd

QUOTES_A_BAR = 24
AT_LEAST_SHOWN = 200  # bars of history before the replay starts, where there are as many


class ReplayFeed:
    """Implements `feed.Feed` for one instrument and one history."""

    def __init__(
        self, instrument: Instrument, bars: Bars, spread_ticks: float, start: int | None = None
    ) -> None:
        self.instruments = {instrument.symbol: instrument}
        self._instrument, self._bars = instrument, bars
        self.base_span, self._even = length_of(bars.time)
        # A bar ends where the next opens, or after its length; of uneven bars each lasts until the
        # next.
        lasts = np.append(bars.time[1:], bars.time[-1:] + self.base_span)
        whole = bars.time + self.base_span
        self._ends = np.minimum(whole, lasts) if self._even or self._mostly_even(bars) else lasts
        self._spread = np.where(np.isnan(bars.spread), spread_ticks, bars.spread)
        self._ticks = [
            np.rint(column / instrument.tick_size).astype(np.int64) for column in bars[1:5]
        ]
        first = min(AT_LEAST_SHOWN, bars.time.size // 3)
        self.start = int(bars.time[first]) if start is None else start
        self._queue: list[fd.FeedItem] = []
        self._bar = 0

    def _mostly_even(self, bars: Bars) -> bool:
        """Whether most bars last their length, as local days do across a change of the clocks."""
        steps = np.diff(bars.time)
        return bool(steps.size == 0 or 2 * (steps == self.base_span).sum() > steps.size)

    def history(self, symbol: str) -> Bars:
        done = int(np.searchsorted(self._ends, self._now, side="right"))
        return self._bars._replace(spread=self._spread).mapped(lambda column: column[:done])

    def seek(self, now: int) -> None:
        self._now = now
        self._bar = max(0, int(np.searchsorted(self._bars.time, now, side="right")) - 1)
        symbol = self._instrument.symbol
        queue: list[fd.FeedItem] = [fd.Hours(now, symbol, True, 0)]
        items = self._items(self._bar)
        standing = [item for item in items if isinstance(item, fd.Tick) and item.time <= now]
        queue += [tick._replace(time=now) for tick in standing[-1:]]
        queue += [item for item in items if item.time > now]
        self._bar += 1
        self._queue = queue[::-1]

    def next_time(self) -> int:
        if not self._queue:
            if self._bar >= self._bars.time.size:
                return fd.NEVER
            self._queue = self._items(self._bar)[::-1]
            self._bar += 1
        return self._queue[-1].time

    def pop(self) -> fd.FeedItem:
        self.next_time()
        item = self._queue.pop()
        self._now = item.time
        return item

    def _items(self, index: int) -> list[fd.FeedItem]:
        """The quotes and the completed bar of bar `index`; hours after the last."""
        opened, symbol = int(self._bars.time[index]), self._instrument.symbol
        done = int(self._ends[index])
        open_, high, low, close = (int(column[index]) for column in self._ticks)
        near_high = high - open_ <= open_ - low
        corners = [open_, high, low, close] if near_high else [open_, low, high, close]
        lengths = np.abs(np.diff(corners)) + 1e-9
        at = np.concatenate([[0.0], np.cumsum(lengths) / lengths.sum()])
        grid = np.union1d(np.linspace(0.0, 1.0, QUOTES_A_BAR), at)
        bids = np.rint(np.interp(grid, at, corners)).astype(int)
        spread = max(0, round(float(self._spread[index])))
        items: list[fd.FeedItem] = []
        for part, bid in zip(grid.tolist(), bids.tolist(), strict=True):
            time = opened + int(
                part * max(0, done - opened - min(1_000_000, self.base_span // 100))
            )
            items.append(fd.Tick(time, symbol, bid, bid + spread))
        items.append(
            fd.BarDone(
                time=done,
                symbol=symbol,
                opened=opened,
                open=open_,
                high=high,
                low=low,
                close=close,
                spread=float(spread),
            )
        )
        following = int(self._bars.time[index + 1]) if index + 1 < self._bars.time.size else 0
        if following != done:
            items.append(fd.Hours(done, symbol, False, following))
            if following:
                items.append(fd.Hours(following, symbol, True, 0))
        return items
