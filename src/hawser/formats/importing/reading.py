"""A file read by a recipe into columns, with the rows that are worth a look. Nothing is mended in
silence: what is left out is counted, and what cannot be is refused with its row."""

from __future__ import annotations

import io
import re
from collections.abc import Sequence
from pathlib import Path
from typing import IO, TYPE_CHECKING, NamedTuple

import numpy as np

from hawser.core.errors import BadInput
from hawser.core.indicators import Array
from hawser.core.written_times import NOWHERE
from hawser.formats.bars import is_parquet
from hawser.formats.importing import times as ts
from hawser.formats.importing.guess import columns_of, guess
from hawser.formats.importing.opened import opened, parquet_read
from hawser.formats.importing.recipe import NEEDED, PRICES, Dates, Recipe

if TYPE_CHECKING:
    import pyarrow as pa

BLOCK = 1 << 22  # bytes that are read at once


class FileRows(NamedTuple):
    """One file's rows, oldest first. `times` UTC ns; `columns` float64 by name; `row`: the file's
    row of each; `decided`: what showed how dates are written; `turned`: the newest came first."""

    path: Path
    times: Array
    columns: dict[str, Array]
    row: Array
    decided: ts.OrderShown
    turned: bool


def read(path: Path, recipe: Recipe, sure: bool = False) -> FileRows:
    """Read `path`. `sure`: a person chose the recipe, so the order of dates is not looked for.
    Raises BadInput."""
    names = names_in(path, recipe)
    missing = [role for role in NEEDED[recipe.kind] if role not in recipe.columns]
    if missing:
        raise BadInput("bad_import", f"{path}: no column for {', '.join(missing)}")
    for role, name in recipe.columns.items():
        if name not in names:
            raise BadInput(
                "bad_import",
                f"{path}: there is no column {name} for {role}; it has {', '.join(names)}",
            )
    used = [*recipe.columns.values(), *recipe.keep]
    twice = next((name for name in used if used.count(name) > 1), "")
    if twice:
        raise BadInput(
            "bad_import", f"{path}: column {twice} is meant twice; expected each column once"
        )
    columns = _columns(_parquet(path, recipe) if is_parquet(path) else _csv(path, recipe, names))
    if not len(next(iter(columns.values()))):
        raise BadInput("bad_import", f"{path}: holds no rows")
    first = 1 if is_parquet(path) else recipe.above + recipe.header + 1
    return _arranged(path, recipe, columns, first, sure)


def _columns(table: pa.Table) -> dict[str, pa.ChunkedArray]:
    """Each column by itself: what has been read can be given back before the next."""
    return dict(zip(table.column_names, table.columns, strict=True))


def _csv(path: Path, recipe: Recipe, names: Sequence[str]) -> pa.Table:
    import pyarrow as pa

    try:
        return _read_csv(path, recipe, names)
    except UnicodeDecodeError as error:
        raise BadInput(
            "bad_import", f"{path}: is not written in {recipe.encoding} ({error.reason})"
        ) from None
    except LookupError:
        raise BadInput(
            "bad_import", f"{path}: encoding: expected one such as utf-8, got {recipe.encoding}"
        ) from None
    except (pa.ArrowException, ValueError) as error:
        told = str(error)
    try:  # once more, row by row: threads do not know their rows
        _read_csv(path, recipe, names, threads=False)
    except (pa.ArrowException, ValueError, LookupError) as error:
        told = str(error)
    raise _explained(path, names, told.splitlines()[0])


def _read_csv(path: Path, recipe: Recipe, names: Sequence[str], threads: bool = True) -> pa.Table:
    import pyarrow as pa
    import pyarrow.csv as pc

    wanted = [*recipe.columns.values(), *recipe.keep]
    text = {recipe.columns.get("time"), recipe.columns.get("clock")}
    as_text = recipe.grouping != ""
    types = {name: pa.string() if as_text or name in text else pa.float64() for name in wanted}
    comment = recipe.comment

    def odd(row: pc.InvalidRow) -> str:
        return "skip" if comment and str(row.text).lstrip().startswith(comment) else "error"

    with opened(path) as file:
        spaced = recipe.separator == "spaces"
        return pc.read_csv(
            _single_spaced(file, recipe) if spaced else file,
            read_options=pc.ReadOptions(
                skip_rows=recipe.above + recipe.header,
                column_names=list(names),
                encoding=recipe.encoding,
                block_size=BLOCK,
                use_threads=threads,
            ),
            parse_options=pc.ParseOptions(
                delimiter=" " if spaced else recipe.separator, invalid_row_handler=odd
            ),
            convert_options=pc.ConvertOptions(
                include_columns=wanted,
                column_types=types,
                decimal_point=recipe.decimal,
                strings_can_be_null=False,
                null_values=["", "NaN", "nan", "NA", "null", "-"],
            ),
        )


def _explained(path: Path, names: Sequence[str], told: str) -> BadInput:
    """What Arrow says is wrong, for a trader: the row, the column and the text, where it names
    them."""
    at = re.search(r"Row #(\d+)", told)
    row = f"row {int(at[1])}, " if at else ""
    number = re.search(
        r"column #(\d+).*: CSV conversion error to double: invalid value '(.*)'", told
    )
    width = re.search(r"Expected (\d+) columns, got (\d+): (.*)", told)
    if number:
        what = f"column {names[int(number[1])]}: expected a number, got '{number[2][:40]}'"
    elif width:
        what = f"expected {width[1]} cells in each row, got {width[2]} in: {width[3][:60]}"
    else:
        what = told
    return BadInput("bad_import", f"{path}: {row}{what}")


