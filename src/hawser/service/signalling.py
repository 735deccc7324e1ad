"""`hawser signals`: a source over a bar file; the bars with what it says at each of them."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import msgspec

from hawser.core import figures as fg
from hawser.core.bars import Bars
from hawser.core.errors import BadInput
from hawser.core.indicators import Array
from hawser.core.sources.evaluation import Signalled, counted, evaluated
from hawser.core.sources.followed import Followed, followed
from hawser.core.sources.followed_said import horizon_said, many
from hawser.core.sources.source import Source, too_short, worries
from hawser.core.sources.view import BarsSeen
from hawser.formats.bars import further, read_table, tri_state, unrounded
from hawser.formats.lines import add_columns
from hawser.formats.sources import load_source

if TYPE_CHECKING:
    import pyarrow as pa

SIGNAL, LEAVE = "signal", "exit_signal"
NAMED = {
    "--bars-of": "NAME=FILE, an instrument and its bars",
    "--reference": "NAME=FILE, an instrument and its bars",
    "--rate": "PAIR=FILE, a pair of currencies and its bars",
}


class SignalFiles(NamedTuple):
    """What the command is given. `others`: NAME=FILE, bars of other instruments."""

    bars: Path
    source: Path
    out: Path
    others: tuple[str, ...] = ()
    zone: str | None = None
    recipe: Path | None = None


class SignalsDone(NamedTuple):
    """What a source said: the figures, and in sentences; what is to be minded."""

    report: dict[str, Any]
    told: list[str]
    minded: list[str]


def signals(files: SignalFiles) -> SignalsDone:
    """Evaluate and write. Raises BadInput."""
    source, history = load_source(files.source), None
    if files.recipe is not None:
        from hawser.formats.history_file import by_recipe
        from hawser.formats.importing.writing import table_of

        history = by_recipe(files.bars, files.recipe, files.zone, source.columns)
        table = table_of(history)
    else:
        table = read_table(files.bars)
    bars = unrounded(files.bars, table, None if history is not None else files.zone)
    columns = columns_of(source, files.bars, table)
    others = named_bars(files.others, files.zone)
    said, minded = said_over(source, files.source, bars, columns=columns, others=others)
    del table
    after = followed(bars, said.signal)
    report = {
        **counted(said),
        "followed": {str(horizon): msgspec.to_builtins(one) for horizon, one in after.items()},
    }
    made = {SIGNAL: said.signal, LEAVE: said.leave}
    gone = add_columns(files.bars, files.out, made, history=history)
    if gone:
        minded.append(
            f"{files.bars}: what stood in its {' and '.join(gone)} is not in {files.out}: the "
            "source's answers stand there"
        )
    told = [*_in_words(report, after, bars.time.size), f"Written: {files.out}"]
    minded += [*worries(source), *too_short(source, bars.time.size)]
    return SignalsDone(report, told, minded)


def columns_of(source: Source, path: Path, table: pa.Table) -> dict[str, Array]:
    """The columns of a bar file that a source looks at; its own Python may look at any."""
    found = further(path, table) if source.own_python() else {}
    return found | {name: tri_state(path, table, name) for name in source.columns}


def named_files(texts: tuple[str, ...], option: str = "--bars-of") -> dict[str, Path]:
    """Files by the names that an option gives them, NAME=FILE each; raises BadInput."""
    found: dict[str, Path] = {}
    for text in texts:
        name, equals, path = text.partition("=")
        if not (name and equals and path):
            raise BadInput("usage", f"{option} {text}: expected {NAMED[option]}")
        if name in found:
            raise BadInput("usage", f"{option} {text}: {name} is given twice; expected it once")
        found[name] = Path(path)
    return found


class Reading(NamedTuple):
    """How the bars of a file are read: the zone of its times, and the recipe where another program
    wrote it."""

    zone: str | None
    recipe: Path | None = None


class BarFiles:
    """Bars of several instruments from their files; each is read once. `own`: files that are read
    in a way of their own."""

    def __init__(self, own: Mapping[Path, Reading] | None = None) -> None:
        self._own = own or {}
        self._read: dict[tuple[Path, Reading], Bars] = {}

    def bars(self, files: Mapping[str, Path], zone: str | None) -> dict[str, Bars]:
        """By the same names; raises BadInput."""
        found = {}
        for name, path in files.items():
            key = (path, self._own.get(path, Reading(zone)))
            if key not in self._read:
                self._read[key] = _bars_from(*key)
            found[name] = self._read[key]
        return found


def _bars_from(path: Path, reading: Reading) -> Bars:
    if reading.recipe is None:
        return unrounded(path, read_table(path), reading.zone)
    from hawser.formats.history_file import by_recipe
    from hawser.formats.importing.writing import table_of

    return unrounded(path, table_of(by_recipe(path, reading.recipe, reading.zone)), None)


def named_bars(
    texts: tuple[str, ...], zone: str | None, option: str = "--bars-of"
) -> dict[str, Bars]:
    """Bars by the names of their instruments, from NAME=FILE each; raises BadInput."""
    return BarFiles().bars(named_files(texts, option), zone)


def said_over(
    source: Source,
    path: Path,
    bars: Bars,
    *,
    columns: dict[str, Array],
    others: dict[str, Bars],
    span: int | None = None,
) -> tuple[Signalled, list[str]]:
    """What a source says over a history, and what is to be minded; raises BadInput that names its
    file. `columns`: the bars' further ones; `span`: of the bars, where it is known."""
    missing = [name for name in source.instruments if name not in others]
    if missing:
        near = f"; given are those of {', '.join(others)}" if others else ""
        place = next(place for place, line in source.lines() if line.instrument == missing[0])
        raise BadInput(
            "no_bars",
            f"{path}: {place}.instrument: there are no bars of {missing[0]}{near}; give them with "
            f'--bars-of "{missing[0]}=FILE"',
        )
    minded: list[str] = []
    asked = source.own_python()
    if asked:
        from hawser.service.own_python import answers

        found, minded = answers(asked, path, bars, columns)
        columns = {**columns, **found}
    try:
        return evaluated(source, BarsSeen(bars, others, columns), span), minded
    except BadInput as error:
        raise BadInput(error.code, f"{path}: {error.sentence}", **error.values) from None


def _in_words(report: dict[str, Any], after: Mapping[int, Followed], bars: int) -> list[str]:
    told = [
        f"{many(report['long'], 'signal')} for long and {fg.number(report['short'], 0)} for short "
        f"over {many(bars, 'bar')}; leaves longs at {fg.number(report['leave_long'], 0)}, shorts "
        f"at {fg.number(report['leave_short'], 0)}"
    ]
    if report["both_ways"]:
        told.append(
            f"At {many(report['both_ways'], 'bar')} it said long and short at once, which is no "
            "signal"
        )
    return [*told, *(horizon_said(horizon, one) for horizon, one in after.items())]
