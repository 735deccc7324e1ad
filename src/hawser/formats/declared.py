"""Plain data (TOML, JSON) into declared records, with one sentence for whatever is wrong."""

from __future__ import annotations

import re
from decimal import Decimal
from functools import cache
from pathlib import Path
from typing import Any, TypeVar

import msgspec

from hawser.core.decimals import of_text
from hawser.core.errors import BadInput
from hawser.core.numbers import LEAST, MOST
from hawser.formats.atomic import written

Record = TypeVar("Record", bound=msgspec.Struct)
MOST_BYTES = 1_000_000  # of a rig, an instrument, an account or a policy
MOST_SHOWN = 60  # signs of a key that nobody knows
MOST_PARTS = 50  # of a dotted key
# of a key, tried once from each place it may begin at
PART = r"""(?:[\w-]++|"[^"\n]*+"|'[^'\n]*+')[ \t]*+\.[ \t]*+"""
LONG_KEY = re.compile(rf"(?<![\w-])(?:{PART}){{{MOST_PARTS}}}")
TIMES = ("from", "to")  # of a rig: ns
A_DECIMAL = 'expected a decimal number such as "0.01"'


def record(kind: type[Record], data: object, where: str, under: str = "") -> Record:
    """`data` as a `kind`; raises BadInput naming `where`, the key and what is expected there.
    `under`: the key of a larger record that it stands at."""
    wild = _under(under, _wild(data))
    if wild:
        expected = f"a number of at most {MOST:.0e}, and 0 or at least {LEAST:.0e}"
        raise BadInput(
            "bad_value",
            f"{where}: {wild}: expected {expected}",
            place=wild,
            text=f"expected {expected}",
        )
    odd = _under(under, _odd(kind, data))
    if odd:
        raise BadInput("bad_value", f"{where}: {odd}: {A_DECIMAL}", place=odd, text=A_DECIMAL)
    try:
        return msgspec.convert(data, kind)
    except BadInput as error:
        if not under:
            raise BadInput(error.code, f"{where}: {error.sentence}", **error.values) from None
        place = _under(under, error.place) or under
        told = str(error.values.get("text", error.sentence))
        values = error.values | {"place": place, "text": told}
        raise BadInput(error.code, f"{where}: {place}: {told}", **values) from None
    except UnicodeEncodeError:
        raise BadInput("bad_value", f"{where}: holds half a sign; expected UTF-8 text") from None
    except msgspec.ValidationError as error:
        place, told = _explained(kind, str(error), under)
        raise BadInput(
            "bad_value",
            f"{where}: {place}: {told}" if place else f"{where}: {told}",
            place=place,
            text=told,
        ) from None


def _under(place: str, key: str) -> str:
    """A key within what stands at a place; empty where no key is meant."""
    return f"{place}.{key}" if place and key else key


def as_read(made: Record) -> Record:
    """A record that was typed: no number of it is what no file could have. Raises BadInput, which
    has the key's place. Records check what belongs together when they are made, but ranges only
    when they are read."""
    record(type(made), msgspec.to_builtins(made), "here")
    return made


def _wild(data: object, place: str = "") -> str:
    """Where a number stands that nothing can be reckoned with, for being no number, too large or
    too near to 0; empty where there is none. A decimal in quotes is judged by the record it is for.
    """
    if isinstance(data, dict):
        inside = [
            (f"{place}.{key}" if place else str(key), value)
            for key, value in data.items()
            if place or key not in TIMES
        ]
    elif isinstance(data, (list, tuple)):
        inside = [(f"{place}[{number}]", value) for number, value in enumerate(data)]
    else:
        known = isinstance(data, (int, float)) and not isinstance(data, bool)
        return place if known and not (data == 0 or LEAST <= abs(data) <= MOST) else ""  # type: ignore[arg-type]
    return next((found for where, value in inside if (found := _wild(value, where))), "")


def _odd(kind: type[msgspec.Struct], data: object, place: str = "") -> str:
    """Where a text stands for a decimal that Python alone would take for one; empty where there is
    none."""
    if not isinstance(data, dict):
        return ""
    for key, decimal, inner in _shape(kind):
        value, here = data.get(key), f"{place}.{key}" if place else key
        if decimal and isinstance(value, str):
            try:
                of_text(value)
            except ValueError:
                return here
        items = (
            [(f"{here}[{at}]", one) for at, one in enumerate(value)]
            if isinstance(value, list)
            else [(here, value)]
        )
        if found := next(
            (odd for where, one in items for each in inner if (odd := _odd(each, one, where))), ""
        ):
            return found
    return ""


@cache
def _shape(kind: type[msgspec.Struct]) -> list[tuple[str, bool, list[type[msgspec.Struct]]]]:
    """Of each key of a record: whether it may be a decimal, and the records it may hold."""
    fields = msgspec.structs.fields(kind)
    return [
        (field.encode_name, Decimal in _made_of(field.type), _kinds_in(field.type))
        for field in fields
    ]


