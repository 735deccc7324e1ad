"""What all guards have (reckoning section 9). Each kind is a class of its own: filters, one a file,
in `filters/`; guards that count, one a file, in `counting/`.

Filters open and close with what they watch. Kill switches latch: tripped, they stay closed until
their period ends or a person re-arms them with a reason.
"""

from __future__ import annotations

import math
from typing import Annotated, ClassVar, Literal

import msgspec

from hawser.core.errors import BadInput, is_line
from hawser.core.field_help import help_text

Then = Literal["cancel", "break_even", "close", "flatten"]
THEN_WORDS = {
    "cancel": "cancel entries that wait",
    "break_even": "stop to the entry",
    "close": "close its trades",
    "flatten": "close everything",
}
LONGEST_NAME = 120  # signs


class Guard(
    msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, tag_field="kind"
):
    """What all guards have. `KIND` in words; `LOOSER` says in which direction a figure loosens it:
    +1 when it grows, -1 when it shrinks. What stands in neither list loosens it whenever it
    changes."""

    KIND: ClassVar[str] = "guard"
    SAYS: ClassVar[str] = ""  # what it is for, in a few words
    LATCHES: ClassVar[bool] = False
    # what a form for a new one begins with, where a figure has no default
    FIRST: ClassVar[dict[str, object]] = {}
    LOOSER: ClassVar[dict[str, int]] = {}

    name: Annotated[str, help_text("the guard's name; each has its own", example="Day loss")]
    on: Annotated[bool, help_text("on or off")] = True
    instruments: Annotated[
        tuple[str, ...], help_text("the instruments it watches; empty: all", example="CAD/CHF")
    ] = ()
    sources: Annotated[
        tuple[str, ...], help_text("the signal sources it watches; empty: all", example="by hand")
    ] = ()
    then: Annotated[
        tuple[Then, ...],
        help_text(
            "what it does when it closes, besides keeping entries out",
            name="On closing",
            words=THEN_WORDS,
        ),
    ] = ()

    def __post_init__(self) -> None:
        if not self.name.strip() or not is_line(self.name, LONGEST_NAME):
            raise BadInput.at(
                "bad_guard",
                "guard.name",
                f"expected a name of at most {LONGEST_NAME} signs",
                key="name",
            )
        for key in self.LOOSER:
            value = getattr(self, key)
            if value is not None and not 0 <= value < math.inf:
                raise self.wrong(key, "a number, 0 or more")
        self.check()

    def check(self) -> None:
        """What one kind expects; raises BadInput."""

    def wrong(self, key: str, expected: str) -> BadInput:
        return BadInput("bad_guard", f"guard '{self.name}': {key}: expected {expected}", key=key)

    def need(self, *keys: str) -> None:
        """Refuse where none of these is given."""
        if all(getattr(self, key) is None for key in keys):
            raise self.wrong(keys[0], f"one of {', '.join(keys)}" if len(keys) > 1 else "a number")

    def need_some(self, *keys: str) -> None:
        """Refuse 0: it would trip at once, or watch no time at all."""
        for key in keys:
            if not getattr(self, key) > 0:
                raise self.wrong(key, "more than 0")

    @property
    def takes_back(self) -> bool:
        """Whether closing takes back what waits to enter; a kill switch always does."""
        return self.LATCHES or not {"cancel", "close", "flatten"}.isdisjoint(self.then)

    @property
    def leads_to(self) -> Literal["close", "even", ""]:
        """What closing does with an open trade: it is closed, its stop goes to the entry,
        nothing."""
        if {"close", "flatten"} & set(self.then):
            return "close"
        return "even" if "break_even" in self.then else ""

    def covers(self, symbol: str) -> bool:
        """Whether it watches an instrument, for some source at least."""
        return self.on and (not self.instruments or symbol in self.instruments)

    def watches(self, symbol: str, source: str) -> bool:
        """Whether an entry of this instrument and source is its business; an empty source: one of
        no source named."""
        return self.covers(symbol) and (not self.sources or source in self.sources)
