"""Basket: one stop and one target for the money of all that lies under it."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Literal

import msgspec

from hawser.core.errors import BadInput
from hawser.core.rig.parts import Amount, amount_text, amount_words, read_amount
from hawser.core.rig.rule import Blank, RuleSection, one_of
from hawser.core.typed_numbers import tidied

if TYPE_CHECKING:
    from hawser.core.rig.rig import Rig
    from hawser.core.rules.trade_levels import BasketSetup

BASES: dict[str, Literal["tick", "bar_close", "minute_end"]] = {
    "each bar's close": "bar_close",
    "every quote": "tick",
    "each minute's end": "minute_end",
}


class Basket(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Out once the group has lost or won so much, net of the commissions paid so far."""

    stop: Amount | None = None
    target: Amount | None = None
    basis: Literal["tick", "bar_close", "minute_end"] = "bar_close"

    def __post_init__(self) -> None:
        if self.stop is None and self.target is None:
            raise BadInput.at(
                "bad_rig", "basket", "expected a stop, a target or both", key="basket"
            )


@tidied
def read_basket(text: str) -> Basket:
    """A basket over several trades: `stop 900, target 1.5 %, every quote`; every quote where
    nothing is said of it."""
    found: dict[str, Amount | None] = {}
    basis: Literal["tick", "bar_close", "minute_end"] = "tick"
    for part in filter(None, (one.strip() for one in text.lower().split(","))):
        word, _, rest = part.partition(" ")
        if part in BASES:
            basis = BASES[part]
        elif word in ("stop", "target") and rest.strip() and word not in found:
            found[word] = read_amount(rest)
        else:
            raise BadInput(
                "bad_entry",
                "Expected such as stop 900, target 1.5 %, every quote (or each bar's close)",
            )
    if not any(found.values()):
        raise BadInput(
            "bad_entry", "Expected a stop, a target or both, such as stop 900, target 1.5 %"
        )
    return Basket(found.get("stop"), found.get("target"), basis)


def _basis_words(rule: Basket) -> str:
    return next(text for text, basis in BASES.items() if basis == rule.basis)


def basket_text(basket: Basket) -> str:
    """A basket as it would be typed."""
    parts = [f"stop {amount_text(basket.stop)}"] if basket.stop is not None else []
    parts += [f"target {amount_text(basket.target)}"] if basket.target is not None else []
    return ", ".join([*parts, _basis_words(basket)])


def _limit(amount: Amount | None) -> tuple[float, bool]:
    if amount is None:
        return math.inf, False
    return float(
        amount.money if amount.money is not None else amount.percent or 0.0
    ), amount.money is None


def numbers(basket: Basket | None) -> BasketSetup:
    """As compiled rules read it."""
    from hawser.core.rules.trade_levels import BasketSetup

    return BasketSetup(
        *_limit(basket.stop if basket else None), *_limit(basket.target if basket else None)
    )


def _says(rules: tuple[Basket, ...], rig: Rig) -> list[str]:
    found = []
    for rule in rules:
        when = [f"{amount_words(rule.stop)} lost"] if rule.stop else []
        when += [f"{amount_words(rule.target)} won"] if rule.target else []
        found.append(f"Leaves with {' or '.join(when)}, looked at on {_basis_words(rule)}.")
    return found


def amount_blank(key: str, name: str) -> Blank:
    text = (
        f"All trades of the basket are closed once so much is {name}: money such as 900, or a "
        "percentage of equity such as 1.5 %; empty: no such limit"
    )
    return Blank(key, name, text, read_amount, "")


SECTION = RuleSection(
    key="basket",
    title="Basket",
    most=1,
    words=(
        "leave with",
        amount_blank("stop", "lost"),
        "lost or",
        amount_blank("target", "won"),
        "won, looked at on",
        one_of(
            "basis",
            "looked at on",
            "When the basket's result is compared with its limits",
            tuple(BASES),
        ),
    ),
    empty="none",
    make=lambda values: Basket(values["stop"], values["target"], BASES[values["basis"]]),
    fill=lambda rule: {
        "stop": amount_text(rule.stop),
        "target": amount_text(rule.target),
        "basis": _basis_words(rule),
    },
    says=_says,
    brief=lambda rules: "basket",
    rank=80,
)
