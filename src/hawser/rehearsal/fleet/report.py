"""The figures of a fleet (reckoning section 13): those of a run, and what is of members."""

from __future__ import annotations

import math
from collections import Counter
from typing import Any

import numpy as np

from hawser.core.indicators import Array
from hawser.core.rules.refusals import Refusal
from hawser.rehearsal.fleet import records
from hawser.rehearsal.fleet.run import FleetOutcome, FleetRehearsal
from hawser.rehearsal.report import report


def fleet_report(
    fleet: FleetRehearsal, outcome: FleetOutcome, order: str, nets: tuple[float, float]
) -> dict[str, Any]:
    """Every figure of `report.json`; `nets`: of whole runs, pessimistic and optimistic."""
    figures = report(outcome, fleet.time, order, fleet.account.days_per_year, nets)
    refused = Counter(outcome.refused[:, records.WHY].tolist())
    names = [member.name for member in fleet.members]
    return figures | {
        "members": [
            _member(name, one.trades.net, one.trades.planned_risk)
            for name, one in zip(names, outcome.of, strict=True)
        ],
        "correlation": correlation(outcome.daily),
        "heat_mean": float(outcome.heat.mean()),
        "heat_most": float(outcome.heat.max()),
        "open_mean": float(outcome.open.mean()),
        "open_most": int(outcome.open.max()),
        "refused": {Refusal(why).code: refused[why] for why in sorted(refused)},
    }


def _member(name: str, net: Array, risk: Array) -> dict[str, Any]:
    rs = (net / risk).tolist()
    return {
        "instrument": name,
        "net": math.fsum(net.tolist()),
        "trades": len(rs),
        "expectancy_r": math.fsum(rs) / len(rs) if rs else None,
    }


def correlation(daily: Array) -> list[list[float | None]]:
    """Pearson's of the members' daily results, from their results since the start at the end of
    each day (days, members); None where one of two has no deviation."""
    moved = np.diff(daily, axis=0)
    members = moved.shape[1]
    if len(moved) == 0:
        return [[None] * members for _ in range(members)]
    beside = moved - moved.mean(axis=0)
    # what differs by no more than the noise of its own sums has no deviation
    still = (np.ptp(moved, axis=0) <= 1e-12 * np.maximum(1.0, np.abs(daily).max(axis=0))).tolist()
    size = np.sqrt((beside**2).sum(axis=0))
    products = (beside.T @ beside).tolist()
    return [
        [
            None
            if still[a] or still[b]
            else min(1.0, max(-1.0, products[a][b] / float(size[a] * size[b])))
            for b in range(members)
        ]
        for a in range(members)
    ]
