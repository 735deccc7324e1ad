"""Guards in a storm: a policy of every kind, news at odd moments, and a watch that keeps its own
account of what may pass. It adds up for itself what the engine is to decide, from what is told and
from the venue.
"""

from __future__ import annotations

import math
import random
from collections.abc import Iterator

from hawser.core.clock import MINUTE, SECOND
from hawser.core.guards import declared as dc
from hawser.core.guards.news import Calendar, NewsEvent
from hawser.core.hours import period_around
from hawser.engine import events as ev
from hawser.engine.commands import Submit, Tell
from hawser.engine.guards.memory import memories
from hawser.engine.model.state import EngineState
from hawser.ledger.ledger import Entry

SPREAD, BEFORE, AFTER = 40.0, MINUTE, MINUTE
NEAR = 1e-6  # money, times 100: what sums of payments may be off by
LOSS, FALL, FLOOR = 1.0, 1.5, 62_500.0
POLICY = dc.Guards(
    loosen="now",
    guard=(
        dc.SpreadGuard(name="spread", max_ticks=SPREAD, max_of_median=6.0, then=("cancel",)),
        dc.NewsGuard(
            name="news", before_min=1, after_min=1, missing="warn", then=("cancel", "break_even")
        ),
        dc.CountGuard(name="count", most=30),
        dc.CoolDownGuard(name="calm", minutes=0.5, per="instrument"),
        dc.LossSwitch(name="loss", percent=LOSS, then=("close",)),
        dc.LossSwitch(name="pair", money=500.0, per="instrument", then=("close",)),
        dc.DrawdownSwitch(name="fall", percent=FALL),
        dc.FloorSwitch(name="floor", money=FLOOR, then=("flatten",)),
        dc.StreakSwitch(name="streak", losses=6),
        dc.RejectSwitch(name="rejects", most=25, window_min=2),
        dc.RateSwitch(name="rate", most=60, window_s=10),
        dc.SilenceSwitch(name="silence", seconds=20),
        dc.SlippageSwitch(name="slip", ticks=80),
    ),
)


def news(draw: random.Random, start: int) -> tuple[Calendar, ...]:
    """Some events within the quarter of an hour that a storm lasts."""
    events = [
        NewsEvent(
            start + draw.randrange(15 * 60) * SECOND,
            draw.choice(["CAD", "CHF", "EUR"]),
            "high",
            "made up",
        )
        for _ in range(draw.randrange(4))
    ]
    return (Calendar("storm", tuple(sorted(events))),)


class GuardWatch:
    """Hears every recorded event with its commands, and looks at the state; yields what was
    broken."""

    def __init__(self, calendars: tuple[Calendar, ...]) -> None:
        self.calendars = calendars
        self._news = [event for calendar in calendars for event in calendar.events]
        # guard and subject as they are told, since when
        self._latched: dict[tuple[str, str], int] = {}
        self._base = self._high = 0.0
        self._paid: float | None = None
        # when the day next ends, and the equity a moment ago
        self._turns, self._before = 0, math.inf

    def heard(self, entry: Entry, state: EngineState) -> Iterator[str]:
        """What passed a guard that was closed."""
        event, commands = entry
        told = [command for command in commands if isinstance(command, Tell)]
        for command in commands:
            if isinstance(command, Submit) and command.role in ("entry", "rung"):
                yield from self._passed(command, event.time, state)
        for one in told:  # an entry of the same event came before it
            name, subject = one.guard, one.subject
            if one.code == "guard_tripped":
                self._latched[name, subject] = event.time
            elif one.code in ("guard_open", "guard_rearmed"):
                self._latched.pop((name, subject), None)
            if one.code == "guard_rearmed" and name == "loss":
                self._base = state.equity
            if one.code == "guard_rearmed" and name == "fall":
                self._high = state.equity

    def put_back(self, state: EngineState) -> None:
        """An older copy of the record has taken its place: what had latched since is not in it."""
        self._latched, self._paid, self._turns = {}, state.transferred, 0
        for key, memory in state.memory.items():
            name, subject = key.split("\n")
            if memory.latched:
                self._latched[name, subject] = state.now
        loss, fall = (next(iter(memories(state, name).values()), None) for name in ("loss", "fall"))
        self._base = 0.0 if loss is None or math.isnan(loss.base) else loss.base
        self._high = 0.0 if fall is None or math.isnan(fall.high) else fall.high

    def _passed(self, command: Submit, time: int, state: EngineState) -> Iterator[str]:
        market, instrument = state.markets[command.symbol], state.instruments[command.symbol]
        for name, subject in self._latched:
            if subject in ("", command.symbol):
                yield f"{command.role} {command.order} though {name} was latched"
        for one in self._news:
            if one.currency in instrument.exposure and one.time - BEFORE <= time < one.time + AFTER:
                yield f"{command.role} {command.order} within the window of {one.currency}"
        if market.ask - market.bid > SPREAD:
            yield f"{command.role} {command.order} at a spread of {market.ask - market.bid} t"

    def untripped(self, state: EngineState) -> Iterator[str]:
        """Kill switches that should have tripped by the equity that is known."""
        if not state.figured:
            return
        paid = state.transferred or 0.0
        if self._paid is not None:  # what is paid in or out is no result: both starts move along
            self._base, self._high = self._base + paid - self._paid, self._high + paid - self._paid
        self._base, self._paid = self._base or state.equity, paid
        if state.now >= self._turns:  # a day begins with what there is at its beginning
            if self._turns:
                self._base = min(self._before, state.equity)
            self._turns = period_around(state.now, False, POLICY.day_starts, 0, state.guards.zone)[
                1
            ]
        self._before = state.equity
        self._high = max(self._high, state.equity)
        reached = {
            "loss": self._base > 0
            and (self._base - state.equity) * 100 >= LOSS * self._base + NEAR,
            "fall": self._high > 0
            and (self._high - state.equity) * 100 >= FALL * self._high + NEAR,
            "floor": state.equity <= FLOOR,
        }
        for name, yes in reached.items():
            if yes and not any(memory.latched for memory in memories(state, name).values()):
                yield f"{name} did not trip at an equity of {state.equity:.2f}"


def an_ask(draw: random.Random, state: EngineState, now: int, ask_id: str) -> ev.AskEvent | None:
    """What a person may do about guards: re-arm one that has latched, or drill one."""
    held = [key.split("\n") for key, memory in state.memory.items() if memory.latched]
    if held and draw.random() < 0.8:
        name, subject = draw.choice(held)
        return ev.RearmGuard(
            time=now, ask_id=ask_id, guard=name, subject=subject, reason="the storm goes on"
        )
    if draw.random() < 0.2:
        guard = draw.choice(POLICY.guard)
        per = guard.per if isinstance(guard, dc.Counted) else "instrument"
        subject = draw.choice(list(state.instruments)) if per == "instrument" else ""
        watched = draw.random() < 0.5
        return ev.Drill(
            time=now,
            ask_id=ask_id,
            guard=guard.name,
            subject=subject,
            seconds=5.0,
            watch_only=watched,
        )
    return None
