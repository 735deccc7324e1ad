"""Sources as files (TOML; interface.md): read with one sentence for whatever is wrong, and written
back."""

from __future__ import annotations

import difflib
from pathlib import Path
from typing import Any

import msgspec

from hawser.core.errors import BadInput
from hawser.core.sources.conditions.base import PARTS
from hawser.core.sources.conditions.declared import KINDS
from hawser.core.sources.lines.base import Line
from hawser.core.sources.lines.declared import KINDS as LINES
from hawser.core.sources.lines.declared import PRICES
from hawser.core.sources.source import Source
from hawser.formats.declared import read_toml, record

OPERANDS = ("a", "b", "b_short", "line")  # keys of a condition that may hold a line


def load_source(path: Path) -> Source:
    """A source from its file; raises BadInput."""
    return source_of(read_toml(path), str(path))


def source_of(data: dict[str, Any], where: str) -> Source:
    """A source from plain data; raises BadInput naming `where`, the key and what is expected."""
    _known_keys(data, Source, "", where)
    for part in PARTS:
        tables = data.get(part, [])
        if not isinstance(tables, list):
            raise BadInput.at("bad_source", f"{where}: {part}", f"expected tables [[{part}]]")
        for number, table in enumerate(tables):
            _check_condition(table, f"{part}[{number}]", where)
    return record(Source, data, where)


def _check_condition(table: object, place: str, where: str) -> None:
    if not isinstance(table, dict):
        raise BadInput.at("bad_source", f"{where}: {place}", "expected a table with a kind")
    kind = _known(table.get("kind"), KINDS, f"{place}.kind", where)
    _known_keys(table, KINDS[kind], place, where)
    for key in OPERANDS:
        _check_operand(table.get(key), f"{place}.{key}", where)


def _check_operand(side: object, place: str, where: str) -> None:
    """What nobody could mean: a name that is no price, a line of no kind, a key it has not."""
    if isinstance(side, str):
        _known(side, PRICES, place, where)
    elif isinstance(side, dict):
        kinds = LINES | PRICES
        kind = _known(side.get("kind"), kinds, f"{place}.kind", where)
        _known_keys(side, kinds[kind], place, where)


def _known(name: object, known: dict[str, Any], place: str, where: str) -> str:
    if name is None:
        raise BadInput.at("bad_source", f"{where}: {place}", "is missing")
    if not isinstance(name, str) or name not in known:
        near = difflib.get_close_matches(str(name)[:60], sorted(known), n=1, cutoff=0.0)[0]
        shown = str(name)[:60]
        told = f"unknown kind {shown}" if place.endswith("kind") else f"{shown} is no price"
        raise BadInput.at(
            "bad_source", f"{where}: {place}", f"{told}; the nearest known one is {near}"
        )
    return name


def _known_keys(table: dict[str, Any], kind: type[msgspec.Struct], place: str, where: str) -> None:
    """Refuse a key that this kind has not: by the nearest of those it has."""
    known = kind.__struct_fields__
    tagged = kind.__struct_config__.tag is not None
    for key in table:
        if key not in known and not (tagged and key == "kind"):
            full = f"{place}.{key[:60]}" if place else key[:60]
            near = difflib.get_close_matches(key[:60], sorted(known), n=1, cutoff=0.0)
            told = f"unknown key {full}; the nearest known one is {near[0]}"
            if tagged:
                told += f" ({kind.__struct_config__.tag} takes {', '.join(known)})"
            raise BadInput("bad_source", f"{where}: {told}", place=full, text=told)


def line_from(data: dict[str, Any], place: str, where: str) -> Line:
    """A line from plain data; raises BadInput naming `where`, the line's `place` and the key."""
    kind = _known(data.get("kind"), LINES, f"{place}.kind", where)
    _known_keys(data, LINES[kind], place, where)
    found: Line = record(LINES[kind], data, f"{where}: {place}")
    return found


def source_text(source: Source) -> str:
    """The file of a source: what is not the default, conditions in their order."""
    import tomli_w

    return tomli_w.dumps(_plain(source))


def _plain(made: msgspec.Struct) -> dict[str, Any]:
    """A record as its file has it, without defaults."""
    found: dict[str, Any] = {}
    if made.__struct_config__.tag is not None:
        found["kind"] = made.__struct_config__.tag
    for field in msgspec.structs.fields(made):
        value = getattr(made, field.name)
        if field.default is not msgspec.NODEFAULT and value == field.default:
            continue
        found[field.encode_name] = _value(value)
    return found


def _value(value: Any) -> Any:
    if isinstance(value, msgspec.Struct):
        return _plain(value)
    return [_value(one) for one in value] if isinstance(value, tuple) else value
