"""Levels as a trader writes them: initial stops, indicator lines, targets. Ticks follow in
`core/sizing.py`."""

from __future__ import annotations

import math
from decimal import Decimal
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal

import msgspec

from hawser.core.errors import BadInput
from hawser.core.field_help import help_text
from hawser.core.instrument import Instrument
from hawser.core.numbers import MOST, MOST_BARS
from hawser.core.rules import stops, targets
from hawser.core.rules.kinds import Kind

MAX_TARGETS = 5


def in_ticks(price: Decimal, instrument: Instrument) -> float:
    """A typed price as a float count of ticks, off the grid where it was typed so."""
    return float(price / instrument.tick)


def _finite(what: str, price: Decimal) -> None:
    if not (price.is_finite() and price.copy_abs() <= MOST):
        raise BadInput.at("bad_price", f"{what}", "expected a price", key=what)


class LineRule(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """An indicator line that a stop stands on: its value on the last completed bar (section 4)."""

    kind: Literal["sma", "ema", "supertrend", "parabolic", "channel"]
    length: Annotated[int, help_text("of its window", "bars", most=MOST_BARS)] = 14
    factor: float | None = None
    step: float = 0.02
    ceiling: float = 0.2

    def __post_init__(self) -> None:
        if self.length < 1:
            raise BadInput.at(
                "bad_line",
                "line.length",
                "expected a whole number of bars, 1 or more",
                key="length",
            )
        if (self.kind == "supertrend") != (self.factor is not None):
            raise BadInput.at(
                "bad_line",
                "line.factor",
                "expected with a supertrend, and only there",
                key="factor",
            )
        if self.factor is not None and not 0 < self.factor <= MOST:
            raise BadInput.at("bad_line", "line.factor", "expected a positive number", key="factor")
        if not 0 < self.step <= self.ceiling <= 1:
            raise BadInput.at(
                "bad_line", "line.step", "expected 0 < step <= ceiling <= 1", key="step"
            )


Side = Annotated[int, help_text("on one side of a pivot", "bars", most=MOST_BARS)]


class StopRule(msgspec.Struct, frozen=True, dict=True, forbid_unknown_fields=True):
    """The initial stop, by exactly one key (section 4); `offset_ticks` goes with those taken from
    bars."""

    atr: float | None = None
    percent: float | None = None
    ticks: float | None = None
    price: Decimal | None = None
    money: float | None = None
    bars: (
        Annotated[int, help_text("behind the extreme of so many", "bars", most=MOST_BARS)] | None
    ) = None
    pivot: tuple[Side, Side] | None = None
    line: LineRule | None = None
    offset_ticks: float = 0.0

    if TYPE_CHECKING:  # worked out once, when the rule is made; not keys of the file
        kind: ClassVar[str]  # the one key given
        value: ClassVar[Any]  # what stands there
        # the level is taken from completed bars (`core/indicator_values.py`)
        from_bars: ClassVar[bool]

    KINDS: ClassVar = {
        "atr": int(Kind.ATR),
        "percent": int(Kind.PERCENT),
        "ticks": int(Kind.TICKS),
        "price": int(Kind.PRICE),
        "bars": int(Kind.PRICE),
        "pivot": int(Kind.PRICE),
        "line": int(Kind.PRICE),
    }
    FROM_BARS: ClassVar = ("bars", "pivot", "line")

    def __post_init__(self) -> None:
        keys = self.__struct_fields__[:-1]
        given = [key for key in keys if getattr(self, key) is not None]
        if len(given) != 1:
            raise BadInput.at(
                "bad_stop", "stop", f"expected exactly one of {', '.join(keys)}", given=given
            )
        value = getattr(self, given[0])
        self.__dict__.update(kind=given[0], value=value, from_bars=given[0] in self.FROM_BARS)
        if given[0] == "price":
            # at or below zero it is a level that is refused, not a wrong entry
            _finite("stop.price", value)
        elif given[0] == "pivot":
            if value[0] < 1 or value[1] < 1:
                raise BadInput.at(
                    "bad_stop",
                    "stop.pivot",
                    "expected bars before and after, 1 or more each",
                    key="pivot",
                )
        elif given[0] != "line" and not 0 < value <= MOST:
            raise BadInput.at(
                "bad_stop", f"stop.{given[0]}", "expected a positive number", key=given[0]
            )
        if not math.isfinite(self.offset_ticks):
            raise BadInput.at(
                "bad_stop", "stop.offset_ticks", "expected a number of ticks", key="offset_ticks"
            )
        if self.offset_ticks and given[0] not in self.FROM_BARS:
            raise BadInput.at(
                "bad_stop",
                "stop.offset_ticks",
                "expected with bars, pivot or line",
                key="offset_ticks",
            )

    def level(
        self, instrument: Instrument, ref: int, atr: float, side: int, basis: float, spread: int
    ) -> int:
        """The rounded stop in ticks; `atr` and `basis` in price units. Not for `money`, which needs
        the quantity.

        Bars are bid prices and a short's stop triggers on the ask: a level taken from bars adds the
        spread.
        """
        kind, tick = self.kind, instrument.tick_size
        if self.from_bars:
            value = basis / tick - side * self.offset_ticks + (spread if side < 0 else 0)
        else:
            value = in_ticks(self.value, instrument) if kind == "price" else float(self.value)
        return stops.stop_level(self.KINDS[kind], value, float(ref), atr / tick, side)


class TargetRule(msgspec.Struct, frozen=True, dict=True, forbid_unknown_fields=True):
    """One target: a level by exactly one key, and the `share` of the position it takes (section
    6)."""

    share: float
    r: float | None = None
    atr: float | None = None
    percent: float | None = None
    ticks: float | None = None
    price: Decimal | None = None

    if TYPE_CHECKING:  # worked out once, when the rule is made; not keys of the file
        kind: ClassVar[str]  # the one key given
        value: ClassVar[float | Decimal]  # what stands there
        off: ClassVar[bool]  # a target whose distance or share is 0 is off

    KINDS: ClassVar = {
        "r": int(Kind.R),
        "atr": int(Kind.ATR),
        "percent": int(Kind.PERCENT),
        "ticks": int(Kind.TICKS),
        "price": int(Kind.PRICE),
    }

    def __post_init__(self) -> None:
        given = [key for key in self.KINDS if getattr(self, key) is not None]
        if len(given) != 1:
            raise BadInput.at(
                "bad_target",
                "target",
                "expected exactly one of r, atr, percent, ticks, price",
                given=given,
            )
        value = getattr(self, given[0])
        self.__dict__.update(kind=given[0], value=value, off=self.share == 0 or value == 0)
        if given[0] == "price":
            _finite("target.price", value)
        elif not 0 <= value <= MOST:
            raise BadInput.at(
                "bad_target", f"target.{given[0]}", "expected a number, 0 or more", key=given[0]
            )
        if not 0 <= self.share <= 1:
            raise BadInput.at(
                "bad_target", "target.share", "expected a fraction from 0 to 1", key="share"
            )

    def level(self, instrument: Instrument, ref: int, r_ticks: int, atr: float, side: int) -> int:
        """The rounded level in ticks; `atr` in price units."""
        value = in_ticks(self.price, instrument) if self.price is not None else float(self.value)
        kind = self.KINDS[self.kind]
        return targets.target_level(
            kind,
            value,
            ref=float(ref),
            r_ticks=float(r_ticks),
            atr=atr / instrument.tick_size,
            side=side,
        )


def check_shares(rules: tuple[TargetRule, ...]) -> None:
    """At most five targets, whose shares add up to at most 1."""
    if len(rules) > MAX_TARGETS:
        raise BadInput.at("bad_target", "targets", f"expected at most {MAX_TARGETS}")
    if sum(rule.share for rule in rules) > 1 + 1e-9:
        raise BadInput.at(
            "bad_target", "targets", "the shares add up to more than the whole position"
        )
