"""Figures as they are shown: grouped thousands, a true minus sign, units always there."""

from __future__ import annotations

import math
from datetime import datetime, tzinfo

from hawser.core.money import minor_digits

MINUS = "\u2212"
GROUP = "\u00a0"  # B612 has no narrower no-break space of its own
NONE = "\u2013"


def number(value: float, digits: int, sign: bool = False) -> str:
    """A plain number with grouped thousands."""
    if math.isnan(value):
        return NONE
    text = f"{abs(value):,.{digits}f}".replace(",", GROUP)
    if float(f"{abs(value):.{digits}f}") == 0:
        return text
    return (MINUS if value < 0 else "+" if sign else "") + text


def money(value: float, currency: str, sign: bool = False) -> str:
    """Money with its currency, to the minor unit."""
    return f"{number(value, minor_digits(currency), sign)}{GROUP}{currency}"


def r(value: float) -> str:
    """A result or level in R."""
    return f"{number(value, 2, sign=True)}{GROUP}R"


def percent(value: float, digits: int = 1) -> str:
    return f"{number(value, digits)}{GROUP}%"


def clock(time_ns: int, zone: tzinfo, seconds: bool = True) -> str:
    """A time of day in the person's zone."""
    return moment(time_ns, zone).strftime("%H:%M:%S" if seconds else "%H:%M")


def date_clock(time_ns: int, zone: tzinfo) -> str:
    at = moment(time_ns, zone)
    return f"{at:%Y-%m-%d %H:%M:%S}.{time_ns // 1_000_000 % 1000:03d}"


def moment(time_ns: int, zone: tzinfo) -> datetime:
    return datetime.fromtimestamp(time_ns // 1_000_000_000, zone)


def side_word(side: int) -> str:
    return "long" if side > 0 else "short"


def duration(ns: int) -> str:
    """A short span: '4 s', '12 min', '3 h 05 min'."""
    seconds = max(0, ns // 1_000_000_000)
    if seconds < 60:
        return f"{seconds}{GROUP}s"
    if seconds < 3600:
        return f"{seconds // 60}{GROUP}min"
    return f"{seconds // 3600}{GROUP}h {seconds % 3600 // 60:02d}{GROUP}min"
