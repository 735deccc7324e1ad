"""A second, slow reading of the reckoning's section 12: a bar at a time, each figure from the bars
before it, nothing kept. It shares no code with what is tested."""

from __future__ import annotations

import json
import math
from datetime import UTC, datetime
from itertools import pairwise
from statistics import fmean
from typing import Any
from zoneinfo import ZoneInfo

NS = 1_000_000_000
UNITS = {"m": 60, "h": 3600, "d": 86_400, "w": 604_800}
Bar = tuple[int, float, float, float, float]  # opens, open, high, low, close


def over(x: float, y: float) -> bool:
    return x - y > 1e-10 * max(abs(x), abs(y))


def joined(bars: list[Bar], span: int, begins: int) -> list[Bar]:
    groups: dict[int, list[Bar]] = {}
    for bar in bars:
        groups.setdefault(bar[0] - (bar[0] - begins) % span, []).append(bar)
    return [
        (start, of[0][1], max(b[2] for b in of), min(b[3] for b in of), of[-1][4])
        for start, of in sorted(groups.items())
    ]


def true_ranges(bars: list[Bar]) -> list[float]:
    found = []
    for i, (_, _, high, low, _) in enumerate(bars):
        before = bars[i - 1][4] if i else None
        found.append(
            high - low if before is None else max(high - low, abs(high - before), abs(low - before))
        )
    return found


def wilder(values: list[float], n: int) -> list[float | None]:
    found: list[float | None] = []
    for i, value in enumerate(values):
        if i < n - 1:
            found.append(None)
        elif i == n - 1:
            found.append(fmean(values[:n]))
        else:
            last = found[-1]
            assert last is not None
            found.append(last + (value - last) / n)
    return found


def atr(bars: list[Bar], n: int, smoothing: str) -> list[float | None]:
    ranges = true_ranges(bars)
    if smoothing == "simple":
        return [fmean(ranges[i - n + 1 : i + 1]) if i >= n - 1 else None for i in range(len(bars))]
    return wilder(ranges, n)


def supertrend(bars: list[Bar], line: dict[str, Any]) -> list[tuple[float, int] | None]:
    n = line.get("length", 14)
    ranges, found, held = atr(bars, n, line.get("smoothing", "wilder")), [], None
    for i, (_, _, high, low, close) in enumerate(bars):
        width = ranges[i]
        if width is None:
            found.append(None)
            continue
        up = (high + low) / 2 + line["factor"] * width
        down = (high + low) / 2 - line["factor"] * width
        way = -1
        if held is not None:
            last_up, last_down, way = held
            if not (up < last_up or bars[i - 1][4] > last_up):
                up = last_up
            if not (down > last_down or bars[i - 1][4] < last_down):
                down = last_down
            way = 1 if close > up else -1 if close < down else way
        held = (up, down, way)
        found.append((down if way > 0 else up, way))
    return found


def parabolic(bars: list[Bar], line: dict[str, Any]) -> list[tuple[float, int] | None]:
    step = line.get("step", 0.02)
    ceiling = line.get("ceiling", max(0.2, step))
    found: list[tuple[float, int] | None] = [None] * min(1, len(bars))
    if len(bars) < 2:
        return found
    side = 1 if bars[1][4] >= bars[0][4] else -1
    stop = bars[0][3] if side > 0 else bars[0][2]
    far = max(bars[0][2], bars[1][2]) if side > 0 else min(bars[0][3], bars[1][3])
    rate = step
    found.append((stop, side))
    for i in range(2, len(bars)):
        (_, _, high1, low1, _), (_, _, high2, low2, _), (_, _, high, low, _) = (
            bars[i - 1],
            bars[i - 2],
            bars[i],
        )
        stop += rate * (far - stop)
        stop = min(stop, low1, low2) if side > 0 else max(stop, high1, high2)
        if (low <= stop) if side > 0 else (high >= stop):
            side, stop, rate = -side, far, step
            stop = min(stop, low, low1) if side > 0 else max(stop, high, high1)
            far = high if side > 0 else low
        elif (high > far) if side > 0 else (low < far):
            far, rate = high if side > 0 else low, min(rate + step, ceiling)
        found.append((stop, side))
    return found


