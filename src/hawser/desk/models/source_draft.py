"""A source being edited, without Qt: each condition a sentence with blanks, made from what its kind
and the kinds of its lines declare of themselves (`core/sources/`)."""

from __future__ import annotations

import re
from functools import cache
from typing import Any

import msgspec

from hawser.core.errors import BadInput
from hawser.core.field_help import FieldHelp, keys_of
from hawser.core.sources.conditions.base import PARTS, Condition
from hawser.core.sources.conditions.declared import KINDS
from hawser.core.sources.conditions.flips import TURNING
from hawser.core.sources.lines.base import TAKEN_OF
from hawser.core.sources.lines.declared import KINDS as LINES
from hawser.core.sources.lines.declared import PRICES
from hawser.core.sources.said import parts
from hawser.core.sources.source import MOST_CONDITIONS, Source
from hawser.desk.models.drafting import Place, Texts, Typing
from hawser.desk.models.editing import as_text, as_value
from hawser.desk.models.form_words import Folded, FormBlank, Section, Words
from hawser.desk.models.topics.topic import Topic, sentence, topic_of_field
from hawser.formats.declared import toml
from hawser.formats.sources import OPERANDS, source_of

SECTIONS = (
    Section("general", "Signals", 1, "", "source", kept=True),
    Section("enter", "Enter", MOST_CONDITIONS, "A source enters where something says so", "source"),
    Section("only", "Only", MOST_CONDITIONS, "Nothing more has to hold", "source"),
    Section("leave", "Leave", MOST_CONDITIONS, "The rig alone ends the trade", "source"),
)
CHAPTER = "Sources"
NUMBER, NOTHING = "number", ""
OF_OTHER_BARS = ("timeframe", "instrument")
# how the two answers of a condition are taken: the text, its word, `against` and `either`
TAKEN = (
    ("as", "taken as it says", False, False),
    ("against", "taken the other way round", True, False),
    ("either", "its answer for long counts for both", False, True),
    ("against_either", "its answer for short counts for both", True, True),
)
# what stands in a blank at first, where its key has neither a default nor an example of its own
FIRST = {"kind": "crosses", "a": "close", "b": "sma", "line": "supertrend"}
# what an empty blank stands for, where that is no value of its own
HINTS = {"length_short": "as many", "ceiling": "0.2"}
HINTS |= {"timeframe": "the chart's", "instrument": "the chart's"}
FIRST |= {"length": "20", "factor": "2", "file": "own_loom.py", "value": "50"}


class SourceDraft(Typing):
    """What is typed. `made` is None while something is wrong; `errors` by place."""

    def __init__(self, source: Source) -> None:
        self.name, self.note = source.name, source.about
        self.made: Source | None = None
        super().__init__(texts_of(source))
        self.check()

    def change(self, place: Place, text: str) -> None:
        """What is typed into one blank. Another kind of condition or line brings its own blanks and
        keeps the texts of those that both have."""
        section, row, key = place
        texts = self.texts[section][row]
        if texts[key] == text:
            return
        if place != self._last:
            self.remember()
        self._last = place
        texts[key] = text
        if section != "general":
            self.texts[section][row] = completed(texts)
        self.check()

    def add(self, key: str) -> bool:
        """One more condition, as it is first proposed."""
        if sum(len(self.texts[part]) for part in PARTS) >= MOST_CONDITIONS:
            return False
        self.remember()
        self.texts[key].append(completed({"kind": FIRST["kind"]}))
        self.check()
        return True

    def remove(self, key: str, row: int) -> None:
        """One condition less."""
        self.remember()
        del self.texts[key][row]
        self.check()

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
        taken = next(one for one in TAKEN if one[0] == row["taken"])
        found: dict[str, Any] = {"kind": row["kind"], "against": taken[2], "either": taken[3]}
        for key in own_keys(kind):
            if key.path in OPERANDS:
                value = self._operand(part, number, row, key.path)
            else:
                value = self._value((part, number, key.path), key, row[key.path])
            if value is not None:
                found[key.path] = value
        return found

    def _operand(self, part: str, number: int, row: dict[str, str], side: str) -> Any:
        kind = row[side]
        if kind == NOTHING:
            return None
        if kind == NUMBER:
            return self._value((part, number, f"{side}.value"), VALUE, row[f"{side}.value"])
        found: dict[str, Any] = {}
        for key in _line_keys(side, kind):
            value = self._value((part, number, f"{side}.{key.path}"), key, _given(row, side, key))
            if value is not None:
                found[key.path] = value
        return kind if kind in PRICES and not found else {"kind": kind, **found}

    def _value(self, place: Place, key: FieldHelp, text: str) -> Any:
        try:
            if isinstance(key.type, msgspec.inspect.DictType):
                return toml(f"it = {{{text}}}", "here")["it"]
            value = as_value(key, text.strip())
        except ValueError as error:
            self.errors[place] = str(error)
            return None
        except BadInput:
            self.errors[place] = "Expected settings such as bars = 9, gap = 0.002"
            return None
        if value is None and key.required:
            self.errors[place] = "Expected a value"
        odd = [one for one in value if one not in key.choices] if isinstance(value, list) else []
        if odd:
            self.errors[place] = f"Expected any of {', '.join(key.choices)}, not {odd[0]}"
        return value

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


def _line_keys(side: str, kind: str) -> list[FieldHelp]:
    """The keys that a line has on a side: one that flips is of the chart's own bars."""
    keys = keys_of((LINES | PRICES)[kind])
    return [key for key in keys if side != "line" or key.path not in OF_OTHER_BARS]


class _Number(msgspec.Struct):
    value: float


