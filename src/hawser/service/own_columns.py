"""The further columns of a person's own bar file: what another program has worked out, and a
source looks at."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from hawser.core.bars import Bars
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.formats.bars import BarFile, Columns
from hawser.formats.history_file import read_history

if TYPE_CHECKING:
    from hawser.core.sources.source import Source


class OwnColumns:
    """Those of one file, of the instrument whose market it plays. Read when they are first looked
    at: not every source looks at any."""

    def __init__(
        self, path: Path, instrument: Instrument, zone: str | None, recipe: Path | None
    ) -> None:
        self.path, self.symbol = path, instrument.symbol
        self._instrument, self._zone, self._recipe = instrument, zone, recipe
        self._read: tuple[Columns, BarFile] | None = None

    def over(self, source: Source, bars: Bars, span: int) -> dict[str, Array]:
        """What a source looks at, at each of these bars of `span` ns: of those joined of several
        the cell of the last; NaN where the file has none. Takes as long as it takes to read the
        file. Raises BadInput."""
        wanted = Columns(told=source.columns, every=bool(source.own_python()))
        found = self._read
        if found is None or found[0] != wanted:
            history = read_history(
                self.path, self._instrument, zone=self._zone, recipe=self._recipe, wanted=wanted
            )
            found = self._read = wanted, history
        times, columns = found[1].bars.time, found[1].columns
        row = np.searchsorted(times, bars.time + span) - 1
        there = (row >= 0) & (times[row] >= bars.time)
        return {
            name: np.where(there, column[row].astype(np.float64), np.nan)
            for name, column in columns.items()
        }
