"""Bar files: CSV (RFC 4180, UTF-8, header) or Parquet, checked row by row (interface.md).

pyarrow reads both; it is loaded only here. What is wrong is told as file, row and column; a CSV's
header is row 1.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from hawser.core.bars import Bars
from hawser.core.errors import BadInput
from hawser.core.indicators import Array
from hawser.core.instrument import MOST_TICKS, Instrument
from hawser.core.rules.bar_close import EITHER
from hawser.formats.zones import in_zone

if TYPE_CHECKING:
    import pyarrow as pa

PRICES = ("open", "high", "low", "close")
QUOTES, RATE = ("bid", "ask"), "rate"
FIRST_ROW = 2  # the header is row 1


class BarFile(NamedTuple):
    """Bars on the instrument's grid (spread NaN where the file has none), how many prices were off
    it, and the columns of signals that were asked for: +1, -1 and 0 as int8, 2 too where it is one
    for leaving. `ticks`: each is one quote. `columns`: others that were asked for, by name."""

    bars: Bars
    off_grid: int
    signals: list[Array]
    ticks: bool = False
    columns: Mapping[str, Array] = {}
    rate: Array | None = None  # of the quote currency in the account's, where the file has one


class Columns(NamedTuple):
    """Which further columns are wanted: those for entering and for leaving, those of +1, -1, 0 or
    nothing, whether every other one of numbers, and whether that of rates, where there is one."""

    signal: str = ""
    leave: str = ""
    told: tuple[str, ...] = ()
    every: bool = False
    rate: bool = False

    @property
    def names(self) -> list[str]:
        return [name for name in (self.signal, self.leave, *self.told) if name]


def read_bars(
    path: Path,
    instrument: Instrument,
    zone: str | None = None,
    wanted: Columns = Columns(),  # noqa: B008 # a tuple
    ticks: bool = False,
) -> BarFile:
    """Read a bar file onto the instrument's grid; raises BadInput. `zone`: of times written without
    an offset. `ticks`: a file of quotes (`time,bid,ask`) may stand there too; of quotes of one time
    the last counts."""
    history = _history(path, instrument, zone, wanted, ticks)
    _release()
    return history


def _history(
    path: Path, instrument: Instrument, zone: str | None, wanted: Columns, ticks: bool
) -> BarFile:
    names = ("time", *PRICES, "spread", *QUOTES, RATE, *wanted.names)
    table = read_table(path, None if wanted.every else names)
    return from_table(path, table, instrument, zone=zone, wanted=wanted, ticks=ticks)


def from_table(
    path: Path,
    table: pa.Table,
    instrument: Instrument,
    zone: str | None = None,
    wanted: Columns = Columns(),  # noqa: B008 # a tuple
    ticks: bool = False,
) -> BarFile:
    """The same of columns that were read already; `path`: of what."""
    names = table.column_names
    if set(QUOTES) <= set(names) and not set(PRICES) & set(names):
        if ticks:
            return _ticks(path, table, instrument, zone=zone, wanted=wanted)
        raise BadInput(
            "bad_bars",
            f"{path}: holds quotes, not bars; hawser --import {path.name} makes bars of them",
        )
    bars, off = _on_grid(path, _bars(path, table, zone), instrument)
    signals, columns = _wanted(path, table, wanted)
    return BarFile(bars, off, signals, columns=columns, rate=_rate(path, table, wanted))


def _wanted(path: Path, table: pa.Table, wanted: Columns) -> tuple[list[Array], dict[str, Array]]:
    """The columns of signals, and the others that are wanted."""
    signals = [
        _signals(path, table, name, leaving)
        for name, leaving in ((wanted.signal, False), (wanted.leave, True))
        if name
    ]
    found = further(path, table) if wanted.every else {}
    return signals, found | {name: tri_state(path, table, name) for name in wanted.told}


def _ticks(
    path: Path, table: pa.Table, instrument: Instrument, zone: str | None, wanted: Columns
) -> BarFile:
    """Quotes as bars of one price."""
    if table.num_rows == 0:
        raise BadInput("bad_bars", f"{path}: holds no quotes")
    time = _times(path, table, zone)
    bid, ask = (_numbers(path, table, name) for name in QUOTES)
    late = np.zeros(time.size, bool)
    late[1:] = time[1:] < time[:-1]
    _refuse(path, late, "time", "expected a time that is not before that of the row above")
    _refuse(path, ask < bid, "ask", "expected a price at or above the bid")
    last = np.append(time[1:] != time[:-1], True)
    (bids, off), (asks, more) = (
        _grid_prices(path, name, values, instrument)
        for name, values in zip(QUOTES, (bid, ask), strict=True)
    )
    spread = np.rint(asks[last] / instrument.tick_size) - np.rint(bids[last] / instrument.tick_size)
    signals, columns = _wanted(path, table, wanted)
    price, rate = bids[last], _rate(path, table, wanted)
    return BarFile(
        Bars(time[last], price, price, low=price, close=price, spread=spread),
        off + more,
        [one[last] for one in signals],
        ticks=True,
        columns={name: column[last] for name, column in columns.items()},
        rate=None if rate is None else rate[last],
    )


def _release() -> None:
    """Give back the memory that the table had: of a long history it is as much as the bars
    themselves."""
    import pyarrow as pa

    pa.default_memory_pool().release_unused()


def read_unrounded(path: Path, zone: str | None = None) -> Bars:
    """Read and check a bar file, prices as they are written; raises BadInput."""
    return unrounded(path, read_table(path), zone)


def unrounded(path: Path, table: pa.Table, zone: str | None = None) -> Bars:
    """The same of columns that were read already; `path`: of what."""
    return _bars(path, table, zone).mapped(np.array)


def _bars(path: Path, table: pa.Table, zone: str | None) -> Bars:
    """Checked columns; those that need no change are views of the table's own memory."""
    for name in ("time", *PRICES):
        if name not in table.column_names:
            raise BadInput(
                "bad_bars", f"{path}: column {name} is missing; expected time,open,high,low,close"
            )
    if table.num_rows == 0:
        raise BadInput("bad_bars", f"{path}: holds no bars")
    time = _times(path, table, zone)
    prices = {name: _numbers(path, table, name) for name in PRICES}
    spread = (
        _numbers(path, table, "spread")
        if "spread" in table.column_names
        else np.full(time.size, np.nan)
    )
    _check_order(path, time)
    for name, bad, what in impossible(prices | {"spread": spread}):
        _refuse(path, bad, name, what)
    return Bars._make([time, *prices.values(), spread])


