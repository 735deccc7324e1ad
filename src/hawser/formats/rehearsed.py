"""The files of a rehearsal (interface.md): rows from records, all written or none."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path
from typing import IO, Any, Protocol

import numpy as np

from hawser.core.clock import SECOND
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.formats.atomic import folder_written

CHUNK = 1 << 15  # lines
# without guards one fewer
FILES = (
    "trades.csv",
    "fills.csv",
    "stops.csv",
    "guards.csv",
    "equity.csv",
    "report.json",
    "run.json",
)
Column = Array | tuple[list[str], Array]  # an array, or texts and which of them each row has


class Tables(Protocol):
    """What a rehearsal gives to be written: columns by their names."""

    def trades(self) -> dict[str, Column]: ...

    def fills(self) -> dict[str, Column]: ...

    def stops(self) -> dict[str, Column]: ...

    def guards(self) -> dict[str, Column] | None: ...

    def refused(self) -> dict[str, Column] | None: ...

    def equity(self) -> tuple[Array, dict[str, Array]]: ...


def instants(times: Array) -> list[str]:
    """Bar times (UTC ns) as ISO 8601 in UTC, with no more digits than they need."""
    moments = times.astype("datetime64[ns]")
    if not (times % SECOND).any():
        return [f"{text}Z" for text in np.datetime_as_string(moments, unit="s").tolist()]
    return [
        f"{text.rstrip('0').rstrip('.')}Z"
        for text in np.datetime_as_string(moments, unit="ns").tolist()
    ]


def _write_equity(file: IO[bytes], times: Array, columns: dict[str, Array]) -> None:
    """One line for each bar, of which there may be millions: some at a time."""
    import pyarrow as pa
    import pyarrow.compute as pc

    file.write(",".join(["time", *columns]).encode() + b"\n")
    whole = not (times % SECOND).any()
    for at in range(0, times.size, CHUNK):
        part = times[at : at + CHUNK]
        if whole:
            plain = pc.cast(pa.array(part // SECOND, pa.timestamp("s")), pa.string())
            texts = pc.binary_join_element_wise(
                pc.binary_replace_slice(plain, 10, 11, "T"), "", "Z"
            )
        else:
            texts = pa.array(instants(part))
        parts = {name: _number_texts(one[at : at + CHUNK]) for name, one in columns.items()}
        _write_lines(file, {"time": texts} | parts)


def _number_texts(values: Array) -> Any:
    """Numbers as texts; one that stays the same from row to row, as equity does without a trade, is
    made once."""
    import pyarrow as pa
    import pyarrow.compute as pc

    anew = np.append(True, values[1:] != values[:-1])
    return pc.take(pc.cast(pa.array(values[anew]), pa.string()), pa.array(anew.cumsum() - 1))


def _write_table(file: IO[bytes], columns: dict[str, Column]) -> None:
    import pyarrow as pa

    def whole(column: Column) -> Any:
        if not isinstance(column, tuple):
            return column
        texts, at = column
        return pa.DictionaryArray.from_arrays(
            pa.array(at, pa.int64()), pa.array(texts, pa.string())
        ).cast(pa.string())

    file.write(",".join(columns).encode() + b"\n")
    _write_lines(file, {name: whole(column) for name, column in columns.items()})


def _write_words(file: IO[bytes], columns: dict[str, Column]) -> None:
    """A table with a person's own words in it, which may need quotes (RFC 4180)."""
    text = io.TextIOWrapper(file, encoding="utf-8", newline="")
    lists = [
        np.array(column[0], object)[column[1]] if isinstance(column, tuple) else column
        for column in columns.values()
    ]
    rows = csv.writer(text, lineterminator="\n")
    rows.writerow(columns)
    rows.writerows(zip(*(one.tolist() for one in lists), strict=True))
    text.flush()
    text.detach()


def _write_lines(file: IO[bytes], columns: dict[str, Any]) -> None:
    import pyarrow as pa
    from pyarrow import csv as pa_csv

    pa_csv.write_csv(
        pa.table(columns), file, pa_csv.WriteOptions(include_header=False, quoting_style="none")
    )


def price_text(instrument: Instrument, ticks: float) -> str:
    """A fill's price: the instrument's digits where it lies on the grid, as slippage in part ticks
    may not."""
    whole = round(ticks)
    return (
        instrument.price(whole) if abs(ticks - whole) < 1e-9 else repr(ticks * instrument.tick_size)
    )


def write_rehearsal(
    folder: Path, tables: Tables, report: dict[str, Any], run: dict[str, Any]
) -> None:
    """All files into `folder`, which is made; they take their places together. Raises BadInput.
    `run`: how they came about."""
    refused = tables.refused()
    # a file that this command never writes is somebody's own
    names = FILES if refused is None else (*FILES, "refused.csv")
    with folder_written(folder, names) as opened:
        for name, columns in (
            ("trades", tables.trades()),
            ("fills", tables.fills()),
            ("stops", tables.stops()),
        ):
            _write_table(opened(f"{name}.csv"), columns)
        for name, some in (("guards", tables.guards()), ("refused", refused)):
            if some is not None:
                _write_words(opened(f"{name}.csv"), some)
        _write_equity(opened("equity.csv"), *tables.equity())
        for name, told in (("report.json", report), ("run.json", run)):
            opened(name).write(json.dumps(told, indent=1).encode() + b"\n")
