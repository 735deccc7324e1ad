"""What a rule of a rig declares of itself, beside its keys: its sentence with blanks, by which the
form reads and writes it, and what it says in plain words.

A rule is one file: its keys, how each is typed, its words, and its numbers, as
`rules/trade_levels.py` has them. What it decides is compiled, in `rules/`.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, NamedTuple

from hawser.core import figures as fg
from hawser.core.rig.parts import After, read_after

if TYPE_CHECKING:
    from hawser.core.rig.rig import Rig

YES = ("no", "yes")


class Blank(NamedTuple):
    """A field in a sentence. `read` raises BadInput; `first` is what stands there when the section
    is added."""

    key: str
    name: str
    help: str
    read: Callable[[str], Any]
    first: str
    choices: tuple[str, ...] = ()


class RuleSection(NamedTuple):
    """One kind of rule: at most `most` of it stand in the field `key` of a rig. `make` gives the
    rule from its blanks' values, `fill` the other way. `says`: its sentences, from all that there
    are of it and the rig; `brief`: the same in a word or two, for a list; both in the order of
    `rank`."""

    key: str
    title: str
    most: int
    words: tuple[str | Blank, ...]
    empty: str
    make: Callable[[dict[str, Any]], Any]
    fill: Callable[[Any], dict[str, str]]
    says: Callable[[tuple[Any, ...], Rig], list[str]]
    brief: Callable[[tuple[Any, ...]], str]
    rank: int

    @property
    def blanks(self) -> list[Blank]:
        return [part for part in self.words if isinstance(part, Blank)]

    def of(self, rig: Rig) -> tuple[Any, ...]:
        """The rules of this kind that a rig has."""
        value = getattr(rig, self.key)
        if isinstance(value, tuple):
            return value
        return () if value is None else (value,)


def as_typed(text: str) -> str:
    return text


def one_of(key: str, name: str, help: str, choices: tuple[str, ...]) -> Blank:
    """A blank with a choice; the first is what stands there."""
    return Blank(key=key, name=name, help=help, read=as_typed, first=choices[0], choices=choices)


def after_blank() -> Blank:
    text = (
        "When the rule begins: at once, after an excursion such as 1 R, or after target 1 has "
        "filled"
    )
    return Blank("after", "begins after", text, read_after, "1 R")


def never_comes(after: After, rig: Rig) -> str:
    """What has to be said of a rule that waits for a target which the rig does not have."""
    count = 1 if rig.ladder is not None else len(rig.target)
    if after.target is None or after.target <= count:
        return ""
    return (
        " But that never comes: the rig has "
        f"{fg.counted(count, 'target') if count else 'no target'}."
    )
