"""How a file of another program is read: what a person may change, and keeps as a TOML file."""

from __future__ import annotations

from typing import Annotated, Literal

import msgspec

from hawser.core.errors import BadInput
from hawser.core.field_help import help_text

PRICES = ("open", "high", "low", "close")
NEEDED = {"bars": ("time", *PRICES), "ticks": ("time", "bid", "ask")}
Kind = Literal["bars", "ticks"]
Dates = Literal["ymd", "dmy", "mdy", "s", "ms", "us", "ns"]


class Recipe(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A column is named as in the file's header, or as `column 1` where it has no name there."""

    kind: Annotated[Kind, help_text("what a row is: a bar, or a tick (bid and ask)")] = "bars"
    encoding: Annotated[str, help_text("how signs are written, as utf-8 or cp1252")] = "utf-8"
    separator: Annotated[str, help_text("the sign between two cells; 'spaces': any number")] = ","
    decimal: Annotated[Literal[".", ","], help_text("the sign before a number's decimals")] = "."
    grouping: Annotated[str, help_text("the sign between thousands; empty: none")] = ""
    above: Annotated[int, help_text("lines above the header that are left out", "lines")] = 0
    header: Annotated[bool, help_text("whether a row names the columns")] = True
    comment: Annotated[str, help_text("what lines that are left out begin with")] = ""
    columns: Annotated[
        dict[str, str], help_text("which column is the time, clock, open, high, low, close, spread")
    ] = {}
    keep: Annotated[
        tuple[str, ...], help_text("further columns of numbers that are kept, by their names")
    ] = ()
    dates: Annotated[
        Dates, help_text("the order of day, month and year; or what is counted from 1970")
    ] = "ymd"
    zone: Annotated[str, help_text("the zone of times without an offset, as Europe/Zurich")] = ""

    def __post_init__(self) -> None:
        try:
            "".encode(self.encoding)
        except LookupError:  # unknown, or none of text, as hex
            raise BadInput.at(
                "bad_recipe",
                "encoding",
                f"expected one such as utf-8, got {self.encoding[:40]}",
                key="encoding",
            ) from None
        for key, value, holds, expected in (
            ("separator", self.separator, len(self.separator) == 1, "one sign, or 'spaces'"),
            ("grouping", self.grouping, len(self.grouping) < 2, "one sign, or nothing"),
            ("above", str(self.above), self.above >= 0, "0 lines or more"),
        ):
            if not holds and value != "spaces":
                raise BadInput.at(
                    "bad_recipe", key, f"expected {expected}, got '{value[:40]}'", key=key
                )
