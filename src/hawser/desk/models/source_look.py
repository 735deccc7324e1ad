"""A source over the bars that are looked at, without Qt: where it enters and leaves, its lines, why
it says what it says at a bar, and what followed."""

from __future__ import annotations

import difflib
import math
from collections.abc import Iterable, Mapping, Sequence
from datetime import tzinfo
from pathlib import Path
from typing import NamedTuple, Protocol

import msgspec
import numpy as np

from hawser.core.bars import Bars
from hawser.core.errors import BadInput
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.core.sources.conditions.base import Condition, Figure, Measure, Part
from hawser.core.sources.conditions.compared import Compared
from hawser.core.sources.evaluation import Evaluation
from hawser.core.sources.followed import Followed, followed
from hawser.core.sources.followed_said import OfAll, of_all
from hawser.core.sources.lines.base import Line
from hawser.core.sources.reasons import BarReason, reasons
from hawser.core.sources.source import Source, too_short, worries
from hawser.core.sources.view import BarsSeen
from hawser.desk.models import figures as fg
from hawser.desk.models.curves import Curve, Panel

MOST_WAITED = 60.0  # seconds for own Python: somebody looks on
SEEN, MOST_DIGITS = 200, 8  # closes that are looked at for the digits of prices
MOST_PANELS = 3  # strips below the bars
TITLES = {
    "price": "",
    "range": "ATR",
    "strength": "RSI",
    "amount": "Volume",
}  # of strips; empty: over the bars
WRITTEN: dict[Measure, int] = {"strength": 1, "amount": 0}  # digits behind the point
NO_VOLUME = "There is no volume here: open a bar file with a column volume, by `hawser --bars`"
WORDS = {"enter": "Enter", "only": "Only where", "leave": "Leave"}


class FurtherColumns(Protocol):
    """What a bar file has beside its prices (`service/own_columns.py`)."""

    def over(self, source: Source, bars: Bars, span: int) -> dict[str, Array]:
        """What a source looks at, at each of these bars of `span` ns. Raises BadInput."""

    def volume(self, bars: Bars, span: int) -> Array | None:
        """What was traded within each of them; None: the file does not say. Raises BadInput."""


class Ground(msgspec.Struct, frozen=True):
    """What a source is looked at over: an instrument's bars of `span` ns, those of all instruments
    by name, how long those are, and where further columns are read."""

    instrument: Instrument
    span: int
    bars: Bars
    others: Mapping[str, Bars] = {}
    spans: Mapping[str, int] = {}
    columns: FurtherColumns | None = None  # of the file that plays the market

    def digits(self, measure: Measure, instrument: str | None = None) -> int:
        """Of a value of a line of the chart's instrument, or of another one."""
        if measure in WRITTEN:
            return WRITTEN[measure]
        own = instrument is None or instrument not in self.others
        found = self.instrument.price_digits if own else decimals(self.others[str(instrument)])
        return found + (measure == "range")

    def volume(self) -> Array:
        """Of each bar. Raises BadInput where nothing tells it."""
        found = self.columns.volume(self.bars, self.span) if self.columns is not None else None
        if found is None:
            raise BadInput("no_volume", NO_VOLUME)
        return found

    def last(self, most: int) -> Ground:
        """The same with the last bars alone."""
        return msgspec.structs.replace(self, bars=self.bars.last(most))


def decimals(bars: Bars) -> int:
    """How many digits behind the point the last prices have."""
    closes = bars.close[-SEEN:]
    fits = (n for n in range(MOST_DIGITS) if np.allclose(closes, np.round(closes, n), rtol=1e-12))
    return next(fits, MOST_DIGITS)


