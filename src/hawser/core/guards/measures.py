"""What filters need of completed bars. The live engine gets the last value of each with the bar it
belongs to, so that a record of its events replays it; the rehearsal takes the whole column from the
filter."""

from __future__ import annotations

from collections.abc import Callable

from hawser.core.bars import Bars
from hawser.core.guards.declared import Filter, Guards


def measures_for(
    guards: Guards, symbol: str, span: int, base_span: int, bars_of: Callable[[int], Bars]
) -> dict[str, float]:
    """What the guards want to know at the bar of `span` ns of an instrument that has just
    completed, by key."""
    found: dict[str, float] = {}
    for guard in guards.guard:
        if (
            isinstance(guard, Filter)
            and guard.needs_bars
            and span == guard.bars_span(base_span)
            and guard.goes_by(symbol)
        ):
            found[guard.measure_key] = guard.measure(bars_of(span), span)
    return found
