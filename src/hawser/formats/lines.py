"""`hawser lines`: indicator columns added to a bar file, everything else in it as it was."""

from __future__ import annotations

import csv
import gzip
import io
import itertools
import zlib
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import IO, NamedTuple

from hawser.core.errors import BadInput, is_line
from hawser.core.indicators import Array
from hawser.core.sources.lines.base import Line
from hawser.core.sources.view import BarsSeen, View
from hawser.formats.atomic import write_csv, written
from hawser.formats.bars import is_parquet, read_unrounded, unrounded
from hawser.formats.declared import read_toml
from hawser.formats.history_file import by_recipe
from hawser.formats.importing.history import History
from hawser.formats.importing.writing import table_of, write_history
from hawser.formats.sources import line_from

LONGEST_NAME = 200  # signs of a column's name


class NamedLine(NamedTuple):
    """A line under the name of its column."""

    name: str
    line: Line


def read_lines(spec: Path) -> list[NamedLine]:
    """The tables `[[line]]` of a spec file; raises BadInput."""
    data = read_toml(spec)
    for key in data:
        if key != "line":
            raise BadInput("bad_line", f"{spec}: unknown key {key[:60]}; expected [[line]]")
    tables = data.get("line")
    if not isinstance(tables, list) or not tables:
        raise BadInput("bad_line", f"{spec}: expected at least one [[line]]")
    return [_named(table, f"line[{number}]", spec) for number, table in enumerate(tables)]


def _named(table: object, place: str, spec: Path) -> NamedLine:
    if not isinstance(table, dict):
        raise BadInput("bad_line", f"{spec}: {place}: expected a table with a name and a kind")
    name = table.get("name")
    if not isinstance(name, str) or not name.strip() or not is_line(name, LONGEST_NAME):
        raise BadInput("bad_line", f"{spec}: {place}.name: expected a column's name")
    keys = {key: value for key, value in table.items() if key != "name"}
    line = line_from(keys, place, str(spec))
    if line.instrument is not None:
        told = "hawser lines has no bars of other instruments"
        raise BadInput("bad_line", f"{spec}: {place}.instrument: {told}")
    return NamedLine(name, line)


def add_lines(
    bars: Path, spec: Path, out: Path, *, zone: str | None = None, recipe: Path | None = None
) -> list[str]:
    """Write `bars` with the spec's columns to `out` (Parquet by its ending, else CSV); returns
    their names. Raises BadInput."""
    lines = read_lines(spec)
    for number, one in enumerate(lines):
        if one.name in [other.name for other in lines[:number]]:
            told = "a column of that name is already there"
            raise BadInput("bad_line", f"{spec}: {one.name}: {told}")
    history = by_recipe(bars, recipe, zone) if recipe is not None else None
    if history is not None:
        held = unrounded(Path(history.files[0]), table_of(history))
    else:
        held = read_unrounded(bars, zone)
    view = View()
    view.see(BarsSeen(held))
    columns = {one.name: _values(view, one, spec) for one in lines}
    add_columns(bars, out, columns, history=history, of=spec)
    return list(columns)


def _values(view: View, one: NamedLine, spec: Path) -> Array:
    try:
        return view.series(one.line, f"{one.name}: timeframe")
    except BadInput as error:
        raise BadInput(error.code, f"{spec}: {error.sentence}") from None


def add_columns(
    bars: Path,
    out: Path,
    columns: dict[str, Array],
    *,
    history: History | None = None,
    of: Path | None = None,
) -> list[str]:
    """Write a bar file with further columns to `out`, everything else in it as it was. `history`:
    what a recipe made of it, which is written instead of another program's text. `of`: what names
    the columns; where nothing does, they take the place of those of their names, which are
    returned. Raises BadInput, also where a named one is there already."""
    if history is not None:
        gone = _in_the_way(columns, ["time", *history.columns], of)
        write_history(history._replace(columns={**history.columns, **columns}), out)
        return gone
    gone = _in_the_way(columns, _column_names(bars), of)
    if is_parquet(out):
        _write_parquet(bars, columns, out)
    else:
        _write_csv(bars, columns, out)
    return gone


def _in_the_way(columns: dict[str, Array], held: Sequence[str], of: Path | None) -> list[str]:
    """The names that are there already; refused where `of` gave them."""
    gone = [name for name in columns if name in held]
    if gone and of is not None:
        raise BadInput("bad_line", f"{of}: {gone[0]}: a column of that name is already there")
    return gone


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
        ["" if value != value else repr(value) for value in column.tolist()]  # noqa: PLR0124
        for column in columns.values()
    ]
    rows = _rows(bars)
    head = next(rows)
    kept = [at for at, name in enumerate(head) if name not in columns]
    if len(kept) < len(head):
        rows = ([row[at] for at in kept if at < len(row)] for row in rows)
    write_csv(
        out,
        itertools.chain(
            [[*(head[at] for at in kept), *columns]],
            ([*row, *values] for row, *values in zip(rows, *texts, strict=True)),
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
    table = table.drop_columns([name for name in columns if name in table.column_names])
    for name, values in columns.items():
        table = table.append_column(name, pa.array(values, from_pandas=True))
    with written(out) as file:
        pyarrow.parquet.write_table(table, file)
