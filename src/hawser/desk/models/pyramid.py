"""Level of detail for long histories: bars joined by fours, so that a frame never draws more than
the screen can show.

Built away from the Qt thread. Bars that complete afterwards are kept beside it and joined in when
there are many.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from hawser.core.bars import Bars
from hawser.core.indicators import Array

FACTOR = 4


class Columns(NamedTuple):
    """What to draw: `x` is the middle in bar numbers, `width` how many bars a column stands for.
    `spread` is the widest of them, ticks; NaN where no bar has one."""

    x: Array
    open: Array
    high: Array
    low: Array
    close: Array
    spread: Array
    width: int


class _Level(NamedTuple):
    open: Array
    high: Array
    low: Array
    close: Array
    spread: Array


def _level(bars: Bars) -> _Level:
    return _Level(bars.open, bars.high, bars.low, bars.close, bars.spread)


def _coarser(level: _Level) -> _Level:
    whole = level.open.size // FACTOR * FACTOR
    grouped = [column[:whole].reshape(-1, FACTOR) for column in level]
    made = [
        grouped[0][:, 0],
        grouped[1].max(axis=1),
        grouped[2].min(axis=1),
        grouped[3][:, -1],
        np.fmax.reduce(grouped[4], axis=1),
    ]
    if whole < level.open.size:
        rest = [column[whole:] for column in level]
        tail = (rest[0][0], rest[1].max(), rest[2].min(), rest[3][-1], np.fmax.reduce(rest[4]))
        made = [np.append(column, value) for column, value in zip(made, tail, strict=True)]
    return _Level._make(made)


class Pyramid:
    """Bars of one instrument and timeframe at every level of detail."""

    def __init__(self, bars: Bars) -> None:
        self.bars = bars
        self._levels = [_level(bars)]
        while self._levels[-1].open.size > 256:
            self._levels.append(_coarser(self._levels[-1]))

    @property
    def size(self) -> int:
        return int(self.bars.time.size)

    def with_bar(
        self, opened: int, prices: tuple[float, float, float, float], spread: float
    ) -> Pyramid:
        """One more bar; only the ends of the levels are made anew."""
        fresh = Pyramid.__new__(Pyramid)
        values = (opened, *prices, spread)
        fresh.bars = Bars._make(
            np.append(column, value) for column, value in zip(self.bars, values, strict=True)
        )
        fresh._levels = [_level(fresh.bars)]
        for old in self._levels[1:]:
            below = fresh._levels[-1]
            keep = (below.open.size - 1) // FACTOR
            end = _coarser(_Level._make(column[keep * FACTOR :] for column in below))
            joined = (np.append(held[:keep], new) for held, new in zip(old, end, strict=True))
            fresh._levels.append(_Level._make(joined))
        return fresh

    def columns(self, first: float, last: float, most: int) -> Columns:
        """At most about `most` columns that cover bar numbers `first` to `last`."""
        first_bar, last_bar = max(0, int(first) - 1), min(self.size, int(last) + 2)
        depth, width = 0, 1
        while (last_bar - first_bar) / width > most and depth + 1 < len(self._levels):
            depth, width = depth + 1, width * FACTOR
        level = self._levels[depth]
        start, end = first_bar // width, -(-last_bar // width)
        x = np.arange(start, min(end, level.open.size)) * width + (width - 1) / 2
        return Columns._make((x, *(column[start:end] for column in level), width))

    def extremes(self, first: float, last: float) -> tuple[float, float] | None:
        """Lowest low and highest high of a range of bar numbers."""
        columns = self.columns(first, last, 400)
        if not columns.x.size:
            return None
        return float(columns.low.min()), float(columns.high.max())
