"""What followed a source's signals, in plain words, and the same of all bars beside it."""

from __future__ import annotations

import msgspec
import numpy as np

from hawser.core import figures as fg
from hawser.core.bars import Bars
from hawser.core.indicators import Array
from hawser.core.sources.followed import Followed, outcomes

LEAST_TOLD = 0.1  # percent: a chance below that is told as below it


class OfAll(msgspec.Struct, frozen=True):
    """How far prices went after all bars, with the signals' mix of sides, in ATR."""

    best: float
    worst: float


def of_all(bars: Bars, horizon: int, signal: Array) -> OfAll | None:
    """The mean of the best and of the worst on the way; None where no signal has so many bars
    behind it. `signal`: +1, -1 or 0 at each bar."""
    every = outcomes(bars, horizon)
    sides = signal[every.at]
    count = int(np.count_nonzero(sides))
    if not count:
        return None
    longs = int((sides > 0).sum()) / count
    up, down = float(every.up.mean()), float(every.down.mean())
    return OfAll(longs * up - (1 - longs) * down, longs * down - (1 - longs) * up)


def luck_said(chance: float, below: str = "fewer than") -> str:
    """In how many of all tries luck does as well; `below`: the words before the least that is
    told."""
    if 100 * chance < LEAST_TOLD:
        return f"{below} {fg.percent(LEAST_TOLD, 1)}"
    return fg.percent(100 * chance, 1)


def horizon_said(horizon: int, one: Followed) -> str:
    """What followed within so many bars."""
    after = f"After {many(horizon, 'bar')}"
    mean, every, share, chance = one.mean, one.mean_of_all, one.share_above_0, one.chance
    if mean is None or every is None or share is None or chance is None:
        return f"{after}: no signal has so many behind it"
    return (
        f"{after}: {fg.number(mean, 2, sign=True)} ATR on average over "
        f"{many(one.count, 'signal')} (all bars {fg.number(every, 2, sign=True)}); "
        f"{fg.percent(100 * share, 0)} went its way; luck does as well in {luck_said(chance)} of "
        "tries"
    )


def many(count: int, one: str) -> str:
    """How many of what, with grouped thousands."""
    return f"{fg.number(count, 0)} {one if count == 1 else one + 's'}"
