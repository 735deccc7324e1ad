"""Stop when too many orders leave at once."""

from __future__ import annotations

from typing import Annotated

from hawser.core import figures as fg
from hawser.core.clock import SECOND
from hawser.core.field_help import help_text
from hawser.core.guards.counting.base import CountFigures, Facts, Switch, whole
from hawser.core.guards.memory import GuardMemory


class RateSwitch(Switch, frozen=True, kw_only=True, tag="order_rate"):
    KIND = "order rate"
    SAYS = "stop when too many orders leave at once"
    FIRST = {"most": 50}
    LOOSER = {"most": 1, "window_s": -1}

    most: Annotated[int, help_text("new orders within the window", "orders", example="50")]
    window_s: Annotated[float, help_text("the window", "s")] = 10.0

    def check(self) -> None:
        super().check()
        self.need_some("most", "window_s")

    @property
    def _window(self) -> int:
        return round(self.window_s * SECOND)

    def order_sent(self, memory: GuardMemory, now: int, entry: bool) -> str:
        count = memory.one_more(now, self._window)
        if count <= self.most:
            return ""
        return f"{fg.counted(count, 'new order')} within {self.window_s:g} s"

    def figures(self, memory: GuardMemory, facts: Facts) -> CountFigures:
        used = len(memory.within(facts.now, self._window))
        return CountFigures(used, 0, self.most, whole, f"new orders in {self.window_s:g} s")
