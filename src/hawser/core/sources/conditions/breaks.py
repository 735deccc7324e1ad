"""A close beyond the bars before it."""

from __future__ import annotations

import math
from typing import Annotated, ClassVar, Literal

import msgspec
import numpy as np

from hawser.core.field_help import help_text
from hawser.core.indicators import Array
from hawser.core.numbers import MOST_BARS
from hawser.core.sources.compare import breaks_on
from hawser.core.sources.conditions.base import Condition, Figure, figure_of
from hawser.core.sources.lines.base import Line, Template
from hawser.core.sources.lines.extremes import ChannelHigh, ChannelLow, HighestClose, LowestClose
from hawser.core.sources.lines.prices import Close
from hawser.core.sources.view import View


class Breaks(Condition, frozen=True, kw_only=True, tag="breaks"):
    """The close is above the highest of the bars before: long; below the lowest: short."""

    NAME: ClassVar[str] = "a break"
    SAYS: ClassVar[Template] = (
        "the close is beyond the {of} of {length} bars before",
        "for short of {length_short}",
    )
    LONG: ClassVar[Template] = ("the close is above all {of} of the {length} bars before",)
    SHORT: ClassVar[Template] = ("the close is below all {of} of the {length_short} bars before",)

    length: Annotated[int, help_text("how many bars before", "bars", least=1, most=MOST_BARS)]
    length_short: (
        Annotated[
            int,
            help_text(
                "how many bars before, for short", "bars", least=1, most=MOST_BARS, example="35"
            ),
        ]
        | None
    ) = None
    of: Annotated[
        Literal["extremes", "closes"],
        help_text(
            "what is looked at of them",
            "",
            words={"extremes": "highs and lows", "closes": "closes"},
        ),
    ] = "extremes"

    def sides(self) -> dict[str, Line | float]:
        short = self.length if self.length_short is None else self.length_short
        if self.of == "closes":
            return {
                "length": HighestClose(length=self.length),
                "length_short": LowestClose(length=short),
            }
        return {"length": ChannelHigh(length=self.length), "length_short": ChannelLow(length=short)}

    def drawn(self, view: View, place: str, first: int) -> list[tuple[str, Line, Array]]:
        found = super().drawn(view, place, max(0, first - 1))
        before = [math.nan] if not first else []
        return [
            (f"{name} before", of, np.concatenate([before, values[:-1]]))
            for name, of, values in found
        ]

    def figures(self, view: View, place: str, bar: int) -> list[Figure]:
        close, before = view.seen.bars.close, max(0, bar - 1)  # the extremes are those of before
        found = [figure_of(Close(), close, bar)]
        for line in self.sides().values():
            assert isinstance(line, Line)
            one = figure_of(line, view.series(line, place), before)
            if not bar:
                one = msgspec.structs.replace(one, value=math.nan)
            found.append(msgspec.structs.replace(one, name=f"{one.name} before"))
        return found

    def answer(
        self, view: View, place: str, longs: Array, shorts: Array, first: int, carried: Array
    ) -> None:
        high, low = (view.series(line, place) for line in self.sides().values())
        breaks_on(view.seen.bars.close, high, low, longs=longs, shorts=shorts, first=first)
