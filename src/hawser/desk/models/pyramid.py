"""Level of detail for long histories: bars joined by fours, so that a frame never draws more than
the screen can show.

Built away from the Qt thread. A bar that completes afterwards is added to the ends of its levels.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from hawser.core.bars import Bars, GrowingColumns
from hawser.core.indicators import Array

FACTOR = 4
LEAST = 256  # bars; fewer are drawn as they are


class DrawnColumns(NamedTuple):
    """What to draw: `x` is the middle in bar numbers, `width` how many bars a column stands for.
    `spread` is the widest of them, ticks; NaN where no bar has one."""

    x: Array
    open: Array
    high: Array
    low: Array
    close: Array
    spread: Array
    width: int


def _joined(columns: Sequence[Array]) -> list[float]:
    """One bar of many: open, high, low, close, spread."""
    open_, high, low, close, spread = columns
    return [open_[0], high.max(), low.min(), close[-1], np.fmax.reduce(spread)]


def _coarser(columns: Sequence[Array]) -> list[Array]:
    """Every four bars as one; what is left over has no bar yet."""
    whole = columns[0].size // FACTOR * FACTOR
    open_, high, low, close, spread = (column[:whole].reshape(-1, FACTOR) for column in columns)
    return [
        open_[:, 0].copy(),
        high.max(axis=1),
        low.min(axis=1),
        close[:, -1].copy(),
        np.fmax.reduce(spread, axis=1),
    ]


class Pyramid:
    """Bars of one instrument and timeframe at every level of detail. A level has whole groups only;
    the last, unfinished one is joined when it is asked for."""

    def __init__(self, bars: Bars) -> None:
        self._levels = [GrowingColumns(bars, ready=True)]  # with the times
        self.bars = Bars._make(self._levels[0].columns())
        columns: Sequence[Array] = bars[1:]
        while columns[0].size > LEAST:
            columns = _coarser(columns)
            self._levels.append(GrowingColumns(columns, ready=True))

    @property
    def size(self) -> int:
        return int(self.bars.time.size)

    def with_bar(
        self, opened: int, prices: tuple[float, float, float, float], spread: float
    ) -> Pyramid:
        """One more bar. Only the ends of the levels grow, and both share what was there."""
        if self._levels[0].size != self.size:  # another bar has followed on this one already
            return Pyramid(self.bars.mapped(np.copy)).with_bar(opened, prices, spread)
        grown = Pyramid.__new__(Pyramid)
        grown._levels = self._levels
        self._levels[0].append((opened, *prices, spread))
        grown.bars = Bars._make(self._levels[0].columns())
        below: Sequence[Array] = grown.bars[1:]
        for level in self._levels[1:]:
            if below[0].size % FACTOR:
                break
            level.append(_joined([column[-FACTOR:] for column in below]))
            below = tuple(level.columns())
        return grown

    def columns(self, first: float, last: float, most: int) -> DrawnColumns:
        """At most about `most` columns that cover bar numbers `first` to `last`."""
        first_bar, last_bar = max(0, int(first) - 1), min(self.size, int(last) + 2)
        depth, width = 0, 1
        while (last_bar - first_bar) / width > most and depth + 1 < len(self._levels):
            depth, width = depth + 1, width * FACTOR
        whole = self.size // width
        start, end = first_bar // width, min(-(-last_bar // width), -(-self.size // width))
        level = self.bars[1:] if depth == 0 else tuple(self._levels[depth].columns())
        found = [column[start : min(end, whole)] for column in level]
        if end > max(whole, start):
            rest = _joined([column[whole * width :] for column in self.bars[1:]])
            found = [np.append(column, value) for column, value in zip(found, rest, strict=True)]
        x = np.arange(start, max(start, end)) * width + (width - 1) / 2
        return DrawnColumns._make((x, *found, width))

    def extremes(self, first: float, last: float) -> tuple[float, float] | None:
        """Lowest low and highest high of a range of bar numbers."""
        columns = self.columns(first, last, 400)
        if not columns.x.size:
            return None
        return float(columns.low.min()), float(columns.high.max())
