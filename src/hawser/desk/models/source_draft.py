"""A source being edited, without Qt: each condition a sentence with blanks, made from what its kind
and the kinds of its lines declare of themselves (`core/sources/`)."""

from __future__ import annotations

import json
import re
from functools import cache
from typing import Any

import msgspec

from hawser.core.errors import BadInput
from hawser.core.field_help import FieldHelp, keys_of
from hawser.core.sources.conditions.base import PARTS, Condition
from hawser.core.sources.conditions.declared import KINDS
from hawser.core.sources.conditions.flips import TURNING
from hawser.core.sources.lines.declared import KINDS as LINES
from hawser.core.sources.lines.declared import PRICES
from hawser.core.sources.said import parts
from hawser.core.sources.source import MOST_CONDITIONS, Source
from hawser.desk.models.drafting import Texts, Typing
from hawser.desk.models.editing import as_text
from hawser.desk.models.form_words import Folded, FormBlank, Section, Words
from hawser.desk.models.operands import (
    CHAPTER,
    NOTHING,
    NUMBER,
    Choices,
    blank_of,
    completed_operand,
    first_text,
    noted,
    operand_words,
    plain_operand,
    read_text,
    typed_operand,
)
from hawser.desk.models.topics.topic import Topic, sentence
from hawser.formats.sources import OPERANDS, source_of

SECTIONS = (
    Section("general", "Signals", 1, "", "source", kept=True),
    Section("enter", "Enter", MOST_CONDITIONS, "A source enters where something says so", "source"),
    Section("only", "Only", MOST_CONDITIONS, "Nothing more has to hold", "source"),
    Section("leave", "Leave", MOST_CONDITIONS, "The rig alone ends the trade", "source"),
)
# how the two answers of a condition are taken: the text, its word, `against` and `either`
TAKEN = (
    ("as", "taken as it says", False, False),
    ("against", "taken the other way round", True, False),
    ("either", "its answer for long counts for both", False, True),
    ("against_either", "its answer for short counts for both", True, True),
)
TAKEN_BY = {text: (against, either) for text, _, against, either in TAKEN}
FIRST_KIND = "crosses"


class SourceDraft(Typing):
    """What is typed. `made` is None while something is wrong; `errors` by place."""

    def __init__(self, source: Source) -> None:
        self.name, self.note = source.name, source.about
        self.made: Source | None = None
        super().__init__(texts_of(source))
        self.check()

    def filled(self, section: str, row: dict[str, str]) -> dict[str, str]:
        """Another kind of condition or line brings its own blanks and keeps the texts of those that
        both have."""
        return row if section == "general" else completed(row)

    def rows_fit(self, section: str, rows: list[dict[str, str]]) -> bool:
        if section == "general":
            return [row.keys() for row in rows] == [row.keys() for row in self.texts[section]]
        try:
            return all(row["taken"] in TAKEN_BY and completed(row) == row for row in rows)
        except KeyError:  # a kind that is not known
            return False

    @property
    def full(self) -> bool:
        """Whether there may be no further condition."""
        return sum(len(self.texts[part]) for part in PARTS) >= MOST_CONDITIONS

    def add(self, key: str) -> bool:
        """One more condition, as it is first proposed."""
        if self.full:
            return False
        self.put(key, {"kind": FIRST_KIND})
        return True

    def check(self) -> None:
        self.errors, self.general, self.made = {}, "", None
        general = self.texts["general"][0]
        data: dict[str, Any] = {"name": self.name, "about": self.note, **general}
        for part in PARTS:
            rows = [self._condition(part, n, row) for n, row in enumerate(self.texts[part])]
            if rows:
                data[part] = rows
        if not self.texts["enter"]:
            self.general = "Add a condition to enter on"
        if self.errors or self.general:
            return
        try:
            self.made = source_of(data, "here")
        except BadInput as error:
            self._blame(error)

    def _condition(self, part: str, number: int, row: dict[str, str]) -> dict[str, Any]:
        """A condition as its file has it; what cannot be read is noted."""
        kind = KINDS[row["kind"]]
        against, either = TAKEN_BY[row["taken"]]
        found: dict[str, Any] = {"kind": row["kind"], "against": against, "either": either}
        note = noted(self.errors, part, number)
        for key in own_keys(kind):
            if key.path in OPERANDS:
                value = plain_operand(row, key.path, note)
            else:
                value = note(key.path, read_text(key, row[key.path]))
            if value is not None:
                found[key.path] = value
        return found

    def _blame(self, error: BadInput) -> None:
        """What is wrong with the source, beside the blank that is meant."""
        found = re.fullmatch(r"(?:here: )?(enter|only|leave)\[(\d+)\]\.?(.*)", error.place)
        if found is None:
            self.general = error.text
            return
        part, number, key = found.group(1), int(found.group(2)), found.group(3)
        row = self.texts[part][number]
        while key not in row and "." in key:
            key = key.rpartition(".")[0]
        self.errors[part, number, key if key in row else "kind"] = error.text


