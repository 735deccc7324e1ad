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

    def equity(self) -> Iterator[str]: ...


def instants(times: Array) -> list[str]:
    """Bar times (UTC ns) as ISO 8601 in UTC, with no more digits than they need; all at once, for long histories."""
    moments = times.astype("datetime64[ns]")
    if not (times % 1_000_000_000).any():
        return [f"{text}Z" for text in np.datetime_as_string(moments, unit="s").tolist()]
    return [f"{text.rstrip('0').rstrip('.')}Z" for text in np.datetime_as_string(moments, unit="ns").tolist()]


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
        lines = "\n".join(("time,equity", *tables.equity(), ""))
        places.enter_context(written(folder / "equity.csv")).write(lines.encode())
        places.enter_context(written(folder / "report.json")).write(json.dumps(report, indent=1).encode() + b"\n")
