"""What a source looks at: the bars of a chart and the lines over them, which go on as bars come."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

import numpy as np

from hawser.core.bars import Bars
from hawser.core.clock import timeframe_name
from hawser.core.compiled import compiled
from hawser.core.errors import BadInput
from hawser.core.indicators import Array
from hawser.core.sources.growing import Growing
from hawser.core.sources.lines.base import FLOAT, PLACE, Line, LineRun
from hawser.core.timeframes import Timeframe, timeframe

UNKNOWN = -1  # bars that have not ended yet


@compiled
def join_on(
    bars: Bars,
    into: Bars,
    span: int,
    begins: int,
    rows: int,
    first: int,
) -> int:
    """Bars from `first` on joined into bars of `span`; how many there are then, the last of which
    may be unfinished. `rows`: how many there were."""
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


@compiled
def pick_on(values: Array, places: Array, out: Array, first: int) -> None:
    """Of each place its value; NaN where there is none."""
    for i in range(first, places.size):
        out[i] = values[places[i]] if places[i] >= 0 else np.nan


class Seen(NamedTuple):
    """What there is to be seen so far: the chart's bars, those of other instruments by name, all of
    which must have been told that ended with the chart's last bar or before, and the chart's
    further columns."""

    bars: Bars
    others: Mapping[str, Bars] = {}
    columns: Mapping[str, Array] = {}
    following: int | None = None  # when the bar after the last one opened, where that is known


class Step:
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


class Feed:
    """Bars that a line is taken of, and which of them has ended at each bar of the chart."""

    def __init__(self, instrument: str | None, wanted: Timeframe | None, place: str) -> None:
        self._instrument, self._wanted, self._place = instrument, wanted, place
        self._joined = Growing([PLACE, FLOAT, FLOAT, FLOAT, FLOAT, FLOAT])
        self._known = Growing([PLACE])
        self._rows = self._from = self._chart = 0
        self._step = Step()

    def extend(self, seen: Seen, span: int | None) -> tuple[Bars, Array]:
        """The bars that are complete by the chart's last, and of each bar of the chart the last one
        that has ended by its end (-1: none). `span`: of the chart's bars, None: not known."""
        base, step = seen.bars, span
        if self._instrument is not None:
            base = seen.others[self._instrument]
            step = self._step.over(base.time)
        size = seen.bars.time.size
        known = self._known.room(size)[0]
        if span is None or step is None:
            known[self._chart : size] = UNKNOWN
            self._chart = size
            return Bars.empty(), known[:size]
        last = max(int(seen.bars.time[-1]) + span, int(base.time[-1]) + step)
        bars, length = base, step
        if self._wanted is not None and self._wanted.span != step:
            bars, length = self._join(base, step, last)
        began = seen.bars.time[self._chart :] + (span - length)  # by then, if it has ended
        known[self._chart : size] = np.searchsorted(bars.time, began, side="right") - 1
        self._chart = size
        return bars, known[:size]

    def _join(self, base: Bars, step: int, last: int) -> tuple[Bars, int]:
        assert self._wanted is not None
        span, begins = self._wanted.span, self._wanted.begins
        self._check(base, step)
        new = base.time[self._from :]
        most = min(new.size, int(new[-1] - new[0]) // span + 2) if new.size else 0
        columns = self._joined.room(self._rows + most)
        if new.size:
            into = Bars._make(columns)
            self._rows = join_on(base, into, span, begins, self._rows, self._from)
            self._from = base.time.size
        rows = self._rows
        if rows and int(columns[0][rows - 1]) + span > last:
            rows -= 1
        return Bars._make(column[:rows] for column in columns), span

    def _check(self, base: Bars, step: int) -> None:
        assert self._wanted is not None
        span, text = self._wanted.span, self._wanted.text
        if span < step or span % step:
            what = "finer than" if span < step else "no whole multiple of"
            raise BadInput.at(
                "bad_timeframe", self._place, f"{text} is {what} the bars, {timeframe_name(step)}"
            )
        across = (base.time[self._from :] - self._wanted.begins) % span + step > span
        if across.any():
            row = self._from + int(np.argmax(across))
            opens = np.datetime_as_string(base.time[row].astype("datetime64[ns]"), unit="s")
            raise BadInput.at(
                "bad_timeframe",
                self._place,
                f"the bar of {opens}Z does not lie whole within one of {text}",
            )


class View:
    """The lines that several conditions ask for, each made once."""

    def __init__(self, span: int | None = None) -> None:
        """`span`: how long the chart's bars are, ns, where that is known; else it is the smallest
        step between them."""
        self._given, self.span, self._step = span, span, Step()
        self.seen = Seen(Bars.empty())
        self._lines: dict[Line | float, tuple[Feed | None, LineRun | None, Growing, int]] = {}
        self._feeds: dict[tuple[str | None, str | None], Feed] = {}
        self._extended: dict[tuple[str | None, str | None], tuple[Bars, Array]] = {}

    @property
    def size(self) -> int:
        return int(self.seen.bars.time.size)

    def see(self, seen: Seen) -> None:
        """More bars at the end of the chart."""
        self.seen, self._extended = seen, {}
        if self._given is None:
            self.span = self._step.over(seen.bars.time)

    def series(self, of: Line | float, place: str = "") -> Array:
        """A line or a number at every bar of the chart; NaN where it is not known. `place`: the key
        that asks for it."""
        size = self.size
        if not isinstance(of, Line):
            feed, run, aligned, done = self._lines.get(of) or (None, None, Growing([FLOAT]), 0)
            column = aligned.room(size)[0]
            column[done:size] = of
            self._lines[of] = feed, run, aligned, size
            return column[:size]
        if of.of_chart:
            run = self._run(of)
            return run.extended(self.seen.bars)
        bars, known = self._fed(of, place)
        values = self._run(of).extended(bars)
        feed, run, aligned, done = self._lines[of]
        column = aligned.room(size)[0]
        pick_on(values, known, column, done)
        self._lines[of] = feed, run, aligned, size
        return column[:size]

    def ways(self, of: Line) -> Array:
        """The directions of a line of the chart's own bars."""
        run = self._run(of)
        run.extended(self.seen.bars)
        return run.ways

    def _run(self, of: Line) -> LineRun:
        if of not in self._lines:
            base = of.made_of
            made_of = self._run(base) if base is not None else None
            self._lines[of] = None, LineRun(of, made_of), Growing([FLOAT]), 0
        run = self._lines[of][1]
        assert run is not None
        return run

    def _fed(self, of: Line, place: str) -> tuple[Bars, Array]:
        """The bars that a line is taken of, gone on with once for all of its lines."""
        key = (of.instrument, of.timeframe)
        if key not in self._extended:
            if of.instrument is not None and of.instrument not in self.seen.others:
                raise BadInput.at(
                    "no_bars", place, f"there are no bars of {of.instrument}", name=of.instrument
                )
            if key not in self._feeds:
                wanted = timeframe(of.timeframe) if of.timeframe is not None else None
                self._feeds[key] = Feed(of.instrument, wanted, place)
            self._extended[key] = self._feeds[key].extend(self.seen, self.span)
        return self._extended[key]
