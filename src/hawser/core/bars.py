"""Bars: price history as arrays, joined into coarser timeframes. A bar's time is its opening
(section 1)."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import NamedTuple

import numpy as np

from hawser.core.clock import MINUTE, TIMEFRAMES
from hawser.core.compiled import compiled
from hawser.core.indicators import Array


class Bars(NamedTuple):
    """Columns of equal length: `time` int64 ns UTC; bid prices and `spread` (ticks) float64."""

    time: Array
    open: Array
    high: Array
    low: Array
    close: Array
    spread: Array

    def last(self, count: int) -> Bars:
        """The last `count` bars, as views."""
        return self.mapped(lambda column: column[max(0, column.size - count) :])

    def mapped(self, change: Callable[[Array], Array]) -> Bars:
        """Each column put through `change`."""
        return Bars._make(map(change, self))

    @staticmethod
    def empty() -> Bars:
        none = np.empty(0)
        return Bars(
            time=np.empty(0, np.int64), open=none, high=none, low=none, close=none, spread=none
        )


class GrowingColumns:
    """Columns of equal length that grow at the end. Nothing before the end ever changes, so what
    `columns` gave stays as it was, and another thread may keep it without a copy."""

    def __init__(self, columns: Sequence[Array], ready: bool = False) -> None:
        """The given arrays are not written to: what is added goes to new ones, which are made now
        where it is to be `ready` for that."""
        self._columns, self.size = list(columns), int(columns[0].size)
        if ready:
            self._make_room()

    def columns(self) -> Iterator[Array]:
        """Each column as it is now, read-only."""
        for column in self._columns:
            view = column[: self.size]
            view.flags.writeable = False
            yield view

    def append(self, values: Iterable[float]) -> None:
        """One more value for each column."""
        if self.size == self._columns[0].size:
            self._make_room()
        for column, value in zip(self._columns, values, strict=True):
            column[self.size] = value
        self.size += 1

    def _make_room(self) -> None:
        room = max(64, self.size // 4)
        self._columns = [
            np.concatenate([column, np.empty(room, column.dtype)]) for column in self._columns
        ]


@compiled
def join_on(bars: Bars, into: Bars, span: int, begins: int, rows: int, first: int) -> int:
    """Bars from `first` on joined into bars of `span` ns, which open whole numbers of it after
    `begins` (UTC ns). `rows`: how many of them `into` has; how many it has then is returned. The
    last may be unfinished, and is gone on with."""
    k = rows - 1
    for i in range(first, bars.time.size):
        start = bars.time[i] - (bars.time[i] - begins) % span
        if k < 0 or into.time[k] != start:
            k += 1
            into.time[k], into.open[k] = start, bars.open[i]
            into.high[k], into.low[k] = bars.high[i], bars.low[i]
        into.high[k] = max(into.high[k], bars.high[i])
        into.low[k] = min(into.low[k], bars.low[i])
        into.close[k], into.spread[k] = bars.close[i], bars.spread[i]
    return k + 1


def joined(bars: Bars, span_ns: int, begins: int = 0) -> Bars:
    """`bars` joined into bars of `span_ns`, which open whole numbers of it after `begins` (UTC ns);
    the last may be unfinished."""
    if bars.time.size == 0:
        return bars
    into = bars.mapped(np.empty_like)
    rows = join_on(bars, into, span_ns, begins=begins, rows=0, first=0)
    return into.mapped(lambda column: column[:rows])


def last_ended(opened: Array, length: int, closes: Array) -> Array:
    """Of bars that open at `opened` and are `length` long, the last that has ended at each of
    `closes`; -1 before the first has. All ns."""
    return np.searchsorted(opened, closes - length, side="right") - 1


def span_of(times: Array) -> int:
    """The bar length of a history: the smallest step between its times, ns; a minute where there is
    one bar."""
    return int(np.diff(times).min()) if times.size > 1 else MINUTE


class Length(NamedTuple):
    """How long a history's bars are, ns: the step between most of them. `even`: all open a whole
    number of lengths apart and on whole lengths of UTC, so that coarser bars can be joined of them.
    Bars by range, by local days or with one that is a second late are not."""

    span: int
    even: bool


def usual_step(times: Array) -> int:
    """The step between most of two or more ascending times, ns; where none is so frequent, the
    middle one. What more than half of the steps are is the middle one too."""
    return int(np.median(np.diff(times)))


def length_of(times: Array) -> Length:
    """The length of bars that open at `times`, ascending UTC ns; a minute where there is one
    bar."""
    if times.size < 2:
        return Length(MINUTE, bool(times.size == 0 or times[0] % MINUTE == 0))
    span = usual_step(times)
    return Length(span, bool((times % span == 0).all()))


def timeframes_for(length: Length) -> list[int]:
    """The bar lengths that a history can be shown and tended in, ns: its own, and the coarser ones
    of ours that can be joined of it."""
    coarser = [
        span for span in TIMEFRAMES.values() if span > length.span and span % length.span == 0
    ]
    return [length.span, *(coarser if length.even else ())]