def _rate(path: Path, table: pa.Table, wanted: Columns) -> Array | None:
    """The column of rates, where it is wanted and there is one."""
    if not wanted.rate or RATE not in table.column_names:
        return None
    rates = _numbers(path, table, RATE)
    _refuse(path, rates <= 0, RATE, "expected a rate above 0")
    return rates


def _signals(path: Path, table: pa.Table, name: str, leaving: bool) -> Array:
    if name not in table.column_names:
        raise BadInput(
            "bad_bars",
            f"{path}: column {name} is missing; expected +1, -1 or 0 at each bar's close",
        )
    values = _numbers(path, table, name)
    wrong = (values != 0.0) & (np.abs(values) != 1.0) & ~(leaving & (values == EITHER))
    _refuse(path, wrong, name, "expected +1, -1, 0 or 2" if leaving else "expected +1, -1 or 0")
    return values.astype(np.int8)


def is_parquet(path: Path) -> bool:
    return path.suffix.lower() in (".parquet", ".pq")


def read_table(path: Path, wanted: Sequence[str] | None = None) -> pa.Table:
    """The file's columns, or those `wanted` that it has; raises BadInput where it is no such
    file."""
    import pyarrow as pa
    import pyarrow.csv
    import pyarrow.parquet

    try:
        if is_parquet(path):
            file = pyarrow.parquet.ParquetFile(path)
            _check_names(path, file.schema_arrow.names)
            return file.read(
                [name for name in file.schema_arrow.names if wanted is None or name in wanted]
            )
        # Times as text: what has no offset must be seen, not guessed.
        options = pyarrow.csv.ConvertOptions(
            column_types={"time": pa.string()}, strings_can_be_null=False
        )
        table = pyarrow.csv.read_csv(path, convert_options=options)
        _check_names(path, table.column_names)
        return (
            table
            if wanted is None
            else table.select([name for name in table.column_names if name in wanted])
        )
    except OSError as error:
        raise BadInput(
            "unreadable", f"{path}: cannot be read ({error.strerror or error})"
        ) from None
    except UnicodeDecodeError:
        raise BadInput(
            "not_text", f"{path}: row 1: expected the columns' names as UTF-8 text"
        ) from None
    except (pa.ArrowException, ValueError) as error:
        raise BadInput(
            "bad_bars", f"{path}: expected a bar file; {str(error).splitlines()[0]}"
        ) from None


