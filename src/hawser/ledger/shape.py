"""What the record looks like: every field of events, commands and the state, in text.

A snapshot written by another version is read only where nothing of its shape is gone here: a field
that was renamed would come back as its default, and a halt would be lost without a word.
"""

from __future__ import annotations

import hashlib
from functools import cache
from typing import Any, get_args

import msgspec

from hawser.engine.commands import AnyCommand, Command
from hawser.engine.events import AnyEvent, Event
from hawser.engine.model.state import EngineState

# What records call a class without a tag that has another name here now. A line is added where one
# is renamed; a renamed field's old name stands at its class (`rename=`).
NAMES: dict[str, str] = {
    "EntryValues": "Marks",
    "GoodUntil": "Good",
    "OrderReport": "Known",
    "RestingLevel": "Rest",
    "TradeBasket": "Group",
    "VenuePosition": "Held",
    "EntryTerms": "Terms",
    "WeeklySession": "Session",
}


def wire_name(kind: type) -> str:
    """What the record calls a class: an event's or a command's tag, of others the name they first
    had."""
    if issubclass(kind, Event | Command):
        return str(kind.__struct_config__.tag)
    return NAMES.get(kind.__name__, kind.__name__)


def _structs_in(kind: Any, found: set[type[msgspec.Struct]]) -> None:
    """Every record that a type is made of."""
    if isinstance(kind, type) and issubclass(kind, msgspec.Struct):
        if kind in found:
            return
        found.add(kind)
        for field in msgspec.structs.fields(kind):
            _structs_in(field.type, found)
    for part in get_args(kind):
        _structs_in(part, found)


def lines_of(kind: Any) -> frozenset[str]:
    found: set[type[msgspec.Struct]] = set()
    _structs_in(kind, found)
    return frozenset(
        f"{wire_name(struct)}.{field.encode_name}: {_named(field.type)}"
        for struct in found
        for field in msgspec.structs.fields(struct)
    )


def _named(kind: Any) -> str:
    """A type as text, the same in every run; what is told of it, as its help, is no part of it."""
    if hasattr(kind, "__metadata__"):
        return _named(kind.__origin__)
    if get_args(kind):
        base = getattr(kind, "__origin__", None)
        inner = ", ".join(_named(part) for part in get_args(kind))
        return f"{_named(base) if base is not None else 'one of'}[{inner}]"
    return wire_name(kind) if isinstance(kind, type) else str(kind)


@cache
def state_shape() -> frozenset[str]:
    """A line for each field of the state."""
    return lines_of(EngineState)


@cache
def record_shape() -> frozenset[str]:
    """A line for each field of events and commands."""
    return lines_of(AnyEvent) | lines_of(AnyCommand)


def written(shape: frozenset[str]) -> str:
    return "\n".join(sorted(shape))


def read(text: str) -> frozenset[str]:
    return frozenset(text.split("\n")) if text else frozenset()


def name_of(shape: frozenset[str]) -> str:
    """A short name that two shapes share only where they are the same."""
    return hashlib.sha256(written(shape).encode()).hexdigest()[:16]
