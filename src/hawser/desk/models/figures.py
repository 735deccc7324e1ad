"""Figures as they are shown: the core's, and times in the person's zone."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, tzinfo

from hawser.core.figures import (
    GROUP,
    MINUS,
    NONE,
    counted,
    duration,
    money,
    number,
    percent,
    r,
    side_word,
)
from hawser.core.guards.context import Closed, longest_first

__all__ = [
    "GROUP",
    "MINUS",
    "NONE",
    "clock",
    "counted",
    "date_clock",
    "duration",
    "moment",
    "money",
    "number",
    "percent",
    "r",
    "reason",
    "reasons",
    "side_word",
]


def clock(time_ns: int, zone: tzinfo, seconds: bool = True) -> str:
    """A time of day in the person's zone."""
    return moment(time_ns, zone).strftime("%H:%M:%S" if seconds else "%H:%M")


def date_clock(time_ns: int, zone: tzinfo) -> str:
    at = moment(time_ns, zone)
    return f"{at:%Y-%m-%d %H:%M:%S}.{time_ns // 1_000_000 % 1000:03d}"


def moment(time_ns: int, zone: tzinfo) -> datetime:
    return datetime.fromtimestamp(time_ns // 1_000_000_000, zone)


def reason(closed: Closed, now: int) -> str:
    """Why entries are closed, counting down to when they open where that is known."""
    return (
        f"{closed.text}; opens in {duration(closed.until - now)}"
        if closed.until > now
        else closed.text
    )


def reasons(closed: Iterable[Closed], now: int) -> str:
    """The reason that lasts longest, and the guards that close entries beside it by their names."""
    first, *others = longest_first(closed)
    names = list(dict.fromkeys(one.guard or one.text for one in others))
    beside = f"; also by {', '.join(names)}" if names else ""
    return reason(first, now) + beside
