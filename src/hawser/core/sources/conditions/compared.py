"""Two sides that are compared: above, and crosses."""

from __future__ import annotations

from typing import Annotated, ClassVar

from hawser.core.field_help import help_text
from hawser.core.indicators import Array
from hawser.core.sources.compare import above_on, crosses_on, over
from hawser.core.sources.conditions.base import Condition
from hawser.core.sources.lines.base import Line, Template
from hawser.core.sources.lines.declared import Operand, line_of
from hawser.core.sources.view import View

Side = Annotated[Operand, help_text("a number, open, high, low, close, or a line", "")]


class Compared(Condition, frozen=True, kw_only=True):
    """A side, and what it is compared with."""

    a: Side
    b: Side
    b_short: Side | None = None

    def sides(self) -> dict[str, Line | float]:
        found = {"a": line_of(self.a), "b": line_of(self.b)}
        if self.b_short is not None:
            found["b_short"] = line_of(self.b_short)
        return found

    @property
    def numbers(self) -> list[float]:
        """`a`, and what it is compared with for long and for short, where all are numbers; else
        nothing."""
        sides = self.sides()
        three = (sides["a"], sides["b"], sides.get("b_short", sides["b"]))
        found = [one for one in three if not isinstance(one, Line)]
        return found if len(found) == len(three) else []

    def three(self, view: View, place: str) -> tuple[Array, Array, Array]:
        """`a`, and what it is compared with for long and for short."""
        values = {key: view.series(of, f"{place}.{key}") for key, of in self.sides().items()}
        return values["a"], values["b"], values.get("b_short", values["b"])


class Above(Compared, frozen=True, kw_only=True, tag="above"):
    """One line is above another: long; below it: short."""

    NAME: ClassVar[str] = "above"
    SAYS: ClassVar[Template] = ("{a} is above {b}", "for short below {b_short}")
    LONG: ClassVar[Template] = ("{a} is above {b}",)
    SHORT: ClassVar[Template] = ("{a} is below {b_short}",)

    def may_hold(self, side: int) -> bool:
        if not self.numbers:
            return True
        a, b, short = map(float, self.numbers)
        return over(a, b) if side > 0 else over(short, a)

    def answer(
        self, view: View, place: str, longs: Array, shorts: Array, first: int, carried: Array
    ) -> None:
        above_on(*self.three(view, place), longs, shorts, first)


class Crosses(Compared, frozen=True, kw_only=True, tag="crosses"):
    """One line comes above another: long; below it: short."""

    NAME: ClassVar[str] = "a crossing"
    SAYS: ClassVar[Template] = ("{a} comes above {b}", "for short below {b_short}")
    LONG: ClassVar[Template] = ("{a} comes above {b}",)
    SHORT: ClassVar[Template] = ("{a} comes below {b_short}",)

    @property
    def back(self) -> int:
        return 1

    def may_hold(self, side: int) -> bool:
        return not self.numbers  # they stay where they are

    def answer(
        self, view: View, place: str, longs: Array, shorts: Array, first: int, carried: Array
    ) -> None:
        crosses_on(*self.three(view, place), longs, shorts, first)
