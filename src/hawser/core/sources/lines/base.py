"""What a kind of line is: its keys, and how it goes on bar by bar."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import msgspec
import numpy as np

from hawser.core.bars import Bars
from hawser.core.errors import BadInput
from hawser.core.field_help import help_text
from hawser.core.indicators import Array
from hawser.core.numbers import MOST_BARS
from hawser.core.sources.growing import Growing
from hawser.core.timeframes import timeframe

FLOAT, PLACE = np.float64, np.int64
Base = tuple[Array, ...]  # columns of another line
# Words with keys in braces, as {length}. Every part but the first is said only where one of its
# keys is not as it is by default.
Template = tuple[str, ...]
# prices, distances between prices, 0 to 100, quantities
Scale = Literal["price", "range", "strength", "amount"]
TAKEN_OF: Template = ("", "on {timeframe} bars", "of {instrument}")  # what every line says last
LENGTH = 14  # bars, where a line's length is not given
Length = Annotated[int, help_text("of its window", "bars", least=1, most=MOST_BARS)]


class Line(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, tag_field="kind"):
    """A line of one kind, as a file declares it. It fills the first of its columns with its values,
    NaN where there is none yet; the others are its own."""

    NAME: ClassVar[str] = ""  # what a screen calls it
    SAYS: ClassVar[Template] = ("",)  # and its keys, behind the name
    SCALE: ClassVar[Scale] = "price"  # what its values are measured in
    COLUMNS: ClassVar[tuple[type, ...]] = (FLOAT,)  # the kinds of its columns
    CARRIED: ClassVar[int] = 0  # how many figures it takes along from bar to bar
    WAYS: ClassVar[int] = 0  # the column of its direction, where it has one: +1 up, -1 down
    OF: ClassVar[str] = ""  # the column of the bars that it is, where it is one of them

    timeframe: (
        Annotated[str, help_text("the coarser bars that it is taken of", "", example="4h")] | None
    ) = None
    instrument: (
        Annotated[str, help_text("the other instrument that it is of", "", example="Harbour 40")]
        | None
    ) = None

    def __post_init__(self) -> None:
        if self.timeframe is not None:
            try:
                timeframe(self.timeframe)
            except BadInput as error:
                raise BadInput.at(error.code, "timeframe", error.sentence) from None
        if self.instrument is not None and not self.instrument.strip():
            raise BadInput.at("bad_line", "instrument", "expected an instrument's symbol")

    @property
    def of_chart(self) -> bool:
        """Whether it is of the very bars that are looked at."""
        return self.timeframe is None and self.instrument is None

    @property
    def needs(self) -> int:
        """How many bars it takes until there is a first value."""
        return 1

    @property
    def made_of(self) -> Line | None:
        """A line of the same bars that this one is worked out of, and others may share."""
        return None

    def go_on(
        self, bars: Bars, columns: tuple[Array, ...], carried: Array, first: int, base: Base
    ) -> None:
        """Fill the columns from bar `first` to the last of `bars`; `base`: the columns of what it
        is made of."""
        raise NotImplementedError

    def values(self, bars: Bars) -> Array:
        """The line at every bar, shape (n,); NaN where it has no value yet."""
        return LineRun(self).extended(bars)


class LineRun:
    """A line that goes on as bars are added at the end."""

    def __init__(self, line: Line, base: LineRun | None = None) -> None:
        """`base`: what it is made of, where there is such a line already."""
        self.line, self.size = line, 0
        self._columns = Growing(line.COLUMNS)
        self._carried = np.zeros(line.CARRIED)
        made_of = line.made_of
        self._base = base or (LineRun(made_of) if made_of is not None else None)

    def extended(self, bars: Bars) -> Array:
        """The values at all of `bars`, which begin with those there were."""
        if self.line.OF:
            column: Array = getattr(bars, self.line.OF)
            return column
        size = bars.time.size
        columns = self._columns.room(size)
        if size > self.size:
            base = self._base.columns(bars) if self._base is not None else ()
            self.line.go_on(bars, columns, self._carried, self.size, base)
            self.size = size
        return columns[0][:size]

    def columns(self, bars: Bars) -> Base:
        """All its columns at all of `bars`."""
        self.extended(bars)
        return tuple(column[: self.size] for column in self._columns.room(self.size))

    @property
    def ways(self) -> Array:
        """The directions at the bars there have been."""
        return self._columns.room(self.size)[self.line.WAYS][: self.size]


class Lengthy(Line, frozen=True, kw_only=True):
    """A line over a window of bars."""

    length: Length = LENGTH

    @property
    def needs(self) -> int:
        return self.length
