"""Arrays that compiled code uses without counting its references to them.

Numba counts each time an array is handed on, with an operation that the processor does by itself;
where a run hands dozens of arrays to many small rules that was two fifths of its time. What the
caller holds for the whole call needs no counting.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import Any, cast


def uncounted(context: Any, builder: Any, of: Any, value: Any) -> Any:
    """LLVM's `value` of Numba's type `of`, its arrays without the record that counts references."""
    from numba.core import cgutils, types  # noqa: PLC0415  # late, as in `compiled.py`

    if isinstance(of, types.Array):
        array = context.make_array(of)(context, builder, value)
        array.meminfo = cgutils.get_null_value(array.meminfo.type)  # type: ignore[no-untyped-call]
        return array._getvalue()
    if isinstance(of, types.BaseTuple):
        for number, part in enumerate(of):  # type: ignore[arg-type, var-annotated]  # untyped
            inner = uncounted(context, builder, part, builder.extract_value(value, number))
            value = builder.insert_value(value, inner, number)
    return value


def _made() -> Callable[[Any], Any]:
    from numba.extending import intrinsic  # noqa: PLC0415

    def borrow(_typing: Any, value: Any) -> Any:
        def generate(context: Any, builder: Any, _signature: Any, arguments: Any) -> Any:
            return uncounted(context, builder, value, arguments[0])

        return value(value), generate

    return cast(Callable[[Any], Any], intrinsic(borrow))


class _Borrowed:
    """An array, or a tuple of them, that outlives the call. Only for what the caller of the
    compiled function holds, and never to be returned from it. Numba asks for the type when it
    compiles a function that uses this."""

    def __call__(self, value: Any) -> Any:
        return value

    @cached_property
    def _numba_type_(self) -> Any:
        from numba.core.registry import cpu_target  # noqa: PLC0415

        made, known = _made(), cpu_target.typing_context
        known.refresh()  # it is compiling already, and has just been made
        return known.resolve_value_type(made)


borrowed = _Borrowed()
