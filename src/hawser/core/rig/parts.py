"""Parts of which rules are made: a distance, when a rule begins, an amount of money; how each is
typed and said, and its numbers."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from typing import TYPE_CHECKING

import msgspec

from hawser.core.errors import BadInput
from hawser.core.levels import LineRule
from hawser.core.numbers import MOST, or_nan
from hawser.core.rules.kinds import Kind
from hawser.core.typed_numbers import plain, read_unit, split_unit, tidied

if TYPE_CHECKING:
    from hawser.core.indicators import Array
    from hawser.core.rules.trade_levels import AfterSetup

UNITS = {"r": "R", "ticks": "t", "percent": "%", "atr": "ATR"}


def check_positive(key: str, value: float | None, zero: bool = False) -> None:
    if value is not None and not (0 <= value <= MOST if zero else 0 < value <= MOST):
        expected = "a number, 0 or more" if zero else "a positive number"
        raise BadInput.at("bad_rig", key, f"expected {expected}", key=key)


class Measure(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A price distance from the entry by exactly one key; `percent` of the entry, `atr` of the ATR
    at entry."""

    r: float | None = None
    ticks: float | None = None
    percent: float | None = None
    atr: float | None = None

    def __post_init__(self) -> None:
        given = [key for key in self.__struct_fields__ if getattr(self, key) is not None]
        if len(given) != 1 or not math.isfinite(getattr(self, given[0])):
            raise BadInput("bad_rig", "expected exactly one of r, ticks, percent, atr", given=given)

    def check_positive(self, where: str) -> None:
        """Refuse a distance that is none; raises BadInput."""
        for key in self.__struct_fields__:
            check_positive(f"{where}.{key}", getattr(self, key))

    def in_ticks(self, ref: float, r_ticks: float, atr_ticks: float) -> float:
        """The distance in ticks."""
        if self.r is not None:
            return self.r * r_ticks
        if self.ticks is not None:
            return self.ticks
        if self.percent is not None:
            return ref * self.percent / 100.0
        assert self.atr is not None  # exactly one is given
        return self.atr * atr_ticks


