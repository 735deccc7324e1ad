"""What a field means, declared once where the field is: forms, help and the guide take it from
there."""

from __future__ import annotations

from functools import cache
from typing import Any, NamedTuple

import msgspec

# ends of keys that a form leaves out: it shows the unit
UNITS = {"min", "s", "ms", "h", "ticks", "percent", "r"}


def help_text(
    text: str,
    unit: str = "",
    *,
    least: float | None = None,
    most: float | None = None,
    name: str = "",
    words: dict[str, str] | None = None,
    only: dict[str, tuple[str, ...]] | None = None,
    example: str = "",
) -> Any:
    """The annotation of a field: one line of help, the unit of its value, and the range a file's
    number must be in. What every number must be, whatever it means, is in `formats/declared.py`.

    `name`: what a form calls it, where its key in words is not clear; `words`: what it calls each
    choice; `only`: the choices of another field with which this one counts; `example`: what may be
    typed, where its default says nothing.
    """
    extra = {
        "unit": unit,
        "name": name,
        "words": words or {},
        "only": only or {},
        "example": example,
    }
    return msgspec.Meta(description=text, extra=extra, ge=least, le=most)


class FieldHelp(NamedTuple):
    """One key of a file: its path (`policy.max_heat_percent`), type, default, help and unit; what a
    form calls it and its choices, and with which choices of other fields (by their paths) it
    counts."""

    path: str
    type: Any
    required: bool
    default: Any
    help: str
    unit: str
    name: str = ""
    words: dict[str, str] = {}
    only: dict[str, tuple[str, ...]] = {}
    example: str = ""

    @property
    def as_example(self) -> str:
        """Something that may stand there: the declared example, else its default, else a choice."""
        if self.example:
            return self.example
        if isinstance(self.type, msgspec.inspect.BoolType):
            return "on" if self.default else "off"
        if self.choices:
            return self.word(self.default if self.default in self.choices else self.choices[0])
        if isinstance(self.default, float):
            return f"{self.default:g}"
        return "" if self.default in (None, "", ()) else f"{self.default}"

    @property
    def choices(self) -> list[str]:
        """What it may be, or what may stand in it, where that is a choice of a few."""
        of = (
            self.type.item_type
            if isinstance(self.type, msgspec.inspect.VarTupleType)
            else self.type
        )
        values = (
            [str(value) for value in of.values]
            if isinstance(of, msgspec.inspect.LiteralType)
            else []
        )
        # as they are worded: by name they stand in no order
        return sorted(values, key=[*self.words, *values].index)

    @property
    def in_a_file(self) -> str:
        """What it means to who writes a file: the help, the unit, and each choice as it is
        written."""
        told = self.help + (f" ({self.unit})" if self.unit else "")
        return f"{told}: {self.written_choices}" if self.choices else told

    @property
    def written_choices(self) -> str:
        """Each choice as a file has it, and in words where it has some."""
        return ", ".join(
            f"`{one}`" + (f" ({self.words[one]})" if one in self.words else "")
            for one in self.choices
        )

    def word(self, choice: str) -> str:
        """A choice in words."""
        return self.words.get(choice, choice.replace("_", " "))


def named(key: str, unit: str) -> str:
    """A key in words: `max_rate_age_s` in seconds is the max rate age."""
    words = key.split("_")
    if unit and len(words) > 1 and words[-1] in UNITS:
        words.pop()
    return " ".join(words).capitalize()


def keys_of(kind: type[msgspec.Struct]) -> list[FieldHelp]:
    """Every key of a record in the order of its declaration, those of the records inside it behind
    it."""
    return list(_keys_of(kind))


@cache  # msgspec takes 5 to 15 ms to look at a class
def _keys_of(kind: type[msgspec.Struct], prefix: str = "") -> tuple[FieldHelp, ...]:
    own: list[FieldHelp] = []
    inner: list[FieldHelp] = []
    declared = msgspec.inspect.type_info(kind)
    assert isinstance(declared, msgspec.inspect.StructType)
    for field, info in zip(msgspec.structs.fields(kind), declared.fields, strict=True):
        plain = field.type
        if isinstance(plain, type) and issubclass(plain, msgspec.Struct):
            inner += _keys_of(plain, f"{prefix}{field.name}.")
            continue
        meta = info.type
        text, extra = "", dict[str, Any]()
        for one in (meta, *getattr(meta, "types", ())):  # of what may be missing: inside the union
            if isinstance(one, msgspec.inspect.Metadata):
                text = (one.extra_json_schema or {}).get("description", "")
                extra = one.extra or {}
                meta = one.type
                break
        default = None if field.default is msgspec.NODEFAULT else field.default
        unit, only = extra.get("unit", ""), extra.get("only", {})
        name = extra.get("name", "") or named(field.name, unit)
        counts = {prefix + other: values for other, values in only.items()}
        key = FieldHelp(
            path=prefix + field.name,
            type=meta,
            required=field.required,
            default=default,
            help=text,
            unit=unit,
            name=name,
            words=extra.get("words", {}),
            only=counts,
            example=extra.get("example", ""),
        )
        own.append(key)
    return (*own, *inner)
