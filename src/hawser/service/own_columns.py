"""The further columns of a person's own bar file: what another program has worked out, and a
source looks at."""

from __future__ import annotations

import difflib
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from hawser.core.bars import Bars
from hawser.core.errors import BadInput
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.core.joined_bars import VOLUME, cells
from hawser.formats.bars import BarFile, Columns, check_tri_state
from hawser.formats.history_file import read_history

if TYPE_CHECKING:
    from hawser.core.sources.source import Source


class OwnColumns:
    """Those of one file, of the instrument whose market it plays. All of them are read once, when
    one is first looked at: a name that is being typed must not read the file at each letter."""

    def __init__(
        self, path: Path, instrument: Instrument, zone: str | None, recipe: Path | None
    ) -> None:
        self.path, self.symbol = path, instrument.symbol
        self._instrument, self._zone, self._recipe = instrument, zone, recipe
        self._read: BarFile | None = None

    def over(self, source: Source, bars: Bars, span: int) -> dict[str, Array]:
        """What a source looks at, at each of these bars of `span` ns: of those joined of several
        the cell of the last, of volume the sum; NaN where the file has none. Takes as long as it
        takes to read the file. Raises BadInput."""
        columns = self._file().columns
        for name in source.columns:
            if name not in columns:
                near = difflib.get_close_matches(name, list(columns), n=1, cutoff=0.0)
                told = f"; the nearest is {near[0]}" if near else ""
                raise BadInput("no_column", f"{self.path}: there is no column {name}{told}")
            check_tri_state(self.path, name, columns[name])
        return self._at(list(columns) if source.own_python() else source.columns, bars, span)

    def volume(self, bars: Bars, span: int) -> Array | None:
        """The volume of each of these bars; None: the file has no such column. Raises BadInput."""
        there = VOLUME in self._file().columns
        return self._at([VOLUME], bars, span)[VOLUME] if there else None

    def _file(self) -> BarFile:
        found = self._read
        if found is None:
            found = self._read = read_history(
                self.path,
                self._instrument,
                zone=self._zone,
                recipe=self._recipe,
                wanted=Columns(every=True),
            )
        return found

    def _at(self, names: Iterable[str], bars: Bars, span: int) -> dict[str, Array]:
        file = self._file()
        times = file.bars.time
        firsts, ends = np.searchsorted(times, bars.time), np.searchsorted(times, bars.time + span)
        return {name: cells(name, file.columns[name], firsts, ends) for name in names}