def ema(closes: list[float], n: int) -> list[float | None]:
    found: list[float | None] = []
    for i, close in enumerate(closes):
        if i < n - 1:
            found.append(None)
        elif i == n - 1:
            found.append(fmean(closes[:n]))
        else:
            last = found[-1]
            assert last is not None
            found.append(last + 2 / (n + 1) * (close - last))
    return found


def rsi(closes: list[float], n: int) -> list[float | None]:
    moves = [after - before for before, after in pairwise(closes)]
    gains, losses = (wilder([max(sign * move, 0.0) for move in moves], n) for sign in (1, -1))
    found: list[float | None] = [None]
    for gain, loss in zip(gains, losses, strict=True):
        if gain is None or loss is None:
            found.append(None)
        elif loss == 0:
            found.append(50.0 if gain == 0 else 100.0)
        else:
            found.append(100 * gain / (gain + loss))
    return found[: len(closes)]


def series(line: dict[str, Any], bars: list[Bar]) -> list[float | None]:
    """A line over its own bars."""
    kind, n = line["kind"], line.get("length", 14)
    closes = [bar[4] for bar in bars]
    at = {"open": 1, "high": 2, "low": 3, "close": 4}
    if kind in at:
        return [bar[at[kind]] for bar in bars]
    if kind == "supertrend":
        return [one and one[0] for one in supertrend(bars, line)]
    if kind == "parabolic":
        return [one and one[0] for one in parabolic(bars, line)]
    if kind == "atr":
        return atr(bars, n, line.get("smoothing", "wilder"))
    if kind == "ema":
        return ema(closes, n)
    if kind == "rsi":
        return rsi(closes, n)
    of = {"channel_high": (2, max), "channel_low": (3, min)}
    of |= {"highest_close": (4, max), "lowest_close": (4, min)}
    found: list[float | None] = []
    for i in range(len(bars)):
        window = bars[i - n + 1 : i + 1]
        if i < n - 1:
            found.append(None)
        elif kind in of:
            column, extreme = of[kind]
            found.append(extreme(bar[column] for bar in window))
        else:
            mean = fmean(bar[4] for bar in window)
            deviation = math.sqrt(fmean((bar[4] - mean) ** 2 for bar in window))
            sign = {"sma": 0, "band_upper": 1, "band_lower": -1}[kind]
            found.append(mean + sign * line.get("factor", 0) * deviation)
    return found


