"""Section 3 of the reckoning over plain lists, slowly: indicators in ticks, None until there is a
value."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise
from typing import Any


@dataclass
class Bar:
    """In ticks, as traded (bid) or mirrored to one side's exit."""

    open: int
    high: int
    low: int
    close: int
    spread: int


def true_ranges(bars: list[Bar]) -> list[int]:
    found = [bars[0].high - bars[0].low]
    for before, bar in pairwise(bars):
        found.append(max(bar.high, before.close) - min(bar.low, before.close))
    return found


def atr(bars: list[Bar], n: int, smoothing: str) -> list[float | None]:
    ranges, found = true_ranges(bars), []
    for i in range(len(bars)):
        if i < n - 1:
            found.append(None)
        elif smoothing == "simple" or i == n - 1:
            found.append(sum(ranges[i - n + 1 : i + 1]) / n)
        else:
            found.append(found[-1] + (ranges[i] - found[-1]) / n)
    return found


def sma(values: list[int], n: int) -> list[float | None]:
    return [sum(values[i - n + 1 : i + 1]) / n if i >= n - 1 else None for i in range(len(values))]


def ema(values: list[int], n: int) -> list[float | None]:
    found = sma(values, n)
    for i in range(n, len(values)):
        found[i] = found[i - 1] + 2 / (n + 1) * (values[i] - found[i - 1])
    return found


def supertrend(bars: list[Bar], n: int, k: float, smoothing: str) -> list[float | None]:
    ranges, found = atr(bars, n, smoothing), []
    upper = lower = None
    trend = -1
    for i, (bar, width) in enumerate(zip(bars, ranges, strict=True)):
        if width is None:
            found.append(None)
            continue
        middle = (bar.high + bar.low) / 2
        basic_upper, basic_lower = middle + k * width, middle - k * width
        if upper is None:
            upper, lower = basic_upper, basic_lower
        else:
            before = bars[i - 1].close
            upper = basic_upper if basic_upper < upper or before > upper else upper
            lower = basic_lower if basic_lower > lower or before < lower else lower
            trend = 1 if bar.close > upper else -1 if bar.close < lower else trend
        found.append(lower if trend > 0 else upper)
    return found


def parabolic(bars: list[Bar], step: float, ceiling: float) -> list[float | None]:
    """The SAR of the next bar, which is what a stop set at a bar's close uses."""
    found: list[float | None] = [None] * min(1, len(bars))
    if len(bars) < 2:
        return found
    up = bars[1].close >= bars[0].close
    sar: float = bars[0].low if up else bars[0].high
    best = max(bars[0].high, bars[1].high) if up else min(bars[0].low, bars[1].low)
    factor = step
    for i in range(1, len(bars)):
        bar = bars[i]
        if i > 1:
            if (bar.low <= sar) if up else (bar.high >= sar):
                last = bars[i - 1 : i + 1]
                sar = (
                    min(best, *(b.low for b in last))
                    if not up
                    else max(best, *(b.high for b in last))
                )
                up, factor = not up, step
                best = bar.high if up else bar.low
            elif (bar.high > best) if up else (bar.low < best):
                best, factor = bar.high if up else bar.low, min(ceiling, factor + step)
        two = bars[i - 1 : i + 1]
        sar = sar + factor * (best - sar)
        sar = min(sar, *(b.low for b in two)) if up else max(sar, *(b.high for b in two))
        found.append(sar)
    return found


def line(rule: dict[str, Any], bars: list[Bar], side: int, smoothing: str) -> list[float | None]:
    kind, n, closes = rule["kind"], rule.get("length", 14), [bar.close for bar in bars]
    if kind == "sma":
        return sma(closes, n)
    if kind == "ema":
        return ema(closes, n)
    if kind == "supertrend":
        return supertrend(bars, n, rule["factor"], smoothing)
    if kind == "parabolic":
        return parabolic(bars, rule.get("step", 0.02), rule.get("ceiling", 0.2))
    return extremes(bars, n, side)


def extremes(bars: list[Bar], n: int, side: int) -> list[float | None]:
    """Lowest low of n for a long, highest high for a short."""
    found: list[float | None] = []
    for i in range(len(bars)):
        part = bars[i - n + 1 : i + 1]
        found.append(
            None
            if i < n - 1
            else min(b.low for b in part)
            if side > 0
            else max(b.high for b in part)
        )
    return found


def pivots(bars: list[Bar], left: int, right: int, side: int) -> list[float | None]:
    """The last pivot known at each bar: lows for a long, highs for a short."""
    values, found = [bar.low if side > 0 else -bar.high for bar in bars], []
    last = None
    for i in range(len(bars)):
        j = i - right
        if j - left >= 0:
            beside = values[j - left : j] + values[j + 1 : i + 1]
            if all(values[j] < other for other in beside):
                last = side * values[j]
        found.append(last)
    return found
