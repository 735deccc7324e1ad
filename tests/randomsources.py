"""Random sources and the histories they are read over, in small figures on a coarse grid, so that
ties, holes and values that are not known yet are common."""

from __future__ import annotations

import random
from collections.abc import Callable
from itertools import pairwise
from typing import Any, NamedTuple

import numpy as np

from hawser.core.bars import Bars
from hawser.core.errors import BadInput
from hawser.core.sources.evaluation import Signalled, evaluated
from hawser.core.sources.view import BarsSeen
from hawser.formats.sources import source_of
from hawser.rehearsal.run import SignalColumns
from slow_sources import Bar

MINUTE = 60_000_000_000
ZONES = ("Europe/Zurich", "America/New_York", "UTC", "Australia/Lord_Howe")
WINDOWED = (
    "sma",
    "ema",
    "rsi",
    "atr",
    "channel_high",
    "channel_low",
    "highest_close",
    "lowest_close",
    "band_upper",
    "band_lower",
    "supertrend",
)
PRICES = ("open", "high", "low", "close")
OTHER = "Harbour 40"


class Case(NamedTuple):
    """A source as its file has it, the chart's bars, those of other instruments, and columns."""

    source: dict[str, Any]
    bars: list[Bar]
    others: dict[str, list[Bar]]
    columns: dict[str, list[float | None]]

    def seen(self, count: int | None = None, following: bool = False) -> BarsSeen:
        """The first `count` bars, and of the others those that have ended by then; `following`:
        the next bar's opening is known."""
        size = len(self.bars) if count is None else count
        step = min((b[0] - a[0] for a, b in pairwise(self.bars)), default=0)
        others, spans = {}, {}
        for name, bars in self.others.items():
            length = min((b[0] - a[0] for a, b in pairwise(bars)), default=0)
            ended = [
                bar
                for bar in bars
                if count is None or (size and bar[0] + length <= self.bars[size - 1][0] + step)
            ]
            others[name] = arrays(ended)
            if len(bars) > 1:
                spans[name] = length
        columns = {
            name: np.array([np.nan if one is None else one for one in values[:size]])
            for name, values in self.columns.items()
        }
        behind = self.bars[size][0] if following and size < len(self.bars) else None
        return BarsSeen(arrays(self.bars[:size]), others, columns, behind, spans)

    @property
    def step(self) -> int | None:
        """How long the bars are."""
        if len(self.bars) < 2:
            return None
        return min(b[0] - a[0] for a, b in pairwise(self.bars))

    def made(self) -> Any:
        return source_of(self.source, "here")


def arrays(bars: list[Bar]) -> Bars:
    time, open_, high, low, close = zip(*bars, strict=True) if bars else ([],) * 5
    prices = (np.array(column, float) for column in (open_, high, low, close))
    return Bars(np.array(time, np.int64), *prices, np.full(len(bars), 2.0))


def listed(said: Signalled) -> tuple[list[int], list[int], int]:
    return said.signal.tolist(), said.leave.tolist(), int(said.both_ways.sum())


def history(draw: random.Random, count: int, step: int, start: int) -> list[Bar]:
    """Bars with holes; the first two have none between them, so that the step is known at once."""
    found: list[Bar] = []
    at, close = start, draw.randint(80, 120)
    for number in range(count):
        open_ = close + draw.choice((0, 0, 0, 1, -1))
        close = max(5, open_ + draw.choice((0, 0, 1, -1, 2, -2, 5, -5)))
        high = max(open_, close) + draw.choice((0, 0, 1, 3))
        low = max(1, min(open_, close) - draw.choice((0, 0, 1, 3)))
        found.append((at, open_ / 4, high / 4, low / 4, close / 4))
        hole = draw.random() < 0.05 and number > 0
        at += step * (draw.randint(2, 400) if hole else 1)
    return found


def line(draw: random.Random, far: bool = True) -> dict[str, Any]:
    kind = draw.choice((*WINDOWED, "parabolic"))
    found: dict[str, Any] = {"kind": kind}
    if kind != "parabolic" and draw.random() < 0.9:
        found["length"] = draw.choice((1, 2, 3, 5, 8, 14))
    if kind in ("band_upper", "band_lower", "supertrend"):
        found["factor"] = draw.choice((0.5, 1.0, 2.0))
    if kind in ("atr", "supertrend") and draw.random() < 0.5:
        found["smoothing"] = draw.choice(("wilder", "simple"))
    if kind == "parabolic" and draw.random() < 0.5:
        found["step"] = draw.choice((0.02, 0.1))
    return _placed(draw, found) if far else found