class Reading:
    """A source over bars, with bars of other instruments and columns by name."""

    def __init__(
        self,
        source: dict[str, Any],
        bars: list[Bar],
        others: dict[str, list[Bar]],
        columns: dict[str, list[float | None]],
    ) -> None:
        self.source, self.bars, self.others, self.columns = source, bars, others, columns
        self.step = self.step_of(bars)
        self._kept: dict[str, Any] = {}

    @staticmethod
    def step_of(bars: list[Bar]) -> int | None:
        return min((b[0] - a[0] for a, b in pairwise(bars)), default=None)

    def values(self, side: Any) -> list[float | None]:
        key = json.dumps(side)
        if key not in self._kept:
            self._kept[key] = self._values(side)
        return self._kept[key]

    def ways(self, line: dict[str, Any]) -> list[tuple[float, int] | None]:
        key = json.dumps(["ways", line])
        if key not in self._kept:
            made = supertrend if line["kind"] == "supertrend" else parabolic
            self._kept[key] = made(self.bars, line)
        return self._kept[key]

    def _values(self, side: Any) -> list[float | None]:
        if isinstance(side, (int, float)):
            return [float(side)] * len(self.bars)
        line = {"kind": side} if isinstance(side, str) else side
        name, text = line.get("instrument"), line.get("timeframe")
        base = self.others[name] if name else self.bars
        step = self.step_of(base)
        if name is None and text is None:
            return series(line, base)
        if self.step is None or step is None:
            return [None] * len(self.bars)
        length = step
        if text:
            length = int(text[:-1]) * UNITS[text[-1]] * NS
            begins = 4 * 86_400 * NS if text[-1] == "w" else 0
            if length != step:
                base = joined(base, length, begins)
        found, values = [], series(line, base)
        for bar in self.bars:
            done = [i for i, one in enumerate(base) if one[0] + length <= bar[0] + self.step]
            found.append(values[done[-1]] if done else None)
        return found

    def answers(self, one: dict[str, Any]) -> list[tuple[bool, bool]]:
        found = [self.answer(one, i) for i in range(len(self.bars))]
        if one.get("against"):
            found = [(short, long) for long, short in found]
        if one.get("either"):
            found = [(long, long) for long, _ in found]
        return found

    def answer(self, one: dict[str, Any], i: int) -> tuple[bool, bool]:
        kind = one["kind"]
        if kind == "always":
            return True, True
        if kind == "column":
            return self.columns[one["name"]][i] == 1, self.columns[one["name"]][i] == -1
        if kind == "clock":
            return (self.clock(one, i),) * 2
        if kind == "flips":
            ways = self.ways(one["line"])
            if i == 0 or ways[i] is None or ways[i - 1] is None:
                return False, False
            now, before = ways[i][1], ways[i - 1][1]
            return now > before, now < before
        if kind == "breaks":
            high, low = (2, 3) if one.get("of", "extremes") == "extremes" else (4, 4)
            n = one["length"]
            m = one.get("length_short", n)
            if i < max(n, m):
                return False, False
            top = max(bar[high] for bar in self.bars[i - n : i])
            bottom = min(bar[low] for bar in self.bars[i - m : i])
            return over(self.bars[i][4], top), over(bottom, self.bars[i][4])
        a = self.values(one["a"])
        if kind == "rises":
            n = one.get("bars", 1)
            if i < n or a[i] is None or a[i - n] is None:
                return False, False
            return over(a[i], a[i - n]), over(a[i - n], a[i])
        b = self.values(one["b"])
        s = self.values(one.get("b_short", one["b"]))
        if kind == "above":
            if None in (a[i], b[i], s[i]):
                return False, False
            return over(a[i], b[i]), over(s[i], a[i])
        if i == 0 or None in (a[i], b[i], s[i], a[i - 1], b[i - 1], s[i - 1]):
            return False, False
        long = over(a[i], b[i]) and not over(a[i - 1], b[i - 1])
        return long, over(s[i], a[i]) and not over(s[i - 1], a[i - 1])

    def clock(self, one: dict[str, Any], i: int) -> bool:
        if i + 1 >= len(self.bars):
            return False
        zone = ZoneInfo(one["zone"])
        hours, minutes = map(int, one["at"].split(":"))

        def local(bar: Bar) -> datetime:
            return datetime.fromtimestamp(bar[0] // NS, UTC).astimezone(zone)

        def hand(at: datetime) -> float:
            return (at.hour - hours) * 60 + at.minute - minutes + at.second / 60

        now = local(self.bars[i + 1])
        names = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
        if names[now.weekday()] not in one.get("days", names[:5]):
            return False
        earlier = (local(bar) for bar in self.bars[: i + 1])
        if any(at.date() == now.date() and hand(at) >= 0 for at in earlier):
            return False
        return 0 <= hand(now) <= one.get("within_min", 60)

    def said(self) -> tuple[list[int], list[int], int]:
        """Signals, exit signals, and how often it said both."""
        parts = {
            part: [self.answers(one) for one in self.source.get(part, [])]
            for part in ("enter", "only", "leave")
        }
        join = all if self.source.get("combine", "all") == "all" else any
        signals, leaves, both = [], [], 0
        for i in range(len(self.bars)):
            long, short = (
                join(one[i][side] for one in parts["enter"])
                and all(one[i][side] for one in parts["only"])
                for side in (0, 1)
            )
            sides = self.source.get("sides", "both")
            long, short = long and sides != "short", short and sides != "long"
            both += long and short
            signals.append(0 if long and short else int(long) - int(short))
            of_long = any(one[i][1] for one in parts["leave"])
            of_short = any(one[i][0] for one in parts["leave"])
            leaves.append(2 if of_long and of_short else int(of_short) - int(of_long))
        return signals, leaves, both
