"""Tuples of compiled code that are put aside and taken up again: what each of many members is, and
where it stands.

Numba has no array of tuples. A shelf is an array of bytes, a row for each member, in which a tuple
lies as it does in memory. Its arrays are not counted (`borrowed_arrays.py`): whoever makes a shelf
holds them for as long as it is read. A function that is given a shelf, a row and a `kind` is handed
a few numbers, however large the tuple is, and takes from it what it needs.
"""

from __future__ import annotations

from collections.abc import Sequence
from operator import attrgetter
from typing import Any

import numpy as np

from hawser.core.built import Built
from hawser.core.compiled import compiled, interpreted

Bytes = Any  # of a shelf (rows, width); where rules are interpreted, a list of tuples
Shelf = Any  # where the bytes begin
ShelfKind = Any  # what lies on a shelf


def _put(made: Bytes, row: int, value: Any) -> None:
    made[row] = value


def _put_part(made: Bytes, row: int, _kind: ShelfKind, path: str, value: Any) -> None:
    made[row] = _with(made[row], path.split("."), value)


def _with(value: Any, path: list[str], part: Any) -> Any:
    """A tuple with one part of it another."""
    name, *rest = path
    inner = _with(getattr(value, name), rest, part) if rest else part
    return value._replace(**{name: inner})


# A shelf from its bytes; put a tuple into a row; the kind of a tuple; the tuple in a row; one part
# of it, by its name or by names with a dot between; put such a part anew.
shelf: Any = Built("shelf", lambda made: made)
put: Any = Built("put", _put)
kind: Any = Built("kind", lambda like: None)
held: Any = Built("held", lambda made, row, _kind: made[row])
part: Any = Built("part", lambda made, row, _kind, path: attrgetter(path)(made[row]))
put_part: Any = Built("put_part", _put_part)
# Have a row of an array brought near that is soon to be read: where many arrays are gone through
# side by side, the processor does not do it by itself.
fetch: Any = Built("fetch", lambda array, row: None)


@compiled
def put_aside(made: Bytes, row: int, value: Any) -> None:
    """Put a tuple into a row; for whoever is not compiled."""
    put(shelf(made), row, value)


def shelf_for(rows: int, like: Any) -> Bytes:
    """An empty shelf for tuples of this kind."""
    if interpreted():
        return [like] * rows
    from numba import typeof  # noqa: PLC0415
    from numba.core.registry import cpu_target  # noqa: PLC0415

    from hawser.core.llvm_code import row_bytes  # noqa: PLC0415

    kind_of = typeof(like)  # type: ignore[no-untyped-call]
    return np.zeros((rows, row_bytes(cpu_target.target_context, kind_of)), np.uint8)


def shelf_of(values: Sequence[Any]) -> Bytes:
    """A shelf with these tuples, which must be of one kind in every part: compiled code takes the
    bytes of one for those of another. Raises TypeError. Whoever calls holds the values."""
    if not interpreted():
        from numba._dispatcher import compute_fingerprint  # noqa: PLC0415  # what Numba knows kinds by

        if len({compute_fingerprint(value) for value in values}) > 1:
            raise TypeError("expected tuples of one kind in every part")
    made = shelf_for(len(values), values[0])
    for row, value in enumerate(values):
        put_aside(made, row, value)
    return made
