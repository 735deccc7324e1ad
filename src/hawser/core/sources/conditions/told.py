"""Conditions that others answer: always, a column, a person's own Python."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar

from hawser.core.errors import BadInput
from hawser.core.field_help import help_text
from hawser.core.indicators import Array
from hawser.core.numbers import MOST_BARS
from hawser.core.sources.compare import says_on
from hawser.core.sources.conditions.base import Condition, Figure
from hawser.core.sources.lines.base import Template
from hawser.core.sources.view import View

HISTORY = 5_000  # bars that a person's own Python is called with, live


class Always(Condition, frozen=True, kw_only=True, tag="always"):
    """Both sides, at every bar."""

    NAME: ClassVar[str] = "always"
    SAYS: ClassVar[Template] = ("at every bar",)
    LONG: ClassVar[Template] = ("a bar is complete",)
    SHORT: ClassVar[Template] = LONG
    SIDED: ClassVar[bool] = False

    def answer(
        self, view: View, place: str, longs: Array, shorts: Array, first: int, carried: Array
    ) -> None:
        longs[first : view.size] = True
        shorts[first : view.size] = True


class Column(Condition, frozen=True, kw_only=True, tag="column"):
    """A column of the bars says +1: long; -1: short."""

    NAME: ClassVar[str] = "a column"
    SAYS: ClassVar[Template] = ("the column {name} says so",)
    LONG: ClassVar[Template] = ("the column {name} is +1",)
    SHORT: ClassVar[Template] = ("the column {name} is \u22121",)

    name: Annotated[str, help_text("the column of the bar file", "", example="weft")]

    def __post_init__(self) -> None:
        if not self.name.strip():
            raise BadInput.at("bad_source", "name", "expected a column's name")

    def figures(self, view: View, place: str, bar: int) -> list[Figure]:
        column = view.seen.columns.get(self.name)
        return [] if column is None else [Figure(self.name, float(column[bar]), None, "answer")]

    def answer(
        self, view: View, place: str, longs: Array, shorts: Array, first: int, carried: Array
    ) -> None:
        column = view.seen.columns.get(self.name)
        if column is None:
            raise BadInput.at(
                "no_column", f"{place}.name", f"the bars have no column {self.name}", name=self.name
            )
        says_on(column, longs, shorts, first)


class Python(Condition, frozen=True, kw_only=True, tag="python"):
    """A function of a person's own says +1: long; -1: short."""

    NAME: ClassVar[str] = "own Python"
    SAYS: ClassVar[Template] = (
        "{file} says so",
        "by its function {function}",
        "with {settings}",
        "from {history} bars when live",
    )
    LONG: ClassVar[Template] = ("{file} says +1", *SAYS[1:])
    SHORT: ClassVar[Template] = ("{file} says \u22121", *SAYS[1:])

    file: Annotated[
        str, help_text("the Python file, from the source's folder", "", example="loom.py")
    ]
    function: Annotated[str, help_text("the function in it", "")] = "signals"
    settings: Annotated[dict[str, Any], help_text("what it is handed", "")] = {}
    history: Annotated[
        int, help_text("with how many bars it is called live", "bars", least=1, most=MOST_BARS)
    ] = HISTORY

    def __post_init__(self) -> None:
        parts = self.file.split("/")
        if not self.file.strip() or self.file.startswith(("/", "~")) or ".." in parts:
            raise BadInput.at("bad_source", "file", "expected a Python file in the source's folder")
        if not self.function.isidentifier():
            raise BadInput.at("bad_source", "function", "expected the name of a function")

    def figures(self, view: View, place: str, bar: int) -> list[Figure]:
        said = float(view.seen.columns[place][bar])
        return [Figure(f"{self.file} says", said, None, "answer")]

    def answer(
        self, view: View, place: str, longs: Array, shorts: Array, first: int, carried: Array
    ) -> None:
        says_on(view.seen.columns[place], longs, shorts, first)
