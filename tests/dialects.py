"""One made-up history, written as other programs write theirs."""

from __future__ import annotations

import csv
import gzip
import io
import lzma
import random
import zipfile
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np

from hawser.core.bars import Bars
from hawser.core.clock import MINUTE

BEGIN = int(datetime(2031, 10, 24, 20, 0, tzinfo=UTC).timestamp()) * 1_000_000_000
ZONE = "Europe/Zurich"  # its clocks go back on 26 October 2031


def history(count: int = 400, span: int = 15 * MINUTE, begin: int = BEGIN) -> Bars:
    """Bars of five decimals over the night in which an hour comes twice, with a weekend's gap."""
    draw = random.Random(count)
    times = [begin + number * span for number in range(count)]
    times = [time if number < count // 2 else time + 40 * span for number, time in enumerate(times)]
    close, rows = 64_000, []
    for _ in times:
        open_ = close + draw.randint(-3, 3)
        close = open_ + draw.randint(-40, 40)
        high, low = max(open_, close) + draw.randint(0, 30), min(open_, close) - draw.randint(0, 30)
        rows.append((open_, high, low, close, draw.randint(4, 30)))
    columns = np.array(rows, np.float64).T
    prices = [np.array([float(f"{value / 1e5:.5f}") for value in column]) for column in columns[:4]]
    return Bars(np.array(times, np.int64), *prices, columns[4])


@dataclass(frozen=True)
class Dialect:
    """How a program writes. `date` and `clock` as in strftime; `clock` empty: both in `date`;
    `epoch` counts from 1970 in so many ns instead."""

    separator: str = ","
    decimal: str = "."
    grouping: str = ""
    header: tuple[str, ...] | None = ("time", "open", "high", "low", "close", "spread")
    date: str = "%Y-%m-%dT%H:%M:%SZ"
    clock: str = ""
    epoch: int = 0
    zone: str = "UTC"
    encoding: str = "utf-8"
    quoting: int = csv.QUOTE_MINIMAL
    above: tuple[str, ...] = ()
    comment_at: int = -1
    newest_first: bool = False
    packed: str = ""
    ending: str = "\r\n"
    trailing: bool = False
    blank: bool = False


def _number(value: float, decimals: int, dialect: Dialect) -> str:
    text = f"{value:,.{decimals}f}" if dialect.grouping else f"{value:.{decimals}f}"
    swapped = text.replace(",", "\0").replace(".", dialect.decimal)
    return swapped.replace("\0", dialect.grouping)


def _time(time: int, dialect: Dialect) -> list[str]:
    if dialect.epoch:
        return [str(time // dialect.epoch)]
    at = datetime.fromtimestamp(time // 10**9, UTC).astimezone(ZoneInfo(dialect.zone))
    return [at.strftime(one) for one in (dialect.date, dialect.clock) if one]


def text_of(bars: Bars, dialect: Dialect) -> str:
    """The history as text in a dialect."""
    out = io.StringIO()
    for line in dialect.above:
        out.write(line + dialect.ending)
    spaced = dialect.separator == "spaces"
    writer = csv.writer(
        out,
        delimiter=" " if spaced else dialect.separator,
        quoting=csv.QUOTE_NONE if spaced else dialect.quoting,
        lineterminator=dialect.ending,
        escapechar="\\" if spaced else None,
    )
    rows = [
        [
            *_time(int(time), dialect),
            *(_number(price, 5, dialect) for price in prices),
            _number(spread, 0, dialect),
        ]
        for time, *prices, spread in zip(*bars, strict=True)
    ]
    if dialect.header is not None:
        writer.writerow(dialect.header)
    for number, row in enumerate(rows[::-1] if dialect.newest_first else rows):
        if number == dialect.comment_at:
            out.write("# a remark, of somebody" + dialect.ending)
        if dialect.blank and number % 50 == 7:
            out.write(dialect.ending)
        writer.writerow([*row, ""] if dialect.trailing else row)
    return out.getvalue()


def write(bars: Bars, dialect: Dialect, folder: Path) -> Path:
    data = text_of(bars, dialect).encode(dialect.encoding)
    if dialect.packed == "gz":
        data = gzip.compress(data)
    elif dialect.packed == "xz":
        data = lzma.compress(data)
    path = folder / f"export.csv{f'.{dialect.packed}' if dialect.packed else ''}"
    if dialect.packed == "zip":
        with zipfile.ZipFile(path, "w") as file:
            file.writestr("inner/export.csv", data)
    else:
        path.write_bytes(data)
    return path


TWO = ("Date", "Time", "Open", "High", "Low", "Close", "Spread")
PLAIN = Dialect()
LOCAL = replace(PLAIN, date="%Y-%m-%d %H:%M", zone=ZONE)
DIALECTS = {
    "our own": PLAIN,
    "semicolons": replace(PLAIN, separator=";"),
    "tabs": replace(PLAIN, separator="\t"),
    "bars between": replace(PLAIN, separator="|"),
    "decimal comma": replace(PLAIN, separator=";", decimal=","),
    "decimal comma and tabs": replace(PLAIN, separator="\t", decimal=","),
    "decimal comma, quoted, between commas": replace(PLAIN, decimal=",", quoting=csv.QUOTE_ALL),
    "all quoted": replace(PLAIN, quoting=csv.QUOTE_ALL),
    "a byte order mark": replace(PLAIN, encoding="utf-8-sig"),
    "UTF-16": replace(PLAIN, encoding="utf-16"),
    "UTF-16 without a mark": replace(PLAIN, encoding="utf-16-le"),
    "Western letters": replace(
        PLAIN,
        separator=";",
        encoding="cp1252",
        header=("Zeit", "Er\u00f6ffnung", "Hoch", "Tief", "Schlu\u00df", "Spread"),
    ),
    "capitals and spaces in the header": replace(
        PLAIN, header=(" Time ", " Open", "HIGH ", "Low", " Close ", "Spread (ticks)")
    ),
    "datetime": replace(PLAIN, header=("datetime", "o", "h", "l", "c", "spread")),
    "signs around the names": replace(
        PLAIN,
        separator="\t",
        header=tuple(f"<{name.upper()}>" for name in TWO),
        date="%Y.%m.%d",
        clock="%H:%M:%S",
    ),
    "date and time in two columns": replace(PLAIN, header=TWO, date="%Y-%m-%d", clock="%H:%M"),
    "two columns, the day first": replace(PLAIN, header=TWO, date="%d/%m/%Y", clock="%H:%M:%S"),
    "two columns, compact": replace(PLAIN, header=TWO, date="%Y%m%d", clock="%H%M%S"),
    "two columns without header": replace(PLAIN, header=None, date="%Y.%m.%d", clock="%H:%M"),
    "no header": replace(PLAIN, header=None),
    "no header, semicolons, compact": replace(
        PLAIN, header=None, separator=";", date="%Y%m%d %H%M%S"
    ),
    "the day first": replace(PLAIN, date="%d.%m.%Y %H:%M:%S"),
    "the month first": replace(PLAIN, date="%m/%d/%Y %H:%M"),
    "the month first, with halves of the day": replace(PLAIN, date="%m/%d/%Y %I:%M:%S %p"),
    "months by name": replace(PLAIN, date="%d %b %Y %H:%M"),
    "a day of the week before": replace(PLAIN, date="%a %d %b %Y %H:%M:%S"),
    "dots and the year first": replace(PLAIN, date="%Y.%m.%d %H:%M"),
    "two digits of the year": replace(PLAIN, date="%d.%m.%y %H:%M"),
    "compact": replace(PLAIN, date="%Y%m%d %H:%M:%S"),
    "fractions of a second": replace(PLAIN, date="%Y-%m-%d %H:%M:%S.000"),
    "an offset": replace(PLAIN, date="%Y-%m-%dT%H:%M:%S%z", zone=ZONE),
    "seconds since 1970": replace(PLAIN, epoch=10**9),
    "milliseconds since 1970": replace(PLAIN, epoch=10**6),
    "microseconds since 1970": replace(PLAIN, epoch=10**3),
    "nanoseconds since 1970": replace(PLAIN, epoch=1),
    "a zone's clock": LOCAL,
    "a zone's clock, the newest first": replace(LOCAL, newest_first=True),
    "the newest first": replace(PLAIN, newest_first=True),
    "comments above": replace(PLAIN, above=("# made up", "# for a test, with a comma")),
    "lines above": replace(PLAIN, above=("Export of a made-up instrument", "", "Bid prices")),
    "a comment within": replace(PLAIN, comment_at=50),
    "blank lines": replace(PLAIN, blank=True),
    "gzip": replace(PLAIN, packed="gz"),
    "xz": replace(PLAIN, packed="xz"),
    "zip": replace(PLAIN, packed="zip"),
    "gzip in UTF-16": replace(PLAIN, packed="gz", encoding="utf-16"),
    "Unix line ends": replace(PLAIN, ending="\n"),
    "a separator at the end": replace(PLAIN, trailing=True, separator=";"),
    "spaces between": replace(
        PLAIN, separator="spaces", header=TWO, date="%Y.%m.%d", clock="%H:%M"
    ),
    "all at once": replace(
        LOCAL,
        separator=";",
        decimal=",",
        header=("Datum", "Uhrzeit", "Er\u00f6ffnung", "Hoch", "Tief", "Schluss", "Spread"),
        date="%d.%m.%Y",
        clock="%H:%M",
        encoding="cp1252",
        newest_first=True,
        packed="gz",
        quoting=csv.QUOTE_ALL,
        above=("# \u00fcber allem",),
    ),
}
