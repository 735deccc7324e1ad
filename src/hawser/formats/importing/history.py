"""One history of one file or several, and what is worth a look in it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from hawser.core import figures as fg
from hawser.core.bars import usual_step
from hawser.core.errors import BadInput
from hawser.core.indicators import Array, atr, true_range
from hawser.core.instrument import Instrument
from hawser.formats.bars import impossible
from hawser.formats.importing.reading import FileRows
from hawser.formats.importing.recipe import PRICES

SPIKE = 20.0  # times the ATR before it
ATR_LENGTH = 14
MOST_TOLD = 5  # rows of each finding


def utc_text(time: int) -> str:
    """A moment as ISO 8601, with as many decimals as it has."""
    text = str(np.datetime64(time, "ns"))
    return f"{text.rstrip('0').rstrip('.') if '.' in text else text}Z"


class Finding(NamedTuple):
    """Something to look at: what, how often, and the first places, each a file and its row."""

    code: str
    often: int
    text: str
    rows: tuple[tuple[str, int], ...]


class History(NamedTuple):
    """Rows in order of time. `times` UTC ns; `columns` float64; `file` and `row` say where each
    came from; `twice`: rows that stood there before, word for word, and were left out."""

    ticks: bool
    times: Array
    columns: dict[str, Array]
    file: Array
    row: Array
    files: tuple[str, ...]
    twice: int

    def place(self, at: int) -> tuple[str, int]:
        return self.files[int(self.file[at])], int(self.row[at])


def joined(reads: Sequence[FileRows], ticks: bool) -> History:
    """Several files as one history; raises BadInput where two rows of one time differ, or a row
    stands before its time."""
    names = list(reads[0].columns)
    for one in reads[1:]:
        if sorted(one.columns) != sorted(names):
            raise BadInput(
                "bad_import",
                f"{one.path}: has other columns than {reads[0].path}; expected {', '.join(names)}",
            )
    order = sorted(range(len(reads)), key=lambda number: int(reads[number].times[0]))
    parts = [reads[number] for number in order]
    history = History(
        ticks=ticks,
        times=_end_to_end([one.times for one in parts]),
        columns={name: _end_to_end([one.columns[name] for one in parts]) for name in names},
        file=np.repeat(np.arange(len(parts), dtype=np.int32), [one.times.size for one in parts]),
        row=_end_to_end([one.row for one in parts]),
        files=tuple(str(one.path) for one in parts),
        twice=0,
    )
    if (np.diff(history.times) < 0).any():
        history = _sorted(history, len(parts) > 1)
    return history if ticks else _without_doubles(history)


def _end_to_end(parts: Sequence[Array]) -> Array:
    return parts[0] if len(parts) == 1 else np.concatenate(parts)


def _taken(history: History, at: Array) -> History:
    return history._replace(
        times=history.times[at],
        columns={name: column[at] for name, column in history.columns.items()},
        file=history.file[at],
        row=history.row[at],
    )


def _sorted(history: History, several: bool) -> History:
    """Files may overlap; the rows of one file may not be in disorder."""
    late = np.flatnonzero((np.diff(history.times) < 0) & (np.diff(history.file) == 0)) + 1
    if late.size:
        name, row = history.place(int(late[0]))
        raise BadInput(
            "unordered",
            f"{name}: row {row}: its time {utc_text(int(history.times[late[0]]))} is before that "
            "of the row before; expected rows in order of time, oldest or newest first",
            row=row,
        )
    assert several  # the rows of one file are in order, so only the order of files is left
    return _taken(history, np.argsort(history.times, kind="stable"))


def _without_doubles(history: History) -> History:
    """Rows that say the same twice count once; two that differ are for a person to decide."""
    same_time = np.flatnonzero(np.diff(history.times) == 0) + 1
    if not same_time.size:
        return history
    for at in same_time.tolist():
        for name, column in history.columns.items():
            if column[at] != column[at - 1] and not np.isnan(column[[at, at - 1]]).all():
                (first, row), (second, other) = history.place(at - 1), history.place(at)
                raise BadInput(
                    "doubles",
                    f"{first}: row {row} and {second}: row {other} have the same time "
                    f"{utc_text(int(history.times[at]))} and differ in {name}; leave one out",
                    row=row,
                )
    keep = np.ones(history.times.size, bool)
    keep[same_time] = False
    return _taken(history, np.flatnonzero(keep))._replace(twice=int(same_time.size))


def check_bars(history: History) -> None:
    """What no bar can be is refused with its row."""
    for name, bad, expected in impossible(history.columns):
        _refuse(history, bad, name, expected)


def check_ticks(history: History) -> None:
    """An ask below its bid is refused with its row."""
    columns = history.columns
    _refuse(history, columns["ask"] < columns["bid"], "ask", "expected an ask at or above the bid")


def _refuse(history: History, bad: Array, column: str, expected: str) -> None:
    if bad.any():
        at = int(np.argmax(bad))
        name, row = history.place(at)
        raise BadInput(
            "bad_import",
            f"{name}: row {row}, column {column}: {expected}, got "
            f"{history.columns[column][at]:.15g}",
            row=row,
            column=column,
        )


def findings(history: History, instrument: Instrument | None) -> list[Finding]:
    """What is worth a look, the most frequent kinds of faults in such files."""
    found = []
    if history.twice:
        text = "rows stand there twice, word for word; each counts once"
        found.append(Finding("twice", history.twice, text, ()))
    if not history.ticks:
        found += [*_gaps(history), *_spikes(history), *_still(history)]
    found += _spreads(history)
    if instrument is not None:
        found += _off_grid(history, instrument)
    return found


def _told(history: History, code: str, bad: Array, text: str) -> list[Finding]:
    at = np.flatnonzero(bad)
    if not at.size:
        return []
    places = tuple(history.place(int(one)) for one in at[:MOST_TOLD])
    return [Finding(code, int(at.size), text, places)]


def _gaps(history: History) -> list[Finding]:
    """Where bars are missing, nights and weekends among them: the hours of trading are not known
    here."""
    if history.times.size < 2:
        return []
    span = usual_step(history.times)
    steps = np.diff(history.times, prepend=history.times[0] - span)
    gaps = steps > span
    if not gaps.any():
        return []
    widest = int(np.argmax(steps))
    text = (
        f"times between two bars are longer than one bar, nights and weekends among them; the "
        f"longest is {fg.duration(int(steps[widest]))} before "
        f"{utc_text(int(history.times[widest]))}"
    )
    return _told(history, "gaps", gaps, text)


def _spikes(history: History) -> list[Finding]:
    high, low, close = (history.columns[name] for name in ("high", "low", "close"))
    if close.size <= ATR_LENGTH:
        return []
    usual = atr(high, low, close, ATR_LENGTH, False)
    ranges = true_range(high, low, close)
    far = np.zeros(close.size, bool)
    with np.errstate(invalid="ignore"):
        far[1:] = (ranges[1:] > SPIKE * usual[:-1]) & (usual[:-1] > 0)
    return _told(history, "spikes", far, f"bars reach farther than {SPIKE:g} times the ATR before")


def _still(history: History) -> list[Finding]:
    """Bars in which nothing moved are often made up by the program that wrote them."""
    still = history.columns["high"] == history.columns["low"]
    if still.sum() * 10 < still.size:
        return []
    return _told(history, "still", still, "bars have one price from high to low")


def _spreads(history: History) -> list[Finding]:
    if history.ticks:
        zero = history.columns["ask"] == history.columns["bid"]
    elif "spread" in history.columns:
        zero = history.columns["spread"] == 0
    else:
        return []
    found = _told(history, "no_spread", zero, "rows have a spread of 0")
    if not history.ticks:
        spread = history.columns["spread"]
        text = "rows have a spread below 1 tick: Hawser counts it in ticks, not in prices"
        found += _told(history, "small_spread", (spread > 0) & (spread < 1), text)
    return found


def _off_grid(history: History, instrument: Instrument) -> list[Finding]:
    off = np.zeros(history.times.size, bool)
    for name in (*PRICES, "bid", "ask"):
        if name in history.columns:
            ticks = history.columns[name] / instrument.tick_size
            off |= np.abs(ticks - np.rint(ticks)) > 1e-6
    text = f"rows have a price off the tick of {instrument.symbol}, {instrument.tick}"
    return _told(history, "off_tick", off, text)
