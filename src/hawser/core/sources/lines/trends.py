"""Lines with a direction: the supertrend and the parabolic stop."""

from __future__ import annotations

from typing import Annotated, ClassVar

from hawser.core.bars import Bars
from hawser.core.errors import BadInput
from hawser.core.field_help import help_text
from hawser.core.indicators import Array
from hawser.core.numbers import MOST
from hawser.core.sources.lines.base import FLOAT, Base, Lengthy, Line, Template
from hawser.core.sources.lines.ranges import Smoothing
from hawser.core.stop_lines import parabolic_on, supertrend_on

STEP, CEILING = 0.02, 0.2


class Supertrend(Lengthy, frozen=True, kw_only=True, tag="supertrend"):
    """A band of the ATR that follows the market on one side."""

    NAME: ClassVar[str] = "supertrend"
    SAYS: ClassVar[Template] = ("of {length} bars and {factor} ATR", "({smoothing})")
    COLUMNS: ClassVar[tuple[type, ...]] = (FLOAT, FLOAT, FLOAT, FLOAT)
    CARRIED: ClassVar[int] = 5
    WAYS: ClassVar[int] = 1

    factor: Annotated[float, help_text("how many ATR from the middle of the bar", "")]
    smoothing: Smoothing = "wilder"

    def __post_init__(self) -> None:
        super().__post_init__()
        if not 0 < self.factor <= MOST:
            raise BadInput.at("bad_line", "factor", "a supertrend expects a positive number")

    def go_on(
        self, bars: Bars, columns: tuple[Array, ...], carried: Array, first: int, base: Base
    ) -> None:
        out, ways, atrs, ranges = columns
        supertrend_on(
            bars.high,
            bars.low,
            bars.close,
            length=self.length,
            factor=float(self.factor),
            simple=self.smoothing == "simple",
            ranges=ranges,
            atrs=atrs,
            out=out,
            ways=ways,
            carried=carried,
            first=first,
        )


class Parabolic(Line, frozen=True, kw_only=True, tag="parabolic"):
    """The parabolic stop that is in force during the bar."""

    NAME: ClassVar[str] = "parabolic stop"
    SAYS: ClassVar[Template] = ("", "from {step} a bar", "up to {ceiling}")
    COLUMNS: ClassVar[tuple[type, ...]] = (FLOAT, FLOAT, FLOAT)
    CARRIED: ClassVar[int] = 3
    WAYS: ClassVar[int] = 1

    step: Annotated[float, help_text("how fast it comes nearer, of the way to the extreme", "")] = (
        STEP
    )
    ceiling: (
        Annotated[float, help_text("the fastest that it comes nearer", "", example="0.2")] | None
    ) = None

    def __post_init__(self) -> None:
        super().__post_init__()
        if not 0 < self.step <= self.last_step <= 1:
            raise BadInput.at("bad_line", "step", "expected 0 < step <= ceiling <= 1")

    @property
    def last_step(self) -> float:
        return max(CEILING, self.step) if self.ceiling is None else self.ceiling

    @property
    def needs(self) -> int:
        return 2

    def go_on(
        self, bars: Bars, columns: tuple[Array, ...], carried: Array, first: int, base: Base
    ) -> None:
        out, ways, following = columns
        parabolic_on(
            bars.high,
            bars.low,
            bars.close,
            float(self.step),
            float(self.last_step),
            out=out,
            following=following,
            ways=ways,
            carried=carried,
            first=first,
        )
