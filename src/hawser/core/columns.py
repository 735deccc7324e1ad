"""Indicator columns of a history for one rig: what a stop stands on, and what a trail follows."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from hawser.core.bars import Bars, joined, last_ended
from hawser.core.clock import TIMEFRAMES
from hawser.core.indicators import Array, atr, ema, highest, lowest, sma
from hawser.core.levels import LineRule, StopRule
from hawser.core.rig import Trail
from hawser.core.stop_lines import parabolic, pivots, supertrend


def line_column(line: LineRule, bars: Bars, side: int, simple: bool) -> Array:
    """An indicator line as known at each bar's close, price units; a parabolic stop's is that for
    the next bar."""
    if line.kind in ("sma", "ema"):
        return (sma if line.kind == "sma" else ema)(bars.close, line.length)
    if line.kind == "supertrend":
        return supertrend(
            bars.high,
            bars.low,
            close=bars.close,
            length=line.length,
            factor=float(line.factor or 0.0),
            simple=simple,
        )
    if line.kind == "parabolic":
        return parabolic(bars.high, bars.low, bars.close, float(line.step), float(line.ceiling))[1]
    return extreme_column(bars, line.length, side)


def extreme_column(bars: Bars, length: int, side: int) -> Array:
    """The lowest low (long) or highest high of the last `length` bars."""
    return lowest(bars.low, length) if side > 0 else highest(bars.high, length)


def stop_column(rule: StopRule, bars: Bars, side: int, simple: bool) -> Array:
    """What a stop taken from bars stands on at each bar's close."""
    if rule.bars is not None:
        return extreme_column(bars, rule.bars, side)
    if rule.pivot is not None:
        return pivots(bars.low if side > 0 else bars.high, rule.pivot[0], rule.pivot[1], side)
    assert rule.line is not None  # the only kind left that is taken from bars
    return line_column(rule.line, bars, side, simple)


def trail_values(trail: Trail, bars: Bars, side: int, simple: bool) -> Array:
    """What a trail by bars or a line follows, at each of the bars it is taken from."""
    if trail.bars is not None:
        return extreme_column(bars, trail.bars, side)
    assert trail.line is not None  # the only other kind with a column
    return line_column(trail.line, bars, side, simple)


def trail_column(trail: Trail, bars: Bars, fine: Bars, side: int, simple: bool, span: int) -> Array:
    """What a trail by bars or a line follows at the close of each of `bars`, on their timeframe or
    a coarser one, which is joined of `fine`, the bars that they are made of."""
    coarse, wide = bars, 0
    if trail.timeframe is not None and TIMEFRAMES[trail.timeframe] > span:
        wide = TIMEFRAMES[trail.timeframe]
        coarse = joined(fine, wide)
    values = trail_values(trail, coarse, side, simple)
    if not wide:
        return values
    return known_at_closes(values, coarse.time, wide, bars.time + span)


def known_at_closes(values: Array, opened: Array, length: int, closes: Array) -> Array:
    """Of values known at the end of bars that open at `opened` and are `length` long, the last
    known at each of `closes`; NaN before the first. Times ns."""
    if not values.size:
        return np.full(closes.size, np.nan)
    done = last_ended(opened, length, closes)
    return np.where(done >= 0, values[np.maximum(done, 0)], np.nan)


def atr_column(bars: Bars, length: int, simple: bool) -> Array:
    """The ATR at each bar's close, price units."""
    return atr(bars.high, bars.low, bars.close, length, simple)


def pair_rates(times: Array, pair: Bars, inverse: bool, before: Callable[[], float]) -> Array:
    """A pair of currencies as a rate at each of `times` (UTC ns): the open of its bar of that very
    opening, else the close of its last bar before; `before` its first bar what that gives. Its bid
    is taken for the mid; `inverse`: it is written the other way round."""
    at = np.searchsorted(pair.time, times, side="right") - 1
    last = np.maximum(at, 0)
    found = np.where(pair.time[last] == times, pair.open[last], pair.close[last])
    if inverse:
        found = 1.0 / found
    if (at < 0).any():
        found[at < 0] = before()
    return found
