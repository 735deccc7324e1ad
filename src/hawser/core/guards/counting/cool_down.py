"""No entry for a while after a loss."""

from __future__ import annotations

from typing import Annotated

from hawser.core import figures as fg
from hawser.core.clock import MINUTE
from hawser.core.field_help import help_text
from hawser.core.guards.counting.base import (
    Counted,
    CountFigures,
    EndedTrade,
    Facts,
    RehearsedLimits,
    Stop,
)
from hawser.core.guards.limits import COOL_DOWN, cools
from hawser.core.guards.memory import GuardMemory


class CoolDownGuard(Counted, frozen=True, kw_only=True, tag="cool_down"):
    KIND = "cool-down"
    SAYS = "no entry for a while after a loss"
    FIRST = {"minutes": 30.0}
    LOOSER = {"minutes": -1, "from_r": 1}
    REHEARSED = COOL_DOWN

    minutes: Annotated[
        float, help_text("stay closed this long after a loss", "min", name="Pause", example="30")
    ]
    from_r: Annotated[
        float, help_text("the smallest loss that counts", "R", name="Smallest loss", example="0.9")
    ] = 0.0

    def check(self) -> None:
        self.need_some("minutes")

    def trade_ended(self, memory: GuardMemory, now: int, trade: EndedTrade) -> Stop | None:
        if not cools(trade.net, trade.r, self.from_r):
            return None
        return Stop(f"{trade.symbol} ended at {fg.r(trade.r)}", now + self._pause)

    @property
    def _pause(self) -> int:
        return round(self.minutes * MINUTE)

    def figures(self, memory: GuardMemory, facts: Facts) -> CountFigures:
        left = max(0, memory.until - facts.now) / MINUTE
        of = f"after a loss of {self.from_r:g} R or more" if self.from_r else "after a loss"
        return CountFigures(left, 0, self.minutes, lambda value: f"{value:.0f} min", of)

    def rehearsed(self) -> RehearsedLimits:
        return RehearsedLimits(percent=self.from_r, pause=self._pause)
