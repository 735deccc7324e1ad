"""Where a stop that is taken from completed bars stands before offset and rounding (reckoning section 4)."""

from __future__ import annotations

import math

from hawser.core.bars import Bars
from hawser.core.indicators import ema, sma
from hawser.core.plan import LineRule, StopRule
from hawser.core.stop_lines import parabolic, pivots, supertrend


def basis(rule: StopRule, bars: Bars, side: int, simple: bool = False) -> float:
    """The level, in price units, on the last of the completed `bars`; NaN where it has no value yet.

    Long stops stand on lows, short ones on highs. `simple` is the smoothing of every ATR (False: Wilder's).
    """
    extremes = bars.low if side > 0 else bars.high
    if rule.bars is not None:
        if bars.time.size < rule.bars:
            return math.nan
        last = extremes[-rule.bars :]
        return float(last.min() if side > 0 else last.max())
    if not bars.time.size:
        return math.nan
    if rule.pivot is not None:
        return float(pivots(extremes, rule.pivot[0], rule.pivot[1], side)[-1])
    assert rule.line is not None  # the only kind left that is taken from bars
    return line_value(rule.line, bars, side, simple)


def line_value(line: LineRule, bars: Bars, side: int, simple: bool = False) -> float:
    """An indicator line on the last completed bar; a parabolic stop's value is the one for the next bar."""
    if line.kind in ("sma", "ema"):
        return float((sma if line.kind == "sma" else ema)(bars.close, line.length)[-1])
    if line.kind == "supertrend":
        factor = float(line.factor or 0.0)
        return float(supertrend(bars.high, bars.low, bars.close, line.length, factor, simple)[-1])
    if line.kind == "parabolic":
        return float(parabolic(bars.high, bars.low, bars.close, float(line.step), float(line.ceiling))[1][-1])
    return basis(StopRule(bars=line.length), bars, side)
