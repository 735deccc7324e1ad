"""A history written as Hawser's own bar file: CSV or Parquet, by the name's ending."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from hawser.formats.atomic import written
from hawser.formats.bars import is_parquet
from hawser.formats.importing.history import History

if TYPE_CHECKING:
    import pyarrow as pa

SECOND = 1_000_000_000


def _row(cells: Iterable[str]) -> str:
    """A row of CSV; pyarrow would quote every name of a header."""
    out = io.StringIO()
    csv.writer(out, lineterminator="\n").writerow(cells)
    return out.getvalue()


def table_of(history: History) -> pa.Table:
    """The history as the columns of a bar file."""
    import pyarrow as pa

    columns = {"time": pa.array(history.times).view(pa.timestamp("ns", "UTC"))}
    for name, values in history.columns.items():
        columns[name] = pa.array(values, mask=np.isnan(values))
    return pa.table(columns)


def write_history(history: History, out: Path) -> None:
    """Write `out`, whole or not at all; raises BadInput."""
    import pyarrow as pa
    import pyarrow.csv
    import pyarrow.parquet

    table = table_of(history)
    whole = not is_parquet(out) and not (history.times % SECOND).any()
    if whole:
        seconds = pa.array(history.times // SECOND).view(pa.timestamp("s", "UTC"))
        table = table.set_column(0, "time", seconds)
    with written(out) as file:
        if is_parquet(out):
            pyarrow.parquet.write_table(table, file)
        else:
            file.write(_row(table.column_names).encode())
            options = pyarrow.csv.WriteOptions(include_header=False, quoting_style="none")
            pyarrow.csv.write_csv(table, file, options)
