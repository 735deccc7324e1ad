"""A topic: what a field, a column, a figure or a guard is, its unit, an example."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

import msgspec

from hawser.core.field_help import FieldHelp, keys_of
from hawser.core.guards.declared import KINDS, Guard
from hawser.core.rig import Blank, RuleSection

if TYPE_CHECKING:  # the window shows itself before it needs sources
    from hawser.core.sources.conditions.base import Condition
    from hawser.core.sources.lines.base import Line as SourceLine


class Topic(NamedTuple):
    """`what` in whole sentences; `unit` and `example` may be empty; `chapter`: the guide's heading
    that says more."""

    name: str
    what: str
    unit: str = ""
    example: str = ""
    chapter: str = ""

    @property
    def tip(self) -> str:
        """All of it for a hover, without the name: that stands there already."""
        lines = [self.what]
        if self.unit:
            lines.append(f"Unit: {self.unit}")
        if self.example:
            lines.append(f"Example: {self.example}")
        return "\n".join(lines)


def sentence(text: str) -> str:
    """A declared help, which begins small and has no stop, as a sentence."""
    whole = text[:1].upper() + text[1:]
    return whole if whole.endswith((".", "?", "!")) else f"{whole}."


def topic_of_field(
    key: FieldHelp, chapter: str, beside: Sequence[FieldHelp] = (), example: str = ""
) -> Topic:
    """What is declared of a key of a file, for the form that it is typed into; `beside`: the other
    keys of that form."""
    what = sentence(key.help or key.name)
    for path, choices in key.only.items():
        other = next((one for one in beside if one.path == path), None)
        if other is not None:
            words = " or ".join(f"'{other.word(one)}'" for one in choices)
            what += f" It counts only where {other.name.lower()} is {words}."
    what += f" In a file: {key.path}"
    what += f", one of {key.written_choices}." if key.choices else "."
    unit = "the account's currency" if key.unit == "money" else key.unit
    return Topic(key.name, what, unit, example or key.as_example, chapter)


def topic_of_key(kind: type[msgspec.Struct], path: str, chapter: str) -> Topic:
    """The same of one key by its path."""
    keys = keys_of(kind)
    return topic_of_field(next(key for key in keys if key.path == path), chapter, keys)


def topic_of_blank(section: RuleSection, blank: Blank) -> Topic:
    """What is declared of a blank in a rig's sentence."""
    what = sentence(blank.help)
    if blank.choices:
        what += f" One of: {', '.join(blank.choices)}."
    name = f"{section.title}: {blank.name}"
    return Topic(name, what, "", blank.first, "A rig in sentences")


def topic_of_condition(kind: type[Condition]) -> Topic:
    """What a kind of condition says, and its keys."""
    name = kind.NAME[:1].upper() + kind.NAME[1:]
    return Topic(f"Condition: {name}", _with_keys(kind), "", _tag(kind), "Sources")


def topic_of_line(kind: type[SourceLine]) -> Topic:
    """What a kind of line is, and its keys."""
    name = kind.NAME[:1].upper() + kind.NAME[1:]
    return Topic(f"Line: {name}", _with_keys(kind), "", _tag(kind), "Sources")


def _tag(kind: type[msgspec.Struct]) -> str:
    """How a file writes it."""
    return f'kind = "{kind.__struct_config__.tag}"'


def _with_keys(kind: type[msgspec.Struct]) -> str:
    keys = "; ".join(f"{key.path}: {key.help}" for key in keys_of(kind))
    says = " ".join((kind.__doc__ or "").split("\n\n")[0].split())
    return f"{sentence(says)} Its keys in a file: {keys}."


def topic_of_kind(tag: str) -> Topic:
    """The same by what a file calls the kind."""
    return topic_of_guard(next(one for one in KINDS if one.__struct_config__.tag == tag))


def topic_of_guard(kind: type[Guard]) -> Topic:
    """What a kind of guard does, and how it comes back."""
    if kind.LATCHES:
        how = (
            "It is a kill switch: once its limit is reached, entries stay closed until its period "
            "ends or you re-arm it with a reason."
        )
    else:
        how = "It opens again by itself as soon as what it watches allows entries."
    common = set(Guard.__struct_fields__)
    own = [key for key in keys_of(kind) if key.path not in common and key.as_example]
    meant = [key for key in own if key.path in kind.FIRST or key.required] or own[:2]
    figures = ", ".join(
        f"{key.name.lower()} {key.as_example} {'' if key.unit == 'money' else key.unit}".strip()
        for key in meant
    )
    what = f"{sentence(kind.SAYS)} {how} It never holds up an exit."
    name = kind.KIND[:1].upper() + kind.KIND[1:]
    return Topic(
        f"Guard: {name}", what, "", figures, "Kill switches" if kind.LATCHES else "Filters"
    )
