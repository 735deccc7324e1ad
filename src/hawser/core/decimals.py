"""Decimal strings to whole ticks or steps and back: the boundary's side of reckoning section 1.

Inside Hawser a level is a whole number of ticks and a quantity a whole number of steps. Text
crosses the boundary exactly, through `decimal`; no float decides how a written number is read.
"""

from __future__ import annotations

import re
from decimal import ROUND_HALF_EVEN, Decimal, InvalidOperation
from typing import NamedTuple

LONGEST = 32  # signs of a number that is read at once
WRITTEN = re.compile(r"[+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eE][+-]?[0-9]+)?")


def of_text(text: str) -> Decimal:
    """The number that a file or a venue has written, exact. ValueError where it is none: Python by
    itself would read `1_0` as ten, and take spaces and the digits of any script."""
    try:
        if WRITTEN.fullmatch(text) is not None:
            return Decimal(text)
    except InvalidOperation:  # an exponent beyond all bounds
        pass
    raise ValueError(f"{text[:40]!r} is no number")


def digits_of(unit: Decimal) -> int:
    """How many decimals the written `unit` has: '0.00001' has 5, '0.25' has 2, '1' has 0."""
    exponent = unit.as_tuple().exponent
    return max(0, -exponent) if isinstance(exponent, int) else 0


def to_units(value: Decimal, unit: Decimal) -> int:
    """`value` as a whole count of `unit`, rounded to the nearest (half to even)."""
    return int((value / unit).to_integral_value(rounding=ROUND_HALF_EVEN))


def exact_units(value: Decimal, unit: Decimal) -> int | None:
    """`value` as a whole count of `unit`, or None where it does not lie on the grid."""
    count = value / unit
    whole = count.to_integral_value(rounding=ROUND_HALF_EVEN)
    return int(whole) if whole == count else None


class DecimalGrid(NamedTuple):
    """A tick in whole numbers: `unit` counts the last of its `digits` decimals. Every quote comes
    through here, and to read it by `Decimal` takes twice as long."""

    unit: int
    digits: int

    @staticmethod
    def of(unit: Decimal) -> DecimalGrid:
        digits = digits_of(unit)
        return DecimalGrid(int(unit.scaleb(digits)), digits)

    def read(self, text: str) -> int | None:
        """The whole count that plain digits stand for, as `0.64347`; None where the text is
        anything else, off the grid or long, and `of_text` has to say what it is."""
        whole, _, part = text.partition(".")
        plain = whole.isdigit() and (part.isdigit() or not part) and text.isascii()
        if not plain or len(part) > self.digits or len(text) > LONGEST:
            return None
        count, rest = divmod(int(whole + part) * 10 ** (self.digits - len(part)), self.unit)
        return None if rest else count


def write_units(count: int, unit: Decimal, digits: int) -> str:
    """`count` units as a decimal string with `digits` decimals, exact."""
    return f"{unit * count:.{digits}f}"
