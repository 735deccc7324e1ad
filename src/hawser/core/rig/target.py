"""The targets of a rig: their rule is `levels.TargetRule`, which plans have too."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

import msgspec

from hawser.core import figures as fg
from hawser.core.field_parser import read_share, read_target, share_text, target_text
from hawser.core.instrument import Instrument
from hawser.core.levels import MAX_TARGETS, TargetRule, in_ticks
from hawser.core.rig.parts import listed, number_words, share_words
from hawser.core.rig.rule import Blank, RuleSection

if TYPE_CHECKING:
    from hawser.core.rig.rig import Rig
    from hawser.core.rules.trade_levels import TargetSetup


def numbers(rules: tuple[TargetRule, ...], instrument: Instrument) -> TargetSetup:
    """As compiled rules read them."""

    import numpy as np

    from hawser.core.rules.trade_levels import TargetSetup

    def value(rule: TargetRule) -> float:
        return in_ticks(rule.price, instrument) if rule.price is not None else float(rule.value)

    return TargetSetup(
        np.array([one.KINDS[one.kind] for one in rules], np.int64),
        np.array([value(one) for one in rules], float),
        np.array([one.share for one in rules], float),
    )


def _words(rule: TargetRule) -> str:
    unit = {"r": " R", "atr": " ATR", "percent": " %", "ticks": " t", "price": ""}[rule.kind]
    value = str(rule.price) if rule.price is not None else number_words(float(rule.value))
    return f"{share_words(rule.share)} at {value}{unit}"


def _says(rules: tuple[TargetRule, ...], rig: Rig) -> list[str]:
    targets = [rule for rule in rules if not rule.off]
    if not targets:
        return []
    whole = sum(rule.share for rule in targets) > 1 - 1e-9
    rest = "" if whole else "; the rest rides until the stop"
    return [f"Takes {listed([_words(rule) for rule in targets])}{rest}."]


def _brief(rules: tuple[TargetRule, ...]) -> str:
    count = sum(not rule.off for rule in rules)
    return fg.counted(count, "target") if count else ""


def share_or_none(text: str) -> float:
    if re.fullmatch(r"\s*0\s*%?\s*", text):
        return 0.0  # the target is off
    return read_share(text, 1.0)


SECTION = RuleSection(
    key="target",
    title="Targets",
    most=MAX_TARGETS,
    words=(
        "at",
        Blank(
            "level",
            "target",
            "Where a part is taken: 1.5 R, 2 atr, 0.8 %, 46 t or a price",
            lambda text: read_target(text, 0.0),
            "2 R",
        ),
        "close",
        Blank("share", "share", "How much of the position: 40 %", share_or_none, "50 %"),
    ),
    empty="none: all rides until the stop",
    make=lambda values: msgspec.structs.replace(values["level"], share=values["share"]),
    fill=lambda rule: {"level": target_text(rule), "share": share_text(rule.share)},
    says=_says,
    brief=_brief,
    rank=20,
)
