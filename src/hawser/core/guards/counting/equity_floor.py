"""Stop when equity is down to a sum."""

from __future__ import annotations

from typing import Annotated

from hawser.core import figures as fg
from hawser.core.field_help import help_text
from hawser.core.guards.counting.base import (
    PERIOD_WORDS,
    CountFigures,
    Facts,
    Period,
    RehearsedLimits,
    Switch,
)
from hawser.core.guards.limits import FLOOR, at_floor
from hawser.core.guards.memory import GuardMemory


class FloorSwitch(Switch, frozen=True, kw_only=True, tag="equity_floor"):
    KIND = "equity floor"
    SAYS = "stop when equity is down to a sum"
    FIRST = {"money": 1.0, "then": ("flatten",)}
    LOOSER = {"money": -1}
    BY_EQUITY, REHEARSED = True, FLOOR

    period: Annotated[Period, help_text("how long it stays latched", words=PERIOD_WORDS)] = "none"
    money: Annotated[
        float, help_text("equity at or below it", "money", name="Floor", example="52000")
    ]

    def check(self) -> None:
        super().check()
        if self.per != "account":
            raise self.wrong("per", "account")

    def reached(self, memory: GuardMemory, facts: Facts) -> str:
        if not at_floor(facts.equity, self.money):
            return ""
        floor = fg.money(self.money, facts.currency)
        return f"equity {fg.money(facts.equity, facts.currency)} is at the floor of {floor}"

    def not_rearmed(self, facts: Facts) -> str:
        if not facts.equity <= self.money:
            return ""
        return f"Equity is still at or below the floor of {fg.money(self.money, facts.currency)}"

    def figures(self, memory: GuardMemory, facts: Facts) -> CountFigures:
        room, currency = max(1.0, memory.high - self.money), facts.currency
        used = max(0.0, memory.high - facts.equity)
        of = f"equity above {fg.money(self.money, currency)}, its highest less the floor"
        in_money = lambda value: fg.money(value, currency)  # noqa: E731
        return CountFigures(used, facts.at_stake(), room, in_money, of)

    def rehearsed(self) -> RehearsedLimits:
        return RehearsedLimits(money=self.money)
