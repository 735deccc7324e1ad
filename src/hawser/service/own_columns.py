"""The further columns of a person's own bar file: what another program has worked out, and a
source looks at."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from hawser.core.bars import Bars
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.core.joined_bars import VOLUME, cells
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
        self._read: dict[Columns, BarFile] = {}

    def over(self, source: Source, bars: Bars, span: int) -> dict[str, Array]:
        """What a source looks at, at each of these bars of `span` ns: of those joined of several
        the cell of the last, of volume the sum; NaN where the file has none. Takes as long as it
        takes to read the file. Raises BadInput."""
        return self._at(Columns(told=source.columns, every=bool(source.own_python())), bars, span)

    def volume(self, bars: Bars, span: int) -> Array | None:
        """The volume of each of these bars; None: the file has no such column. Raises BadInput."""
        return self._at(Columns(every=True), bars, span).get(VOLUME)

    def _at(self, wanted: Columns, bars: Bars, span: int) -> dict[str, Array]:
        found = self._read.get(wanted)
        if found is None:
            found = self._read[wanted] = read_history(
                self.path, self._instrument, zone=self._zone, recipe=self._recipe, wanted=wanted
            )
        times = found.bars.time
        firsts, ends = np.searchsorted(times, bars.time), np.searchsorted(times, bars.time + span)
        return {name: cells(name, one, firsts, ends) for name, one in found.columns.items()}