class Look:
    """A source that has been evaluated over some bars."""

    def __init__(self, source: Source, ground: Ground, said: Mapping[str, Array] = {}) -> None:
        """`said`: the columns that it looks at, and what a person's own Python answered, by the
        condition's place. Raises BadInput."""
        check_lines(source.lines(), ground)
        self.source, self.ground = source, ground
        self._evaluation = Evaluation(source, ground.span)
        seen = BarsSeen(ground.bars, ground.others, said, spans=ground.spans)
        try:
            self.said = self._evaluation.extended(seen)
        except BadInput as error:
            if error.code != "no_column":
                raise
            told = f"{error.text}. Open the file that has it, with `hawser --bars`"
            raise BadInput.at(error.code, error.place, told) from None

    @property
    def size(self) -> int:
        return int(self.ground.bars.time.size)

    @property
    def minded(self) -> list[str]:
        """What is odd about it: sentences."""
        return [*worries(self.source), *too_short(self.source, self.size)]

    def reasons(self, bar: int) -> list[BarReason]:
        return reasons(self._evaluation, bar)

    def next_signal(self, bar: int, way: int) -> int | None:
        """The next bar that signals, from `bar` on to the right, +1, or to the left, -1."""
        at = np.flatnonzero(self.said.signal)
        at = at[at > bar] if way > 0 else at[at < bar][::-1]
        return int(at[0]) if at.size else None

    # Its lines

    def drawn(self, first: int) -> tuple[list[Curve], list[Panel]]:
        """The lines over the bars from `first` on, and the strips below them. A line stands where
        it is looked at: one that a bar is compared with as it was before, a bar later."""
        view = self._evaluation.view
        return arranged(
            (
                LaidLine(name, line, values, _levels(answered.condition))
                for answered in self._evaluation.answers
                for name, line, values in answered.condition.drawn(view, answered.place, first)
                if not (line.OF and line.of_chart)
            ),
            self.ground,
        )


class LaidLine(NamedTuple):
    """A line that is to be drawn, with the numbers that it is compared with."""

    name: str
    line: Line
    values: Array
    levels: Sequence[float] = ()


def arranged(lines: Iterable[LaidLine], ground: Ground) -> tuple[list[Curve], list[Panel]]:
    """Lines of the chart's own scale, each once, and strips for the others, each scale its own."""
    over: dict[str, Curve] = {}
    below: dict[str, dict[str, Curve]] = {}
    levels: dict[str, dict[float, None]] = {}
    digits: dict[str, int] = {}
    for one in lines:
        title = one.line.instrument or TITLES[one.line.SCALE]
        if not title:
            over.setdefault(one.name, Curve(one.name, one.values))
            continue
        below.setdefault(title, {}).setdefault(one.name, Curve(one.name, one.values))
        levels.setdefault(title, {}).update(dict.fromkeys(one.levels))
        digits[title] = ground.digits(one.line.SCALE, one.line.instrument)
    panels = [
        Panel(title, tuple(curves.values()), digits[title], tuple(levels[title]))
        for title, curves in below.items()
    ]
    return list(over.values()), panels[:MOST_PANELS]


def _levels(condition: Condition) -> list[float]:
    """The numbers that its lines are compared with."""
    if not isinstance(condition, Compared):
        return []
    return [one for one in condition.sides().values() if not isinstance(one, Line)]


def check_lines(lines: Iterable[tuple[str, Line]], ground: Ground) -> None:
    """Whether there is what they are of: each with its place. Raises BadInput."""
    for place, line in lines:
        name = line.instrument
        if name is not None and name not in ground.others:
            near = difflib.get_close_matches(name, list(ground.others), n=1, cutoff=0.0)
            told = f"There are no bars of {name} here"
            if near:
                told += f"; the nearest is {near[0]}"
            raise BadInput.at("no_bars", f"{place}.instrument", told)


# Why, at one bar


class Row(msgspec.Struct, frozen=True):
    """One condition at a bar, in words: when it says long and when short, its figures, and its two
    answers."""

    part: Part
    place: str
    long_text: str
    short_text: str
    figures: tuple[tuple[str, str], ...]  # names and values
    long: bool
    short: bool

    @property
    def in_words(self) -> str:
        answers = f"long {'yes' if self.long else 'no'}, short {'yes' if self.short else 'no'}"
        told = f"{WORDS[self.part]}: {self.long_text}: {answers}"
        return "; ".join([told, *(f"{name}: {value}" for name, value in self.figures)])


