"""Ladder: more is entered at worse prices, within one worst case."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec

from hawser.core.errors import BadInput
from hawser.core.rig.parts import (
    Measure,
    check_positive,
    measure_text,
    measure_words,
    measures,
    number_words,
    read_measure,
)
from hawser.core.rig.rule import Blank, RuleSection
from hawser.core.rules.kinds import Kind
from hawser.core.typed_numbers import any_number, plain, whole_number

if TYPE_CHECKING:
    from hawser.core.rig.rig import Rig
    from hawser.core.rules.trade_levels import LadderSetup


class Ladder(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Adds at worse prices, within one worst case: `rungs` in all, each `factor` times the one
    before."""

    rungs: int
    spacing: Measure
    target_ticks: float
    stop_ticks: float | None = None
    factor: float = 1.0

    def __post_init__(self) -> None:
        if not 2 <= self.rungs <= 10:
            raise BadInput.at(
                "bad_rig", "ladder.rungs", "expected a whole number from 2 to 10", key="rungs"
            )
        if self.stop_ticks is None:
            raise BadInput.at(
                "bad_rig",
                "ladder.stop_ticks",
                "a ladder without a common stop is refused",
                key="stop_ticks",
            )
        for key in ("target_ticks", "stop_ticks", "factor"):
            check_positive(f"ladder.{key}", getattr(self, key))
        if self.spacing.r is not None:
            raise BadInput.at(
                "bad_rig", "ladder.spacing", "expected ticks, percent or atr", key="spacing"
            )
        self.spacing.check_positive("ladder.spacing")


def ladder_spacing(ladder: Ladder, ref: int, atr: float) -> float:
    """How far apart the rungs stand from an entry at `ref`, in ticks as the ATR is."""
    from hawser.core.rules.trade_levels import distance

    kind, value = measures([ladder.spacing])
    return float(distance(int(kind[0]), float(value[0]), float(ref), 0.0, atr))


def numbers(ladder: Ladder | None) -> LadderSetup:
    """As compiled rules read it."""
    from hawser.core.rules.trade_levels import LadderSetup

    if ladder is None:
        return LadderSetup(
            rungs=0, spacing_kind=int(Kind.TICKS), spacing=1.0, factor=1.0, target=0.0, stop=0.0
        )
    kind, spacing = measures([ladder.spacing])
    return LadderSetup(
        rungs=ladder.rungs,
        spacing_kind=int(kind[0]),
        spacing=float(spacing[0]),
        factor=float(ladder.factor),
        target=float(ladder.target_ticks),
        stop=float(ladder.stop_ticks or 0.0),
    )


def _words(ladder: Ladder) -> str:
    growing = ""
    if ladder.factor != 1:
        growing = f", each {number_words(ladder.factor)} times the one before"
    apart = f"{measure_words(ladder.spacing)} apart{growing}"
    target, stop = number_words(ladder.target_ticks), number_words(ladder.stop_ticks or 0.0)
    return (
        f"Enters in up to {ladder.rungs} rungs {apart}; all leave {target} t beyond the average "
        f"entry, or {stop} t beyond the last rung."
    )


def _says(rules: tuple[Ladder, ...], rig: Rig) -> list[str]:
    return [_words(one) for one in rules]


def _fill_ladder(ladder: Ladder) -> dict[str, str]:
    return {
        "rungs": str(ladder.rungs),
        "spacing": measure_text(ladder.spacing),
        "factor": plain(ladder.factor),
        "target_ticks": plain(ladder.target_ticks),
        "stop_ticks": plain(ladder.stop_ticks or 0),
    }


SECTION = RuleSection(
    key="ladder",
    title="Ladder",
    most=1,
    words=(
        Blank("rungs", "rungs", "Entries in all, the first included", whole_number, "4"),
        "rungs",
        Blank(
            "spacing",
            "spacing",
            "Between two rungs: 1 atr, 20 t, 0.5 %",
            read_measure,
            "1 atr",
        ),
        "apart, each",
        Blank("factor", "factor", "Quantity of a rung, times the one before", any_number, "1.5"),
        "times the last; all out",
        Blank("target_ticks", "target", "Ticks beyond the average entry", any_number, "80"),
        "t beyond the average, or",
        Blank("stop_ticks", "common stop", "Ticks beyond the last rung", any_number, "60"),
        "t beyond the last rung",
    ),
    empty="none",
    make=lambda values: Ladder(**values),
    fill=_fill_ladder,
    says=_says,
    brief=lambda rules: "ladder",
    rank=10,
)
