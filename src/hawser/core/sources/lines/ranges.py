"""How far prices go: the ATR, and relative strength."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from hawser.core.bars import Bars
from hawser.core.field_help import help_text
from hawser.core.indicators import Array, atr_on, rsi_on
from hawser.core.sources.lines.base import FLOAT, Base, Lengthy, Scale, Template

Smoothing = Annotated[
    Literal["wilder", "simple"],
    help_text(
        "how its ranges are averaged", "", words={"wilder": "Wilder's", "simple": "plain mean"}
    ),
]


class Atr(Lengthy, frozen=True, kw_only=True, tag="atr"):
    """The average true range."""

    NAME: ClassVar[str] = "ATR"
    SAYS: ClassVar[Template] = ("of {length} bars", "({smoothing})")
    SCALE: ClassVar[Scale] = "range"
    COLUMNS: ClassVar[tuple[type, ...]] = (FLOAT, FLOAT)
    CARRIED: ClassVar[int] = 2

    smoothing: Smoothing = "wilder"

    def go_on(
        self, bars: Bars, columns: tuple[Array, ...], carried: Array, first: int, base: Base
    ) -> None:
        atr_on(
            bars.high,
            bars.low,
            bars.close,
            self.length,
            self.smoothing == "simple",
            ranges=columns[1],
            out=columns[0],
            carried=carried,
            first=first,
        )


class Rsi(Lengthy, frozen=True, kw_only=True, tag="rsi"):
    """Relative strength, from 0 to 100."""

    NAME: ClassVar[str] = "RSI"
    SAYS: ClassVar[Template] = ("of {length} bars",)
    SCALE: ClassVar[Scale] = "strength"
    CARRIED: ClassVar[int] = 2

    @property
    def needs(self) -> int:
        return self.length + 1

    def go_on(
        self, bars: Bars, columns: tuple[Array, ...], carried: Array, first: int, base: Base
    ) -> None:
        rsi_on(bars.close, self.length, columns[0], carried, first)
