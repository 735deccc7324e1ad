"""Stop at a fill far worse than expected."""

from __future__ import annotations

from typing import Annotated

from hawser.core.field_help import help_text
from hawser.core.guards.counting.base import CountFigures, Facts, Switch
from hawser.core.guards.memory import GuardMemory


class SlippageSwitch(Switch, frozen=True, kw_only=True, tag="slippage"):
    KIND = "slippage"
    SAYS = "stop at a fill far worse than expected"
    FIRST = {"ticks": 50.0}
    LOOSER = {"ticks": 1}

    ticks: Annotated[
        float,
        help_text(
            "a fill that is worse than expected by more than this",
            "ticks",
            name="Slippage",
            example="50",
        ),
    ]

    def order_filled(self, role: str, worse: int) -> str:
        if worse <= self.ticks:
            return ""
        return f"the {role} order filled {worse} t worse than expected, at most {self.ticks:g} t"

    def figures(self, memory: GuardMemory, facts: Facts) -> CountFigures:
        in_ticks = lambda value: f"{value:g} t"  # noqa: E731
        return CountFigures(0, 0, self.ticks, in_ticks, "a fill worse than expected")
