"""The statistics of a run (reckoning section 10). A figure that is undefined is None."""

from __future__ import annotations

import math
from typing import Any, Protocol

import numpy as np

from hawser.core.clock import DAY
from hawser.core.compiled import compiled
from hawser.core.indicators import Array
from hawser.rehearsal.guarding import REFUSED
from hawser.rehearsal.watch import HistoryPolicy

YEAR_DAYS = 365.25


class Judged(Protocol):
    """What came of a run, as far as its figures go; trades by their numbers."""

    @property
    def net(self) -> Array: ...
    @property
    def as_ended(self) -> Array: ...
    @property
    def planned_risk(self) -> Array: ...
    @property
    def dependent(self) -> int: ...
    @property
    def held(self) -> int: ...
    @property
    def equity(self) -> Array: ...
    @property
    def start(self) -> float: ...
    @property
    def end(self) -> float: ...


def report(
    outcome: Judged, time: Array, order: str, days_per_year: int, nets: tuple[float, float]
) -> dict[str, Any]:
    """Every figure of `report.json`; `nets`: of whole runs, pessimistic and optimistic."""
    net = outcome.net
    wins, losses = net[net > 0], net[net < 0]
    rs = (net / outcome.planned_risk).tolist()
    start, end = outcome.start, outcome.end
    deepest, percent, days = drawdown(outcome.equity, time, start)
    years = (int(time[-1]) - int(time[0])) / DAY / YEAR_DAYS
    cagr = growth(end / start, years)
    return {
        "bars": int(time.size),
        "trades": int(net.size),
        "net": float(end - start),
        "return_percent": (end / start - 1) * 100,
        "cagr_percent": cagr,
        "win_rate_percent": 100 * wins.size / net.size if net.size else None,
        "profit_factor": float(wins.sum() / -losses.sum()) if losses.size else None,
        "average_win": float(wins.mean()) if wins.size else None,
        "average_loss": float(losses.mean()) if losses.size else None,
        "expectancy_r": math.fsum(rs) / len(rs) if rs else None,
        "max_drawdown": deepest,
        "max_drawdown_percent": percent,
        "max_drawdown_days": days,
        "sharpe": sharpe(outcome.equity, time, days_per_year),
        "mar": cagr / percent if cagr is not None and percent else None,
        "losing_streak": _streak(outcome.as_ended),
        "time_in_market_percent": 100 * outcome.held / time.size,
        "order": order,
        "order_dependent_bars": outcome.dependent,
        "start_equity": start,
        "end_equity": end,
        "net_pessimistic": nets[0],
        "net_optimistic": nets[1],
    }


def growth(times: float, years: float) -> float | None:
    """Percent a year of what came to so many times itself; None where there is no such number."""
    if years <= 0 or times <= 0:
        return None
    try:
        return float((times ** (1 / years) - 1) * 100)
    except OverflowError:
        return None


def guard_figures(acted: Array, policy: HistoryPolicy, acts: set[int]) -> list[dict[str, Any]]:
    """Of each guard of the policy: whether it `acts` in a rehearsal, how many entries it refused as
    the first that was closed, how often it tripped or began to cool down. `acted`: rows of what
    guards did."""
    numbers, what = acted[:, 1], acted[:, 2]
    return [
        {
            "name": guard.name,
            "kind": guard.KIND,
            "acts": number in acts,
            "refused": int(((numbers == number) & (what == REFUSED)).sum()),
            "tripped": int(((numbers == number) & (what != REFUSED)).sum()),
        }
        for number, guard in enumerate(policy.guards.guard)
    ]


def drawdown(equity: Array, time: Array, start: float) -> tuple[float, float, float]:
    """The deepest fall of the bar-close equity below its peak, in money and in percent of that
    peak, and the days of the longest stretch under water, from the last bar at the peak."""
    deepest, percent, longest = _drawdown(equity, time, start)
    return deepest, percent, longest / DAY


@compiled
def _drawdown(equity: Array, time: Array, start: float) -> tuple[float, float, int]:
    """One pass: at a million bars every array beside the two would be eight megabytes."""
    peak, deepest, percent = start, 0.0, 0.0
    since, longest, under = 0, 0, False  # the last bar at the peak; the first where there was none
    for bar in range(equity.size):
        peak = max(peak, equity[bar])
        below = peak - equity[bar]
        # a stretch lasts to the bar that is at the peak again, else to the last bar
        if below > 0 or under:
            longest = max(longest, time[bar] - time[since])
        under = below > 0
        if under:
            deepest, percent = max(deepest, below), max(percent, below / peak * 100)
        else:
            since = bar
    return deepest, percent, longest


def sharpe(equity: Array, time: Array, days_per_year: int) -> float | None:
    """Of the returns between the last equities of UTC days that have bars."""
    day = time // DAY
    last = np.append(np.flatnonzero(np.diff(day)), equity.size - 1)
    closes = equity[last]
    returns = closes[1:] / closes[:-1] - 1
    if returns.size < 2:
        return None
    deviation = float(returns.std(ddof=1))
    return float(returns.mean()) / deviation * math.sqrt(days_per_year) if deviation > 0 else None


def _streak(net: Array) -> int:
    longest = run = 0
    for value in net.tolist():
        run = run + 1 if value < 0 else 0
        longest = max(longest, run)
    return longest
