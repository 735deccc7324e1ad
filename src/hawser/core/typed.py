"""What people type into a field: a number and its unit, in a small grammar of our own.

    risk     0.6 %
    stop     2.5 atr | 0.8 % | 46 t | 0.60879 (a price)
    target   1.5 R | 2 atr | 0.8 % | 46 t | 0.61605 (a price)
    share    40 % | 0.4 | rest
    trail    3 atr

Spaces and capitals are free, a comma may stand for the decimal point. What is wrong is told in one sentence.
"""

from __future__ import annotations

import re
from decimal import Decimal

import msgspec

from hawser.core.errors import BadInput
from hawser.core.plan import StopRule, TargetRule, TrailRule

_NUMBER = re.compile(r"^\s*([0-9]+(?:[.,][0-9]*)?|[.,][0-9]+)\s*(.*?)\s*$")
_UNITS = {"%": "percent", "percent": "percent", "atr": "atr", "t": "ticks", "tick": "ticks", "ticks": "ticks", "r": "r",
          "": "price"}  # fmt: skip


def _read(text: str, allowed: tuple[str, ...], example: str) -> tuple[str, Decimal]:
    """Unit and number of `text`; raises BadInput with `example`."""
    match = _NUMBER.match(text)
    if match is None:
        raise BadInput("bad_entry", f"Expected a number with its unit, such as {example}")
    unit = _UNITS.get(match.group(2).lower(), "")
    if unit not in allowed:
        raise BadInput("bad_entry", f"'{match.group(2) or text.strip()}' is not understood here; expected {example}")
    number = Decimal(match.group(1).replace(",", "."))
    if number <= 0:
        raise BadInput("bad_entry", "Expected a number above zero")
    return unit, number


def read_risk(text: str) -> float:
    """A risk as percent of equity."""
    unit, number = _read(text if re.search(r"[%a-zA-Z]", text) else text + "%", ("percent",), "0.6 %")
    if unit == "percent" and number > 100:
        raise BadInput("bad_entry", "Expected at most 100 %")
    return float(number)


def read_stop(text: str) -> StopRule:
    """An initial stop."""
    unit, number = _read(text, ("atr", "percent", "ticks", "price"), "2.5 atr, 0.8 %, 46 t or a price")
    if unit == "price":
        return StopRule(price=number)
    return msgspec.convert({unit: float(number)}, StopRule)


def read_target(text: str, share: float) -> TargetRule:
    """A target's level, taking `share` of the position."""
    unit, number = _read(text, ("r", "atr", "percent", "ticks", "price"), "1.5 R, 2 atr, 0.8 %, 46 t or a price")
    if unit == "price":
        return TargetRule(share=share, price=number)
    return msgspec.convert({"share": share, unit: float(number)}, TargetRule)


def read_share(text: str, left: float) -> float:
    """A share of the position as a fraction; 'rest' is what earlier targets `left`."""
    if text.strip().lower() == "rest":
        return max(0.0, left)
    plain = re.fullmatch(r"\s*0?[.,][0-9]+\s*|\s*1\s*|\s*1[.,]0*\s*", text)
    if plain:
        return float(text.replace(",", "."))
    unit, number = _read(text if "%" in text else text + "%", ("percent",), "40 %")
    if unit == "percent" and number > 100:
        raise BadInput("bad_entry", "Expected at most 100 %")
    return float(number) / 100.0


def read_trail(text: str) -> TrailRule | None:
    """An ATR trail; an empty field or 'none' is no trail."""
    if text.strip().lower() in ("", "none", "off"):
        return None
    _, number = _read(text, ("atr",), "3 atr, or nothing for no trail")
    return TrailRule(atr=float(number))
