"""Stop at a day's or week's loss."""

from __future__ import annotations

from typing import Annotated

from hawser.core import figures as fg
from hawser.core.field_help import help_text
from hawser.core.guards.counting.base import (
    CountFigures,
    EndedTrade,
    Facts,
    RehearsedLimits,
    Stop,
    Switch,
    limit_of,
    money_figures,
)
from hawser.core.guards.limits import LOSS, lost
from hawser.core.guards.memory import GuardMemory


class LossSwitch(Switch, frozen=True, kw_only=True, tag="loss"):
    KIND = "loss"
    SAYS = "stop at a day's or week's loss"
    FIRST = {"percent": 2.0, "then": ("flatten",)}
    LOOSER = {"percent": 1, "money": 1}
    BY_RESULT, REHEARSED = True, LOSS

    percent: Annotated[
        float | None,
        help_text("loss since the period's start", "% of equity then", name="Loss", example="2.5"),
    ] = None
    money: Annotated[
        float | None,
        help_text(
            "the same in money; one of the two is enough",
            "money",
            name="Loss in money",
            example="1500",
        ),
    ] = None

    def check(self) -> None:
        super().check()
        self.need("percent", "money")
        if self.period == "none":
            raise self.wrong("period", "day or week")

    def trade_ended(self, memory: GuardMemory, now: int, trade: EndedTrade) -> Stop | None:
        memory.won += trade.since
        return None

    def reached(self, memory: GuardMemory, facts: Facts) -> str:
        result = facts.result()
        percent, money = limit_of(self.percent), limit_of(self.money)
        if not lost(memory.base, memory.base + result, percent, money):
            return ""
        part = fg.percent(-100.0 * result / memory.base, 2) if memory.base else ""
        loss = fg.money(result, facts.currency)
        return f"{loss} this {self.period}, {part} of its first equity"

    def figures(self, memory: GuardMemory, facts: Facts) -> CountFigures:
        loss, of = max(0.0, -facts.result()), f"loss this {self.period}, {facts.whose}"
        return money_figures(
            facts, loss, base=memory.base, percent=self.percent, money=self.money, of=of
        )

    def rehearsed(self) -> RehearsedLimits:
        return RehearsedLimits(percent=limit_of(self.percent), money=limit_of(self.money))
