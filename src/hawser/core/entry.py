"""How a trade is entered: at market, or by an order that waits at a level; how long it waits; how
it is kept.

A pending entry is a `limit` (at a better price than the market's) or a `stop` (beyond it).
`within_ticks` bounds the fill: a market entry that would fill worse than that beyond the price seen
is refused, and a stop with it is a stop-limit. A level is a price, or a distance of so many ATR
from the quote.
"""

from __future__ import annotations

import math
from decimal import Decimal
from typing import Literal

import msgspec

from hawser.core.clock import DAY, MINUTE
from hawser.core.errors import BadInput, Refused
from hawser.core.instrument import Instrument
from hawser.core.rules.entries import ENTRY_OK, ENTRY_TOO_NEAR, entry_stands
from hawser.core.rules.rounding import level_ticks


class GoodUntil(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How long a pending entry waits: by one key, or none: until it is cancelled. `clock` is UTC,
    as HH:MM."""

    minutes: float | None = None
    clock: str | None = None
    session_end: bool = False

    def __post_init__(self) -> None:
        if sum((self.minutes is not None, self.clock is not None, self.session_end)) > 1:
            raise BadInput.at(
                "bad_good",
                "good",
                "expected one of minutes, clock, session_end, or none",
                key="good",
            )
        if self.minutes is not None and not 0 < self.minutes < math.inf:
            raise BadInput.at(
                "bad_good", "good.minutes", "expected a positive number", key="minutes"
            )
        if self.clock is not None and _minute_of_day(self.clock) is None:
            raise BadInput.at("bad_good", "good.clock", "expected HH:MM in UTC", key="clock")

    def until(self, now: int, session_ends: int) -> int:
        """When the entry is given up, UTC ns; 0: never. `session_ends`: when the instrument closes,
        0 unknown."""
        if self.minutes is not None:
            return now + round(self.minutes * MINUTE)
        if self.clock is not None:
            minute = _minute_of_day(self.clock)
            assert minute is not None  # checked when it was made
            today = now // DAY * DAY + minute * MINUTE
            return today if today > now else today + DAY
        if self.session_end:
            if session_ends <= now:
                raise Refused("no_session_end", "The venue does not say when the session ends.")
            return session_ends
        return 0


def _minute_of_day(text: str) -> int | None:
    hours, colon, minutes = text.partition(":")
    if not (colon and hours.isdecimal() and minutes.isdecimal() and len(minutes) == 2):
        return None
    value = int(hours) * 60 + int(minutes)
    return value if int(hours) < 24 and int(minutes) < 60 else None


class EntryRule(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """An entry by kind. `price` or `atr` (from the quote) with limit and stop; no `within_ticks`
    with limit."""

    kind: Literal["market", "limit", "stop"] = "market"
    price: Decimal | None = None
    atr: float | None = None
    within_ticks: int | None = None
    good: GoodUntil = GoodUntil()

    def __post_init__(self) -> None:
        given = (self.price is not None) + (self.atr is not None)
        if given != (self.kind != "market"):
            raise BadInput.at(
                "bad_entry_rule",
                "entry",
                f"a {self.kind} entry expects {'one level' if self.pending else 'no level'}",
            )
        if self.price is not None and not (self.price.is_finite() and self.price > 0):
            raise BadInput.at("bad_entry_rule", "entry.price", "expected a price", key="price")
        if self.atr is not None and not 0 < self.atr < math.inf:
            raise BadInput.at(
                "bad_entry_rule", "entry.atr", "expected a positive number", key="atr"
            )
        if self.within_ticks is not None and (self.kind == "limit" or self.within_ticks < 0):
            raise BadInput.at(
                "bad_entry_rule",
                "entry.within_ticks",
                "expected ticks, with market or stop",
                key="within_ticks",
            )
        if self.good != GoodUntil() and not self.pending:
            raise BadInput.at(
                "bad_entry_rule", "entry.good", "a market entry does not wait", key="good"
            )

    @property
    def pending(self) -> bool:
        return self.kind != "market"

    def level(
        self, instrument: Instrument, bid: int, ask: int, atr: float, side: int
    ) -> int | None:
        """Where a pending entry waits, in ticks; None at market. Raises Refused where it cannot
        wait there.

        `atr` in price units. The least distance from the market is the instrument's
        `min_stop_ticks`, at least 1.
        """
        if not self.pending:
            return None
        tick, market = instrument.tick_size, ask if side > 0 else bid
        away = 1 if self.kind == "stop" else -1
        if self.atr is not None and not atr > 0:
            raise Refused(
                "indicator_not_ready", "The ATR has no value yet: more completed bars are needed."
            )
        if self.price is not None:
            value = float(self.price / instrument.tick)
        else:
            value = market + away * side * (self.atr or 0.0) * atr / tick
        level = level_ticks(value, side)
        verdict = entry_stands(level, market, away * side, instrument.min_stop_ticks)
        if verdict == ENTRY_OK:
            return level
        shown, quote = instrument.price(max(level, 0)), instrument.price(market)
        if verdict == ENTRY_TOO_NEAR:
            least = max(1, instrument.min_stop_ticks)
            near = abs(level - market)
            sentence = (
                f"The {self.kind} entry {shown} is {near} ticks from the market at {quote}; "
                f"at least {least}."
            )
            raise Refused("entry_too_near", sentence, entry=shown, least_ticks=least)
        where = "above" if away * side > 0 else "below"
        raise Refused(
            "entry_wrong_side",
            f"The {self.kind} entry {shown} is not {where} the market at {quote}.",
            entry=shown,
        )

    def bound(self, ref: int, side: int) -> int | None:
        """The worst price the entry may fill at, ticks; None: any."""
        return None if self.within_ticks is None else max(1, ref + side * self.within_ticks)

    def moved(self, level: int, instrument: Instrument) -> EntryRule:
        """The same entry at another level, ticks."""
        return msgspec.structs.replace(self, price=Decimal(instrument.price(level)), atr=None)


class HeldRule(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Lines kept by Hawser: a stop `backstop_r` times as far rests at the venue; a spike may last
    `settle_ms`."""

    backstop_r: float = 2.0
    settle_ms: int = 0

    def __post_init__(self) -> None:
        if not 1 < self.backstop_r < math.inf:
            raise BadInput.at(
                "bad_held",
                "held.backstop_r",
                "expected more than 1: the backstop is wider",
                key="backstop_r",
            )
        if not 0 <= self.settle_ms <= 60_000:
            raise BadInput.at("bad_held", "held.settle_ms", "expected 0 to 60000", key="settle_ms")
