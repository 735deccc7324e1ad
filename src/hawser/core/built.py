"""Functions of compiled code that are built from LLVM's parts, because Numba has none of the kind
(`llvm_code.py`)."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import Any


class Built:
    """One of them, by its name; `plain` is what it is where rules are interpreted. Numba asks for
    the type when it compiles a function that uses this, and a compiler is loaded no earlier."""

    def __init__(self, name: str, plain: Callable[..., Any]) -> None:
        self._name, self._plain = name, plain

    def __call__(self, *given: Any) -> Any:
        return self._plain(*given)

    @cached_property
    def _numba_type_(self) -> Any:
        from numba.core.registry import cpu_target  # noqa: PLC0415  # late, as in `compiled.py`

        from hawser.core import llvm_code  # noqa: PLC0415

        known = cpu_target.typing_context
        known.refresh()  # it is compiling already, and has just been made
        return known.resolve_value_type(getattr(llvm_code, self._name))
