"""Columns that are as long as a history and have room at the end."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from hawser.core.indicators import Array


class Growing:
    """Columns of equal length. A whole history takes what it needs; one that goes on gets room in
    advance, so that a bar more costs the same however long it is."""

    def __init__(self, kinds: Sequence[type]) -> None:
        self._columns: tuple[Array, ...] = tuple(np.empty(0, kind) for kind in kinds)
        self._room = 0

    def room(self, size: int) -> tuple[Array, ...]:
        """The columns with room for `size` values; those that were there are kept."""
        if size > self._room:
            room = size if not self._room else size + max(64, size // 4)
            self._columns = tuple(
                np.concatenate([column, np.empty(room - self._room, column.dtype)])
                for column in self._columns
            )
            self._room = room
        return self._columns
