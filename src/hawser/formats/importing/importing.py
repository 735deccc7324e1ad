"""`hawser import`: files of other programs as one history, and what was found on the way."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, NamedTuple

import msgspec

from hawser.core.bars import length_of
from hawser.core.errors import BadInput
from hawser.core.instrument import Instrument
from hawser.formats.importing.guess import told_by_place
from hawser.formats.importing.history import (
    Finding,
    History,
    check_bars,
    check_ticks,
    findings,
    joined,
    utc_text,
)
from hawser.formats.importing.reading import FileRows, guessed, read
from hawser.formats.importing.recipe import Recipe

DATE_ORDERS = {"dmy": "day before month", "mdy": "month before day"}


class Imported(NamedTuple):
    """The history, the recipe it was read by, and all there is to tell of it."""

    history: History
    recipe: Recipe
    reads: list[FileRows]
    found: list[Finding]
    placed: tuple[str, ...] = ()  # which columns were taken by their place alone

    def sentences(self) -> list[str]:
        """What was read, and what is doubtful or worth a look, for a person."""
        history, times = self.history, self.history.times
        what = "ticks" if history.ticks else "bars"
        told = [f"{times.size} {what} from {utc_text(int(times[0]))} to {utc_text(int(times[-1]))}"]
        told += self.placed
        told += [text for one in self.reads for text in _doubts(one)]
        return told + self.worth_a_look()

    def worth_a_look(self) -> list[str]:
        """What is odd in the rows, with the first of them."""
        told = []
        for one in self.found:
            at = ", ".join(f"row {row} of {Path(name).name}" for name, row in one.rows)
            told.append(f"{one.often} {one.text}{f': {at}' if at else ''}")
        return told

    def as_json(self) -> dict[str, Any]:
        """The same for a program."""
        times = self.history.times
        return {
            "rows": int(times.size),
            "kind": self.recipe.kind,
            "from": utc_text(int(times[0])),
            "to": utc_text(int(times[-1])),
            "bar_s": None if self.history.ticks else length_of(times).span / 1e9,
            "columns": ["time", *self.history.columns],
            "by_place": list(self.placed),
            "files": [
                {
                    "file": str(one.path),
                    "rows": int(one.times.size),
                    "dates": one.decided.dates,
                    "decided_by_row": deciding_row(one),
                    "doubtful": one.decided.open,
                    "newest_first": one.turned,
                }
                for one in self.reads
            ],
            "findings": [
                {
                    "code": one.code,
                    "count": one.often,
                    "text": one.text,
                    "rows": [{"file": name, "row": row} for name, row in one.rows],
                }
                for one in self.found
            ],
            "recipe": msgspec.to_builtins(self.recipe),
        }


def deciding_row(one: FileRows) -> int | None:
    """The file's row that shows the order of day and month."""
    if one.decided.row < 0:
        return None
    first = int(one.row.min())
    return first + one.decided.row


def _doubts(one: FileRows) -> list[str]:
    """What was decided about the dates and the order of the rows."""
    told = []
    order = DATE_ORDERS.get(one.decided.dates, "")
    row = deciding_row(one)
    if one.decided.open:
        told.append(
            f"{one.path}: no row shows whether day or month comes first; read as {order}. Set "
            "dates in a recipe to be sure"
        )
    elif order and row is not None:
        told.append(f"{one.path}: dates are read as {order}; row {row} shows it")
    if one.turned:
        told.append(f"{one.path}: the newest rows came first, and were turned around")
    return told


def import_files(
    paths: Sequence[Path],
    recipe: Recipe | None = None,
    zone: str = "",
    instrument: Instrument | None = None,
    *,
    sure: bool = True,
) -> Imported:
    """Read `paths` as one history; raises BadInput. Without a recipe each file is guessed at by
    itself, and all must be of one kind. `sure`: the recipe's order of dates was chosen by a person;
    else the rows decide it."""
    sure = sure and recipe is not None
    if zone and recipe is not None and recipe.zone not in ("", zone):
        raise BadInput("usage", f"--tz {zone}: the recipe says {recipe.zone}")
    reads, used = [], []
    for path in paths:
        of = guessed(path) if recipe is None else recipe
        if zone:
            of = msgspec.structs.replace(of, zone=zone)
        reads.append(read(path, of, sure=sure))
        used.append(of)
    kinds = {one.kind for one in used}
    if len(kinds) > 1:
        raise BadInput("bad_import", "expected files of bars or of ticks, got both")
    ticks = kinds == {"ticks"}
    history = joined(reads, ticks)
    if ticks:
        check_ticks(history)
    else:
        check_bars(history)
    first = used[0]
    if not sure:
        first = msgspec.structs.replace(first, dates=_agreed(reads, first))
    placed = [] if recipe is not None else [text for of in used for text in told_by_place(of)]
    found = findings(history, instrument)
    return Imported(history, first, reads, found, tuple(dict.fromkeys(placed)))


def _agreed(reads: list[FileRows], recipe: Recipe) -> Any:
    """How dates are written in all files."""
    sure = [one.decided.dates for one in reads if not one.decided.open]
    return sure[0] if sure else recipe.dates
