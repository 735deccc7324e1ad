"""A history's bars joined to a timeframe, to decide on, with the finer ones inside (reckoning
section 10)."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from hawser.core.bars import Bars, joined, span_of
from hawser.core.clock import timeframe_name
from hawser.core.errors import BadInput
from hawser.core.indicators import Array
from hawser.core.timeframes import Timeframe


class Joined(NamedTuple):
    """Bars that are decided on, and of each the first row of the finer ones that comes after it
    (int64, of the same length)."""

    bars: Bars
    ends: Array
    span: int
    begins: int = 0

    @property
    def lasts(self) -> Array:
        """The row of the last finer bar that each has."""
        return self.ends - 1

    @property
    def firsts(self) -> Array:
        """The row of the first finer bar that each has."""
        found: Array = np.concatenate([[0], self.ends[:-1]])
        return found

    @property
    def finer(self) -> bool:
        """Whether there are finer ones inside: not, where the file's own length was asked for."""
        return int(self.ends[-1]) > self.ends.size


def alone(bars: Bars) -> Joined:
    """Bars that are decided on as they are."""
    return Joined(bars, np.arange(1, bars.time.size + 1), span_of(bars.time))


def joined_to(bars: Bars, wanted: Timeframe, ticks: bool = False) -> Joined:
    """`bars` joined to a timeframe. Raises BadInput where it is finer than they are, no whole
    multiple, or where some do not lie whole within one; `ticks` have no length, and lie in any.
    """
    span, step = wanted.span, span_of(bars.time)
    if not ticks:
        if span == step:  # wherever they begin: daily bars of a market may open at 22:00
            return alone(bars)
        check_whole(bars.time, step, wanted)
    coarse = joined(bars, span, wanted.begins)
    ends = np.searchsorted(bars.time, coarse.time + span)
    return Joined(coarse, ends, span, wanted.begins)


VOLUME = "volume"  # the column that adds up


def cells(name: str, column: Array, firsts: Array, ends: Array) -> Array:
    """A further column at bars that are joined of the rows from `firsts` to before `ends`: volume
    is the sum of what is known, of any other column the last row counts. NaN where there is no
    row."""
    there = ends > firsts
    last = np.where(there, ends - 1, 0)
    if name != VOLUME:
        return np.where(there, column[last].astype(np.float64), np.nan)
    known = ~np.isnan(column)
    total = np.concatenate([[0.0], np.cumsum(np.where(known, column, 0.0))])
    count = np.concatenate([[0], np.cumsum(known)])
    some = there & (count[ends] > count[firsts])
    return np.where(some, total[ends] - total[firsts], np.nan)


def check_whole(times: Array, step: int, wanted: Timeframe) -> None:
    """Refuse a timeframe that bars of `step` ns that open at `times` do not make up whole; raises
    BadInput."""
    span = wanted.span
    if span < step or span % step:
        what = "finer than" if span < step else "no whole multiple of"
        raise BadInput("bad_timeframe", f"{wanted.text} is {what} the bars, {timeframe_name(step)}")
    across = (times - wanted.begins) % span + step > span
    if across.any():
        row = int(np.argmax(across))
        opens = np.datetime_as_string(times[row].astype("datetime64[ns]"), unit="s")
        raise BadInput(
            "bad_timeframe",
            f"the bar of {opens}Z does not lie whole within one of {wanted.text}",
            row=row,
        )