def _explained(kind: type[msgspec.Struct], text: str, under: str) -> tuple[str, str]:
    """msgspec's message as a place and our words, with the nearest known key for an unknown one."""
    place = re.search(r" - at `\$\.?(.*?)`$", text)
    path = _under(under, place.group(1) if place else "") or under
    told = text[: place.start()] if place else text
    unknown = re.search(r"unknown field `(.*)`", told)
    if unknown:
        import difflib

        known, key = sorted(_keys(kind)), unknown.group(1)[:MOST_SHOWN]
        near = difflib.get_close_matches(key, known, n=1, cutoff=0.0)
        full = f"{path}.{key}" if path else key
        return "", f"unknown key {full}; the nearest known one is {near[0]}"
    missing = re.search(r"missing required field `(.*)`", told)
    if missing:
        full = f"{path}.{missing.group(1)}" if path else missing.group(1)
        return "", f"key {full} is missing"
    bound = re.search(r"Expected `(?:int|float)[^`]*` (>=|<=) (\S+)", told)
    if bound:
        told = (
            f"expected a number of at {'least' if bound.group(1) == '>=' else 'most'} "
            f"{float(bound.group(2)):g}"
        )
    told = told[0].lower() + told[1:]
    if "decimal" in told:
        told = A_DECIMAL
    return path, told


def _keys(kind: type[msgspec.Struct]) -> set[str]:
    """The keys of a record and of the records inside it."""
    found = set(kind.__struct_fields__)
    for field in msgspec.structs.fields(kind):
        for inner in _kinds_in(field.type):
            found |= _keys(inner)
    return found


def _kinds_in(kind: Any) -> list[type[msgspec.Struct]]:
    """The records that a type is, or is made of."""
    return [
        one for one in _made_of(kind) if isinstance(one, type) and issubclass(one, msgspec.Struct)
    ]


def _made_of(kind: Any) -> list[Any]:
    """The plain types of a union, a list or an annotated type."""
    inside = getattr(kind, "__args__", ())
    return [one for inner in inside for one in _made_of(inner)] if inside else [kind]


def read_toml(path: Path) -> dict[str, Any]:
    """A TOML file as plain data; BadInput where it is missing, unreadable or not TOML."""
    return toml(small_text(path), str(path))


def small_text(path: Path) -> str:
    """What a small text file holds; BadInput where it is missing, unreadable, large or no text."""
    try:
        if path.exists() and not path.is_file():
            raise BadInput("unreadable", f"{path}: cannot be read (expected a file)")
        with path.open("rb") as file:
            data = file.read(MOST_BYTES + 1)
        if len(data) > MOST_BYTES:
            raise BadInput(
                "too_large",
                f"{path}: is larger than {MOST_BYTES // 1_000_000} MB; expected a small file",
            )
        return data.decode("utf-8")
    except OSError as error:
        raise BadInput("unreadable", f"{path}: cannot be read ({error.strerror})") from None
    except UnicodeDecodeError:
        raise BadInput("not_text", f"{path}: expected UTF-8 text") from None


def toml(text: str, where: str) -> dict[str, Any]:
    """TOML text as plain data; BadInput naming `where` it is from."""
    if LONG_KEY.search(text):
        raise BadInput("not_toml", f"{where}: expected keys of at most {MOST_PARTS} parts")
    import tomllib  # a window shows itself before it reads a file

    try:
        text.encode()  # what is typed may hold half a character, which no file can
        return tomllib.loads(text)
    except UnicodeEncodeError:
        raise BadInput("not_text", f"{where}: expected UTF-8 text") from None
    except tomllib.TOMLDecodeError as error:
        raise BadInput("not_toml", f"{where}: expected TOML; {str(error)[:200]}") from None
    except RecursionError:
        raise BadInput("not_toml", f"{where}: is nested too deep") from None
    except ValueError:  # of Python's own limit for whole numbers
        raise BadInput("not_toml", f"{where}: holds a number of thousands of digits") from None


def load(kind: type[Record], path: Path) -> Record:
    """A record from a TOML file."""
    return record(kind, read_toml(path), str(path))


def save(made: msgspec.Struct, path: Path, private: bool = False) -> None:
    """A record as a TOML file that `load` reads back to the same; raises BadInput where it cannot
    be written. `private`: readable by its owner only."""
    import tomli_w

    plain = _without_none(msgspec.to_builtins(made))
    with written(path, private) as file:
        file.write(tomli_w.dumps(plain).encode())


def differing(value: Any) -> Any:
    """What of a record differs from its default, as plain data; a stop that is taken from a price
    keeps the price's own digits, and what is one of several kinds its kind."""
    if isinstance(value, msgspec.Struct):
        config = value.__struct_config__
        found = {config.tag_field: config.tag} if config.tag is not None else {}
        for field in msgspec.structs.fields(type(value)):
            one = getattr(value, field.name)
            if one is None or (one == field.default and not field.required):
                continue
            if field.default_factory is not msgspec.NODEFAULT and one == field.default_factory():
                continue
            if one != ():
                found[field.encode_name] = differing(one)
        return found
    if isinstance(value, Decimal):
        return str(value)
    return [differing(one) for one in value] if isinstance(value, (list, tuple)) else value


def _without_none(value: Any) -> Any:
    """TOML has no null: what is not set is left out."""
    if isinstance(value, dict):
        return {key: _without_none(one) for key, one in value.items() if one is not None}
    return [_without_none(one) for one in value] if isinstance(value, (list, tuple)) else value
