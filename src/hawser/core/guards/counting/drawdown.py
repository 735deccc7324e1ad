"""Stop at a fall from the highest equity."""

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
    limit_of,
    money_figures,
)
from hawser.core.guards.limits import DRAWDOWN, lost
from hawser.core.guards.memory import GuardMemory


class DrawdownSwitch(Switch, frozen=True, kw_only=True, tag="drawdown"):
    KIND = "drawdown"
    SAYS = "stop at a fall from the highest equity"
    FIRST = {"percent": 8.0, "then": ("flatten",)}
    LOOSER = {"percent": 1, "money": 1}
    BY_EQUITY, BY_HIGH, REHEARSED = True, True, DRAWDOWN

    period: Annotated[Period, help_text("how long it stays latched", words=PERIOD_WORDS)] = "none"
    percent: Annotated[
        float | None, help_text("fall from the highest equity", "% of it", name="Fall", example="8")
    ] = None
    money: Annotated[
        float | None,
        help_text(
            "the same in money; one of the two is enough",
            "money",
            name="Fall in money",
            example="5000",
        ),
    ] = None

    def check(self) -> None:
        super().check()
        self.need("percent", "money")
        if self.per != "account":
            raise self.wrong("per", "account: the highest equity is the account's")

    def reached(self, memory: GuardMemory, facts: Facts) -> str:
        if not lost(memory.high, facts.equity, limit_of(self.percent), limit_of(self.money)):
            return ""
        fall = fg.percent(100.0 * (1.0 - facts.equity / memory.high), 2)
        return f"equity {fg.money(facts.equity, facts.currency)} is {fall} below its highest"

    def figures(self, memory: GuardMemory, facts: Facts) -> CountFigures:
        fall, of = max(0.0, memory.high - facts.equity), f"fall from its highest, {facts.whose}"
        return money_figures(
            facts, fall, base=memory.high, percent=self.percent, money=self.money, of=of
        )

    def rehearsed(self) -> RehearsedLimits:
        return RehearsedLimits(percent=limit_of(self.percent), money=limit_of(self.money))
