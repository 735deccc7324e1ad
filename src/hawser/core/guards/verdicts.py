"""What each filter says of one entry at one moment (reckoning section 9): nothing, or why it is closed, until when."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from typing import Any, NamedTuple

import msgspec

from hawser.core import figures as fg
from hawser.core.clock import MINUTE
from hawser.core.guards.declared import NewsGuard, RegimeGuard, SessionGuard, SpreadGuard, VolatilityGuard
from hawser.core.guards.limits import SPREAD_MEDIAN, SPREAD_OK, SPREAD_TICKS, against, outside, spread_over
from hawser.core.guards.measures import median_key, percentile_key, regime_key
from hawser.core.guards.news import UNREAD, Calendar, closed_by, trouble, windows
from hawser.core.hours import is_open, next_change, weekend_close
from hawser.core.instrument import Instrument
from hawser.core.numbers import or_nan


class Closed(msgspec.Struct, frozen=True):
    """One reason entries are closed; `until` UTC ns, 0 where nobody knows; `guard`: the name of that which says so."""

    code: str
    text: str
    until: int = 0
    guard: str = ""


def longest_first(closed: Iterable[Closed]) -> list[Closed]:
    """What holds entries back longest first: what ends nobody knows when, then what ends last."""
    return sorted(closed, key=lambda one: (one.until > 0, -one.until))


class EntryContext(NamedTuple):
    """What filters look at. `spread` in ticks (NaN: no quote); `side` 0 and `r_ticks` NaN where no plan is meant;
    `measures` by instrument, as `measures.py` names them."""

    at: int
    instrument: Instrument
    spread: float
    measures: dict[str, dict[str, float]]
    calendars: tuple[Calendar, ...]
    side: int = 0
    r_ticks: float = math.nan

    def measure(self, symbol: str, key: str) -> float:
        return self.measures.get(symbol, {}).get(key, math.nan)


def filter_verdict(guard: object, scene: EntryContext) -> Closed | None:
    """What a filter that remembers nothing says; None: open."""
    judge = _JUDGES.get(type(guard))
    return judge(guard, scene) if judge is not None else None


def spread_verdict(guard: SpreadGuard, scene: EntryContext) -> Closed | None:
    spread, median = scene.spread, scene.measure(scene.instrument.symbol, median_key(guard))
    beyond = spread_over(
        spread, median, scene.r_ticks, or_nan(guard.max_ticks), or_nan(guard.max_of_median),
        or_nan(guard.max_percent_of_r),
    )  # fmt: skip
    if beyond == SPREAD_OK:
        return None
    shown = f"spread {spread:g} t"
    if beyond == SPREAD_TICKS:
        text = f"{shown}, at most {guard.max_ticks:g} t"
    elif beyond == SPREAD_MEDIAN:
        times = f"{spread / median:.1f} times" if median else "beyond"
        text = f"{shown} is {times} its {guard.window_min:g} min median of {median:g} t, at most "
        text += f"{guard.max_of_median:g} times"
    else:
        part = fg.percent(100.0 * spread / scene.r_ticks)
        text = f"{shown} is {part} of R, at most {fg.percent(guard.max_percent_of_r or 0.0)}"
    return Closed("spread", text, 0, guard.name)


def widest_spread(guard: SpreadGuard, median: float) -> float:
    """The widest spread the guard lets pass whatever the plan, ticks; NaN: any."""
    limits = (or_nan(guard.max_ticks), or_nan(guard.max_of_median) * median)
    return min((limit for limit in limits if not math.isnan(limit)), default=math.nan)


def news_verdict(guard: NewsGuard, scene: EntryContext) -> Closed | None:
    """Within a window; else, where the policy says so, without a calendar that reaches far enough."""
    at = scene.at
    window = closed_by(windows(scene.calendars, scene.instrument.news_currencies, guard), at)
    if window is not None:
        event = window.event
        when = f"in {fg.duration(event.time - at)}" if event.time > at else f"{fg.duration(at - event.time)} ago"
        text = f"news {when} ({event.currency}, {event.impact}): {event.title}"
        return Closed("news", text, window.end, guard.name)
    wrong = trouble(scene.calendars, at, guard.horizon_h) if guard.missing == "closed" else None
    if wrong is None:
        return None
    return Closed(UNREAD if wrong.code == "unread" else "no_calendar", wrong.text, 0, guard.name)


def session_verdict(guard: SessionGuard, scene: EntryContext) -> Closed | None:
    at, own = scene.at, scene.instrument.sessions
    if guard.hours and not is_open(guard.hours, at):
        return Closed("session", "outside the hours for entries", next_change(guard.hours, at), guard.name)
    if guard.closed_hours and is_open(guard.closed_hours, at):
        return Closed("session", "in hours without entries", next_change(guard.closed_hours, at), guard.name)
    if not own or not is_open(own, at):
        return None  # the instrument's own hours are the venue's to keep
    after = round(guard.after_open_min * MINUTE)
    if after and not is_open(own, at - after):
        opened = next_change(own, at - after)
        return Closed("session", f"{fg.duration(at - opened)} after the open", opened + after, guard.name)
    return _before_close(guard, scene)


def _before_close(guard: SessionGuard, scene: EntryContext) -> Closed | None:
    at, own = scene.at, scene.instrument.sessions
    close, weekend = round(guard.before_close_min * MINUTE), round(guard.before_weekend_min * MINUTE)
    for before, closes, what in (
        (weekend, weekend_close(own, at) if weekend else 0, "weekend"),
        (close, next_change(own, at) if close else 0, "close"),
    ):
        if 0 < closes <= at + before:
            text = f"{fg.duration(closes - at)} before the {what}"
            return Closed("session", text, next_change(own, closes), guard.name)
    return None


def volatility_verdict(guard: VolatilityGuard, scene: EntryContext) -> Closed | None:
    value = scene.measure(scene.instrument.symbol, percentile_key(guard))
    if not outside(value, guard.low, guard.high):
        return None
    of = f"of its last {guard.bars} on {guard.timeframe}"
    if math.isnan(value):
        return Closed("volatility", f"the ATR's percentile {of} is not known yet", 0, guard.name)
    text = f"the ATR stands at percentile {value:.0f} {of}, entries from {guard.low:g} to {guard.high:g}"
    return Closed("volatility", text, 0, guard.name)


def wanted_side(guard: RegimeGuard, side: int) -> int:
    """On which side of its average an instrument must be for an entry of this side: +1 above, -1 below, 0 either."""
    return {"above": 1, "below": -1}.get(guard.entries, side)


def regime_verdict(guard: RegimeGuard, scene: EntryContext) -> Closed | None:
    above = scene.measure(guard.reference, regime_key(guard))
    average = f"{guard.length}-bar {guard.average} on {guard.timeframe}"
    if math.isnan(above):
        return Closed("regime", f"{guard.reference}'s {average} is not known yet", 0, guard.name)
    wanted = wanted_side(guard, scene.side)
    if not against(above, wanted):
        return None
    where = "above" if above > 0 else "below" if above < 0 else "at"
    word = {"above": "entries", "below": "entries"}.get(guard.entries, "longs" if wanted > 0 else "shorts")
    text = f"{guard.reference} is {where} its {average}: no {word}"
    return Closed("regime", text, 0, guard.name)


_JUDGES: dict[type, Callable[[Any, EntryContext], Closed | None]] = {
    SpreadGuard: spread_verdict,
    NewsGuard: news_verdict,
    SessionGuard: session_verdict,
    VolatilityGuard: volatility_verdict,
    RegimeGuard: regime_verdict,
}
