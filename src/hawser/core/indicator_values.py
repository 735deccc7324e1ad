"""Indicator values that stops and trails stand on, at the last of some completed bars (reckoning
sections 4 and 7).

The same columns as a rehearsal's, of which only the last value is wanted. A plan says which values
it needs: the service works them out where the bars are, and hands them to the engine with the event
they belong to.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable

import msgspec

from hawser.core.bars import Bars
from hawser.core.clock import TIMEFRAMES
from hawser.core.columns import atr_column, stop_column, trail_values
from hawser.core.indicators import Array
from hawser.core.levels import StopRule
from hawser.core.plan import Plan
from hawser.core.rig import Rig, Trail

STANDARD_ATR = (14, "wilder")  # the one that every completed bar carries


def _last(column: Array) -> float:
    return float(column[-1]) if column.size else math.nan


def basis(rule: StopRule, bars: Bars, side: int, simple: bool = False) -> float:
    """The level before offset and rounding, in price units; NaN where it has no value yet.

    Long stops stand on lows, short ones on highs. `simple` is the smoothing of every ATR (False:
    Wilder's).
    """
    return _last(
        stop_column(rule, bars.last(rule.bars) if rule.bars is not None else bars, side, simple)
    )


def own_atr(plan: Plan) -> bool:
    """Whether the plan's ATR is another than the one that bars carry."""
    return plan.rig is not None and (plan.rig.atr_length, plan.rig.atr_smoothing) != STANDARD_ATR


def atr_key(rig: Rig) -> str:
    """What a completed bar's values call the ATR of a rig."""
    return f"atr {rig.atr_length} {rig.atr_smoothing}"


def trail_key(trail: Trail, side: int, smoothing: str) -> str:
    """What a completed bar's values call what a trail by bars or a line follows."""
    rule = msgspec.json.encode((trail.bars, trail.line, trail.timeframe)).decode()
    return f"trail {side:+d} {smoothing} {rule}"


def lived_key(opened: int) -> str:
    """What a completed bar's values call the bars since an entry at `opened`, its own included."""
    return f"bars since {opened}"


def best_key(opened: int, side: int) -> str:
    """What a completed base bar's values call the best exit-side price of the whole bars since an
    entry at `opened`, price units: where there were some that nobody looked at."""
    return f"best {side:+d} since {opened}"


def needs_values(plan: Plan) -> bool:
    """Whether a completed bar must carry values of its own for this plan."""
    return own_atr(plan) or (plan.trail is not None and plan.trail.kind in ("bars", "line"))


def values_for(
    plans: Iterable[Plan], span: int, bars_of: Callable[[int], Bars]
) -> dict[str, float]:
    """What these plans need beside the standard ATR, at the last completed bar of `span` ns;
    `bars_of` gives the completed bars of a timeframe. Price units; a value that is not known yet is
    NaN."""
    values: dict[str, float] = {}
    for plan in plans:
        if own_atr(plan):
            assert plan.rig is not None
            key = atr_key(plan.rig)
            if key not in values:
                values[key] = plan_atr(plan.rig, bars_of(span))
        trail = plan.trail
        smoothing = plan.rig.atr_smoothing if plan.rig is not None else STANDARD_ATR[1]
        if trail is None or trail.kind not in ("bars", "line"):
            continue
        key = trail_key(trail, plan.side, smoothing)
        if key not in values:
            wide = span if trail.timeframe is None else max(span, TIMEFRAMES[trail.timeframe])
            values[key] = _last(
                trail_values(trail, bars_of(wide), plan.side, smoothing == "simple")
            )
    return values


def plan_atr(rig: Rig, bars: Bars) -> float:
    """The ATR of a rig at the last completed bar, price units."""
    return _last(atr_column(bars, rig.atr_length, rig.atr_smoothing == "simple"))
