"""So many entries a day or week."""

from __future__ import annotations

from typing import Annotated, Literal

from hawser.core import figures as fg
from hawser.core.field_help import help_text
from hawser.core.guards.context import Closed
from hawser.core.guards.counting.base import Counted, CountFigures, Facts, RehearsedLimits, whole
from hawser.core.guards.limits import COUNT, full
from hawser.core.guards.memory import GuardMemory


class CountGuard(Counted, frozen=True, kw_only=True, tag="trade_count"):
    KIND = "trade count"
    SAYS = "so many entries a day or week"
    FIRST = {"most": 10}
    LOOSER = {"most": 1}
    REHEARSED = COUNT

    most: Annotated[int, help_text("entries in a period", "trades", example="10")]
    period: Annotated[
        Literal["day", "week"],
        help_text("the period in which they are counted", words={"day": "a day", "week": "a week"}),
    ] = "day"

    def order_sent(self, memory: GuardMemory, now: int, entry: bool) -> str:
        memory.count += int(entry)
        return ""

    def period_begins(self, memory: GuardMemory) -> None:
        memory.count = 0

    def spent(self, memory: GuardMemory, now: int) -> Closed | None:
        if now >= memory.end or not full(memory.count, self.most):
            return None
        text = (
            f"{self.name}: {fg.counted(memory.count, 'entry', 'entries')} this {self.period}, "
            f"at most {self.most}"
        )
        return Closed("trade_count", text, memory.end, self.name)

    def figures(self, memory: GuardMemory, facts: Facts) -> CountFigures:
        count = memory.count if facts.now < memory.end else 0
        return CountFigures(count, 0, self.most, whole, f"entries this {self.period}")

    def rehearsed(self) -> RehearsedLimits:
        return RehearsedLimits(most=self.most)
