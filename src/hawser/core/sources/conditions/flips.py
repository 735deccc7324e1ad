"""A line that turns."""

from __future__ import annotations

import math
from typing import Annotated, ClassVar

import msgspec

from hawser.core.errors import BadInput
from hawser.core.field_help import help_text
from hawser.core.indicators import Array
from hawser.core.sources.compare import flips_on
from hawser.core.sources.conditions.base import Condition, Figure, figure_of
from hawser.core.sources.lines.base import Line, Template
from hawser.core.sources.lines.trends import Parabolic, Supertrend
from hawser.core.sources.view import View

TURNING = ("supertrend", "parabolic")  # the kinds of lines that do


class Flips(Condition, frozen=True, kw_only=True, tag="flips"):
    """A line turns up: long; down: short."""

    NAME: ClassVar[str] = "a turn"
    SAYS: ClassVar[Template] = ("{line} turns",)
    LONG: ClassVar[Template] = ("{line} turns up",)
    SHORT: ClassVar[Template] = ("{line} turns down",)

    line: Annotated[Supertrend | Parabolic, help_text("a supertrend or a parabolic", "")]

    def __post_init__(self) -> None:
        for key in ("timeframe", "instrument"):
            if getattr(self.line, key) is not None:
                raise BadInput.at(
                    "bad_source", f"line.{key}", "a line that flips is of the chart's own bars"
                )

    def sides(self) -> dict[str, Line | float]:
        return {"line": self.line}

    def figures(self, view: View, place: str, bar: int) -> list[Figure]:
        """The line with its direction, and the same of the bar before."""
        values, ways = view.series(self.line, f"{place}.line"), view.ways(self.line)
        found = []
        for at, name in ((bar, ""), (bar - 1, ", the bar before")):
            known = at >= 0 and not math.isnan(ways[at])
            one = figure_of(self.line, values, max(0, at))
            found.append(
                msgspec.structs.replace(
                    one,
                    name=f"{one.name}{name}",
                    value=one.value if known else math.nan,
                    to=int(ways[at]) if known else 0,
                )
            )
        return found

    def answer(
        self, view: View, place: str, longs: Array, shorts: Array, first: int, carried: Array
    ) -> None:
        flips_on(view.ways(self.line), longs, shorts, first)
