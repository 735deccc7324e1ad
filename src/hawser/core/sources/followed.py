"""What followed: how prices went on after a source's signals, before any rig (reckoning section
12).

Distances are in ATR(14) of the bar that signalled, signed as results are: above 0 is the side's
way.
"""

from __future__ import annotations

import math
from statistics import NormalDist

import msgspec
import numpy as np

from hawser.core.bars import Bars
from hawser.core.compiled import compiled
from hawser.core.indicators import Array, atr, highest, lowest

HORIZONS = (1, 5, 20, 100)  # bars
DRAWS, SEED, ATR_LENGTH = 5_000, 12, 14
SAME = 1e-12  # a draw that reaches the mean but for this counts
# Of more signals than these the mean of a draw is normal to more digits than 5,000 draws tell.
MOST_DRAWN = 1_000


class Followed(msgspec.Struct, frozen=True):
    """What followed within one horizon; None where no signal had so many bars behind it. Shares
    and chances are fractions."""

    count: int
    mean: float | None = None
    median: float | None = None
    share_above_0: float | None = None
    best: float | None = None
    worst: float | None = None
    mean_of_all: float | None = None  # of all bars, with the signals' mix of sides
    chance: float | None = None  # of a mean at least as good with as many bars at random


class Outcomes(msgspec.Struct, frozen=True):
    """Of every bar that has an outcome: what a long made of it, and the best and worst on the
    way. `at`: which bars."""

    at: Array
    result: Array
    up: Array  # from the open of the next bar to the highest high
    down: Array  # and to the lowest low: 0 or below


def outcomes(bars: Bars, horizon: int) -> Outcomes:
    """Of every bar with a known ATR above 0 and so many bars behind it."""
    ranges = atr(bars.high, bars.low, bars.close, ATR_LENGTH, False)
    at = np.flatnonzero(ranges[: max(0, ranges.size - horizon)] > 0)
    entry, unit = bars.open[at + 1], ranges[at]
    top, bottom = highest(bars.high, horizon), lowest(bars.low, horizon)
    return Outcomes(
        at,
        (bars.close[at + horizon] - entry) / unit,
        (top[at + horizon] - entry) / unit,
        (bottom[at + horizon] - entry) / unit,
    )


def followed(bars: Bars, signal: Array) -> dict[int, Followed]:
    """By the horizon, in bars. `signal`: +1, -1 or 0 at each bar."""
    return {horizon: _within(bars, signal, horizon) for horizon in HORIZONS}


def _within(bars: Bars, signal: Array, horizon: int) -> Followed:
    every = outcomes(bars, horizon)
    side = signal[every.at].astype(np.float64)
    chosen = side != 0
    count = int(chosen.sum())
    if not count:
        return Followed(0)
    long = side[chosen] > 0
    results = side[chosen] * every.result[chosen]
    up, down = every.up[chosen], every.down[chosen]
    mean, longs = float(results.mean()), int(long.sum())
    of_longs = float(every.result.mean())
    share = longs / count
    return Followed(
        count=count,
        mean=mean,
        median=float(np.median(results)),
        share_above_0=float((results > 0).mean()),
        best=float(np.where(long, up, -down).mean()),
        worst=float(np.where(long, down, -up).mean()),
        mean_of_all=share * of_longs - (1 - share) * of_longs,
        chance=_chance(every.result, longs, count - longs, mean),
    )


def _chance(results: Array, longs: int, shorts: int, mean: float) -> float:
    """Of a mean at least as good with as many of all bars, drawn at random."""
    count = longs + shorts
    if count <= MOST_DRAWN:
        better = float(
            drawn_at_least(
                results, longs, shorts, total=(mean - SAME) * count, draws=DRAWS, seed=SEED
            )
        )
    else:
        better = DRAWS * _normal_chance(results, longs, shorts, mean)
    return (1 + better) / (1 + DRAWS)


def _normal_chance(results: Array, longs: int, shorts: int, mean: float) -> float:
    """The same by the normal distribution of the mean of many drawn without replacement."""
    count, every = longs + shorts, results.size
    expected = (longs - shorts) / count * float(results.mean())
    if every < 2 or (count == every and not (longs and shorts)):
        return 1.0 if expected >= mean - SAME else 0.0
    # of the weights +1, -1 and 0 of all bars, of which each draw is an order
    spread = count / every - ((longs - shorts) / every) ** 2
    deviation = math.sqrt(float(results.var(ddof=1)) * spread * every) / count
    if deviation == 0:
        return 1.0 if expected >= mean - SAME else 0.0
    return 1 - NormalDist(expected, deviation).cdf(mean)


@compiled
def drawn_at_least(
    results: Array, longs: int, shorts: int, total: float, draws: int, seed: int
) -> int:
    """In how many of so many draws without replacement the longs' results less the shorts' come to
    `total` or more."""
    np.random.seed(seed)
    order = np.arange(results.size)
    found = 0
    for _ in range(draws):
        drawn = 0.0
        for i in range(longs + shorts):
            j = i + int(
                np.random.random() * (order.size - i)
            )  # whole numbers take ten times as long
            order[i], order[j] = order[j], order[i]
            drawn += results[order[i]] if i < longs else -results[order[i]]
        found += drawn >= total
    return found
