"""Rigs drawn at random: every rule there is, alone and together, with figures of a market that
moves some ten ticks a minute. Storms play them live; the tests compare one way of running them with
another.
"""

from __future__ import annotations

from random import Random
from typing import Any

import msgspec

from hawser.core.levels import LineRule, StopRule, TargetRule
from hawser.core.rig import (
    After,
    Amount,
    Basket,
    BreakEven,
    FollowOn,
    Ladder,
    LossStep,
    Measure,
    Rig,
    Step,
    TimeExit,
    Trail,
)

LINES = (
    LineRule("sma", 9),
    LineRule("ema", 9),
    LineRule("supertrend", 8, 2.5),
    LineRule("parabolic"),
    LineRule("channel", 6),
)


def _measure(draw: Random, low: float, high: float, behind: bool = False) -> Measure:
    kind, value = draw.choice(["r", "ticks", "percent", "atr"]), draw.uniform(low, high)
    if kind == "ticks":
        value = round(value * 25, draw.choice([0, 1]))
    return Measure(**{kind: -value / 2 if behind else value})


def _after(draw: Random) -> After:
    return draw.choice(
        [After(), After(r=draw.choice([0.0, 0.5, 1.37])), After(target=draw.randint(1, 3))]
    )


def a_stop(draw: Random) -> StopRule:
    return draw.choice(
        [
            StopRule(atr=draw.uniform(0.8, 3)),
            StopRule(ticks=draw.choice([8.0, 25.0, 30.5])),
            StopRule(percent=draw.uniform(0.03, 3)),
            StopRule(bars=draw.randint(2, 8), offset_ticks=2.5),
            StopRule(pivot=(2, 2)),
            StopRule(line=draw.choice(LINES), offset_ticks=1.0),
        ]
    )


def some_targets(draw: Random) -> tuple[TargetRule, ...]:
    cuts = sorted(draw.random() for _ in range(draw.randint(0, 5)))
    # never more than all
    shares = [int(100 * (b - a)) / 100 for a, b in zip([0.0, *cuts], cuts, strict=False)]
    kinds = {"r": (0.2, 2.5), "atr": (0.3, 3.0), "percent": (0.01, 3.0), "ticks": (3.0, 40.0)}
    named = [(share, draw.choice(list(kinds))) for share in shares]
    given: list[dict[str, Any]] = [
        {"share": share, kind: draw.uniform(*kinds[kind])} for share, kind in named
    ]
    return tuple(TargetRule(**one) for one in given)


def _trail(draw: Random) -> Trail:
    kind: dict[str, Any] = draw.choice(
        [
            {"atr": draw.uniform(0.5, 3), "base_ticks": draw.choice([0.0, 3.0])},
            {"ticks": draw.uniform(4, 30)},
            {"percent": draw.uniform(0.02, 2)},
            {"bars": draw.randint(1, 6), "offset_ticks": 2.0},
            {"line": draw.choice(LINES), "offset_ticks": 1.0},
        ]
    )
    coarse = draw.choice([None, "5m"]) if "bars" in kind or "line" in kind else None
    return Trail(
        **kind,
        anchor=draw.choice(["extreme", "close"]),
        after=_after(draw),
        step_ticks=draw.choice([1, 3]),
        timeframe=coarse,
    )


def _basket(draw: Random) -> Basket:
    stop = draw.choice(
        [None, Amount(percent=draw.uniform(0.05, 0.8)), Amount(money=draw.uniform(50, 400))]
    )
    return Basket(stop=stop, target=Amount(money=draw.uniform(50, 400)))


def _time_exit(draw: Random) -> TimeExit:
    until = draw.choice([(False, False), (True, False), (False, True)])
    return TimeExit(draw.randint(1, 30) if draw.random() < 0.7 or not any(until) else None, *until)


def a_rig(draw: Random) -> Rig:
    """Any rig but a ladder; not within hours or days of its own."""
    return Rig(
        atr_length=draw.choice([14, 14, 5]),
        atr_smoothing=draw.choice(["wilder", "wilder", "simple"]),
        direction=draw.choice(["both", "both", "long", "short"]),
        reverse=draw.random() < 0.3,
        stop=a_stop(draw),
        target=some_targets(draw),
        break_even=BreakEven(_after(draw), draw.choice([0.0, 1.5]), draw.random() < 0.4)
        if draw.random() < 0.5
        else None,
        step=tuple(
            Step(_measure(draw, 0.2, 2), _measure(draw, 0.1, 1.5, draw.random() < 0.3))
            for _ in range(draw.randint(0, 3))
        ),
        trail=_trail(draw) if draw.random() < 0.7 else None,
        loss_step=tuple(
            LossStep(round(draw.uniform(0.2, 0.9), 2), round(draw.uniform(0.1, 0.5), 2))
            for _ in range(draw.randint(0, 2))
        ),
        time_exit=_time_exit(draw) if draw.random() < 0.5 else None,
        follow_on=FollowOn(draw.randint(1, 3)) if draw.random() < 0.3 else None,
        basket=_basket(draw) if draw.random() < 0.3 else None,
    )


def a_ladder(draw: Random) -> Rig:
    """A ladder with any of the rules that go with one."""
    spacing = draw.choice(
        [
            Measure(ticks=draw.choice([4.0, 12.5])),
            Measure(percent=draw.uniform(0.02, 0.8)),
            Measure(atr=draw.uniform(0.3, 2)),
        ]
    )
    ladder = Ladder(
        draw.randint(2, 5),
        spacing,
        draw.choice([3.0, 9.5, 25.0]),
        draw.choice([3.0, 12.0, 30.5]),
        draw.choice([1.0, 1.0, 0.5, 1.6, 2.0]),
    )
    return msgspec.structs.replace(
        a_rig(draw), stop=None, target=(), trail=None, loss_step=(), ladder=ladder
    )
