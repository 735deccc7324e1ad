"""Every compiled rule at what may be read at the extremes: prices and quantities to 10^15, nothing,
almost nothing.

`python extremes.py SEED COUNT` writes, for each rule, what it gives for so many draws, a line each.
Run interpreted (`NUMBA_DISABLE_JIT=1`) whole numbers have no end there, and one of NumPy's that
wraps around raises: what compiled code gives must be the same.
"""

from __future__ import annotations

import inspect
import json
import math
import sys
import typing
from collections.abc import Callable, Iterator
from random import Random
from typing import Any

import numpy as np

from hawser.core.rules import (
    bar_close,
    entries,
    inside_bar,
    ladders,
    moving,
    quantity,
    rounding,
    sizes,
    stops,
    targets,
    trade_levels,
)

MODULES = (
    bar_close,
    entries,
    inside_bar,
    ladders,
    moving,
    quantity,
    rounding,
    sizes,
    stops,
    targets,
    trade_levels,
)
MOST = 10**15  # what is read at most, in ticks, steps, or units of anything
WHOLE = (
    1,
    2,
    3,
    7,
    1000,
    2**24,
    2**24 + 1,
    2**31,
    2**32 + 5,
    10**9,
    3 * 10**9,
    10**12,
    2**52 + 1,
    MOST - 1,
    MOST,
)
FLOATS = (0.0, 1e-15, 1e-9, 0.1 + 0.2, 0.5, 1.0, 1.37, 7.5, 100.0, 2.0**24, 1e9, 1e12, 1e15)
SMALL = {
    "kind": 6,
    "method": 4,
    "order": 3,
    "target": 5,
    "spacing_kind": 4,
    "last": 4,
    "n": 1,
    "at_kind": 4,
    "to_kind": 4,
    "at": 1,  # a row: arrays have one at least
}
SIGNS = {"side", "signal", "leave", "away"}
ROOM = 60


def rules() -> Iterator[tuple[str, Callable[..., Any]]]:
    """Every compiled function of the rules, by its name."""
    for module in MODULES:
        for name, value in vars(module).items():
            if hasattr(value, "py_func") and value.py_func.__module__ == module.__name__:
                yield f"{module.__name__.rpartition('.')[2]}.{name}", value


def _whole(draw: Random, name: str) -> int:
    if name in SIGNS:
        return draw.choice((1, -1))
    if name in SMALL:
        return draw.randrange(SMALL[name])
    if name in ("rungs", "time_bars", "ready", "lived"):
        return draw.randint(2, 10)
    return (
        draw.choice((*WHOLE, 0))
        if draw.random() < 0.7
        else draw.randint(1, 1 << draw.randint(1, 49))
    )


def _number(draw: Random, name: str) -> float:
    if draw.random() < 0.3:
        return draw.uniform(0, 10 ** draw.randint(0, 15))
    if name == "atr" and draw.random() < 0.2:
        return math.nan
    return draw.choice(FLOATS)


def _array(draw: Random, name: str) -> Any:
    if name == "out":
        return np.zeros((ROOM, 4), np.int64)
    size = draw.randint(1, 8)
    if name == "share":
        return np.array([draw.random() for _ in range(size)])
    whole = name not in ("value", "r", "at_value", "to_value", "units")
    return np.array(
        [(_whole if whole else _number)(draw, name) for _ in range(size)],
        np.int64 if whole else float,
    )


def drawn(draw: Random, name: str, kind: Any) -> Any:
    """A value for one parameter."""
    if kind is bool:
        return draw.random() < 0.5
    if kind is int:
        return _whole(draw, name)
    if kind is float:
        return _number(draw, name)
    if hasattr(kind, "_fields"):
        return kind(
            *(drawn(draw, field, hint) for field, hint in typing.get_type_hints(kind).items())
        )
    return _array(draw, name)


def _arguments(draw: Random, function: Any) -> list[Any]:
    hints = typing.get_type_hints(function.py_func)
    given = {
        name: drawn(draw, name, hints[name])
        for name in inspect.signature(function.py_func).parameters
    }
    size = next((len(value) for name, value in given.items() if _listed(name, value)), 0)
    for name, value in given.items():  # lists of one rule are as long as each other
        if _listed(name, value):
            given[name] = np.resize(value, size)
        elif isinstance(value, trade_levels.Setup):
            given[name] = _resized(value, size or 1)
    return list(given.values())


def _resized(value: Any, size: int) -> Any:
    """The same with all its arrays of one size."""
    if isinstance(value, np.ndarray):
        return np.resize(value, size)
    if not hasattr(value, "_fields"):
        return value
    return type(value)(*(_resized(one, size) for one in value))


def _listed(name: str, value: Any) -> bool:
    return isinstance(value, np.ndarray) and name != "out"


def _told(value: Any) -> Any:
    if isinstance(value, np.ndarray):
        value = value.tolist()
    if isinstance(value, (tuple, list)):
        return [_told(one) for one in value]
    if isinstance(value, (float, np.floating)):
        return float(value)
    return value if value is None else int(value)


def given(function: Any, arguments: list[Any]) -> Any:
    """What it returns and what it wrote; the kind of error that plain Python makes of a division by
    nothing."""
    try:
        result = function(*arguments)
    except ZeroDivisionError:
        return "division"
    return [_told(result), [_told(one) for one in arguments if isinstance(one, np.ndarray)]]


def main() -> None:
    seed, count = map(int, sys.argv[1:])
    np.seterr(over="raise")
    for name, function in rules():
        draw = Random(f"{seed} {name}")
        for _ in range(count):
            arguments = _arguments(draw, function)
            told = [_told(one) for one in arguments]
            print(json.dumps([name, told, given(function, arguments)]))


if __name__ == "__main__":
    main()
