"""A source: when to enter, when to leave early (reckoning section 12)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Literal

import msgspec

from hawser.core import figures as fg
from hawser.core.errors import BadInput, is_line
from hawser.core.field_help import help_text
from hawser.core.sources.conditions.base import PARTS, Part
from hawser.core.sources.conditions.declared import AnyCondition
from hawser.core.sources.conditions.told import Column, Python
from hawser.core.sources.lines.base import Line

LONGEST_NAME, MOST_CONDITIONS = 200, 64


class Source(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The conditions by what they are for. `enter`: at least one; each of `only` must hold too;
    any of `leave` ends a trade."""

    name: Annotated[str, help_text("its name", "")]
    enter: tuple[AnyCondition, ...]
    about: Annotated[str, help_text("what it is for", "")] = ""
    sides: Annotated[
        Literal["both", "long", "short"],
        help_text(
            "which sides are entered",
            "",
            words={"both": "long and short", "long": "long only", "short": "short only"},
        ),
    ] = "both"
    combine: Annotated[
        Literal["all", "any"],
        help_text(
            "how many of the conditions to enter must hold",
            "",
            words={"all": "all of them", "any": "any of them"},
        ),
    ] = "all"
    only: tuple[AnyCondition, ...] = ()
    leave: tuple[AnyCondition, ...] = ()

    def __post_init__(self) -> None:
        if not self.name.strip() or not is_line(self.name, LONGEST_NAME):
            raise BadInput.at("bad_source", "name", "expected a name on one line")
        if not self.enter:
            raise BadInput.at("bad_source", "enter", "expected at least one [[enter]]")
        if sum(1 for _ in self.conditions()) > MOST_CONDITIONS:
            raise BadInput.at(
                "bad_source", "enter", f"expected at most {MOST_CONDITIONS} conditions in all"
            )

    def conditions(self) -> Iterator[tuple[Part, str, AnyCondition]]:
        """Each condition with what it is for and its place, as `enter[0]`."""
        for part in PARTS:
            for number, condition in enumerate(getattr(self, part)):
                yield part, f"{part}[{number}]", condition

    def lines(self) -> Iterator[tuple[str, Line]]:
        """Each line that it looks at, with its place."""
        for _, place, condition in self.conditions():
            for key, side in condition.sides().items():
                if isinstance(side, Line):
                    yield f"{place}.{key}", side

    @property
    def instruments(self) -> tuple[str, ...]:
        """The other instruments that it looks at."""
        names = (line.instrument for _, line in self.lines())
        return tuple(dict.fromkeys(name for name in names if name is not None))

    @property
    def columns(self) -> tuple[str, ...]:
        """The columns of the bars that it looks at."""
        found = (one.name for *_, one in self.conditions() if isinstance(one, Column))
        return tuple(dict.fromkeys(found))

    def own_python(self) -> list[tuple[Part, str, Python]]:
        """The conditions that a person's own Python answers, with what each is for and its
        place."""
        return [asked for asked in self.conditions() if isinstance(asked[-1], Python)]  # type: ignore[misc]


def worries(source: Source) -> list[str]:
    """What is odd about a source that may be kept all the same: sentences."""
    found = []
    if source.sides == "both" and all(one.one_sided for one in (*source.enter, *source.only)):
        found.append(
            "Every condition holds for long and short at once, so that there is no signal: "
            "let it enter long only or short only, or add a condition that has a side"
        )
    for side, word, other in ((1, "long", "short"), (-1, "short", "long")):
        if source.sides in ("both", word) and _never(source, side):
            found.append(f"It can never signal {word}")
            if source.sides == word:
                found[-1] += f", and {other} is not allowed"
    return found


def _never(source: Source, side: int) -> bool:
    """Whether its conditions rule a side out."""
    may = [one.may_say(side) for one in source.enter]
    entered = any(may) if source.combine == "any" else all(may)
    return not (entered and all(one.may_say(side) for one in source.only))


def too_short(source: Source, size: int) -> list[str]:
    """Lines that never have a value over so many bars: sentences."""
    return [
        f"{place}: needs {fg.counted(line.needs, 'bar')} for a first value; there are "
        f"{fg.number(size, 0)}"
        for place, line in source.lines()
        if line.of_chart and line.needs > size
    ]