def _single_spaced(file: IO[bytes], recipe: Recipe) -> IO[bytes]:
    """Any number of spaces or tabs between two cells as one."""
    text = io.TextIOWrapper(file, encoding=recipe.encoding, newline=None)
    try:
        lines = (" ".join(line.split()) + "\n" for line in text)
        return io.BytesIO("".join(lines).encode(recipe.encoding))
    finally:
        text.detach()  # the file is closed by whoever opened it


def _parquet(path: Path, recipe: Recipe) -> pa.Table:
    import pyarrow.parquet

    with parquet_read(path):
        return pyarrow.parquet.read_table(path, columns=[*recipe.columns.values(), *recipe.keep])


def _arranged(
    path: Path, recipe: Recipe, held: dict[str, pa.ChunkedArray], first: int, sure: bool
) -> FileRows:
    """Times and figures, the oldest first. What `held` has is given back column by column: all of
    it beside all that is made of it would be twice the memory."""
    import pyarrow as pa

    place = ts.ColumnPlace(path, first, recipe.columns["time"])
    found = _times(place, recipe, held, sure)
    turned, last = _newest_first(found.local), first + found.local.size - 1
    if turned:
        found = found._replace(local=found.local[::-1], offset=found.offset[::-1])
    oldest_first = place._replace(first=last, step=-1) if turned else place
    moments, decided = ts.in_utc(oldest_first, found, recipe.zone), found.decided
    del found
    rows = np.arange(first, last + 1)
    named = {role: name for role, name in recipe.columns.items() if role not in ("time", "clock")}
    named |= {name: name for name in recipe.keep}
    columns = {}
    for role, name in named.items():
        of = role if role in recipe.columns else ""
        columns[role] = _figures(place._replace(column=name), recipe, held.pop(name), of)
        pa.default_memory_pool().release_unused()
    if turned:
        columns = {name: column[::-1].copy() for name, column in columns.items()}
        rows = rows[::-1]
    return FileRows(path, moments, columns, row=rows, decided=decided, turned=turned)


def _newest_first(local: Array) -> bool:
    """Whether most rows are older than the one above them."""
    steps = np.diff(local)
    return bool((steps < 0).sum() > (steps > 0).sum())


def _times(
    place: ts.ColumnPlace, recipe: Recipe, held: dict[str, pa.ChunkedArray], sure: bool
) -> ts.LocalTimes:
    import pyarrow as pa

    clock = recipe.columns.get("clock")
    of_day = ts.of_day(place, held.pop(clock)) if clock else None
    pa.default_memory_pool().release_unused()
    column = held.pop(recipe.columns["time"])
    if column.null_count:
        raise place.wrong(int(np.argmax(np.asarray(column.is_null()))), "a time, got nothing")
    if pa.types.is_timestamp(column.type):
        local = np.asarray(column.cast(pa.timestamp("ns", column.type.tz)).cast(pa.int64()))
        bare = column.type.tz is None
        offset = np.full(local.size, NOWHERE if bare else 0, np.int32)
        return ts.LocalTimes(local, offset, ts.OrderShown("ns", -1))
    if pa.types.is_integer(column.type) or pa.types.is_floating(column.type):
        whole = np.asarray(column.cast(pa.float64(), safe=False))
        units: tuple[tuple[float, Dates], ...] = ((1e11, "s"), (1e14, "ms"), (1e17, "us"))
        unit: Dates = next((dates for most, dates in units if abs(whole).max() < most), "ns")
        if pa.types.is_integer(column.type):
            local = np.asarray(column.cast(pa.int64())) * ts.UNITS[unit]
        else:
            local = np.rint(whole * ts.UNITS[unit]).astype(np.int64)
        return ts.LocalTimes(local, np.zeros(local.size, np.int32), ts.OrderShown(unit, -1))
    column = column.cast(pa.string())  # dates without a time of day come as days
    return ts.local_times(place, column, of_day, recipe.dates, sure)


def _figures(place: ts.ColumnPlace, recipe: Recipe, column: pa.ChunkedArray, role: str) -> Array:
    """A column of numbers; empty ones are NaN, which a price may not be."""
    import pyarrow as pa
    import pyarrow.compute as pc

    if pa.types.is_string(column.type) or pa.types.is_large_string(column.type):
        texts = column
        for sign in (recipe.grouping, *(" \u00a0\u202f" if recipe.grouping.isspace() else "")):
            if sign:
                texts = pc.replace_substring(texts, sign, "")
        if recipe.decimal == ",":
            texts = pc.replace_substring(texts, ",", ".")
        empty = pc.equal(pc.utf8_trim_whitespace(texts), "")
        try:
            column = pc.if_else(empty, None, texts).cast(pa.float64())
        except pa.ArrowInvalid as error:
            text = re.search(r"'(.*?)'", str(error))
            raise BadInput(
                "bad_import",
                f"{place.path}: column {place.column}: expected a number, got "
                f"'{text[1] if text else ''}'",
            ) from None
    numbers = np.asarray(column.cast(pa.float64()).combine_chunks().to_numpy(zero_copy_only=False))
    if role in (*PRICES, "bid", "ask"):
        bad = ~np.isfinite(numbers) | (numbers <= 0)
        if bad.any():
            at = int(np.argmax(bad))
            raise place.wrong(at, "a price above zero", str(numbers[at]))
    return numbers


def guessed(path: Path) -> Recipe:
    """How a file seems to be written; raises BadInput."""
    if not is_parquet(path):
        return guess(path)
    from hawser.formats.importing.guess_parquet import guess_parquet

    return guess_parquet(path)


def names_in(path: Path, recipe: Recipe) -> tuple[str, ...]:
    """The columns that a file has, read by a recipe; raises BadInput."""
    if not is_parquet(path):
        return columns_of(path, recipe)
    from hawser.formats.importing.guess_parquet import schema_of

    return tuple(schema_of(path).names)
