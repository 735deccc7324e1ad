"""A line over bars at every level of detail, so that a frame never draws more than the screen can
show."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from hawser.core.indicators import Array

FACTOR = 4  # values that are joined into one of the next level
LEAST = 256  # values of the coarsest


class Curve:
    """One value for each bar, NaN where there is none."""

    def __init__(self, name: str, values: Array) -> None:
        self.name, self.values = name, values
        self._levels: list[tuple[Array, Array]] = []  # of each level the lowest and the highest
        low = high = values
        while low.size > LEAST:
            low, high = _fours(np.fmin, low), _fours(np.fmax, high)
            self._levels.append((low, high))

    @property
    def size(self) -> int:
        return int(self.values.size)

    def at(self, bar: int) -> float:
        """The value at a bar, or at the newest where there is no such bar."""
        bar = bar if 0 <= bar < self.size else self.size - 1
        return float(self.values[bar]) if self.size else math.nan

    def points(self, first: float, last: float, most: int) -> tuple[Array, Array]:
        """Bar numbers and values to draw between two bars: each bar's, or where those are more than
        `most`, the lowest and highest of some together."""
        begin, end = max(0, int(first) - 1), min(self.size, int(last) + 2)
        depth, width = 0, 1
        while (end - begin) / width > most and depth < len(self._levels):
            depth, width = depth + 1, width * FACTOR
        if not depth:
            return np.arange(begin, max(begin, end), dtype=np.float64), self.values[begin:end]
        low, high = self._levels[depth - 1]
        start, stop = begin // width, min(-(-end // width), low.size)
        middles = np.arange(start, stop) * width + (width - 1) / 2
        x = np.repeat(middles, 2)
        y = np.column_stack([low[start:stop], high[start:stop]]).ravel()
        rest = self.values[max(begin, low.size * width) : end]  # of the last, unfinished one
        if not rest.size:
            return x, y
        at = end - (rest.size + 1) / 2
        ends = [np.fmin.reduce(rest), np.fmax.reduce(rest)]
        return np.concatenate([x, [at, at]]), np.concatenate([y, ends])

    def extremes(self, first: float, last: float) -> tuple[float, float] | None:
        """The lowest and the highest between two bars; None where there is no value."""
        _, values = self.points(first, last, 100)
        known = values[~np.isnan(values)]
        return (float(known.min()), float(known.max())) if known.size else None


def _fours(pick: np.ufunc, values: Array) -> Array:
    """Of every four values the one to pick: several times as quick as `reduce` along an axis."""
    whole = values.size // FACTOR * FACTOR
    a, b, c, d = (values[at:whole:FACTOR] for at in range(FACTOR))
    found: Array = pick(pick(a, b), pick(c, d))
    return found


class Panel(NamedTuple):
    """What is drawn below the bars on a scale of its own: curves, whose values have so many digits,
    and fixed values that they are compared with."""

    title: str
    curves: tuple[Curve, ...]
    digits: int
    levels: tuple[float, ...] = ()
