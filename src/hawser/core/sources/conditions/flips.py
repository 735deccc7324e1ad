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

    @property
    def back(self) -> int:
        return 1

    def figures(self, view: View, place: str, bar: int) -> list[Figure]:
        ways = view.ways(self.line)
        one = figure_of(self.line, view.series(self.line, f"{place}.line"), bar)
        to = 0 if math.isnan(ways[bar]) else int(ways[bar])
        before = float(ways[bar - 1]) if bar else math.nan
        return [
            msgspec.structs.replace(one, to=to),
            Figure("direction before", before, None, "answer"),
        ]

    def answer(
        self, view: View, place: str, longs: Array, shorts: Array, first: int, carried: Array
    ) -> None:
        flips_on(view.ways(self.line), longs, shorts, first)
