"""Filters by hours, by volatility and by regime in a storm with guards, and what they should have
kept out."""

from __future__ import annotations

import random
from collections.abc import Iterator

from hawser.core.clock import MINUTE
from hawser.core.guards import declared as dc
from hawser.core.instrument import WeeklySession
from hawser.engine.commands import Submit
from hawser.engine.events import BarCompleted, InstrumentsChanged, Opened
from hawser.engine.model.state import EngineState
from hawser.ledger.ledger import Entry
from hawser.verification.places import EVERY_DAY, StormPlace, clock_of

SHUT_FROM, SHUT_UNTIL = 2, 3  # minutes after the beginning
AVERAGED = 3  # bars of a minute
WILD = dc.VolatilityGuard(name="wild", timeframe="1m", atr_length=3, bars=4, high=99.0)


def drawn(seed: int, place: StormPlace) -> tuple[dc.AnyGuard, ...]:
    """Some of the three: with all of them little would be entered."""
    opens, closes = (
        clock_of(place.start + minutes * MINUTE) for minutes in (SHUT_FROM, SHUT_UNTIL)
    )
    filters: tuple[dc.AnyGuard, ...] = (
        dc.SessionGuard(
            name="pause",
            closed_hours=(WeeklySession(EVERY_DAY, opens, closes, "UTC"),),
            before_weekend_min=3.0,
        ),
        WILD,
        dc.RegimeGuard(
            name="regime", reference=place.world[0][0].symbol, timeframe="1m", length=AVERAGED
        ),
    )
    draw = random.Random(f"filters {seed}")
    return tuple(one for one in filters if draw.random() < 0.4)


class FiltersWatch:
    """Hears every recorded event with its commands; yields what passed a filter that was closed."""

    def __init__(self, place: StormPlace, filters: tuple[dc.AnyGuard, ...]) -> None:
        self._place, self._on = place, {one.name: one for one in filters}
        # of the reference's last bars, with when they opened
        self._closes: list[tuple[int, float]] = []

    def heard(self, entry: Entry, state: EngineState) -> Iterator[str]:
        event, commands = entry
        # the venue's history follows: it knows of no jumps
        if isinstance(event, (Opened, InstrumentsChanged)):
            self._closes = []
        last = self._closes[-1][0] if self._closes else 0
        if isinstance(event, BarCompleted) and self._averaged(event) and event.opened > last:
            self._closes = [*self._closes[1 - AVERAGED :], (event.opened, event.close)]
        for command in commands:
            if isinstance(command, Submit) and command.role in ("entry", "rung"):
                for why in self._closed(command, event.time, state):
                    yield f"{command.role} {command.order} {why}"

    def _averaged(self, event: BarCompleted) -> bool:
        return (event.symbol, event.span) == (self._place.world[0][0].symbol, MINUTE)

    def _closed(self, command: Submit, time: int, state: EngineState) -> Iterator[str]:
        start, shut = self._place.start, self._on.keys() & {"pause"}
        if shut and start + SHUT_FROM * MINUTE <= time < start + SHUT_UNTIL * MINUTE:
            yield "within the hours without entries"
        value = state.measures.get(command.symbol, {}).get(WILD.measure_key)
        if "wild" in self._on and (value is None or not value <= WILD.high):
            yield f"at a percentile of {value}"
        if "regime" in self._on and self._follow_each_other():
            closes = [close for _, close in self._closes]
            above = closes[-1] - sum(closes) / AVERAGED
            if command.side * above < -1e-9 * closes[-1]:
                yield f"against the regime: {above:+} from the average"

    def _follow_each_other(self) -> bool:
        """Whether the bars are the last ones: what was told while Hawser was away is not among
        them."""
        times = [opened for opened, _ in self._closes]
        return len(times) == AVERAGED and times[-1] - times[0] == (AVERAGED - 1) * MINUTE
