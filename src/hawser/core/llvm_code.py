"""What compiled code needs and Numba has not, built from LLVM's parts: arrays that are not counted
(`borrowed_arrays.py`), tuples on shelves (`shelves.py`). Imported by `built.py` when a rule that
uses it is compiled, and no earlier: it loads a compiler."""

from __future__ import annotations

import hashlib
from typing import Any, cast

from llvmlite import ir  # type: ignore[import-untyped]
from numba.core import cgutils, types
from numba.extending import intrinsic, models, register_model

ALIGNED = 16


class ShelfKind(types.Type):
    """What lies on a shelf, as the type of a value that is nothing but that. Its name is short,
    because it becomes part of the name of every function that is given one."""

    def __init__(self, of: Any) -> None:
        self.of = of
        mark = hashlib.sha256(str(of).encode()).hexdigest()[:16]
        super().__init__(name=f"ShelfKind({mark})")

    @property
    def key(self) -> Any:
        return self.of


register_model(ShelfKind)(models.OpaqueModel)


def uncounted(context: Any, builder: Any, of: Any, value: Any) -> Any:
    """LLVM's `value` of Numba's type `of`, its arrays without the record that counts references."""
    if isinstance(of, types.Array):
        array = context.make_array(of)(context, builder, value)
        array.meminfo = cast(Any, cgutils).get_null_value(array.meminfo.type)
        return array._getvalue()
    if isinstance(of, types.BaseTuple):
        for number, part in enumerate(cast(Any, of)):
            inner = uncounted(context, builder, part, builder.extract_value(value, number))
            value = builder.insert_value(value, inner, number)
    return value


def _borrow(_typing: Any, value: Any) -> Any:
    """The same value, its arrays uncounted."""

    def generate(context: Any, builder: Any, _signature: Any, given: Any) -> Any:
        return uncounted(context, builder, value, given[0])

    return value(value), generate


def row_bytes(context: Any, of: Any) -> int:
    """How many bytes a row takes for a tuple of Numba's type `of`."""
    size: int = context.get_abi_sizeof(context.get_data_type(of))
    return -(-size // ALIGNED) * ALIGNED


def _row(context: Any, builder: Any, of: Any, shelf: Any, row: Any) -> Any:
    """Where a row of the shelf begins, as a pointer to a tuple of Numba's type `of`."""
    width = context.get_constant(types.intp, row_bytes(context, of))
    place = builder.add(shelf, builder.mul(row, width))
    return builder.inttoptr(place, ir.PointerType(context.get_data_type(of)))


def _shelf(_typing: Any, array: Any) -> Any:
    """A shelf from its bytes: where they begin."""

    def generate(context: Any, builder: Any, signature: Any, given: Any) -> Any:
        made = context.make_array(signature.args[0])(context, builder, given[0])
        return builder.ptrtoint(made.data, context.get_value_type(types.intp))

    return types.intp(array), generate


def _put_each(context: Any, builder: Any, of: Any, value: Any, place: Any) -> None:
    """Field by field: of a whole tuple LLVM would make one slow store."""
    if isinstance(of, types.BaseTuple):
        for number, part in enumerate(cast(Any, of)):
            inner = cast(Any, cgutils).gep_inbounds(builder, place, 0, number)
            _put_each(context, builder, part, builder.extract_value(value, number), inner)
    else:
        context.pack_value(builder, of, uncounted(context, builder, of, value), place)


def _taken(context: Any, builder: Any, of: Any, place: Any) -> Any:
    """What lies at a place. That its arrays are not counted is said once more: so the compiler
    knows it too, and leaves out every look at a count."""
    return uncounted(context, builder, of, context.unpack_value(builder, of, place))


def _put(_typing: Any, at: Any, row: Any, value: Any) -> Any:
    """Put a tuple into a row."""

    def generate(context: Any, builder: Any, signature: Any, given: Any) -> Any:
        of = signature.args[2]
        place = _row(context, builder, of, given[0], given[1])
        _put_each(context, builder, of, given[2], place)
        return context.get_dummy_value()

    return types.void(types.intp, types.intp, value), generate


def _kind(_typing: Any, like: Any) -> Any:
    """The kind of a tuple."""

    def generate(context: Any, _builder: Any, signature: Any, _given: Any) -> Any:
        return context.get_dummy_value()

    return ShelfKind(like)(like), generate


def _held(_typing: Any, at: Any, row: Any, kind: Any) -> Any:
    """The tuple in a row."""

    def generate(context: Any, builder: Any, signature: Any, given: Any) -> Any:
        of = signature.return_type
        place = _row(context, builder, of, given[0], given[1])
        return _taken(context, builder, of, place)

    return kind.of(types.intp, types.intp, kind), generate


def _found(kind: Any, path: Any) -> tuple[list[int], Any]:
    """Where a part lies in a tuple of this kind, and its type."""
    of, numbers = kind.of, []
    for name in path.literal_value.split("."):
        numbers.append(of.fields.index(name))
        of = of[numbers[-1]]
    return numbers, of


def _within(context: Any, builder: Any, signature: Any, given: Any, numbers: list[int]) -> Any:
    """A pointer to a part of the tuple in a row."""
    place = _row(context, builder, signature.args[2].of, given[0], given[1])
    for number in numbers:
        place = cast(Any, cgutils).gep_inbounds(builder, place, 0, number)
    return place


def _part(_typing: Any, at: Any, row: Any, kind: Any, path: Any) -> Any:
    """One part of the tuple in a row, by its name or by names with a dot between."""
    numbers, of = _found(kind, path)

    def generate(context: Any, builder: Any, signature: Any, given: Any) -> Any:
        place = _within(context, builder, signature, given, numbers)
        return _taken(context, builder, of, place)

    return of(types.intp, types.intp, kind, path), generate


def _put_part(_typing: Any, at: Any, row: Any, kind: Any, path: Any, value: Any) -> Any:
    """Put one part of the tuple in a row anew."""
    numbers, of = _found(kind, path)

    def generate(context: Any, builder: Any, signature: Any, given: Any) -> Any:
        place = _within(context, builder, signature, given, numbers)
        _put_each(context, builder, of, given[4], place)
        return context.get_dummy_value()

    return types.void(types.intp, types.intp, kind, path, of), generate


def _fetch(_typing: Any, array: Any, row: Any) -> Any:
    """Have a row of an array brought near, if it is there; nothing is read."""

    def generate(context: Any, builder: Any, signature: Any, given: Any) -> Any:
        made = context.make_array(signature.args[0])(context, builder, given[0])
        size = context.get_abi_sizeof(context.get_data_type(signature.args[0].dtype))
        width = context.get_constant(types.intp, size)
        base = builder.ptrtoint(made.data, context.get_value_type(types.intp))
        byte, number = ir.IntType(8).as_pointer(), ir.IntType(32)
        place = builder.inttoptr(builder.add(base, builder.mul(given[1], width)), byte)
        kind_of = ir.FunctionType(ir.VoidType(), [byte, number, number, number])
        prefetch = builder.module.declare_intrinsic("llvm.prefetch", (byte,), kind_of)
        builder.call(prefetch, [place, number(0), number(3), number(1)])
        return context.get_dummy_value()

    return types.void(array, types.intp), generate


plain, literal = cast(Any, intrinsic), cast(Any, intrinsic)(prefer_literal=True)
borrow = plain(_borrow)
shelf, put, kind, held = plain(_shelf), plain(_put), plain(_kind), plain(_held)
fetch = plain(_fetch)
part, put_part = literal(_part), literal(_put_part)
