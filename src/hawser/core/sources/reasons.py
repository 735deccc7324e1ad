"""Why a source says what it says at a bar: of each condition its figures and its two answers."""

from __future__ import annotations

import msgspec

from hawser.core.sources.conditions.base import Figure, Part
from hawser.core.sources.conditions.declared import AnyCondition
from hawser.core.sources.evaluation import Evaluation
from hawser.core.sources.said import condition_said


class BarReason(msgspec.Struct, frozen=True):
    """One condition at one bar. `long` and `short`: what it answers; in words when it would say
    so."""

    part: Part
    place: str
    condition: AnyCondition
    figures: tuple[Figure, ...]
    long: bool
    short: bool

    def says(self, side: int) -> bool:
        return self.long if side > 0 else self.short

    def when(self, side: int) -> str:
        """In words when it says long, +1, or short, -1."""
        return condition_said(self.condition, side)


def reasons(evaluation: Evaluation, bar: int) -> list[BarReason]:
    """Of every condition at a bar that has been seen, in the order of the source."""
    view = evaluation.view
    return [
        BarReason(
            one.part,
            one.place,
            one.condition,
            figures=tuple(one.condition.figures(view, one.place, bar)),
            long=bool(one.longs[bar]),
            short=bool(one.shorts[bar]),
        )
        for one in evaluation.answers
    ]