def rows_of(look: Look, bar: int, zone: tzinfo) -> list[Row]:
    """Every condition at one bar."""
    return [
        Row(
            one.part,
            one.place,
            one.when(1),
            short_text=one.when(-1),
            figures=tuple(
                _figure(figure, look.ground, zone, one.condition.back) for figure in one.figures
            ),
            long=one.long,
            short=one.short,
        )
        for one in look.reasons(bar)
    ]


def _figure(figure: Figure, ground: Ground, zone: tzinfo, back: int) -> tuple[str, str]:
    def said(value: float) -> str:
        if math.isnan(value):
            return "not known yet"
        if figure.measure == "time":
            return f"{fg.moment(int(value), zone):%a %H:%M}"
        if figure.measure == "answer":
            return fg.number(value, 0, sign=True)
        return fg.number(value, ground.digits(figure.measure, figure.instrument))

    text = said(figure.value)
    if figure.to:
        text += ", up" if figure.to > 0 else ", down"
    if figure.before is not None:
        when = "before" if back == 1 else f"{fg.counted(back, 'bar')} before"
        text = f"{when} {said(figure.before)}, now {text}"
    return figure.name, text


def verdict(look: Look, bar: int) -> str:
    """What the source says at a bar, and what is missing where it says nothing."""
    signal, leave = int(look.said.signal[bar]), int(look.said.leave[bar])
    if look.said.both_ways[bar]:
        told = "Long and short at once: no signal"
    elif signal:
        told = f"Enters {fg.side_word(signal)}"
    else:
        told = f"No entry; {_missing(look, bar)}"
    left = {-1: "leaves a long", 1: "leaves a short", 2: "leaves long and short"}.get(leave)
    return f"{told}; {left}" if left else told


def _missing(look: Look, bar: int) -> str:
    """How many of the conditions hold for each side that is entered."""
    sides = {"both": (1, -1), "long": (1,), "short": (-1,)}[look.source.sides]
    found = [one for one in look.reasons(bar) if one.part != "leave"]
    held = [
        f"{sum(one.says(side) for one in found)} of {len(found)} for {fg.side_word(side)}"
        for side in sides
    ]
    return f"conditions that hold: {', '.join(held)}"


# What followed


class Horizon(msgspec.Struct, frozen=True):
    """What followed within so many bars, and how far prices went after all bars with the same mix
    of sides; None where no signal has so many bars behind it."""

    bars: int
    signals: Followed
    all: OfAll | None


def horizons(look: Look) -> list[Horizon]:
    """What followed within each horizon."""
    bars, signal = look.ground.bars, look.said.signal
    return [
        Horizon(horizon, one, of_all(bars, horizon, signal))
        for horizon, one in followed(bars, signal).items()
    ]


def takes_a_while(source: Source, ground: Ground) -> bool:
    """Whether it is to be looked at away from the window's thread only."""
    return bool(source.own_python() or (source.columns and ground.columns is not None))


def looked_at(source: Source, path: Path | None, ground: Ground) -> tuple[Look, list[str]]:
    """A source over some bars, also one with own Python or columns of a file, which take a while:
    to be called away from the window's thread. With it what is to be minded. `path`: the source's
    file. Raises BadInput."""
    said: dict[str, Array] = {}
    minded: list[str] = []
    if ground.columns is not None and (source.columns or source.own_python()):
        said = ground.columns.over(source, ground.bars, ground.span)
    if source.own_python():
        from hawser.service.own_python import CallLimits, answers

        if path is None:
            raise BadInput("no_file", "Own Python is read from the folder of the source's file")
        limits = CallLimits(wall_s=MOST_WAITED)
        found, minded = answers(source.own_python(), path, ground.bars, said, limits)
        said |= found
    return Look(source, ground, said), minded