VALUE = keys_of(_Number)[0]


def _given(row: dict[str, str], side: str, key: FieldHelp) -> str:
    return row.get(f"{side}.{key.path}", "")


def _first(key: FieldHelp) -> str:
    """What stands in a blank at first."""
    if isinstance(key.type, msgspec.inspect.DictType):
        return ""
    if key.default is not None:
        return as_text(key.default)
    return FIRST.get(key.path) or key.example if key.required else ""


def completed(row: dict[str, str]) -> dict[str, str]:
    """The texts of all the blanks that its kinds have, and of no others: those there are, else what
    stands there at first."""
    found = {"kind": row["kind"], "taken": row.get("taken", TAKEN[0][0])}
    for key in own_keys(KINDS[row["kind"]]):
        if key.path not in OPERANDS:
            found[key.path] = row.get(key.path, _first(key))
            continue
        fitting = [text for text, _ in operand_choices(key)]
        kind = row.get(key.path, FIRST.get(key.path, NOTHING))
        found[key.path] = kind = kind if kind in fitting else fitting[0]
        if kind == NUMBER:
            number = f"{key.path}.value"
            found[number] = row.get(number, FIRST["value"])
        elif kind != NOTHING:
            for inner in _line_keys(key.path, kind):
                path = f"{key.path}.{inner.path}"
                found[path] = row.get(path, _first(inner))
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
    row = {"kind": plain["kind"], "taken": next(one[0] for one in TAKEN if one[2:] == asked)}
    for key in own_keys(type(condition)):
        value = plain[key.path]
        if key.path in OPERANDS:
            row |= _typed_operand(key.path, value)
        elif isinstance(value, dict):
            row[key.path] = _settings(value)
        else:
            row[key.path] = as_text(value)
    return completed(row)


def _settings(value: dict[str, Any]) -> str:
    import tomli_w

    return ", ".join(line for line in tomli_w.dumps(value).splitlines() if line)


def _typed_operand(side: str, value: Any) -> dict[str, str]:
    if value is None:
        return {side: NOTHING}
    if isinstance(value, str):
        return {side: value}
    if isinstance(value, dict):
        inner = {f"{side}.{key}": as_text(one) for key, one in value.items() if key != "kind"}
        return {side: value["kind"], **inner}
    return {side: NUMBER, f"{side}.value": as_text(float(value))}


# The words of the form


@cache
def general_words() -> Words:
    """What stands above the conditions."""
    sides, combine = (
        next(key for key in keys_of(Source) if key.path == path) for path in ("sides", "combine")
    )
    return (
        "enters",
        _blank("sides", sides),
        "where",
        _blank("combine", combine),
        "of the conditions below hold",
    )


def _blank(path: str, key: FieldHelp, hint: str = "") -> FormBlank:
    choices = tuple((one, key.word(one)) for one in key.choices)
    several = isinstance(key.type, msgspec.inspect.VarTupleType)
    topic = topic_of_field(key, CHAPTER)
    return FormBlank(path, key.name.lower(), topic, () if several else choices, hint)


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
            found += _operand_words(path, sides[path], keys[path])
        elif path:
            found.append(_blank(path, keys[path], _hint(keys[path])))
    return found


def _hint(key: FieldHelp) -> str:
    """What an empty blank stands for."""
    if key.default is None:
        return HINTS.get(key.path, "")
    return as_text(key.default) if not isinstance(key.default, dict) else "nothing"


def operand_choices(key: FieldHelp) -> tuple[tuple[str, str], ...]:
    """What may stand on a side of a comparison."""
    if key.path == "line":
        return tuple((kind, LINES[kind].NAME) for kind in TURNING)
    named = tuple((kind, one.NAME) for kind, one in (PRICES | LINES).items())
    found = ((NUMBER, "the number"), *named)
    return found if key.required else ((NOTHING, "the same"), *found)


def _operand_words(side: str, kind: str, of: FieldHelp) -> Words:
    """What it is, and behind it the blanks of that kind of line."""
    name = {"a": "what", "b": "with what", "b_short": "with what, for short"}.get(side, "line")
    found: list[str | FormBlank | Folded] = [
        FormBlank(side, name, topic_of_field(of, CHAPTER), operand_choices(of))
    ]
    if kind == NUMBER:
        found.append(FormBlank(f"{side}.value", "number", NUMBER_TOPIC))
    elif kind != NOTHING:
        line = (LINES | PRICES)[kind]
        keys = {key.path: key for key in _line_keys(side, kind)}
        first, *others = (_template(side, one, keys) for one in line.SAYS)
        found += first
        if side != "line":  # else it is of the chart's own bars
            others += [_template(side, one, keys) for one in TAKEN_OF]
        more = tuple(word for one in others for word in one)
        if more:
            found.append(Folded(more, OTHER_BARS))
    return tuple(found)


def _template(side: str, segment: str, keys: dict[str, FieldHelp]) -> tuple[Any, ...]:
    found: list[str | FormBlank] = []
    for text, path in parts(segment):
        if text.strip("()"):
            found.append(text)
        if path:
            found.append(_blank(f"{side}.{path}", keys[path], _hint(keys[path])))
    return tuple(found)


OTHER_BARS = "More of this line: how it is averaged, coarser bars, another instrument"
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
NUMBER_TOPIC = Topic("A number", "A fixed value that the line is compared with.", "", "30", CHAPTER)


def prepare() -> None:
    """Look at the keys of every kind: msgspec takes some ms for each."""
    kinds: tuple[type[msgspec.Struct], ...] = (Source, *KINDS.values(), *(LINES | PRICES).values())
    for kind in kinds:
        keys_of(kind)
