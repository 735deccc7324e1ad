"""Numbers with their units as people type them: what every field of a form is read with.

Spaces and capitals are free, a comma may stand for the decimal point, thousands may be grouped by
spaces. Raises BadInput with one sentence.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from decimal import Decimal
from functools import wraps
from typing import Concatenate, ParamSpec, TypeVar

from hawser.core.errors import BadInput

NUMBER = r"(?:[0-9]{1,3}(?:[ \u00a0][0-9]{3})+|[0-9]+)(?:[.,][0-9]*)?|[.,][0-9]+"
_ENTRY = re.compile(rf"^\s*({NUMBER})\s*(.*?)\s*$")
_UNITS = {
    "%": "percent",
    "percent": "percent",
    "atr": "atr",
    "t": "ticks",
    "tick": "ticks",
    "ticks": "ticks",
    "r": "r",
    "": "price",
}
OFFSET = re.compile(rf"^(.*?)\s*([+-])\s*({NUMBER})\s*t(?:icks?)?\s*$")
Rest = ParamSpec("Rest")
Made = TypeVar("Made")
MOST_TYPED = 200  # signs of one field


def tidied(read: Callable[Concatenate[str, Rest], Made]) -> Callable[Concatenate[str, Rest], Made]:
    """A reader that gets its text with single spaces, and none that is longer than anybody types:
    some patterns take time that grows faster than the text does.
    """

    @wraps(read)
    def tidied(text: str, /, *rest: Rest.args, **named: Rest.kwargs) -> Made:
        if len(text) > MOST_TYPED:
            raise BadInput("bad_entry", f"Expected at most {MOST_TYPED} signs")
        return read(" ".join(text.split()), *rest, **named)

    return tidied


def decimal(text: str) -> Decimal:
    return Decimal(re.sub(r"[ \u00a0]", "", text).replace(",", "."))


def plain(value: float | None) -> str:
    """A number with as few digits as bring it back."""
    return f"{Decimal(repr(float(value or 0.0))).normalize():f}"


def positive(text: str) -> Decimal:
    number = decimal(text)
    if number <= 0:
        raise BadInput("bad_entry", "Expected a number above zero")
    return number


def split_unit(text: str, example: str, zero: bool = False) -> tuple[Decimal, str]:
    """A positive number, or also 0, and the words behind it, in small letters."""
    match = _ENTRY.match(text)
    if match is None:
        raise BadInput("bad_entry", f"Expected a number with its unit, such as {example}")
    number = decimal(match.group(1)) if zero else positive(match.group(1))
    return number, match.group(2).lower()


def read_unit(
    text: str, allowed: tuple[str, ...], example: str, zero: bool = False
) -> tuple[str, Decimal]:
    """Unit and number of `text`; raises BadInput with `example`."""
    number, words = split_unit(text, example, zero)
    unit = _UNITS.get(words, "")
    if unit not in allowed:
        raise BadInput(
            "bad_entry", f"'{words or text.strip()}' is not understood here; expected {example}"
        )
    return unit, number


def hundred(number: Decimal) -> float:
    if number > 100:
        raise BadInput("bad_entry", "Expected at most 100 %")
    return float(number)


def whole_number(text: str) -> int:
    if not (text.isascii() and text.strip().isdecimal()):
        raise BadInput("bad_entry", "Expected a whole number")
    try:
        return int(text)
    except ValueError:  # of thousands of digits
        raise BadInput("bad_entry", "Expected a whole number") from None


def any_number(text: str) -> float:
    plain = text.strip().replace(",", ".").replace("\u2212", "-")
    try:
        return float(plain if plain.isascii() and "_" not in plain else "")
    except ValueError:
        raise BadInput("bad_entry", "Expected a number") from None
