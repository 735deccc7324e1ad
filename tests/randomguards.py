"""Policies of guards drawn at random over a history of minutes, with news in it."""

from __future__ import annotations

from random import Random

from hawser.core.bars import Bars
from hawser.core.clock import HOUR, MINUTE
from hawser.core.guards import declared as dc
from hawser.core.guards.news import Calendar, NewsEvent
from hawser.core.instrument import Instrument, WeeklySession
from hawser.rehearsal.watch import HistoryPolicy

EVERY_DAY = (0, 1, 2, 3, 4, 5, 6)
SOURCE = "loom"


def a_policy(draw: Random, bars: Bars, instrument: Instrument) -> HistoryPolicy:
    """Some guards of those that act in a rehearsal. News comes and goes where bars meet: within a
    bar the engine acts at once, the rehearsal at its close."""
    kinds = [
        _spread,
        _news,
        _session,
        _volatility,
        _regime,
        _count,
        _cool_down,
        _loss,
        _drawdown,
        _floor,
        _streak,
    ]
    guards = tuple(
        make(draw, f"guard {number}", instrument)
        for number, make in enumerate(draw.sample(kinds, draw.randint(1, 4)))
    )
    zone = draw.choice(["UTC", "Europe/Zurich", "Australia/Sydney"])
    starts = f"{draw.randint(0, 23):02d}:{draw.choice([0, 7, 30]):02d}"
    policy = dc.Guards(
        zone=zone, day_starts=starts, week_starts=draw.choice(dc.WEEKDAYS), guard=guards
    )
    return HistoryPolicy(policy, (_calendar(draw, bars),), SOURCE, {})


def _calendar(draw: Random, bars: Bars) -> Calendar:
    first, last = int(bars.time[0]), int(bars.time[-1])
    events = [
        NewsEvent(
            draw.randrange(first // MINUTE, last // MINUTE) * MINUTE,
            draw.choice(["CHF", "CAD", "ALL", "SEK"]),
            draw.choice(dc.IMPACTS),
            "tide tables",
        )
        for _ in range(draw.randint(0, 12))
    ]
    return Calendar(
        "made up", tuple(sorted(events)), draw.choice([0, last + 26 * HOUR, last - 2 * HOUR])
    )


def _named(draw: Random, name: str) -> dict[str, object]:
    then = draw.choice(
        [(), (), ("close",), ("flatten",), ("break_even",), ("cancel", "break_even"), ("cancel",)]
    )
    sources = draw.choice([(), (), (), (SOURCE,), ("elsewhere",)])
    return {"name": name, "then": then, "sources": sources}


def _switch(draw: Random, name: str) -> dict[str, object]:
    return _named(draw, name) | {"period": draw.choice(["day", "day", "week", "none"])}


def _spread(draw: Random, name: str, _: Instrument) -> dc.Guard:
    return dc.SpreadGuard(
        **_named(draw, name),
        max_ticks=draw.choice([2.0, 2.5, 3.0, None]),
        max_of_median=draw.choice([None, 1.0, 1.2]),
        window_min=draw.choice([3.0, 30.0]),
        max_percent_of_r=draw.choice([8.0, 15.0, 100.0]),
    )


def _news(draw: Random, name: str, _: Instrument) -> dc.Guard:
    return dc.NewsGuard(
        **_named(draw, name),
        impact=draw.choice(dc.IMPACTS),
        before_min=draw.choice([0.0, 5.0, 12.0]),
        after_min=draw.choice([0.0, 3.0, 20.0]),
        horizon_h=draw.choice([0.0, 1.0, 24.0]),
        missing=draw.choice(["closed", "warn", "warn"]),
    )


def _session(draw: Random, name: str, _: Instrument) -> dc.Guard:
    hour = draw.randint(0, 20)
    hours = WeeklySession(EVERY_DAY, f"{hour:02d}:00", f"{hour + 3:02d}:30", "Europe/Zurich")
    return dc.SessionGuard(
        **_named(draw, name),
        hours=draw.choice([(), (), (hours,)]),
        closed_hours=draw.choice([(), (hours,)]),
        after_open_min=draw.choice([0.0, 25.0]),
        before_close_min=draw.choice([0.0, 40.0]),
        before_weekend_min=draw.choice([0.0, 200.0]),
    )


def _volatility(draw: Random, name: str, _: Instrument) -> dc.Guard:
    low = draw.choice([0.0, 20.0])
    return dc.VolatilityGuard(
        **_named(draw, name),
        timeframe=draw.choice(["1m", "5m"]),
        atr_length=draw.choice([5, 14]),
        bars=draw.choice([10, 40]),
        low=low,
        high=draw.choice([60.0, 90.0, 100.0]),
    )


def _regime(draw: Random, name: str, of: Instrument) -> dc.Guard:
    return dc.RegimeGuard(
        **_named(draw, name),
        reference=of.symbol,
        timeframe=draw.choice(["1m", "5m", "15m"]),
        average=draw.choice(["sma", "ema"]),
        length=draw.choice([5, 20]),
        entries=draw.choice(["with", "with", "above", "below"]),
    )


def _count(draw: Random, name: str, _: Instrument) -> dc.Guard:
    return dc.CountGuard(
        **_named(draw, name),
        most=draw.choice([3, 10, 40]),
        period=draw.choice(["day", "week"]),
        per=draw.choice(["account", "instrument", "source"]),
    )


def _cool_down(draw: Random, name: str, _: Instrument) -> dc.Guard:
    return dc.CoolDownGuard(
        **_named(draw, name), minutes=draw.choice([1.0, 7.5, 60.0]), from_r=draw.choice([0.0, 0.5])
    )


def _loss(draw: Random, name: str, _: Instrument) -> dc.Guard:
    given = _switch(draw, name) | {"period": draw.choice(["day", "week"])}
    return dc.LossSwitch(
        **given,
        percent=draw.choice([0.5, 2.0]),
        money=draw.choice([None, 300.0]),
        per=draw.choice(["account", "account", "instrument"]),
    )


def _drawdown(draw: Random, name: str, _: Instrument) -> dc.Guard:
    return dc.DrawdownSwitch(
        **_switch(draw, name), percent=draw.choice([1.0, 4.0]), money=draw.choice([None, 900.0])
    )


def _floor(draw: Random, name: str, _: Instrument) -> dc.Guard:
    return dc.FloorSwitch(**_switch(draw, name), money=draw.choice([38_000.0, 39_800.0]))


def _streak(draw: Random, name: str, _: Instrument) -> dc.Guard:
    return dc.StreakSwitch(**_switch(draw, name), losses=draw.choice([2, 4]))
