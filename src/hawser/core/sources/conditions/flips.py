"""A line that turns."""

from __future__ import annotations

from typing import Annotated

from hawser.core.errors import BadInput
from hawser.core.field_help import help_text
from hawser.core.indicators import Array
from hawser.core.sources.compare import flips_on
from hawser.core.sources.conditions.base import Condition
from hawser.core.sources.lines.base import Line
from hawser.core.sources.lines.trends import Parabolic, Supertrend
from hawser.core.sources.view import View


class Flips(Condition, frozen=True, kw_only=True, tag="flips"):
    """A line turns up: long; down: short."""

    line: Annotated[Supertrend | Parabolic, help_text("a supertrend or a parabolic", "")]

    def __post_init__(self) -> None:
        for key in ("timeframe", "instrument"):
            if getattr(self.line, key) is not None:
                raise BadInput.at(
                    "bad_source", f"line.{key}", "a line that flips is of the chart's own bars"
                )

    def sides(self) -> dict[str, Line | float]:
        return {"line": self.line}

    def answer(
        self, view: View, place: str, longs: Array, shorts: Array, first: int, carried: Array
    ) -> None:
        flips_on(view.ways(self.line), longs, shorts, first)
