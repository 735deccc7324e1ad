"""Stop when the venue refuses too many orders."""

from __future__ import annotations

from typing import Annotated

from hawser.core import figures as fg
from hawser.core.clock import MINUTE
from hawser.core.field_help import help_text
from hawser.core.guards.counting.base import CountFigures, Facts, Switch, whole
from hawser.core.guards.memory import GuardMemory


class RejectSwitch(Switch, frozen=True, kw_only=True, tag="rejects"):
    KIND = "order rejects"
    SAYS = "stop when the venue refuses too many orders"
    FIRST = {"most": 10}
    LOOSER = {"most": 1, "window_min": -1}

    most: Annotated[
        int, help_text("orders refused by the venue within the window", "orders", example="10")
    ]
    window_min: Annotated[float, help_text("the window", "min")] = 10.0

    def check(self) -> None:
        super().check()
        self.need_some("most", "window_min")

    @property
    def _window(self) -> int:
        return round(self.window_min * MINUTE)

    def order_refused(self, memory: GuardMemory, now: int, text: str) -> str:
        count = memory.one_more(now, self._window)
        if count < self.most:
            return ""
        orders = fg.counted(count, "order")
        return f"{orders} refused within {self.window_min:g} min, the last: {text}"

    def figures(self, memory: GuardMemory, facts: Facts) -> CountFigures:
        used = len(memory.within(facts.now, self._window))
        return CountFigures(used, 0, self.most, whole, f"orders refused in {self.window_min:g} min")
