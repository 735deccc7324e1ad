"""What may stand on a side of a comparison (a number, a price, a line), and any line that is drawn:
its blanks, and what is typed into them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

import msgspec

from hawser.core.errors import BadInput
from hawser.core.field_help import FieldHelp, keys_of
from hawser.core.sources.lines.base import TAKEN_OF
from hawser.core.sources.lines.declared import KINDS as LINES
from hawser.core.sources.lines.declared import PRICES, SHOWN
from hawser.core.sources.lines.trends import CEILING
from hawser.core.sources.said import parts
from hawser.desk.models.drafting import Place
from hawser.desk.models.editing import as_text, as_value
from hawser.desk.models.form_words import Folded, FormBlank, Words
from hawser.desk.models.topics.topic import Topic, topic_of_field
from hawser.formats.declared import toml

CHAPTER = "Sources"
NUMBER, NOTHING = "number", ""
OF_OTHER_BARS = ("timeframe", "instrument")
# what stands in a blank at first, where its key has neither a default nor an example of its own
FIRST = {"a": "close", "b": "sma", "line": "supertrend"}
FIRST |= {"length": "20", "factor": "2", "file": "own_loom.py", "value": "50"}
# what an empty blank stands for, where that is no value of its own
HINTS = {"length_short": "as many", "ceiling": f"{CEILING:g}"}
HINTS |= {"timeframe": "the chart's", "instrument": "the chart's"}
NAMES = {"a": "what", "b": "with what", "b_short": "with what, for short"}
Choices = tuple[tuple[str, str], ...]
ALL = LINES | PRICES | SHOWN


class ReadText(NamedTuple):
    """What a text stands for, or what is wrong with it."""

    value: Any
    wrong: str = ""


# What is read: the key in its row, and the value or what is wrong; gives back the value
Note = Callable[[str, ReadText], Any]


def noted(errors: dict[Place, str], section: str, number: int) -> Note:
    """What is wrong in a row goes into `errors`."""

    def note(key: str, read: ReadText) -> Any:
        if read.wrong:
            errors[section, number, key] = read.wrong
        return read.value

    return note


def read_text(key: FieldHelp, text: str) -> ReadText:
    """What is typed into a blank; None: nothing."""
    try:
        if isinstance(key.type, msgspec.inspect.DictType):
            return ReadText(toml(f"it = {{{text}}}", "here")["it"])
        value = as_value(key, text.strip())
    except ValueError as error:
        return ReadText(None, str(error))
    except BadInput:
        return ReadText(None, "Expected settings such as bars = 9, gap = 0.002")
    if value is None and key.required:
        return ReadText(None, "Expected a value")
    odd = [one for one in value if one not in key.choices] if isinstance(value, list) else []
    if odd:
        return ReadText(None, f"Expected any of {', '.join(key.choices)}, not {odd[0]}")
    return ReadText(value)


def plain_operand(row: dict[str, str], side: str, note: Note) -> Any:
    """A side as a file has it; None where nothing stands there."""
    kind = row[side]
    if kind == NOTHING:
        return None
    if kind == NUMBER:
        return note(f"{side}.value", read_text(VALUE, row[f"{side}.value"]))
    found: dict[str, Any] = {}
    for key in line_keys(side, kind):
        path = f"{side}.{key.path}"
        value = note(path, read_text(key, row.get(path, "")))
        if value is not None:
            found[key.path] = value
    return kind if kind in PRICES and not found else {"kind": kind, **found}


def completed_operand(row: dict[str, str], side: str, choices: Choices) -> dict[str, str]:
    """The texts of all the blanks that a side has: those there are, else what stands there at
    first."""
    fitting = [text for text, _ in choices]
    kind = row.get(side, FIRST.get(side, NOTHING))
    kind = kind if kind in fitting else fitting[0]
    found = {side: kind}
    if kind == NUMBER:
        found[f"{side}.value"] = row.get(f"{side}.value", FIRST["value"])
    elif kind != NOTHING:
        for key in line_keys(side, kind):
            path = f"{side}.{key.path}"
            found[path] = row.get(path, first_text(key))
    return found


def line_keys(side: str, kind: str) -> list[FieldHelp]:
    """The keys that a line has on a side: one that flips, and volume, is of the chart's own
    bars."""
    keys = keys_of(ALL[kind])
    own = side == "line" or kind in SHOWN
    return [key for key in keys if not own or key.path not in OF_OTHER_BARS]


class _Number(msgspec.Struct):
    value: float


VALUE = keys_of(_Number)[0]


def first_text(key: FieldHelp) -> str:
    """What stands in a blank at first."""
    if isinstance(key.type, msgspec.inspect.DictType):
        return ""
    if key.default is not None:
        return as_text(key.default)
    return FIRST.get(key.path) or key.example if key.required else ""


def typed_operand(side: str, value: Any) -> dict[str, str]:
    if value is None:
        return {side: NOTHING}
    if isinstance(value, str):
        return {side: value}
    if isinstance(value, dict):
        inner = {f"{side}.{key}": as_text(one) for key, one in value.items() if key != "kind"}
        return {side: value["kind"], **inner}
    return {side: NUMBER, f"{side}.value": as_text(float(value))}


def blank_of(path: str, key: FieldHelp) -> FormBlank:
    """A key of a file as a blank."""
    choices = tuple((one, key.word(one)) for one in key.choices)
    several = isinstance(key.type, msgspec.inspect.VarTupleType)
    topic = topic_of_field(key, CHAPTER)
    return FormBlank(path, key.name.lower(), topic, () if several else choices, _hint(key))


def _hint(key: FieldHelp) -> str:
    """What an empty blank stands for."""
    if key.default is None:
        return HINTS.get(key.path, "")
    return as_text(key.default) if not isinstance(key.default, dict) else "nothing"


def operand_words(side: str, kind: str, of: FieldHelp, choices: Choices) -> Words:
    """What it is, and behind it the blanks of that kind of line."""
    found: list[str | FormBlank | Folded] = [
        FormBlank(side, NAMES.get(side, "line"), topic_of_field(of, CHAPTER), choices)
    ]
    if kind == NUMBER:
        found.append(FormBlank(f"{side}.value", "number", NUMBER_TOPIC))
    elif kind != NOTHING:
        line = ALL[kind]
        keys = {key.path: key for key in line_keys(side, kind)}
        first, *others = (_template(side, one, keys) for one in line.SAYS)
        found += first
        if side != "line" and kind not in SHOWN:  # else it is of the chart's own bars
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
            found.append(blank_of(f"{side}.{path}", keys[path]))
    return tuple(found)


OTHER_BARS = "More of this line: how it is averaged, coarser bars, another instrument"
NUMBER_TOPIC = Topic("A number", "A fixed value that the line is compared with.", "", "30", CHAPTER)