@cache
def own_keys(kind: type[msgspec.Struct]) -> tuple[FieldHelp, ...]:
    """The keys that a kind of condition has for itself."""
    return tuple(key for key in keys_of(kind) if key.path not in Condition.__struct_fields__)


def completed(row: dict[str, str]) -> dict[str, str]:
    """The texts of all the blanks that its kinds have, and of no others: those there are, else what
    stands there at first."""
    found = {"kind": row["kind"], "taken": row.get("taken", TAKEN[0][0])}
    for key in own_keys(KINDS[row["kind"]]):
        if key.path not in OPERANDS:
            found[key.path] = row.get(key.path, first_text(key))
            continue
        found |= completed_operand(row, key.path, operand_choices(key))
    return found


def texts_of(source: Source) -> Texts:
    """A source as what would be typed."""
    found: Texts = {"general": [{"sides": source.sides, "combine": source.combine}]}
    for part in PARTS:
        found[part] = [_typed(one) for one in getattr(source, part)]
    return found


def _typed(condition: Condition) -> dict[str, str]:
    plain = msgspec.to_builtins(condition)
    asked = (condition.against, condition.either)
    row = {
        "kind": plain["kind"],
        "taken": next(text for text, both in TAKEN_BY.items() if both == asked),
    }
    for key in own_keys(type(condition)):
        value = plain[key.path]
        if key.path in OPERANDS:
            row |= typed_operand(key.path, value)
        elif isinstance(value, dict):
            row[key.path] = _settings(value)
        else:
            row[key.path] = as_text(value)
    return completed(row)


def _settings(value: dict[str, Any]) -> str:
    """As they are typed: on one line."""
    return ", ".join(f"{_key(name)} = {_inline(one)}" for name, one in value.items())


def _inline(value: Any) -> str:
    """A value of TOML on one line."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, dict):
        return "{" + _settings(value) + "}"
    if isinstance(value, (list, tuple)):
        return "[" + ", ".join(map(_inline, value)) + "]"
    if isinstance(value, str):
        return json.dumps(value, ensure_ascii=False)
    return str(value)


def _key(name: str) -> str:
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else json.dumps(name, ensure_ascii=False)


# The words of the form


@cache
def general_words() -> Words:
    """What stands above the conditions."""
    sides, combine = (
        next(key for key in keys_of(Source) if key.path == path) for path in ("sides", "combine")
    )
    return (
        "enters",
        blank_of("sides", sides),
        "where",
        blank_of("combine", combine),
        "of the conditions below hold",
    )


def words_of(section: str, row: dict[str, str]) -> Words:
    """What stands in a sentence."""
    if section == "general":
        return general_words()
    sides = {
        key.path: row[key.path] for key in own_keys(KINDS[row["kind"]]) if key.path in OPERANDS
    }
    return _words(row["kind"], tuple(sides.items()))


@cache
def _words(kind: str, sides: tuple[tuple[str, str], ...]) -> Words:
    made = KINDS[kind]
    keys = {key.path: key for key in own_keys(made)}
    first, *others = [_segment(one, keys, dict(sides)) for one in made.SAYS]
    more = [word for segment in others for word in segment]
    more.append(FormBlank("taken", "taken", TAKEN_TOPIC, tuple((one[0], one[1]) for one in TAKEN)))
    return (
        FormBlank("kind", "kind", KIND, tuple((k, v.NAME) for k, v in KINDS.items())),
        ":",
        *first,
        Folded(tuple(more), MORE, "more"),
    )


def _segment(
    segment: str, keys: dict[str, FieldHelp], sides: dict[str, str]
) -> list[str | FormBlank | Folded]:
    found: list[str | FormBlank | Folded] = []
    for text, path in parts(segment):
        if text:
            found.append(text)
        if path in OPERANDS:
            found += operand_words(path, sides[path], keys[path], operand_choices(keys[path]))
        elif path:
            found.append(blank_of(path, keys[path]))
    return found


def operand_choices(key: FieldHelp) -> Choices:
    """What may stand on a side of a comparison."""
    if key.path == "line":
        return tuple((kind, LINES[kind].NAME) for kind in TURNING)
    named = tuple((kind, one.NAME) for kind, one in (PRICES | LINES).items())
    found = ((NUMBER, "the number"), *named)
    return found if key.required else ((NOTHING, "the same"), *found)


MORE = "More of this condition: something else for short, its answers taken the other way round"
KIND = Topic(
    "Kind of condition",
    " ".join(
        f"{one.NAME.capitalize()}: {sentence((one.__doc__ or '').splitlines()[0])}"
        for one in KINDS.values()
    ),
    chapter=CHAPTER,
)
TAKEN_TOPIC = Topic(
    "How its answers are taken",
    "A condition has two answers at each bar, one for long and one for short. Taken the other way "
    "round, they are swapped. One answer may count for both sides: for what has no side, as a "
    "range that grows.",
    "",
    "taken the other way round",
    CHAPTER,
)


def prepare() -> None:
    """Look at the keys of every kind: msgspec takes some ms for each."""
    kinds: tuple[type[msgspec.Struct], ...] = (Source, *KINDS.values(), *(LINES | PRICES).values())
    for kind in kinds:
        keys_of(kind)
