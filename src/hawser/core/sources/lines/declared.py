"""The kinds of lines that there are. A new one is a class of its own, listed here."""

from __future__ import annotations

from typing import Literal

from hawser.core.sources.lines.averages import BandLower, BandUpper, Ema, Sma
from hawser.core.sources.lines.base import Line
from hawser.core.sources.lines.extremes import ChannelHigh, ChannelLow, HighestClose, LowestClose
from hawser.core.sources.lines.prices import Close, High, Low, Open
from hawser.core.sources.lines.ranges import Atr, Rsi
from hawser.core.sources.lines.trends import Parabolic, Supertrend
from hawser.core.sources.lines.volume import Volume

Drawn = (
    Sma
    | Ema
    | Rsi
    | Atr
    | ChannelHigh
    | ChannelLow
    | HighestClose
    | LowestClose
    | BandUpper
    | BandLower
    | Supertrend
    | Parabolic
)
AnyLine = Drawn | Open | High | Low | Close
Price = Literal["open", "high", "low", "close"]
Operand = float | Price | AnyLine  # what two sides of a comparison may be

PRICES: dict[str, type[Line]] = {"open": Open, "high": High, "low": Low, "close": Close}
# what a chart shows and no source looks at
SHOWN: dict[str, type[Line]] = {"volume": Volume}
KINDS: dict[str, type[Line]] = {str(kind.__struct_config__.tag): kind for kind in Drawn.__args__}


def line_of(operand: Operand) -> Line | float:
    """An operand as a line or a number."""
    return PRICES[operand]() if isinstance(operand, str) else operand
