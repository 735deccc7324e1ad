"""What a kind of condition is: its keys, and its two answers at every bar."""

from __future__ import annotations

import math
from typing import Annotated, ClassVar, Literal

import msgspec
import numpy as np

from hawser.core.field_help import help_text
from hawser.core.indicators import Array
from hawser.core.sources.lines.base import Line, Scale, Template
from hawser.core.sources.said import line_said
from hawser.core.sources.view import View

Part = Literal["enter", "only", "leave"]
PARTS: tuple[Part, ...] = ("enter", "only", "leave")


Measure = Scale | Literal["time", "answer"]


class Figure(msgspec.Struct, frozen=True):
    """Something that a condition goes by at a bar: a line, a time (UTC ns), or what others have
    answered (+1, -1, 0). NaN where it is not known. `before`: what it was at the bar before that it
    is compared with; None where no other bar counts. `to`: +1 or -1, where it has a direction."""

    name: str
    value: float
    before: float | None = None
    measure: Measure = "price"
    to: int = 0
    instrument: str | None = None  # None: the chart's


def figure_of(of: Line, values: Array, bar: int, back: int = 0) -> Figure:
    """Of a line. `back`: to which bar before it is compared; 0: to none."""
    before = None
    if back:
        before = float(values[bar - back]) if bar >= back else math.nan
    value = float(values[bar])
    return Figure(line_said(of), value, before, of.SCALE, instrument=of.instrument)


class Condition(
    msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, tag_field="kind"
):
    """A condition of one kind, as a file declares it."""

    NAME: ClassVar[str] = ""  # what a screen calls it
    SAYS: ClassVar[Template] = ("",)  # its keys in a form
    # when it says long and when short; a key that it has for short alone stands for its other one
    LONG: ClassVar[Template] = ("",)
    SHORT: ClassVar[Template] = ("",)
    SIDED: ClassVar[bool] = True  # whether long and short may get two answers
    WAITS: ClassVar[bool] = False  # whether its answer at a bar waits for the bar that follows

    against: Annotated[bool, help_text("whether the two answers are swapped", "")] = False
    either: Annotated[bool, help_text("whether the answer for long holds for both sides", "")] = (
        False
    )

    def sides(self) -> dict[str, Line | float]:
        """What it looks at: by the key, a line or a number."""
        return {}

    @property
    def back(self) -> int:
        """How many bars before the one that it answers it looks at too; 0: none."""
        return 0

    def drawn(self, view: View, place: str, first: int) -> list[tuple[str, Line, Array]]:
        """The lines that it goes by at every bar from `first` to the last that has been seen, with
        their names."""
        return [
            (line_said(of), of, view.series(of, f"{place}.{key}")[first:])
            for key, of in self.sides().items()
            if isinstance(of, Line)
        ]

    def figures(self, view: View, place: str, bar: int) -> list[Figure]:
        """What it goes by at a bar that has been seen."""
        return [
            figure_of(of, view.series(of, f"{place}.{key}"), bar, self.back)
            for key, of in self.sides().items()
            if isinstance(of, Line)
        ]

    @property
    def one_sided(self) -> bool:
        """Whether long and short always get one answer."""
        return self.either or not self.SIDED

    def may_say(self, side: int) -> bool:
        """Whether it can ever hold for a side, +1 or -1, as far as its keys tell."""
        asked = 1 if self.either else side
        return self.may_hold(-asked if self.against else asked)

    def may_hold(self, side: int) -> bool:
        """The same before `against` and `either`."""
        return True

    def state(self) -> Array:
        """What it carries from bar to bar."""
        return np.zeros(0, np.int64)

    def answer(
        self, view: View, place: str, longs: Array, shorts: Array, first: int, carried: Array
    ) -> None:
        """Fill the two answers, bool, from bar `first` to the last that is seen. `place`: where the
        condition stands in its source."""
        raise NotImplementedError
