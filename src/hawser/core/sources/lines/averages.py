"""Averages of closes: plain and exponential, and bands around the plain one."""

from __future__ import annotations

from typing import Annotated, ClassVar

from hawser.core.bars import Bars
from hawser.core.errors import BadInput
from hawser.core.field_help import help_text
from hawser.core.indicators import Array, apart_on, deviations_on, ema_on, sma_on
from hawser.core.numbers import MOST
from hawser.core.sources.lines.base import FLOAT, Base, Lengthy, Template


class Sma(Lengthy, frozen=True, kw_only=True, tag="sma"):
    """The mean of the last closes."""

    NAME: ClassVar[str] = "simple average"
    SAYS: ClassVar[Template] = ("of {length} closes",)
    CARRIED: ClassVar[int] = 2

    def go_on(
        self, bars: Bars, columns: tuple[Array, ...], carried: Array, first: int, base: Base
    ) -> None:
        sma_on(bars.close, self.length, columns[0], carried, first)


class Ema(Lengthy, frozen=True, kw_only=True, tag="ema"):
    """A mean of closes in which the last ones count most."""

    NAME: ClassVar[str] = "exponential average"
    SAYS: ClassVar[Template] = ("of {length} closes",)

    def go_on(
        self, bars: Bars, columns: tuple[Array, ...], carried: Array, first: int, base: Base
    ) -> None:
        ema_on(bars.close, self.length, columns[0], first)


class Deviations(Lengthy, frozen=True, kw_only=True, tag="deviations"):
    """The mean of the last closes, and behind it their population standard deviation: what both
    bands are made of."""

    COLUMNS: ClassVar[tuple[type, ...]] = (FLOAT, FLOAT)

    def go_on(
        self, bars: Bars, columns: tuple[Array, ...], carried: Array, first: int, base: Base
    ) -> None:
        deviations_on(bars.close, self.length, columns[0], columns[1], first)


class Band(Lengthy, frozen=True, kw_only=True):
    """So many standard deviations of the last closes from their mean."""

    SAYS: ClassVar[Template] = ("of {length} closes and {factor} deviations",)
    SIDE: ClassVar[float] = 1.0

    factor: Annotated[float, help_text("how many standard deviations", "")]

    def __post_init__(self) -> None:
        super().__post_init__()
        if not 0 < self.factor <= MOST:
            raise BadInput.at("bad_line", "factor", "a band expects a positive number")

    @property
    def made_of(self) -> Deviations:
        return Deviations(length=self.length, timeframe=self.timeframe, instrument=self.instrument)

    def go_on(
        self, bars: Bars, columns: tuple[Array, ...], carried: Array, first: int, base: Base
    ) -> None:
        means, deviations = base
        apart_on(means, deviations, self.SIDE * float(self.factor), columns[0], first)


class BandUpper(Band, frozen=True, kw_only=True, tag="band_upper"):
    """The band above the mean."""

    NAME: ClassVar[str] = "upper band"


class BandLower(Band, frozen=True, kw_only=True, tag="band_lower"):
    """The band below the mean."""

    NAME: ClassVar[str] = "lower band"
    SIDE: ClassVar[float] = -1.0