def _check_names(path: Path, names: Sequence[str]) -> None:
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None:
        raise BadInput(
            "bad_bars",
            f"{path}: column {twice} stands there twice; expected each name once",
            column=twice,
        )


def _whole(column: pa.ChunkedArray) -> pa.Array:
    """A column in one piece; it is copied only where it is in several."""
    return column.chunk(0) if column.num_chunks == 1 else column.combine_chunks()


def _times(path: Path, table: pa.Table, zone: str | None) -> Array:
    """The time column as UTC ns."""
    import pyarrow as pa

    column = _whole(table.column("time"))
    if column.null_count:
        raise _empty_time(path, column)
    if pa.types.is_timestamp(column.type):
        naive = column.type.tz is None
        stamps = _cast_times(path, column, pa.timestamp("ns", column.type.tz))
    elif pa.types.is_string(column.type) or pa.types.is_large_string(column.type):
        first = column[0].as_py()
        naive = not (first.endswith("Z") or "+" in first[10:] or "-" in first[10:])
        stamps = _cast_times(
            path, column, pa.timestamp("ns") if naive else pa.timestamp("ns", "UTC")
        )
    else:
        raise BadInput(
            "bad_bars",
            f"{path}: column time: expected ISO 8601 text or timestamps, found {column.type}",
        )
    if naive and zone is None:
        raise BadInput(
            "naive_time",
            (
                f"{path}: row {FIRST_ROW}, column time: has no offset; add one, or name "
                "its zone with --tz"
            ),
        )
    if naive:
        return in_zone(stamps, zone or "", lambda at: _never(path, at, zone or ""))
    if stamps.null_count:
        raise _empty_time(path, stamps)
    return np.asarray(stamps.cast(pa.int64()), np.int64)


def _never(path: Path, at: int, zone: str) -> BadInput:
    row, told = at + FIRST_ROW, f"there is no such time in {zone}: the clock was put forward then"
    return BadInput("bad_bars", f"{path}: row {row}, column time: {told}", row=row, column="time")


def _empty_time(path: Path, column: pa.Array) -> BadInput:
    row = int(np.flatnonzero(np.asarray(column.is_null()))[0]) + FIRST_ROW
    return BadInput("bad_bars", f"{path}: row {row}, column time: is empty")


def _cast_times(path: Path, column: pa.Array, kind: pa.DataType) -> pa.Array:
    import pyarrow as pa

    try:
        return column.cast(kind)
    except pa.ArrowInvalid:
        at = _first_that_fails(column, kind)
        if pa.types.is_timestamp(column.type):
            text, expected = str(column[at].cast(pa.int64()).as_py()), "a time from 1678 to 2261"
            raise BadInput(
                "bad_bars",
                f"{path}: row {at + FIRST_ROW}, column time: expected {expected}, got {text}",
            ) from None
        expected = (
            "an ISO 8601 time with an offset or Z"
            if kind.tz
            else "an ISO 8601 time without an offset"
        )
        text = column[at].as_py()
        raise BadInput(
            "bad_bars",
            (
                f"{path}: row {at + FIRST_ROW}, column time: expected {expected} like the "
                f"others, got '{text}'"
            ),
        ) from None


def _first_that_fails(column: pa.Array, kind: pa.DataType) -> int:
    """The first place of a column that cannot be cast, by halving."""
    import pyarrow as pa

    low, high = 0, len(column) - 1
    while low < high:
        middle = (low + high) // 2
        try:
            column[low : middle + 1].cast(kind)
            low = middle + 1
        except pa.ArrowInvalid:
            high = middle
    return low


def tri_state(path: Path, table: pa.Table, name: str) -> Array:
    """A column of +1, -1 and 0 as float64, NaN where a cell is empty; raises BadInput."""
    if name not in table.column_names:
        raise BadInput(
            "no_column", f"{path}: column {name} is missing; expected +1, -1, 0 or nothing in it"
        )
    values = _as_numbers(path, table, name)
    check_tri_state(path, name, values)
    return values


def check_tri_state(path: Path, name: str, values: Array) -> None:
    """Refuse a column of other numbers than +1, -1 and 0; raises BadInput."""
    known = ~np.isnan(values)
    wrong = known & (values != 0.0) & (np.abs(values) != 1.0)
    _refuse(path, wrong, name, "expected +1, -1, 0 or nothing")


