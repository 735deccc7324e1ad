"""A source: when to enter, when to leave early (reckoning section 12)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Literal

import msgspec

from hawser.core.errors import BadInput, is_line
from hawser.core.field_help import help_text
from hawser.core.sources.conditions.base import PARTS, Condition
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

    def conditions(self) -> Iterator[tuple[str, AnyCondition]]:
        """Each condition with its place, as `enter[0]`."""
        for part in PARTS:
            for number, condition in enumerate(getattr(self, part)):
                yield f"{part}[{number}]", condition

    def lines(self) -> Iterator[tuple[str, Line]]:
        """Each line that it looks at, with its place."""
        for place, condition in self.conditions():
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
        found = (one.name for _, one in self.conditions() if isinstance(one, Column))
        return tuple(dict.fromkeys(found))

    def own_python(self) -> list[tuple[str, Python]]:
        """The conditions that a person's own Python answers, with their places."""
        return [(place, one) for place, one in self.conditions() if isinstance(one, Python)]


def worries(source: Source) -> list[str]:
    """What is odd about a source that may be kept all the same: sentences."""
    found = []
    if source.sides == "both" and all(map(_is_one_sided, (*source.enter, *source.only))):
        found.append(
            "Every condition holds for long and short at once, so that there is no signal: "
            "let it enter long only or short only, or add a condition that has a side"
        )
    for word, other in (("long", "short"), ("short", "long")):
        if source.sides in ("both", word) and _never(source, word):
            found.append(f"It can never signal {word}")
            if source.sides == word:
                found[-1] += f", and {other} is not allowed"
    return found


def _is_one_sided(condition: Condition) -> bool:
    """Whether both sides get one answer."""
    return condition.either or condition.__struct_config__.tag in ("clock", "always")


def _never(source: Source, side: str) -> bool:
    """Whether conditions that compare two numbers rule a side out."""
    ruled = [_impossible(one, side) for one in source.enter]
    out = all(ruled) if source.combine == "any" else any(ruled)
    return out or any(_impossible(one, side) for one in source.only)


def _impossible(condition: Condition, side: str) -> bool:
    """Whether a condition compares numbers alone, and so that it can never hold on this side."""
    sides = condition.sides()
    if not sides or any(isinstance(one, Line) for one in sides.values()):
        return False
    if condition.__struct_config__.tag in ("crosses", "rises"):
        return True
    asked = "long" if condition.either else side
    if condition.against:
        asked = "short" if asked == "long" else "long"
    a, b = float(sides["a"]), float(sides["b"])  # type: ignore[arg-type]
    if asked == "short":
        b = float(sides.get("b_short", b))  # type: ignore[arg-type]
        a, b = b, a
    return not a - b > 1e-10 * max(abs(a), abs(b))
