"""Sources in plain words, from what each kind of condition and line declares of itself."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from string import Formatter
from typing import TYPE_CHECKING, Any

import msgspec

from hawser.core.field_help import FieldHelp, keys_of
from hawser.core.sources.lines.base import TAKEN_OF, Line, Template
from hawser.core.sources.lines.declared import PRICES

if TYPE_CHECKING:
    from hawser.core.sources.conditions.base import Condition
    from hawser.core.sources.source import Source

FOR_SHORT = "_short"  # ends the name of a key that counts for short alone
ONE = re.compile(r"\b1 (bar|close|deviation)s\b")


def parts(segment: str) -> Iterator[tuple[str, str]]:
    """A part of a template: words, and the key that stands behind them or nothing."""
    for words, key, _, _ in Formatter().parse(segment):
        yield words.strip(), key or ""


def said(made: msgspec.Struct, template: Template) -> str:
    """A record by its template: what is as it is by default is left out."""
    keys = {key.path: key for key in keys_of(type(made))}
    found = []
    for number, segment in enumerate(template):
        named = [key for _, key in parts(segment) if key]
        if number and all(getattr(made, key) == keys[key].default for key in named):
            continue
        found.append(segment.format(**{key: _value(made, keys[key]) for key in named}))
    return ONE.sub(r"1 \1", " ".join(one for one in found if one))


def _value(made: msgspec.Struct, key: FieldHelp) -> str:
    value = getattr(made, key.path)
    if value is None:
        value = getattr(made, key.path.removesuffix(FOR_SHORT))
    if isinstance(value, Line):
        return f"the {line_said(value)}"
    if isinstance(value, (bool, int, float)):
        return f"{value:.15g}"
    if isinstance(value, dict):
        return ", ".join(f"{name} {one}" for name, one in value.items()) or "no settings"
    if isinstance(value, tuple):
        return ", ".join(map(str, value))
    if key.choices:
        return key.word(str(value))
    # a column may be called as a price is
    side = isinstance(key.type, msgspec.inspect.UnionType) and value in PRICES
    return f"the {value}" if side else str(value)


@lru_cache(1_000)  # asked for at each bar that is pointed at
def line_said(line: Line) -> str:
    """A line, or a price by its name."""
    return " ".join(one for one in (line.NAME, said(line, line.SAYS), said(line, TAKEN_OF)) if one)


def condition_said(condition: Condition, side: int) -> str:
    """When it says long, +1, or short, -1."""
    asked = 1 if condition.either else side
    if condition.against:
        asked = -asked
    return said(condition, condition.LONG if asked > 0 else condition.SHORT)


def sentence(source: Source) -> str:
    """The whole source."""
    enter = {side: _entered(source, side) for side in (1, -1)}
    if source.sides != "both":
        told = f"Enters {source.sides} where {enter[1 if source.sides == 'long' else -1]}."
    elif enter[1] == enter[-1]:
        told = f"Says long and short at once where {enter[1]}: that is no signal."
    else:
        told = f"Enters long where {enter[1]}; short where {enter[-1]}."
    if not source.leave:
        return f"{told} It does not leave by itself."
    # a long is left where one of them says short
    left = {side: _joined(source.leave, -side, " or ") for side in (1, -1)}
    if source.sides != "both":
        return f"{told} Leaves where {left[1 if source.sides == 'long' else -1]}."
    if left[1] == left[-1]:
        return f"{told} Leaves where {left[1]}."
    return f"{told} Leaves a long where {left[1]}; a short where {left[-1]}."


def _entered(source: Source, side: int) -> str:
    joined = " and " if source.combine == "all" else " or "
    found = _joined(source.enter, side, joined)
    return (
        f"{found}, and only where {_joined(source.only, side, ' and ')}" if source.only else found
    )


def _joined(conditions: tuple[Condition, ...], side: int, word: str) -> str:
    return word.join(dict.fromkeys(condition_said(one, side) for one in conditions))


def brief(source: Source) -> str:
    """The same in a word or two, for a list."""
    kinds: list[Any] = list(dict.fromkeys(one.NAME for one in source.enter))
    told = ", ".join(kinds)
    if source.only:
        told += f"; only {', '.join(dict.fromkeys(one.NAME for one in source.only))}"
    if source.sides != "both":
        told += f"; {source.sides} only"
    return told if source.leave else f"{told}; never leaves by itself"
