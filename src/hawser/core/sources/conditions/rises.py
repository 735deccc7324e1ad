"""A line that is higher than it was."""

from __future__ import annotations

from typing import Annotated, ClassVar

from hawser.core.field_help import help_text
from hawser.core.indicators import Array
from hawser.core.numbers import MOST_BARS
from hawser.core.sources.compare import rises_on
from hawser.core.sources.conditions.base import Condition
from hawser.core.sources.conditions.compared import Side
from hawser.core.sources.lines.base import Line, Template
from hawser.core.sources.lines.declared import line_of
from hawser.core.sources.view import View


class Rises(Condition, frozen=True, kw_only=True, tag="rises"):
    """A line is higher than some bars before: long; lower: short."""

    NAME: ClassVar[str] = "a rise"
    SAYS: ClassVar[Template] = ("{a} is higher than {bars} bars before",)
    LONG: ClassVar[Template] = SAYS
    SHORT: ClassVar[Template] = ("{a} is lower than {bars} bars before",)

    a: Side
    bars: Annotated[
        int, help_text("how far back it is compared", "bars", least=1, most=MOST_BARS)
    ] = 1

    def sides(self) -> dict[str, Line | float]:
        return {"a": line_of(self.a)}

    @property
    def back(self) -> int:
        return self.bars

    def may_hold(self, side: int) -> bool:
        return isinstance(line_of(self.a), Line)

    def answer(
        self, view: View, place: str, longs: Array, shorts: Array, first: int, carried: Array
    ) -> None:
        rises_on(view.series(line_of(self.a), f"{place}.a"), self.bars, longs, shorts, first)
