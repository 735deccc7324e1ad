"""Loss steps: a part is given up before the stop."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec

from hawser.core.errors import BadInput
from hawser.core.field_parser import share_text
from hawser.core.rig.parts import listed, number_words, read_measure, share_words
from hawser.core.rig.rule import Blank, RuleSection
from hawser.core.rig.target import share_or_none
from hawser.core.typed_numbers import plain

if TYPE_CHECKING:
    from hawser.core.rig.rig import Rig
    from hawser.core.rules.trade_levels import LossSetup

MAX_LOSS_STEPS = 5


class LossStep(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """At an adverse excursion of `r` R a `share` of the original quantity is closed."""

    r: float
    share: float

    def __post_init__(self) -> None:
        if not 0 < self.r < 1:
            raise BadInput.at(
                "bad_rig", "loss_step.r", "expected a number between 0 and 1", key="r"
            )
        if not 0 < self.share <= 1:
            raise BadInput.at(
                "bad_rig",
                "loss_step.share",
                "expected a fraction above 0, at most 1",
                key="share",
            )


def numbers(rules: tuple[LossStep, ...]) -> LossSetup:
    """As compiled rules read them."""
    import numpy as np

    from hawser.core.rules.trade_levels import LossSetup

    return LossSetup(
        np.array([one.r for one in rules], float), np.array([one.share for one in rules], float)
    )


def _says(rules: tuple[LossStep, ...], rig: Rig) -> list[str]:
    parts = [f"{share_words(one.share)} at \u2212{number_words(one.r)} R" for one in rules]
    return [f"Gives up {listed(parts)}."]


def _r(text: str) -> float:
    measure = read_measure(text)
    if measure.r is None:
        raise BadInput("bad_entry", "Expected a distance in R, such as 0.5 R")
    return measure.r


SECTION = RuleSection(
    key="loss_step",
    title="Loss steps",
    most=MAX_LOSS_STEPS,
    words=(
        "at \u2212",
        Blank("r", "loss step at", "How far against the trade: 0.5 R", _r, "0.5 R"),
        "give up",
        Blank(
            "share",
            "share given up",
            "How much of the original quantity: 25 %",
            share_or_none,
            "25 %",
        ),
    ),
    empty="none",
    make=lambda values: LossStep(values["r"], values["share"]),
    fill=lambda rule: {"r": f"{plain(rule.r)} R", "share": share_text(rule.share)},
    says=_says,
    brief=lambda rules: "loss steps",
    rank=30,
)
