"""A venue whose messages come with one field that is not as it was: another number, another text,
none."""

from __future__ import annotations

import random
from typing import Any

import msgspec

from hawser.venue import port
from hawser.verification.storm import Overheard

TEXTS = (
    "",
    "0",
    "-1",
    "1e9",
    "abc",
    "0.000001",
    "99999999999999999999",
    "NaN",
    "Infinity",
    "-0",
    " 1",
    "1_0",
    "１",
    "1e99999999999999999999",
    "S.1-2",
)
WHOLE = (0, -1, 2**62, 2**63 - 1, -(2**63))
REAL = (float("nan"), float("inf"), 0.0, 1e308, -1e308)
OFTEN = (port.QuoteTold, port.FiguresTold, port.RateTold)


def changed(draw: random.Random, value: Any) -> Any:
    """Another value of the same type."""
    if isinstance(value, bool):
        return not value
    if isinstance(value, str):
        return draw.choice((*TEXTS, value + "0", value[:-1]))
    if isinstance(value, int):
        return draw.choice((*WHOLE, -value, value + 1))
    if isinstance(value, float):
        return draw.choice((*REAL, -value))
    if isinstance(value, tuple):
        if value and draw.random() < 0.7:
            at = draw.randrange(len(value))
            return (*value[:at], changed(draw, value[at]), *value[at + 1 :])
        return draw.choice(((), value + value, value[:1], value[::-1]))
    if isinstance(value, dict):
        return draw.choice(({}, {"a": "b"}))
    if isinstance(value, msgspec.Struct):
        field = draw.choice(value.__struct_fields__)
        return msgspec.structs.replace(value, **{field: changed(draw, getattr(value, field))})
    return value


class Babbling(Overheard):
    """The venue of a storm, some of whose messages are changed while the weather is bad."""

    rate = 0.06

    def next_message(self, until: int) -> port.VenueMessage | None:
        if not hasattr(self, "draw"):
            self.draw = random.Random(self.now)
        told = super().next_message(until)
        if told is None or self.sky.weather.name == "calm":
            return told
        rate = self.rate / 30 if isinstance(told, OFTEN) else self.rate
        return changed(self.draw, told) if self.draw.random() < rate else told
