"""The files of a rehearsal (interface.md): rows from records, all written or none."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import Any, Protocol

import numpy as np

from hawser.core.clock import SECOND
from hawser.core.errors import BadInput
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.formats.atomic import written

TRADES = (
    "id", "side", "signal_time", "entry_time", "exit_time", "entry", "qty", "initial_stop", "planned_risk", "net", "r",
    "mae_r", "mfe_r", "exit_reason",
)  # fmt: skip
FILLS = ("trade", "time", "action", "reason", "price", "qty", "commission")
STOPS = ("trade", "time", "level", "reason")
Row = tuple[object, ...]


class Tables(Protocol):
    """What a rehearsal gives to be written."""

    def trades(self) -> Iterator[Row]: ...

    def fills(self) -> Iterator[Row]: ...

    def stops(self) -> Iterator[Row]: ...

    def equity(self) -> tuple[Array, Array]: ...


def instants(times: Array) -> list[str]:
    """Bar times (UTC ns) as ISO 8601 in UTC, with no more digits than they need."""
    moments = times.astype("datetime64[ns]")
    if not (times % SECOND).any():
        return [f"{text}Z" for text in np.datetime_as_string(moments, unit="s").tolist()]
    return [f"{text.rstrip('0').rstrip('.')}Z" for text in np.datetime_as_string(moments, unit="ns").tolist()]


def _equity(times: Array, values: Array) -> bytes:
    """One line for each bar, of which there may be millions."""
    import pyarrow as pa
    import pyarrow.compute as pc
    from pyarrow import csv as pa_csv

    if (times % SECOND).any():
        texts = pa.array(instants(times))
    else:
        plain = pc.cast(pa.array(times // SECOND, pa.timestamp("s")), pa.string())
        texts = pc.binary_join_element_wise(pc.replace_substring(plain, " ", "T"), "", "Z")
    file = io.BytesIO()
    options = pa_csv.WriteOptions(include_header=False, quoting_style="none")
    pa_csv.write_csv(pa.table({"time": texts, "equity": values}), file, options)
    return b"time,equity\n" + file.getvalue()


def price_text(instrument: Instrument, ticks: float) -> str:
    """A fill's price: the instrument's digits where it lies on the grid, as slippage in part ticks may not."""
    whole = round(ticks)
    return instrument.price(whole) if abs(ticks - whole) < 1e-9 else repr(ticks * instrument.tick_size)


def write_rehearsal(folder: Path, tables: Tables, report: dict[str, Any]) -> None:
    """All files into `folder`, which is made: each is whole before any takes its place. Raises BadInput."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise BadInput("unwritable", f"{folder}: cannot be made ({error.strerror})") from None
    with ExitStack() as places:
        for name, rows in (
            ("trades", [TRADES, *tables.trades()]), ("fills", [FILLS, *tables.fills()]),
            ("stops", [STOPS, *tables.stops()]),
        ):  # fmt: skip
            text = io.StringIO(newline="")
            csv.writer(text, lineterminator="\n").writerows(rows)
            places.enter_context(written(folder / f"{name}.csv")).write(text.getvalue().encode())
        places.enter_context(written(folder / "equity.csv")).write(_equity(*tables.equity()))
        places.enter_context(written(folder / "report.json")).write(json.dumps(report, indent=1).encode() + b"\n")
