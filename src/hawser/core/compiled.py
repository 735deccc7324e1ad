"""The one decorator that compiles a rule, and the one switch that leaves it interpreted.

Rules are plain, class-free functions over scalars and arrays. `compiled` hands them to Numba when
they are first called, with the machine code cached on disk. Where `NUMBA_DISABLE_JIT=1` is set
(Numba's own switch), the function is left as it is and Numba is not even imported: `hawser size`
uses that to answer one request without loading a compiler, and CI uses it to run the rules' tests
both ways. It is the same source either way.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from functools import cache, partial, update_wrapper
from typing import Any, Literal, TypeVar, cast

# of machine code, by the names that Numba looks up
PLACES = ("Given", "Beside", "OfUser", "Nowhere")
LOCATORS = ",".join(f"hawser.machinecode.{one}" for one in PLACES)
Function = TypeVar("Function", bound=Callable[..., Any])


def interpreted() -> bool:
    """True where rules stay plain Python in this process."""
    return os.environ.get("NUMBA_DISABLE_JIT", "0") not in ("", "0")


def compiled(function: Function) -> Function:
    """Compile `function` with Numba on first use; in interpreted mode return it with `py_func` set
    to itself."""
    return _made(function, "never")


def inlined(function: Function) -> Function:
    """The same for a small function of the bar loop: it becomes part of those that call it."""
    return _made(function, "always")


def _made(function: Function, inline: Literal["never", "always"]) -> Function:
    if interpreted():
        # the attribute Numba's dispatchers have
        function.py_func = function  # type: ignore[attr-defined]
        return function
    return cast(Function, _Rule(function, inline))


class _Rule(partial[Any]):
    """A rule that Numba is given at the first call of it: whoever imports one loads no compiler.
    All that Numba asks of its own dispatchers, when another rule calls this one, it finds here
    too.

    A `partial` without arguments: what it calls can be replaced, and calling it costs next to
    nothing, where a method of Python's costs as much as many a rule.
    """

    py_func: Callable[..., Any]
    _inline: Literal["never", "always"]

    def __new__(cls, function: Callable[..., Any], inline: Literal["never", "always"]) -> _Rule:
        rule = super().__new__(cls, function)
        update_wrapper(rule, function)
        rule.py_func, rule._inline = function, inline
        rule._will_call(rule._first)
        return rule

    def _will_call(self, function: Callable[..., Any]) -> None:
        self.__setstate__((function, (), {}, self.__dict__))

    def _first(self, *given: Any, **named: Any) -> Any:
        dispatcher = self._dispatcher()
        self._will_call(dispatcher)
        return dispatcher(*given, **named)

    def _dispatcher(self) -> Any:
        """Numba's own, which keeps the machine code; one for all threads, whichever asks first."""
        if "_made" not in self.__dict__:
            options = {"cache": True, "error_model": "numpy", "nogil": True, "inline": self._inline}
            made = _numba().njit(**options)(self.py_func)
            self.__dict__.setdefault("_made", _for_every_constant(made))
        return self.__dict__["_made"]

    def __getattr__(self, name: str) -> Any:
        return getattr(self._dispatcher(), name)

    def __reduce__(self) -> str:
        return self.py_func.__qualname__  # found by its name, as functions are


def _for_every_constant(dispatcher: Any) -> Any:
    """The dispatcher, which takes a constant that compiled code calls it with for one of its type:
    Numba would compile it once more for each constant that stands anywhere."""
    from numba.core import types

    given, unliteral = dispatcher.get_call_template, cast(Any, types).unliteral

    def get_call_template(args: Any, kws: Any) -> Any:
        plain = {name: unliteral(kind) for name, kind in kws.items()}
        return given(tuple(unliteral(kind) for kind in args), plain)

    dispatcher.get_call_template = get_call_template
    return dispatcher


@cache
def _numba() -> Any:
    """Numba, told where our machine code is kept; late: processes that run interpreted load no
    compiler."""
    import numba

    numba.config.CACHE_LOCATOR_CLASSES = LOCATORS  # type: ignore[attr-defined]
    return numba
