"""The highest and lowest of the last bars, this one included: of highs and lows, or of closes."""

from __future__ import annotations

from typing import ClassVar

from hawser.core.bars import Bars
from hawser.core.indicators import Array, extremes_on
from hawser.core.sources.lines.base import FLOAT, PLACE, Base, Lengthy, Template


class Extreme(Lengthy, frozen=True, kw_only=True):
    """An extreme of one column of the bars."""

    SAYS: ClassVar[Template] = ("of {length} bars",)
    COLUMNS: ClassVar[tuple[type, ...]] = (FLOAT, PLACE)
    CARRIED: ClassVar[int] = 2
    COLUMN: ClassVar[str] = "close"
    SIGN: ClassVar[float] = 1.0

    def go_on(
        self, bars: Bars, columns: tuple[Array, ...], carried: Array, first: int, base: Base
    ) -> None:
        values: Array = getattr(bars, self.COLUMN)
        out, places = columns
        extremes_on(
            values, self.length, self.SIGN, out=out, places=places, carried=carried, first=first
        )


class ChannelHigh(Extreme, frozen=True, kw_only=True, tag="channel_high"):
    """The highest high."""

    NAME: ClassVar[str] = "highest high"
    COLUMN: ClassVar[str] = "high"


class ChannelLow(Extreme, frozen=True, kw_only=True, tag="channel_low"):
    """The lowest low."""

    NAME: ClassVar[str] = "lowest low"
    COLUMN: ClassVar[str] = "low"
    SIGN: ClassVar[float] = -1.0


class HighestClose(Extreme, frozen=True, kw_only=True, tag="highest_close"):
    """The highest close."""

    NAME: ClassVar[str] = "highest close"


class LowestClose(Extreme, frozen=True, kw_only=True, tag="lowest_close"):
    """The lowest close."""

    NAME: ClassVar[str] = "lowest close"
    SIGN: ClassVar[float] = -1.0
