"""Steps: the stop goes to a fixed place once an excursion is reached."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec

from hawser.core.rig.parts import Measure, measure_text, measure_words, measures, read_measure
from hawser.core.rig.rule import Blank, RuleSection

if TYPE_CHECKING:
    from hawser.core.rig.rig import Rig
    from hawser.core.rules.trade_levels import StepSetup

MAX_STEPS = 10


class Step(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Once the excursion reaches `at`, the stop stands at `to` from the entry; `to` may be
    negative."""

    at: Measure
    to: Measure

    def __post_init__(self) -> None:
        self.at.check_positive("step.at")


def numbers(rules: tuple[Step, ...]) -> StepSetup:
    """As compiled rules read them."""
    from hawser.core.rules.trade_levels import StepSetup

    return StepSetup(*measures([one.at for one in rules]), *measures([one.to for one in rules]))


def _says(rules: tuple[Step, ...], rig: Rig) -> list[str]:
    return [
        f"At +{measure_words(one.at)} it goes to {measure_words(one.to)} from the entry."
        for one in rules
    ]


SECTION = RuleSection(
    key="step",
    title="Steps",
    most=MAX_STEPS,
    words=(
        "at",
        Blank(
            "at",
            "step at",
            "The best excursion at which it acts: 2 R, 40 t, 0.8 %, 1 atr",
            read_measure,
            "2 R",
        ),
        "stop to",
        Blank(
            "to",
            "step to",
            "Where the stop goes, from the entry: 0.8 R; \u22120.5 R lies behind it",
            read_measure,
            "1 R",
        ),
    ),
    empty="none",
    make=lambda values: Step(values["at"], values["to"]),
    fill=lambda rule: {"at": measure_text(rule.at), "to": measure_text(rule.to)},
    says=_says,
    brief=lambda rules: "steps",
    rank=50,
)
