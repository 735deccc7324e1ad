"""Figures as people read them: grouped thousands, a true minus sign, the unit always there. One way
for the reckoning's text, the Logbook and every screen."""

from __future__ import annotations

import math

from hawser.core.money import minor_digits, rounded

MINUS = "\u2212"
GROUP = "\u00a0"  # B612 has no narrower no-break space of its own
NONE = "\u2013"


def number(value: float, digits: int, sign: bool = False) -> str:
    """A plain number with grouped thousands; `sign` writes the plus too. Zero has no sign."""
    if math.isnan(value):
        return NONE
    return _signed(f"{abs(value):,.{digits}f}", value, sign)


def counted(count: int, one: str, more: str = "") -> str:
    """How many of what: 1 trade, 3 trades; `more` where the plural is no mere s."""
    return f"{count} {one if count == 1 else more or one + 's'}"


def money(value: float, currency: str, sign: bool = False) -> str:
    """Money with its currency, rounded half-even to the minor unit (section 1)."""
    return f"{amount(value, currency, sign)}{GROUP}{currency}"


def amount(value: float, currency: str, sign: bool = False) -> str:
    """Money without its currency's name."""
    if math.isnan(value):
        return NONE
    return _signed(f"{abs(rounded(value, currency)):,.{minor_digits(currency)}f}", value, sign)


def _signed(text: str, value: float, sign: bool) -> str:
    if not text.strip("0,."):
        return text
    return (MINUS if value < 0 else "+" if sign else "") + text.replace(",", GROUP)


def r(value: float) -> str:
    """A result or level in R."""
    return f"{number(value, 2, sign=True)}{GROUP}R"


def percent(value: float, digits: int = 1) -> str:
    return f"{number(value, digits)}{GROUP}%"


def duration(ns: int) -> str:
    """A short span: '4 s', '12 min', '3 h 05 min'."""
    seconds = max(0, ns // 1_000_000_000)
    if seconds < 60:
        return f"{seconds}{GROUP}s"
    if seconds < 3600:
        return f"{seconds // 60}{GROUP}min"
    return f"{seconds // 3600}{GROUP}h {seconds % 3600 // 60:02d}{GROUP}min"


def side_word(side: int) -> str:
    return "long" if side > 0 else "short"
