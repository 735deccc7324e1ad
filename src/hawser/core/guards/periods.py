"""The days and weeks that a policy counts in."""

from __future__ import annotations

from hawser.core.guards.declared import WEEKDAYS, Guards
from hawser.core.hours import period_around


def period_at(rules: Guards, at: int, week: bool) -> tuple[int, int]:
    """The policy's day or week around a moment, `[starts, ends)` UTC ns."""
    return period_around(at, week, rules.day_starts, WEEKDAYS.index(rules.week_starts), rules.zone)