class After(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """When a rule begins: at an excursion in R, or once a target has filled; neither: at once."""

    r: float | None = None
    target: int | None = None

    def __post_init__(self) -> None:
        if self.r is not None and self.target is not None:
            raise BadInput.at("bad_rig", "after", "expected r or target, not both", key="after")
        check_positive("after.r", self.r, zero=True)
        if self.target is not None and not 1 <= self.target <= 5:
            raise BadInput.at(
                "bad_rig", "after.target", "expected the number of a target, 1 to 5", key="target"
            )


class Amount(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Money, or a percentage of the equity at entry."""

    money: float | None = None
    percent: float | None = None

    def __post_init__(self) -> None:
        if (self.money is None) == (self.percent is None):
            raise BadInput.at("bad_rig", "basket", "expected money or percent", key="basket")
        check_positive("basket.money", self.money)
        check_positive("basket.percent", self.percent)

    def of(self, equity: float) -> float:
        """The amount in the account's currency."""
        return self.money if self.money is not None else (self.percent or 0.0) / 100.0 * equity


@tidied
def read_measure(text: str) -> Measure:
    """A distance; with a minus it lies behind the entry."""
    words = text.strip().replace("\u2212", "-")
    back = words.startswith("-")
    unit, number = read_unit(
        words.lstrip("+-"),
        ("r", "atr", "percent", "ticks"),
        "1 R, 2 atr, 0.8 % or 46 t",
        zero=True,
    )
    return msgspec.convert({unit: -float(number) if back else float(number)}, Measure)


def measure_text(measure: Measure) -> str:
    """A distance as it would be typed."""
    units = {"r": "R", "ticks": "t", "percent": "%", "atr": "atr"}
    key = next(key for key in units if getattr(measure, key) is not None)
    return f"{plain(getattr(measure, key))} {units[key]}"


@tidied
def read_after(text: str) -> After:
    """When a rule begins: at once, 1 R or target 2."""
    words = text.strip().lower().removeprefix("after ").strip()
    if words in ("", "at once", "once", "0"):
        return After()
    target = re.fullmatch(r"target\s*([1-5])", words)
    if target is not None:
        return After(target=int(target.group(1)))
    _, number = read_unit(words, ("r",), "at once, 1 R or target 1", zero=True)
    return After(r=float(number))


def after_text(after: After) -> str:
    """When a rule begins, as it would be typed."""
    if after.target is not None:
        return f"target {after.target}"
    return "at once" if after.r is None else f"{plain(after.r)} R"


@tidied
def read_amount(text: str) -> Amount | None:
    """Money, or a percentage of equity; an empty field is none."""
    if text.strip().lower() in ("", "none"):
        return None
    number, unit = split_unit(text, "900, or 1.5 %")
    if unit in ("%", "percent", "% of equity"):
        return Amount(percent=float(number))
    if unit and not re.fullmatch("[a-z]{3}", unit):
        raise BadInput("bad_entry", f"'{unit}' is not understood here; expected 900, or 1.5 %")
    return Amount(money=float(number))


def amount_text(amount: Amount | None) -> str:
    """Money or a percentage as it would be typed."""
    if amount is None:
        return ""
    return f"{plain(amount.percent)} %" if amount.percent is not None else f"{plain(amount.money)}"


def number_words(value: float) -> str:
    return f"{value:g}".replace("-", "\u2212")


def share_words(share: float) -> str:
    return f"{number_words(round(share * 100, 4))} %"


def measure_words(measure: Measure) -> str:
    """A distance with its unit."""
    key = next(key for key in UNITS if getattr(measure, key) is not None)
    return f"{number_words(getattr(measure, key))} {UNITS[key]}"


def after_words(after: After) -> str:
    """When a rule begins, with a blank before it; empty where it begins at once."""
    if after.target is not None:
        return f" after target {after.target}"
    return f" after +{number_words(after.r)} R" if after.r is not None else ""


def begins_words(after: After, at_once: str) -> str:
    """The same at the beginning of a sentence."""
    words = after_words(after).strip()
    return words[:1].upper() + words[1:] or at_once


def line_words(line: LineRule) -> str:
    """An indicator line."""
    if line.kind == "parabolic":
        most = number_words(line.ceiling)
        return f"the parabolic stop ({number_words(line.step)}, at most {most})"
    factor = f", {number_words(line.factor)}" if line.factor is not None else ""
    name = {
        "sma": "the simple average",
        "ema": "the exponential average",
        "supertrend": "the supertrend",
    }
    return f"{name.get(line.kind, 'the channel')} ({line.length}{factor})"


def offset_words(ticks: float) -> str:
    return f" and {number_words(ticks)} t" if ticks else ""


def amount_words(amount: Amount) -> str:
    if amount.money is not None:
        return f"{number_words(amount.money)} of the account's money"
    return f"{number_words(amount.percent or 0.0)} % of equity"


def listed(parts: list[str]) -> str:
    return parts[0] if len(parts) == 1 else f"{', '.join(parts[:-1])} and {parts[-1]}"


def measures(rules: Sequence[Measure]) -> tuple[Array, Array]:
    """The kinds and the values of distances, as compiled rules read them."""
    import numpy as np

    kinds = {"r": Kind.R, "ticks": Kind.TICKS, "percent": Kind.PERCENT, "atr": Kind.ATR}
    named = [
        next((key, getattr(one, key)) for key in kinds if getattr(one, key) is not None)
        for one in rules
    ]
    whole = np.array([kinds[key] for key, _ in named], np.int64)
    return whole, np.array([value for _, value in named], float)


def after_numbers(after: After | None) -> AfterSetup:
    from hawser.core.rules.trade_levels import AfterSetup

    if after is None:
        return AfterSetup(math.nan, 0)
    return AfterSetup(or_nan(after.r), after.target or 0)
