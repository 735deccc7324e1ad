"""Fleets as files (TOML; interface.md): several members that share one account."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import msgspec

from hawser.core.errors import BadInput
from hawser.core.rig import Basket
from hawser.core.sources.lines.base import Line
from hawser.formats.declared import read_toml, record
from hawser.formats.sources import line_from


class MemberFiles(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One member: its files, from the fleet file's folder. `name`: by default its instrument's
    symbol; `source_name`: the source of its columns, for guards."""

    instrument: str
    bars: str
    rig: str
    source: str | None = None
    signal: str | None = None
    exit_signal: str | None = None
    name: str = ""
    source_name: str = ""
    tz: str | None = None
    recipe: str | None = None


class FleetFile(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A fleet. `rank` is a line of section 12 as plain data; `bars_of`: files by the names of the
    instruments that sources look at."""

    name: str
    account: str
    member: tuple[MemberFiles, ...]
    rank: dict[str, Any] | None = None
    basket: Basket | None = None
    timeframe: str | None = None
    bars_of: dict[str, str] = {}


class Fleet(msgspec.Struct, frozen=True):
    """A fleet that was read: the file, and what its entries are ranked by."""

    file: FleetFile
    rank: Line | None


def load_fleet(path: Path) -> Fleet:
    """A fleet from its file; raises BadInput."""
    data = read_toml(path)
    file: FleetFile = record(FleetFile, data, str(path))
    if not file.member:
        raise BadInput("bad_value", f"{path}: member: expected one table [[member]] or more")
    for number, member in enumerate(file.member):
        place = f"{path}: member[{number}]"
        for key in ("signal", "exit_signal", "source_name"):
            if member.source is not None and getattr(member, key):
                raise BadInput(
                    "bad_value", f"{place}.{key}: expected without source, which says it"
                )
    rank = line_from(file.rank, "rank", str(path)) if file.rank is not None else None
    return Fleet(file, rank)
