"""A history from one file, Hawser's own or, by a recipe, another program's: what every command that
takes bars reads them with."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from hawser.core.errors import BadInput
from hawser.core.instrument import Instrument
from hawser.formats.bars import BarFile, Columns, from_table, read_bars

if TYPE_CHECKING:
    from hawser.formats.importing.history import History


def read_history(
    path: Path,
    instrument: Instrument,
    *,
    zone: str | None = None,
    recipe: Path | None = None,
    wanted: Columns = Columns(),  # noqa: B008 # a tuple
    ticks: bool = False,
) -> BarFile:
    """The bars on the instrument's grid, with these further columns; raises BadInput. `zone`: of
    times written without an offset. `ticks`: quotes may stand there too."""
    if recipe is None:
        return read_bars(path, instrument, zone, wanted, ticks)
    from hawser.formats.importing.writing import table_of

    table = table_of(by_recipe(path, recipe, zone, wanted.names))
    return from_table(path, table, instrument, wanted=wanted, ticks=ticks)


def by_recipe(
    path: Path, recipe: Path, zone: str | None = None, columns: Sequence[str] = ()
) -> History:
    """The file as its recipe reads it, with these columns kept; raises BadInput."""
    from hawser.formats.declared import load
    from hawser.formats.importing.importing import import_files
    from hawser.formats.importing.recipe import Recipe

    told = load(Recipe, recipe)
    missing = [name for name in columns if name not in told.keep]
    if missing:
        sentence = f"{recipe}: keep: expected the column {missing[0]} among those kept"
        raise BadInput("bad_recipe", sentence)
    return import_files([path], told, zone or "").history
