"""What a kind of condition is: its keys, and its two answers at every bar."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import msgspec
import numpy as np

from hawser.core.field_help import help_text
from hawser.core.indicators import Array
from hawser.core.sources.lines.base import Line
from hawser.core.sources.view import View

Part = Literal["enter", "only", "leave"]
PARTS: tuple[Part, ...] = ("enter", "only", "leave")


class Condition(
    msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, tag_field="kind"
):
    """A condition of one kind, as a file declares it."""

    SIDED: ClassVar[bool] = True  # whether long and short may get two answers
    WAITS: ClassVar[bool] = False  # whether its answer at a bar waits for the bar that follows

    against: Annotated[bool, help_text("whether the two answers are swapped", "")] = False
    either: Annotated[bool, help_text("whether the answer for long holds for both sides", "")] = (
        False
    )

    def sides(self) -> dict[str, Line | float]:
        """What it looks at: by the key, a line or a number."""
        return {}

    @property
    def one_sided(self) -> bool:
        """Whether long and short always get one answer."""
        return self.either or not self.SIDED

    def may_say(self, side: int) -> bool:
        """Whether it can ever hold for a side, +1 or -1, as far as its keys tell."""
        asked = 1 if self.either else side
        return self.may_hold(-asked if self.against else asked)

    def may_hold(self, side: int) -> bool:
        """The same before `against` and `either`."""
        return True

    def state(self) -> Array:
        """What it carries from bar to bar."""
        return np.zeros(0, np.int64)

    def answer(
        self, view: View, place: str, longs: Array, shorts: Array, first: int, carried: Array
    ) -> None:
        """Fill the two answers, bool, from bar `first` to the last that is seen. `place`: where the
        condition stands in its source."""
        raise NotImplementedError
