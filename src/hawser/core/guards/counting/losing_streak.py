"""Stop after so many losing trades in a row."""

from __future__ import annotations

from typing import Annotated

from hawser.core.field_help import help_text
from hawser.core.guards.counting.base import (
    CountFigures,
    EndedTrade,
    Facts,
    RehearsedLimits,
    Stop,
    Switch,
    whole,
)
from hawser.core.guards.limits import STREAK, full, losses_in_a_row
from hawser.core.guards.memory import GuardMemory


class StreakSwitch(Switch, frozen=True, kw_only=True, tag="losing_streak"):
    KIND = "losing streak"
    SAYS = "stop after so many losing trades in a row"
    FIRST = {"losses": 5}
    LOOSER = {"losses": 1}
    REHEARSED = STREAK

    losses: Annotated[
        int, help_text("losing trades in a row", "trades", name="Losses in a row", example="5")
    ]

    def check(self) -> None:
        super().check()
        self.need_some("losses")

    def trade_ended(self, memory: GuardMemory, now: int, trade: EndedTrade) -> Stop | None:
        memory.count = int(losses_in_a_row(memory.count, trade.net))
        if not full(memory.count, self.losses):
            return None
        return Stop(f"{memory.count} losing trades in a row")

    def figures(self, memory: GuardMemory, facts: Facts) -> CountFigures:
        of = "losing trades in a row"
        return CountFigures(memory.count, facts.open_trades(), self.losses, whole, of)

    def rehearsed(self) -> RehearsedLimits:
        return RehearsedLimits(most=self.losses)
