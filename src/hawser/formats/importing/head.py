"""The first rows of a file as a recipe reads them: what a person looks at before all of it is
read, however long the file is."""

from __future__ import annotations

import os
import tempfile
from math import gcd
from pathlib import Path
from typing import NamedTuple

import numpy as np

from hawser.core.errors import BadInput
from hawser.core.indicators import Array
from hawser.formats.bars import is_parquet
from hawser.formats.importing.guess import first_lines, guess, told_by_place
from hawser.formats.importing.history import utc_text
from hawser.formats.importing.importing import DATE_ORDERS, deciding_row
from hawser.formats.importing.opened import parquet_read
from hawser.formats.importing.reading import FileRows, names_in, read
from hawser.formats.importing.recipe import Dates, Recipe

ROWS = 400  # that are read
BUFFER = 1 << 16  # bytes of each column that are read at once
PRICED = {"open", "high", "low", "close", "bid", "ask"}
MOST_DIGITS = 8  # decimals of a guessed tick
MANY = 50  # different prices


class Head(NamedTuple):
    """The first rows: names of columns, a list of texts for each row; what was found out about
    them and what is doubtful; the price step that all their prices are on, as it would be written;
    the columns that are left out."""

    names: list[str]
    rows: list[list[str]]
    told: list[str]
    tick: str
    left_out: list[str]
    dates: Dates  # the order that they were read in


def head(path: Path, recipe: Recipe, sure: bool = False, shown: int = 8) -> Head:
    """Raises BadInput, of `path`, as reading the whole file would. `sure`: a person chose the order
    of dates."""
    with tempfile.TemporaryDirectory() as folder:
        part = Path(folder) / ("head.parquet" if is_parquet(path) else "head.csv")
        _write_head(path, part, recipe)
        try:
            found = read(part, recipe, sure)._replace(path=path)
        except BadInput as error:
            raise BadInput(error.code, error.sentence.replace(str(part), str(path))) from None
    names = ["time", *found.columns]
    times = [utc_text(int(time)) for time in found.times[:shown]]
    prices = [name for name in names if name in PRICED]
    tick = tick_of([found.columns[name] for name in prices])
    digits = len(tick.partition(".")[2])
    cells = [
        [f"{value:.{digits}f}" if name in prices else f"{value:.12g}" for value in values[:shown]]
        for name, values in found.columns.items()
    ]
    used = {*recipe.columns.values(), *recipe.keep}
    return Head(
        names,
        [list(row) for row in zip(times, *cells, strict=True)],
        [*(f"{text}." for text in told_by_place(recipe)), *_found_out(found)],
        tick=tick,
        left_out=[name for name in names_in(path, recipe) if name not in used],
        dates=found.decided.dates,
    )


def warm_up() -> None:
    """Look at a made-up file once: it loads what reads, which takes half a second."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "made-up.csv"
        path.write_text("time,open,high,low,close\n2031-01-06T08:00:00Z,1,1,1,1\n")
        head(path, guess(path))


def _found_out(found: FileRows) -> list[str]:
    """How dates are read, and by which row; whether the rows are turned round."""
    told, order = [], DATE_ORDERS.get(found.decided.dates, "")
    row = deciding_row(found)
    if found.decided.open:
        told.append(f"None of the first rows shows the order of dates; they are read as {order}.")
    elif order and row is not None:
        told.append(f"Dates are read as {order}; row {row} shows it.")
    if found.turned:
        told.append("The newest rows come first, and are turned round.")
    return told


def _write_head(path: Path, part: Path, recipe: Recipe) -> None:
    if is_parquet(path):
        import pyarrow as pa
        import pyarrow.parquet

        with parquet_read(path):
            # else it reads ahead all of the first part, which may be the whole of a long file
            file = pyarrow.parquet.ParquetFile(path, pre_buffer=False, buffer_size=BUFFER)
            batch = next(file.iter_batches(ROWS), None)
        table = file.schema_arrow.empty_table() if batch is None else pa.table(batch)
        pyarrow.parquet.write_table(table, part)
        return
    kept = first_lines(path, recipe)[: recipe.above + recipe.header + ROWS]
    part.write_bytes(os.linesep.join([*kept, ""]).encode(recipe.encoding, errors="replace"))


def tick_of(prices: list[Array]) -> str:
    """The largest step that all of some prices are whole multiples of, with their decimals."""
    values = np.unique(np.concatenate(prices)) if prices else np.empty(0)
    values = values[np.isfinite(values)]
    for digits in range(MOST_DIGITS + 1):
        scaled = values * 10.0**digits
        # a float of a large price is off by more, once it is so large a number
        if np.abs(scaled - np.rint(scaled)).max(initial=0.0) < 1e-6 * max(
            1.0, 10.0 ** (digits - 3)
        ):
            break
    whole = gcd(*(int(one) for one in np.rint(values * 10.0**digits))) or 1
    # Quarters and halves are steps where decimals or many prices show them; a few round prices
    # without decimals show nothing.
    steps = (25, 5, 1) if digits >= 2 or values.size >= MANY else (5, 1) if digits else (1,)
    step = next(one for one in steps if whole % one == 0)
    return f"{step / 10.0**digits:.{digits}f}"
