"""Why a trade is left or has ended, and why a stop moved: codes with figures.

Whatever decides by a reason compares codes. `words` makes the sentence that people read; nothing
reads it back.
"""

from __future__ import annotations

import msgspec

from hawser.core import figures as fg

# Why a trade is left, or what ended it
STOP = "stop"
TARGET = "target"  # `number`
LOSS_STEP = "loss_step"  # `number`
HELD_STOP = "held_stop"
CLOSED = "closed"  # by a close that no reason was given for
BY_HAND = "by_hand"
CANCELLED_BY_HAND = "cancelled_by_hand"
CLOSE_SOME = "close_some"  # `name`: which trades were meant
TURNED = "turned"
HALTED = "halted"
GUARD = "guard"  # `name`: the guard's
OCO = "oco"  # `name`: the trade that filled first
# `money`; `name`: of a basket over several trades
BASKET_STOP, BASKET_TARGET = "basket_stop", "basket_target"
TIME_BARS = "time_bars"  # `number`: bars
TIME_HOURS = "time_hours"
NO_COVER = "no_cover"  # no stop could be attached in time
STOP_PASSED = "stop_passed"
STOP_TOO_NEAR = "stop_too_near"
LATE_FILL = "late_fill"  # `name`: the order's role
AT_VENUE = "at_venue"
LEFT = "left"  # as it rests at the venue
ENTRY_REFUSED = "entry_refused"  # `name`: the venue's own words
ENTRY_GONE = "entry_gone"  # the same

# What a command changes, and why: of a move by a rig the name that `core/rules/bar_close.py` gives
# it
INITIAL, HAND, PLAN, GUARD_EVEN = "initial", "hand", "plan", "guard_even"
HELD_HERE, RESTS, KEPT = "held_here", "rests", "kept"
ADJUSTED, ELSEWHERE = "adjusted", "elsewhere"  # by the venue, by another hand
AS_IT_RESTS = frozenset({KEPT, ADJUSTED, ELSEWHERE})
QTY = "qty"  # a quantity that follows the position
ENTRY, PART = "entry", "part"  # the entry is moved; a target or a loss step

BY_BASKET = frozenset({BASKET_STOP, BASKET_TARGET})
BY_TIME = frozenset({TIME_BARS, TIME_HOURS})
BY_STOP = frozenset({STOP, HELD_STOP})


class Reason(msgspec.Struct, frozen=True):
    """A code with its figures; which of them count is said beside the code."""

    code: str
    number: int = 0
    name: str = ""
    money: float = 0.0


def words(reason: Reason | None, currency: str = "") -> str:
    """The reason as people read it; empty where there is none."""
    if reason is None:
        return ""
    if reason.code in BY_BASKET:
        word = "stop" if reason.code == BASKET_STOP else "target"
        return f"{reason.name or 'basket'} {word} at {fg.money(reason.money, currency, sign=True)}"
    if reason.code in (GUARD, ENTRY_REFUSED):
        return reason.name
    return _WORDS[reason.code].format(
        number=reason.number, name=reason.name, bars=fg.counted(reason.number, "bar")
    )


_WORDS = {
    STOP: "stop",
    TARGET: "target {number}",
    LOSS_STEP: "loss step {number}",
    HELD_STOP: "held stop",
    CLOSED: "close",
    BY_HAND: "closed by hand",
    CANCELLED_BY_HAND: "cancelled by hand",
    CLOSE_SOME: "close {name}",
    TURNED: "turned around",
    HALTED: "flatten & halt",
    OCO: "OCO: {name} filled first",
    TIME_BARS: "time exit after {bars}",
    TIME_HOURS: "time exit before the hours end",
    NO_COVER: "no stop could be attached",
    STOP_PASSED: "stop reached before it rested",
    STOP_TOO_NEAR: "the stop is too near to rest",
    LATE_FILL: "{name} filled after it had been given up",
    AT_VENUE: "closed at the venue",
    LEFT: "left as it rests at the venue",
    ENTRY_GONE: "entry {name}",
}
