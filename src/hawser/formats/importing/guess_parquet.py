"""What a Parquet file seems to be, by the names and types of its columns."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from hawser.core.errors import BadInput
from hawser.formats.importing.guess import WORDS, plain
from hawser.formats.importing.opened import parquet_read
from hawser.formats.importing.recipe import NEEDED, PRICES, Kind, Recipe

if TYPE_CHECKING:
    import pyarrow as pa


def schema_of(path: Path) -> pa.Schema:
    """The names and types of its columns; raises BadInput."""
    import pyarrow.parquet

    with parquet_read(path):
        return pyarrow.parquet.read_schema(path)


def guess_parquet(path: Path) -> Recipe:
    """How it seems to be written; raises BadInput."""
    import pyarrow as pa

    schema = schema_of(path)
    columns: dict[str, str] = {}
    for role in ("time", *PRICES, "spread", "bid", "ask"):
        for name in schema.names:
            if plain(name) in WORDS[role] and name not in columns.values():
                columns[role] = name
                break
    kind: Kind = "bars" if set(PRICES) <= set(columns) else "ticks"
    missing = [role for role in NEEDED[kind] if role not in columns]
    if missing:
        raise BadInput(
            "bad_import",
            f"{path}: no column for {', '.join(missing)}; it has {', '.join(schema.names)}",
        )
    columns = {role: name for role, name in columns.items() if role in (*NEEDED[kind], "spread")}
    keep = tuple(
        name
        for name in schema.names
        if name not in columns.values()
        and (
            pa.types.is_floating(schema.field(name).type)
            or pa.types.is_integer(schema.field(name).type)
        )
    )
    return Recipe(kind=kind, columns=columns, keep=keep)
