"""What a source looks at: the bars of a chart and the lines over them, which go on as bars come."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import NamedTuple

import numpy as np

from hawser.core.bars import Bars, join_on, last_ended
from hawser.core.compiled import compiled
from hawser.core.errors import BadInput
from hawser.core.indicators import Array
from hawser.core.joined_bars import check_whole
from hawser.core.sources.growing import Growing
from hawser.core.sources.lines.base import FLOAT, PLACE, Line, LineRun
from hawser.core.timeframes import Timeframe, timeframe

UNKNOWN = -1  # no bar has ended yet
Of = tuple[str | None, str | None]  # an instrument and a timeframe; None: the chart's


@compiled
def pick_on(values: Array, places: Array, out: Array, first: int) -> None:
    """Of each place its value; NaN where there is none."""
    for i in range(first, places.size):
        out[i] = values[places[i]] if places[i] >= 0 else np.nan


class BarsSeen(NamedTuple):
    """What there is to be seen so far: the chart's bars, those of other instruments by name, all of
    which must have been told that ended with the chart's last bar or before, and the chart's
    further columns. `spans`: how long the bars of another instrument are, ns, where that is known;
    else it is the smallest step between those that were told."""

    bars: Bars
    others: Mapping[str, Bars] = {}
    columns: Mapping[str, Array] = {}
    following: int | None = None  # when the bar after the last one opened, where that is known
    spans: Mapping[str, int] = {}


class BarLength:
    """The smallest step of bars that are added at the end: how long they are."""

    def __init__(self) -> None:
        self._least: int | None = None
        self._size = 0

    def over(self, times: Array) -> int | None:
        """Of all these; None where there are not two."""
        if times.size > max(1, self._size):
            steps = np.diff(times[max(0, self._size - 1) :])
            least = int(steps.min())
            self._least = least if self._least is None else min(self._least, least)
            self._size = times.size
        return self._least


class OtherBars:
    """Bars that a line is taken of, and which of them has ended at each bar of the chart."""

    def __init__(self, instrument: str | None, wanted: Timeframe | None, place: str) -> None:
        self._instrument, self._wanted, self._place = instrument, wanted, place
        self._joined = Growing([PLACE, FLOAT, FLOAT, FLOAT, FLOAT, FLOAT])
        self._known = Growing([PLACE])
        self._rows = self._from = self._chart = 0
        self._step = BarLength()

    def extend(self, seen: BarsSeen, span: int | None) -> tuple[Bars, Array]:
        """The bars that are complete by the chart's last, and of each bar of the chart the last one
        that has ended by its end (-1: none). `span`: of the chart's bars, None: not known."""
        base, step = seen.bars, span
        if self._instrument is not None:
            base = seen.others[self._instrument]
            step = seen.spans.get(self._instrument) or self._step.over(base.time)
        size = seen.bars.time.size
        known = self._known.room(size)[0]
        if span is None or step is None or not base.time.size:
            known[self._chart : size] = UNKNOWN
            self._chart = size
            return Bars.empty(), known[:size]
        last = max(int(seen.bars.time[-1]) + span, int(base.time[-1]) + step)
        bars, length = base, step
        if self._wanted is not None and self._wanted.span != step:
            bars, length = self._join(base, step, last)
        closes = seen.bars.time[self._chart :] + span
        known[self._chart : size] = last_ended(bars.time, length, closes)
        self._chart = size
        return bars, known[:size]

    def _join(self, base: Bars, step: int, last: int) -> tuple[Bars, int]:
        assert self._wanted is not None
        span, begins = self._wanted.span, self._wanted.begins
        new = base.time[self._from :]
        try:
            check_whole(new, step, self._wanted)
        except BadInput as error:
            raise BadInput.at(error.code, self._place, error.sentence) from None
        most = min(new.size, int(new[-1] - new[0]) // span + 2) if new.size else 0
        columns = self._joined.room(self._rows + most)
        if new.size:
            into = Bars._make(columns)
            self._rows = join_on(base, into, span, begins=begins, rows=self._rows, first=self._from)
            self._from = base.time.size
        rows = self._rows
        if rows and int(columns[0][rows - 1]) + span > last:
            rows -= 1
        return Bars._make(column[:rows] for column in columns), span


class Aligned:
    """One column as long as the chart, filled as far as it goes."""

    def __init__(self) -> None:
        self._column, self._done = Growing([FLOAT]), 0

    def filled(self, size: int, fill: Callable[[Array, int], object]) -> Array:
        """The first `size` values; `fill` is given a column of them and where it is to begin."""
        column = self._column.room(size)[0][:size]
        fill(column, self._done)
        self._done = size
        return column


class View:
    """The lines that several conditions ask for, each made once."""

    def __init__(self, span: int | None = None) -> None:
        """`span`: how long the chart's bars are, ns, where that is known; else it is the smallest
        step between them."""
        self._given, self.span, self._step = span, span, BarLength()
        self.seen = BarsSeen(Bars.empty())
        self._runs: dict[Line, LineRun] = {}
        self._aligned: dict[Line | float, Aligned] = {}
        self._feeds: dict[Of, OtherBars] = {}
        self._fed: dict[Of, tuple[Bars, Array]] = {}  # with the bars that are seen now

    @property
    def size(self) -> int:
        return int(self.seen.bars.time.size)

    def see(self, seen: BarsSeen) -> None:
        """More bars at the end of the chart."""
        self.seen, self._fed = seen, {}
        if self._given is None:
            self.span = self._step.over(seen.bars.time)

    def series(self, of: Line | float, place: str = "") -> Array:
        """A line or a number at every bar of the chart; NaN where it is not known. `place`: the key
        that asks for it."""
        if isinstance(of, Line) and of.of_chart:
            return self._run(of).extended(self.seen.bars)
        aligned = self._aligned.setdefault(of, Aligned())
        if not isinstance(of, Line):
            return aligned.filled(self.size, lambda column, first: column[first:].fill(of))
        bars, known = self._bars_of(of, place)
        values = self._run(of).extended(bars)
        return aligned.filled(
            self.size, lambda column, first: pick_on(values, known, column, first)
        )

    def ways(self, of: Line) -> Array:
        """The directions of a line of the chart's own bars."""
        run = self._run(of)
        run.extended(self.seen.bars)
        return run.ways

    def _run(self, of: Line) -> LineRun:
        if of not in self._runs:
            base = of.made_of
            self._runs[of] = LineRun(of, self._run(base) if base is not None else None)
        return self._runs[of]

    def _bars_of(self, of: Line, place: str) -> tuple[Bars, Array]:
        """The bars that a line is taken of, gone on with once for all of its lines."""
        key = (of.instrument, of.timeframe)
        if key not in self._fed:
            if of.instrument is not None and of.instrument not in self.seen.others:
                raise BadInput.at(
                    "no_bars", place, f"there are no bars of {of.instrument}", name=of.instrument
                )
            if key not in self._feeds:
                wanted = timeframe(of.timeframe) if of.timeframe is not None else None
                self._feeds[key] = OtherBars(of.instrument, wanted, place)
            self._fed[key] = self._feeds[key].extend(self.seen, self.span)
        return self._fed[key]
