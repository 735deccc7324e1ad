"""A policy's text with one guard changed: what a person wrote around it, comments among it, stays
as it was."""

from __future__ import annotations

import os
from functools import lru_cache
from pathlib import Path
from typing import Any

import msgspec

from hawser.core.guards.declared import AnyGuard, Guards
from hawser.formats.declared import record, toml


@lru_cache(4)  # the finder asks at each key that is typed
def read_policy(text: str, where: str = "the policy") -> Guards:
    """What is written as a policy; raises BadInput with what is wrong and where."""
    return record(Guards, toml(text, where), where)


def from_anywhere(policy: Guards, folder: Path) -> Guards:
    """The policy of a file in `folder` with its news files named from anywhere: so the same file
    has one name."""
    files = tuple(os.path.normpath(folder.absolute() / name) for name in policy.news.files)
    return msgspec.structs.replace(policy, news=msgspec.structs.replace(policy.news, files=files))


def with_guard(text: str, name: str, made: AnyGuard) -> str:
    """The text with `made` in the place of the guard `name`; behind the others where there is none
    of that name."""
    import tomlkit

    document, values = tomlkit.parse(text), _values(made)
    place = _find(document, name)
    if place is None:
        place = tomlkit.table()
        for key, value in values.items():
            place.add(key, _item(value))
        if "guard" not in document:
            document.add("guard", tomlkit.aot())
        document["guard"].append(place)
        return tomlkit.dumps(document)
    whole = _listed(msgspec.to_builtins(made))
    for key in list(place):
        if _plain(place[key]) == whole.get(key):
            continue  # as it was written, with what stands beside it
        if key in values:
            place[key] = _item(values[key])
        else:
            del place[key]
    for key in [key for key in values if key not in place]:
        place[key] = _item(values[key])
    return tomlkit.dumps(document)


def without_guard(text: str, name: str) -> str:
    """The text without the guard `name`."""
    import tomlkit

    document = tomlkit.parse(text)
    tables: Any = document.get("guard", [])
    for number, place in enumerate(tables):
        if place.get("name") == name:
            del tables[number]
            break
    if not len(tables) and "guard" in document:
        del document["guard"]
    return tomlkit.dumps(document)


def with_files(text: str, files: tuple[str, ...]) -> str:
    """The text with its news in these files."""
    import tomlkit

    document = tomlkit.parse(text)
    document["news"]["files"] = _item(files)
    return tomlkit.dumps(document)


def _find(document: Any, name: str) -> Any:
    return next((place for place in document.get("guard", []) if place.get("name") == name), None)


def _values(made: AnyGuard) -> dict[str, Any]:
    """The guard's kind, and every key that is not at its default."""
    plain = msgspec.to_builtins(made)
    defaults = {field.name: field.default for field in msgspec.structs.fields(type(made))}
    told = {
        key: value
        for key, value in plain.items()
        if key not in defaults or getattr(made, key) != defaults[key]
    }
    return {"kind": told.pop("kind"), "name": told.pop("name")} | _listed(told)


def _listed(values: dict[str, Any]) -> dict[str, Any]:
    return {
        key: list(value) if isinstance(value, tuple) else value for key, value in values.items()
    }


def _plain(value: Any) -> Any:
    return value.unwrap() if hasattr(value, "unwrap") else value


def _item(value: Any) -> Any:
    """A value as TOML has it within a table: records as inline tables."""
    import tomlkit

    if isinstance(value, dict):
        table = tomlkit.inline_table()
        for key, one in value.items():
            table.append(key, _item(one))
        return table
    if isinstance(value, (list, tuple)):
        array = tomlkit.array()
        for one in value:
            array.append(_item(one))
        return array
    return tomlkit.item(value)
