"""`hawser lines`: indicator columns added to a bar file, everything else in it as it was."""

from __future__ import annotations

import csv
import gzip
import io
import itertools
import zlib
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import IO

import msgspec
import numpy as np

from hawser.core.bars import Bars
from hawser.core.errors import BadInput
from hawser.core.indicators import Array
from hawser.core.lines import LineSpec
from hawser.formats.atomic import write_csv, written
from hawser.formats.bars import is_parquet, read_unrounded, unrounded
from hawser.formats.declared import load
from hawser.formats.history_file import by_recipe
from hawser.formats.importing.history import History
from hawser.formats.importing.writing import table_of, write_history


class Lines(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The spec file: tables `[[line]]`."""

    line: tuple[LineSpec, ...]


def add_lines(
    bars: Path, spec: Path, out: Path, *, zone: str | None = None, recipe: Path | None = None
) -> list[str]:
    """Write `bars` with the spec's columns to `out` (Parquet by its ending, else CSV); returns
    their names. Raises BadInput."""
    specs = load(Lines, spec).line
    if not specs:
        raise BadInput("bad_line", f"{spec}: expected at least one [[line]]")
    if recipe is not None:
        return _add_to_imported(by_recipe(bars, recipe, zone), specs, spec, out)
    history = read_unrounded(bars, zone)
    columns = _values(specs, history, spec, _column_names(bars))
    if is_parquet(out):
        _write_parquet(bars, columns, out)
    else:
        _write_csv(bars, columns, out)
    return list(columns)


def _values(
    specs: Sequence[LineSpec], bars: Bars, spec: Path, held: Sequence[str]
) -> dict[str, Array]:
    """The new columns by name; raises BadInput where one of a name is there already."""
    for number, one in enumerate(specs):
        if one.name in held or one.name in [other.name for other in specs[:number]]:
            raise BadInput(
                "bad_line", f"{spec}: {one.name}: a column of that name is already there"
            )
    return {one.name: one.values(bars) for one in specs}


def _add_to_imported(
    history: History, specs: Sequence[LineSpec], spec: Path, out: Path
) -> list[str]:
    """Another program's text is not kept: its bars are written as Hawser's, with the columns."""
    bars = unrounded(Path(history.files[0]), table_of(history))
    columns = _values(specs, bars, spec, ["time", *history.columns])
    write_history(history._replace(columns={**history.columns, **columns}), out)
    return list(columns)


def _column_names(path: Path) -> list[str]:
    import pyarrow.parquet

    if is_parquet(path):
        return list(pyarrow.parquet.read_schema(path).names)
    return next(_rows(path))


def _text(path: Path) -> IO[str]:
    """A bar file as text; one that is packed, by its ending, is unpacked."""
    if path.suffix.lower() == ".gz":
        return gzip.open(path, "rt", newline="", encoding="utf-8-sig")
    return path.open(newline="", encoding="utf-8-sig")


def _write_csv(bars: Path, columns: dict[str, Array], out: Path) -> None:
    """The bar file's rows with their text unchanged, the new columns behind; a value not yet known
    is empty."""
    texts = [
        ["" if np.isnan(value) else repr(value) for value in column.tolist()]
        for column in columns.values()
    ]
    rows = _rows(bars)
    head = [*next(rows), *columns]
    write_csv(
        out,
        itertools.chain(
            [head], ([*row, *values] for row, *values in zip(rows, *texts, strict=True))
        ),
    )


def _rows(path: Path) -> Iterator[list[str]]:
    """Header and rows of a bar file as text."""
    if not is_parquet(path):
        try:
            with _text(path) as file:
                yield from (row for row in csv.reader(file) if row)
        except (csv.Error, UnicodeDecodeError, EOFError, zlib.error) as error:
            raise BadInput("bad_bars", f"{path}: expected CSV as UTF-8 text; {error}") from None
        return
    import pyarrow.csv
    import pyarrow.parquet

    held = io.BytesIO()
    table = pyarrow.parquet.read_table(path)
    try:
        pyarrow.csv.write_csv(table, held)
    except pyarrow.ArrowInvalid as error:
        raise BadInput(
            "bad_bars", f"{path}: cannot be written as CSV ({error}); expected --out FILE.parquet"
        ) from None
    yield from csv.reader(io.StringIO(held.getvalue().decode()))


def _write_parquet(bars: Path, columns: dict[str, Array], out: Path) -> None:
    import pyarrow as pa
    import pyarrow.parquet

    from hawser.formats.bars import read_table

    table = read_table(bars)
    for name, values in columns.items():
        table = table.append_column(name, pa.array(values, from_pandas=True))
    with written(out) as file:
        pyarrow.parquet.write_table(table, file)