def _placed(draw: random.Random, found: dict[str, Any]) -> dict[str, Any]:
    if draw.random() < 0.3:
        found["timeframe"] = draw.choice(("1h", "2h", "4h", "1d", "1w"))
    if draw.random() < 0.25:
        found["instrument"] = OTHER
    return found


def side(draw: random.Random) -> Any:
    what = draw.random()
    if what < 0.3:
        return draw.choice(PRICES)
    if what < 0.4:
        return draw.choice((25.0, 30, 70.0, 0.5))
    if what < 0.5:
        return _placed(draw, {"kind": draw.choice(PRICES)})
    return line(draw)


def compared(draw: random.Random) -> dict[str, Any]:
    found = {"a": side(draw), "b": side(draw)}
    return found | ({"b_short": side(draw)} if draw.random() < 0.4 else {})


def rises(draw: random.Random) -> dict[str, Any]:
    return {"a": side(draw)} | ({"bars": draw.choice((1, 2, 5))} if draw.random() < 0.6 else {})


def breaks(draw: random.Random) -> dict[str, Any]:
    found: dict[str, Any] = {"length": draw.choice((1, 2, 5, 9))}
    if draw.random() < 0.4:
        found["length_short"] = draw.choice((1, 3, 7))
    return found | ({"of": draw.choice(("extremes", "closes"))} if draw.random() < 0.5 else {})


def flips(draw: random.Random) -> dict[str, Any]:
    found = {"kind": ""}
    while found["kind"] not in ("supertrend", "parabolic"):
        found = line(draw, far=False)
    return {"line": found}


def clock(draw: random.Random) -> dict[str, Any]:
    found: dict[str, Any] = {
        "at": f"{draw.randrange(24):02}:{draw.choice((0, 15, 30)):02}",
        "zone": draw.choice(ZONES),
    }
    if draw.random() < 0.5:
        found["days"] = draw.sample(["mon", "tue", "wed", "thu", "fri", "sat", "sun"], 4)
    return found | ({"within_min": draw.choice((0, 30, 300))} if draw.random() < 0.5 else {})


CONDITIONS: dict[str, Callable[[random.Random], dict[str, Any]]] = {
    "above": compared,
    "crosses": compared,
    "rises": rises,
    "breaks": breaks,
    "flips": flips,
    "clock": clock,
    "always": lambda draw: {},
    "column": lambda draw: {"name": "weft"},
}


def condition(draw: random.Random) -> dict[str, Any]:
    kind = draw.choice(("above", "crosses", *CONDITIONS))
    found = {"kind": kind, **CONDITIONS[kind](draw)}
    for key in ("against", "either"):
        if draw.random() < 0.2:
            found[key] = True
    return found


def case(seed: int, most: int = 120) -> Case:
    draw = random.Random(seed)
    step = draw.choice((1, 5, 15, 30, 60)) * MINUTE
    # in spring, in autumn, and in between: nights of 23 and of 25 hours in both halves of the earth
    day = draw.choice((22_367, 22_585, 22_480, 22_561))
    start = day * 1440 * MINUTE + draw.randrange(24) * 60 * MINUTE
    count = draw.choice((1, 2, 3, 20, most, most))
    bars = history(draw, count, step, start)
    other = history(draw, count, draw.choice((5, 15, 60)) * MINUTE, start)
    weft = [draw.choice((None, -1.0, 0.0, 0.0, 1.0)) for _ in bars]
    source: dict[str, Any] = {"name": f"Made {seed}"}
    source["enter"] = [condition(draw) for _ in range(draw.choice((1, 1, 2, 3)))]
    for part in ("only", "leave"):
        if draw.random() < 0.5:
            source[part] = [condition(draw) for _ in range(draw.choice((1, 2)))]
    if draw.random() < 0.4:
        source["combine"] = draw.choice(("all", "any"))
    if draw.random() < 0.4:
        source["sides"] = draw.choice(("both", "long", "short"))
    return Case(source, bars, {OTHER: other}, {"weft": weft})


def a_source_over(draw: random.Random, bars: Bars) -> SignalColumns:
    """What a random source of the chart's own bars says of them."""
    while True:
        parts = {
            part: [condition(draw) for _ in range(draw.choice((1, 1, 2)))]
            for part in ("enter", "leave")
        }
        source = {"name": "Made", "combine": draw.choice(("all", "any")), **parts}
        weft = np.array([draw.choice((-1.0, 0.0, 0.0, 1.0)) for _ in bars.time])
        try:
            said = evaluated(
                source_of(source, "here"), BarsSeen(bars, {OTHER: bars}, {"weft": weft})
            )
        except BadInput:  # a timeframe that does not go with the bars
            continue
        if said.signal.any():
            return SignalColumns(said.signal, said.leave)
