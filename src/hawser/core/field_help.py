"""What a field means, declared once where the field is: forms, help and the guide take it from there."""

from __future__ import annotations

from typing import Any, NamedTuple

import msgspec


def help_text(text: str, unit: str = "", *, least: float | None = None, most: float | None = None) -> Any:
    """The annotation of a field: one line of help, the unit of its value, and the range a file's number must be in.
    What every number must be, whatever it means, is in `formats/declared.py`.
    """
    return msgspec.Meta(description=text, extra={"unit": unit}, ge=least, le=most)


class FieldHelp(NamedTuple):
    """One key of a file: its path (`policy.max_heat_percent`), type, default, help and unit."""

    path: str
    type: Any
    required: bool
    default: Any
    help: str
    unit: str


def keys_of(kind: type[msgspec.Struct], prefix: str = "") -> list[FieldHelp]:
    """Every key of a record in the order of its declaration, those of the records inside it behind it."""
    own: list[FieldHelp] = []
    inner: list[FieldHelp] = []
    for field, info in zip(msgspec.structs.fields(kind), msgspec.inspect.type_info(kind).fields, strict=True):  # type: ignore[attr-defined]  # a StructType
        plain = field.type
        if isinstance(plain, type) and issubclass(plain, msgspec.Struct):
            inner += keys_of(plain, f"{prefix}{field.name}.")
            continue
        meta = info.type
        text, unit = "", ""
        if isinstance(meta, msgspec.inspect.Metadata):
            text = (meta.extra_json_schema or {}).get("description", "")
            unit = (meta.extra or {}).get("unit", "")
            meta = meta.type
        default = None if field.default is msgspec.NODEFAULT else field.default
        own.append(FieldHelp(prefix + field.name, meta, field.required, default, text, unit))
    return own + inner
