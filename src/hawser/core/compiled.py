"""The one decorator that compiles a rule, and the one switch that leaves it interpreted.

Rules are plain, class-free functions over scalars and arrays. `compiled` hands them to Numba, with the machine
code cached on disk. Where `NUMBA_DISABLE_JIT=1` is set (Numba's own switch), the function is left as it is and
Numba is not even imported: `hawser size` uses that to answer one request without loading a compiler, and CI
uses it to run the rules' tests both ways. It is the same source either way.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from functools import cache
from typing import Any, Literal, TypeVar, cast

PLACES = ("Given", "Beside", "OfUser", "Nowhere")  # of machine code, by the names that Numba looks up
LOCATORS = ",".join(f"hawser.machinecode.{one}" for one in PLACES)
Function = TypeVar("Function", bound=Callable[..., Any])


def interpreted() -> bool:
    """True where rules stay plain Python in this process."""
    return os.environ.get("NUMBA_DISABLE_JIT", "0") not in ("", "0")


def compiled(function: Function) -> Function:
    """Compile `function` with Numba on first use; in interpreted mode return it with `py_func` set to itself."""
    return _made(function, "never")


def inlined(function: Function) -> Function:
    """The same for a small function of the bar loop: it becomes part of those that call it."""
    return _made(function, "always")


def _made(function: Function, inline: Literal["never", "always"]) -> Function:
    if interpreted():
        function.py_func = function  # type: ignore[attr-defined]  # the attribute Numba's dispatchers have
        return function
    # Numba's dispatcher is untyped; it keeps the function's own signature.
    return cast(Function, _numba().njit(cache=True, error_model="numpy", nogil=True, inline=inline)(function))


@cache
def _numba() -> Any:
    """Numba, told where our machine code is kept; late: processes that run interpreted load no compiler."""
    import numba

    numba.config.CACHE_LOCATOR_CLASSES = LOCATORS  # type: ignore[attr-defined]
    return numba
