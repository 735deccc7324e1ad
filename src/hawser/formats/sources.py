"""Sources as files (TOML; interface.md): read with one sentence for whatever is wrong."""

from __future__ import annotations

import difflib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec

from hawser.core.errors import BadInput
from hawser.core.sources.conditions.base import PARTS
from hawser.core.sources.conditions.declared import KINDS
from hawser.core.sources.conditions.flips import TURNING
from hawser.core.sources.lines.base import Line
from hawser.core.sources.lines.declared import KINDS as LINES
from hawser.core.sources.lines.declared import PRICES
from hawser.core.sources.source import Source
from hawser.formats.atomic import written
from hawser.formats.declared import MOST_SHOWN, differing, read_toml, record, toml

Kinds = Mapping[str, type[msgspec.Struct]]
OPERANDS = ("a", "b", "b_short", "line")  # keys of a condition that may hold a line


def load_source(path: Path) -> Source:
    """A source from its file; raises BadInput."""
    return source_of(read_toml(path), str(path))


def read_source(text: str, where: str) -> Source:
    """A source from TOML text; raises BadInput naming `where`."""
    return source_of(toml(text, where), where)


def save_source(source: Source, path: Path) -> None:
    """A source as a file that `load_source` reads back to the same; raises BadInput where it cannot
    be written."""
    with written(path) as file:
        file.write(source_text(source))


def source_text(source: Source) -> bytes:
    """What stands in its file; what stands as it would by default is left out."""
    import tomli_w

    return tomli_w.dumps(differing(source)).encode()


def source_of(data: dict[str, Any], where: str) -> Source:
    """A source from plain data; raises BadInput naming `where`, the key and what is expected."""
    _known_keys(data, Source, "", where)
    for part in PARTS:
        tables = data.get(part, [])
        if not isinstance(tables, list):
            raise BadInput.at("bad_value", f"{where}: {part}", f"expected tables [[{part}]]")
        for number, table in enumerate(tables):
            _check_condition(table, f"{part}[{number}]", where)
    return record(Source, data, where)


def _check_condition(table: object, place: str, where: str) -> None:
    if not isinstance(table, dict):
        raise BadInput.at("bad_value", f"{where}: {place}", "expected a table with a kind")
    kind = _known_kind(table, KINDS, place, where)
    _known_keys(table, KINDS[kind], place, where)
    for key in OPERANDS:
        _check_operand(table.get(key), f"{place}.{key}", where)
    try:
        record(KINDS[kind], table, where, place)
    except BadInput as error:
        if error.place != f"{place}.zone":
            raise
        told = f"{error.values['text']}{_nearest_zone(str(table['zone']))}"
        values = error.values | {"text": told}
        raise BadInput(error.code, f"{where}: {error.place}: {told}", **values) from None


def _check_operand(side: object, place: str, where: str) -> None:
    """What nobody could mean: a name that is no price, a line of no kind, a key it has not."""
    if isinstance(side, str):
        _known(side, PRICES, f"{where}: {place}", f"{side[:MOST_SHOWN]} is no price")
    elif isinstance(side, dict):
        kinds = LINES | PRICES
        kind = _known_kind(side, kinds, place, where)
        if place.endswith(".line") and kind not in TURNING:
            told = f"expected {' or '.join(TURNING)}, got {kind}"
            raise BadInput.at("bad_value", f"{where}: {place}.kind", told)
        _known_keys(side, kinds[kind], place, where)
        record(kinds[kind], side, where, place)


def _nearest_zone(zone: str) -> str:
    from zoneinfo import available_timezones

    known = sorted(available_timezones())
    near = difflib.get_close_matches(zone[:MOST_SHOWN], known, n=1, cutoff=0.0)
    return f"; the nearest known one is {near[0]}" if near else ""


def _known_kind(table: dict[str, Any], known: Kinds, place: str, where: str) -> str:
    """The table's kind; raises BadInput where it is missing or none of those known."""
    kind = table.get("kind")
    if kind is None:
        raise BadInput.at("bad_value", f"{where}: {place}.kind", "is missing")
    return _known(kind, known, f"{where}: {place}.kind", f"unknown kind {str(kind)[:MOST_SHOWN]}")


def _known(name: object, known: Kinds, place: str, told: str) -> str:
    if not isinstance(name, str) or name not in known:
        near = difflib.get_close_matches(str(name)[:MOST_SHOWN], sorted(known), n=1, cutoff=0.0)
        raise BadInput.at("bad_value", place, f"{told}; the nearest known one is {near[0]}")
    return name


def _known_keys(table: dict[str, Any], kind: type[msgspec.Struct], place: str, where: str) -> None:
    """Refuse a key that this kind has not: by the nearest of those it has."""
    known = kind.__struct_fields__
    tagged = kind.__struct_config__.tag is not None
    for key in table:
        if key not in known and not (tagged and key == "kind"):
            full = f"{place}.{key[:MOST_SHOWN]}" if place else key[:MOST_SHOWN]
            near = difflib.get_close_matches(key[:MOST_SHOWN], sorted(known), n=1, cutoff=0.0)
            told = f"unknown key {full}; the nearest known one is {near[0]}"
            if tagged:
                told += f" ({kind.__struct_config__.tag} takes {', '.join(known)})"
            raise BadInput("bad_value", f"{where}: {told}", place=full, text=told)


def line_from(data: dict[str, Any], place: str, where: str) -> Line:
    """A line from plain data; raises BadInput naming `where`, the line's `place` and the key."""
    kind = _known_kind(data, LINES, place, where)
    _known_keys(data, LINES[kind], place, where)
    found: Line = record(LINES[kind], data, f"{where}: {place}")
    return found
