"""A close beyond the bars before it."""

from __future__ import annotations

from typing import Annotated, Literal

from hawser.core.field_help import help_text
from hawser.core.indicators import Array
from hawser.core.numbers import MOST_BARS
from hawser.core.sources.compare import breaks_on
from hawser.core.sources.conditions.base import Condition
from hawser.core.sources.lines.base import Line
from hawser.core.sources.lines.extremes import ChannelHigh, ChannelLow, HighestClose, LowestClose
from hawser.core.sources.view import View


class Breaks(Condition, frozen=True, kw_only=True, tag="breaks"):
    """The close is above the highest of the bars before: long; below the lowest: short."""

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

    def answer(
        self, view: View, place: str, longs: Array, shorts: Array, first: int, carried: Array
    ) -> None:
        high, low = (view.series(line, place) for line in self.sides().values())
        breaks_on(view.seen.bars.close, high, low, longs, shorts, first)
