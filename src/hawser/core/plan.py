"""What a trader plans: side, risk, stop, targets, trail. Values as typed; levels follow in `core/sizing.py`."""

from __future__ import annotations

import math
from decimal import Decimal
from typing import ClassVar

import msgspec

from hawser.core.clock import MINUTE
from hawser.core.errors import BadInput
from hawser.core.instrument import Instrument
from hawser.core.rules import stops, targets

MAX_TARGETS = 5


def in_ticks(price: Decimal, instrument: Instrument) -> float:
    """A typed price as a float count of ticks, off the grid where it was typed so."""
    return float(price / instrument.tick)


def _finite(what: str, price: Decimal) -> None:
    if not price.is_finite():
        raise BadInput("bad_price", f"{what}: expected a price", key=what)


class StopRule(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The initial stop, by exactly one key (section 4)."""

    atr: float | None = None
    percent: float | None = None
    ticks: float | None = None
    price: Decimal | None = None
    money: float | None = None

    KINDS: ClassVar = {"atr": stops.ATR, "percent": stops.PERCENT, "ticks": stops.TICKS, "price": stops.PRICE}

    def __post_init__(self) -> None:
        given = [key for key in self.__struct_fields__ if getattr(self, key) is not None]
        if len(given) != 1:
            raise BadInput("bad_stop", "stop: expected exactly one of atr, percent, ticks, price, money", given=given)
        value = getattr(self, given[0])
        if given[0] == "price":
            _finite("stop.price", value)  # at or below zero it is a level that is refused, not a wrong entry
        elif not 0 < value < math.inf:
            raise BadInput("bad_stop", f"stop.{given[0]}: expected a positive number", key=given[0])

    @property
    def kind(self) -> str:
        return next(key for key in self.__struct_fields__ if getattr(self, key) is not None)

    @property
    def value(self) -> float | Decimal:
        value: float | Decimal = getattr(self, self.kind)
        return value

    def level(self, instrument: Instrument, ref: int, atr: float, side: int) -> int:
        """The rounded stop in ticks; `atr` in price units. Not for `money`, which needs the quantity."""
        value = in_ticks(self.price, instrument) if self.price is not None else float(self.value)
        return stops.stop_level(self.KINDS[self.kind], value, float(ref), atr / instrument.tick_size, side)


class TargetRule(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One target: a level by exactly one key, and the `share` of the position it takes (section 6)."""

    share: float
    r: float | None = None
    atr: float | None = None
    percent: float | None = None
    ticks: float | None = None
    price: Decimal | None = None

    KINDS: ClassVar = {
        "r": targets.R, "atr": targets.ATR, "percent": targets.PERCENT, "ticks": targets.TICKS,
        "price": targets.PRICE,
    }  # fmt: skip

    def __post_init__(self) -> None:
        given = [key for key in self.KINDS if getattr(self, key) is not None]
        if len(given) != 1:
            raise BadInput("bad_target", "target: expected exactly one of r, atr, percent, ticks, price", given=given)
        value = getattr(self, given[0])
        if given[0] == "price":
            _finite("target.price", value)
        elif not 0 <= value < math.inf:
            raise BadInput("bad_target", f"target.{given[0]}: expected a number, 0 or more", key=given[0])
        if not 0 <= self.share <= 1:
            raise BadInput("bad_target", "target.share: expected a fraction from 0 to 1", key="share")

    @property
    def kind(self) -> str:
        return next(key for key in self.KINDS if getattr(self, key) is not None)

    @property
    def value(self) -> float | Decimal:
        value: float | Decimal = getattr(self, self.kind)
        return value

    @property
    def off(self) -> bool:
        """A target whose distance or share is 0 is off."""
        return self.share == 0 or self.value == 0

    def level(self, instrument: Instrument, ref: int, r_ticks: int, atr: float, side: int) -> int:
        """The rounded level in ticks; `atr` in price units."""
        value = in_ticks(self.price, instrument) if self.price is not None else float(self.value)
        kind = self.KINDS[self.kind]
        return targets.target_level(kind, value, float(ref), float(r_ticks), atr / instrument.tick_size, side)


class TrailRule(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """An ATR trail from the extreme, on completed bars (section 7)."""

    atr: float
    base_ticks: float = 0.0
    step_ticks: int = 1

    def __post_init__(self) -> None:
        if not self.atr > 0 or self.base_ticks < 0 or self.step_ticks < 1:
            raise BadInput("bad_trail", "trail: expected atr above 0, base_ticks 0 or more, step_ticks 1 or more")


class Plan(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One planned trade. `timeframe_ns` is that of the bars whose ATR it uses; `percent` is risk of equity."""

    symbol: str
    side: int
    percent: float
    stop: StopRule
    targets: tuple[TargetRule, ...] = ()
    trail: TrailRule | None = None
    timeframe_ns: int = 15 * MINUTE

    def __post_init__(self) -> None:
        if self.side not in (1, -1):
            raise BadInput("bad_side", "side: expected long (+1) or short (-1)")
        if not 0 < self.percent <= 100:
            raise BadInput("bad_risk", "risk: expected a percentage above 0, at most 100")
        check_shares(self.targets)


def check_shares(rules: tuple[TargetRule, ...]) -> None:
    """At most five targets, whose shares add up to at most 1."""
    if len(rules) > MAX_TARGETS:
        raise BadInput("bad_target", f"targets: expected at most {MAX_TARGETS}")
    if sum(rule.share for rule in rules) > 1 + 1e-9:
        raise BadInput("bad_target", "targets: the shares add up to more than the whole position")