def further(path: Path, table: pa.Table) -> dict[str, Array]:
    """The columns of numbers that are none of a bar's own, float64, NaN where a cell is empty."""
    import pyarrow as pa

    own = ("time", *PRICES, "spread", *QUOTES)
    names = (name for name in table.column_names if name not in own)
    kinds = {name: table.schema.field(name).type for name in names}
    return {
        name: _as_numbers(path, table, name)
        for name, kind in kinds.items()
        if pa.types.is_floating(kind) or pa.types.is_integer(kind) or pa.types.is_null(kind)
    }


def _numbers(path: Path, table: pa.Table, name: str) -> Array:
    numbers = _as_numbers(path, table, name)
    if name != "spread" or not np.isnan(numbers).all():
        _refuse(path, ~np.isfinite(numbers), name, "expected a number")
    return numbers


def _as_numbers(path: Path, table: pa.Table, name: str) -> Array:
    """A column as float64, NaN where a cell is empty."""
    import pyarrow as pa

    column = _whole(table.column(name))
    if not (pa.types.is_floating(column.type) or pa.types.is_integer(column.type)):
        try:
            column = column.cast(pa.float64())
        except pa.ArrowNotImplementedError:
            raise BadInput(
                "bad_bars", f"{path}: column {name}: expected numbers, found {column.type}"
            ) from None
        except pa.ArrowInvalid:
            at = _first_that_fails(column, pa.float64())
            row, value = at + FIRST_ROW, column[at].as_py()
            raise BadInput(
                "bad_bars", f"{path}: row {row}, column {name}: expected a number, got {value!r}"
            ) from None
    return np.asarray(column.to_numpy(zero_copy_only=False), np.float64)


def _refuse(path: Path, bad: Array, column: str, what: str) -> None:
    if bad.any():
        row = int(np.flatnonzero(bad)[0]) + FIRST_ROW
        raise BadInput(
            "bad_bars", f"{path}: row {row}, column {column}: {what}", row=row, column=column
        )


def _check_order(path: Path, time: Array) -> None:
    late = np.zeros(time.size, bool)
    late[1:] = time[1:] <= time[:-1]
    _refuse(
        path,
        late,
        "time",
        "expected a time after the row before (times are unordered or repeated)",
    )


def impossible(columns: Mapping[str, Array]) -> Iterator[tuple[str, Array, str]]:
    """What no bar can be: the column, which rows, and what is expected there. `columns` by name;
    the spread may be missing."""
    for name in PRICES:
        yield name, columns[name] <= 0, "expected a price above zero"
    high, low = columns["high"], columns["low"]
    yield "high", high < low, "expected high at or above low"
    for name in ("open", "close"):
        out = (columns[name] > high) | (columns[name] < low)
        yield name, out, "expected a price from low to high"
    if "spread" in columns:
        spread = columns["spread"]
        yield "spread", (spread < 0) | (spread > MOST_TICKS), "expected ticks, 0 or more"


def _grid_prices(path: Path, name: str, values: Array, instrument: Instrument) -> tuple[Array, int]:
    """A column of prices rounded to the nearest tick, in memory of its own, and how many were off
    it; raises BadInput."""
    tick = instrument.tick_size
    over, under = map(float, instrument.tick.as_integer_ratio())
    with np.errstate(over="ignore"):  # refused below
        # and on in the same memory: of a long history, new memory costs more than the sums
        prices = values / tick
    np.rint(prices, out=prices)
    _refuse(
        path,
        prices < 1,
        name,
        f"expected a price of at least half a tick, which is {instrument.tick}",
    )
    _refuse(
        path,
        prices > MOST_TICKS,
        name,
        f"expected at most {MOST_TICKS:,} ticks of {instrument.tick}",
    )
    prices *= over  # the float nearest to the decimal, as if it had been read from text
    prices /= under
    apart = values - prices
    return prices, int((np.abs(apart, out=apart) > tick * 1e-6).sum())


def _on_grid(path: Path, bars: Bars, instrument: Instrument) -> tuple[Bars, int]:
    """Prices rounded to the nearest tick, in memory of their own, and how many were off it; raises
    BadInput."""
    off, columns = 0, []
    for name, values in zip(PRICES, bars[1:5], strict=True):
        prices, apart = _grid_prices(path, name, values, instrument)
        off += apart
        columns.append(prices)
    return Bars._make([np.array(bars.time), *columns, np.array(bars.spread)]), off
