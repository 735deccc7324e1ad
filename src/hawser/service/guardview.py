"""What the Guards station shows: each guard with what it watches, its present value and limit, and the day as windows.

Made on the engine's thread from the state, when the station asks for it.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any, Literal, NamedTuple

import msgspec

from hawser.core import figures as fg
from hawser.core.clock import HOUR, MINUTE
from hawser.core.guards import declared as dc
from hawser.core.guards.measures import median_key, percentile_key, regime_key
from hawser.core.guards.news import concerns, trouble, windows
from hawser.core.guards.verdicts import Closed, Scene
from hawser.core.heat import outcome_at_stop
from hawser.core.hours import is_open, next_change
from hawser.core.instrument import Session
from hawser.engine.exposure import Valuation
from hawser.engine.guarding import about, one_verdict, remembered, scene_of, whole_account
from hawser.engine.guardmemory import memories
from hawser.engine.state import EngineState, Memory
from hawser.engine.tripping import actions_of, consequence, result_of

SHOWN_BACK, SHOWN_AHEAD = 1 * HOUR, 23 * HOUR
Mark = Literal["hours", "news", "session", "closed"]
DOES = {"cancel": "cancels what waits", "break_even": "stops to the entry", "close": "closes its trades",
        "flatten": "closes everything"}  # fmt: skip


class Gauge(NamedTuple):
    """Parts of a limit, each from 0 to 1: used, and what open stops or waiting entries could still use."""

    used: float
    stake: float


class GuardView(msgspec.Struct, frozen=True):
    """One guard, for one subject where it counts each by itself. Texts carry their units."""

    name: str
    subject: str
    kind: str
    latches: bool
    watches: str
    now: str
    stake: str
    limit: str
    gauge: Gauge | None
    closed: Closed | None
    where: tuple[str, ...]  # the instruments in which a filter is closed
    since: int  # latched since, 0: it is not
    tripped: int  # when it last closed, 0: not known to
    does: str
    later: str  # what waits for the next period


class Span(NamedTuple):
    """A part of an instrument's day, `[start, end)` UTC ns."""

    start: int
    end: int
    mark: Mark
    text: str


class Coming(NamedTuple):
    """What closes next: when, where, by what, and what happens then."""

    at: int
    symbols: tuple[str, ...]
    text: str
    until: int
    does: str


class GuardPicture(msgspec.Struct, frozen=True):
    """All of it at one moment."""

    time: int
    zone: str
    views: tuple[GuardView, ...]
    days: tuple[tuple[str, tuple[Span, ...]], ...]
    coming: Coming | None
    calendar: str
    policy: dc.Guards


def picture(state: EngineState, shown: str) -> GuardPicture:
    """The guards now; `shown`: the instrument whose present values filters are told for."""
    views: list[GuardView] = []
    for guard in state.guards.guard:
        if guard.on:
            views += _counted(state, guard) if isinstance(guard, dc.Counted) else [_filter(state, guard, shown)]
    days = tuple((symbol, tuple(_day(state, symbol))) for symbol in state.instruments)
    return GuardPicture(
        state.now, state.guards.zone, tuple(views), days, _coming(state), _calendar(state), state.guards
    )


def _does(guard: dc.Guard) -> str:
    words = [text for key, text in DOES.items() if key in actions_of(guard)]
    return ", ".join(["closes entries", *words])


def _view(state: EngineState, guard: dc.AnyGuard, subject: str, memory: Memory | None, **more: Any) -> GuardView:
    values: dict[str, Any] = {
        "now": "", "stake": "", "limit": "", "gauge": None, "closed": None, "where": (), "watches": "",
    } | more  # fmt: skip
    later = state.guards_later.get(guard.name)
    waits = "" if later is None else ("goes" if later.guard is None else "is looser")
    return GuardView(
        name=guard.name, subject=subject, kind=guard.KIND, latches=guard.LATCHES,
        since=memory.latched if memory else 0, tripped=memory.tripped if memory else 0, does=_does(guard), later=waits,
        **values,
    )  # fmt: skip


# Filters


def _filter(state: EngineState, guard: dc.AnyGuard, shown: str) -> GuardView:
    """A filter over all its instruments; its present value is that of the one shown."""
    covered = [symbol for symbol in state.instruments if guard.covers(symbol)]
    said = {symbol: one_verdict(state, guard, scene_of(state, symbol), "") for symbol in covered}
    where = tuple(symbol for symbol, closed in said.items() if closed is not None)
    symbol = shown if shown in covered else (where or tuple(covered) or ("",))[0]
    now, limit, watches = "", "", ""
    if symbol:
        now, limit, watches = _VALUES[type(guard)](guard, scene_of(state, symbol), state)
    tripped = max((memory.tripped for memory in memories(state, guard.name).values()), default=0)
    closed = said.get(symbol) or next((one for one in said.values() if one is not None), None)
    view = _view(state, guard, symbol, None, now=now, limit=limit, watches=watches, closed=closed, where=where)
    return msgspec.structs.replace(view, tripped=tripped)


def _spread_value(guard: dc.SpreadGuard, scene: Scene, state: EngineState) -> tuple[str, str, str]:
    median = scene.measure(scene.instrument.symbol, median_key(guard))
    spread, symbol = scene.spread, scene.instrument.symbol
    if guard.max_ticks is not None:
        return f"{_plain(spread, 0)} t", f"{guard.max_ticks:g} t", f"spread of {symbol}"
    if guard.max_of_median is not None:
        times = spread / median if median > 0 else math.nan
        of = f"spread of {symbol} over its {guard.window_min:g} min median of {_plain(median, 0)} t"
        return f"\u00d7{_plain(times, 1)}", f"\u00d7{guard.max_of_median:g}", of
    return f"{_plain(spread, 0)} t", f"{guard.max_percent_of_r:g} % of R", f"spread of {symbol} against each plan's R"


def _plain(value: float, digits: int) -> str:
    return fg.number(value, digits)


def _news_value(guard: dc.NewsGuard, scene: Scene, state: EngineState) -> tuple[str, str, str]:
    ahead = [one for one in windows(scene.calendars, scene.instrument.news_currencies, guard) if one.end > scene.at]
    first = ahead[0].event if ahead else None
    now = "none ahead"
    if first is not None:
        now = f"in {fg.duration(first.time - scene.at)}" if first.time > scene.at else "now"
    limit = f"{guard.before_min:g} min before to {guard.after_min:g} after"
    return now, limit, f"{guard.impact} news for {scene.instrument.symbol}"


def _session_value(guard: dc.SessionGuard, scene: Scene, state: EngineState) -> tuple[str, str, str]:
    parts = [f"{getattr(guard, key):g} min {text}" for key, text in (
        ("after_open_min", "after the open"), ("before_close_min", "before the close"),
        ("before_weekend_min", "before the weekend")) if getattr(guard, key)]  # fmt: skip
    parts = [*(["its hours"] if guard.hours else []), *(["its pause"] if guard.closed_hours else []), *parts]
    edge = min((one for one in (next_change(hours, scene.at) for hours in (guard.hours, guard.closed_hours)) if one),
               default=0)  # fmt: skip
    now = f"changes in {fg.duration(edge - scene.at)}" if edge else ""
    return now, ", ".join(parts), f"the clock, for {scene.instrument.symbol}"


def _volatility_value(guard: dc.VolatilityGuard, scene: Scene, state: EngineState) -> tuple[str, str, str]:
    value = scene.measure(scene.instrument.symbol, percentile_key(guard))
    of = f"ATR percentile of {scene.instrument.symbol} in {guard.bars} bars of {guard.timeframe}"
    return _plain(value, 0), f"{guard.low:g} to {guard.high:g}", of


def _regime_value(guard: dc.RegimeGuard, scene: Scene, state: EngineState) -> tuple[str, str, str]:
    above = scene.measure(guard.reference, regime_key(guard))
    allows = {"with": "longs above, shorts below", "above": "entries above", "below": "entries below"}[guard.entries]
    of = f"{guard.reference} over its {guard.length}-bar {guard.average} on {guard.timeframe}"
    return f"{fg.number(above, 2, sign=True)} %", allows, of


_VALUES: dict[type, Callable[[Any, Scene, EngineState], tuple[str, str, str]]] = {
    dc.SpreadGuard: _spread_value,
    dc.NewsGuard: _news_value,
    dc.SessionGuard: _session_value,
    dc.VolatilityGuard: _volatility_value,
    dc.RegimeGuard: _regime_value,
}


# What counts


def _counted(state: EngineState, guard: dc.AnyGuard) -> list[GuardView]:
    """A guard that counts: once for the account; else for each subject it has closed, and the one nearest to that."""
    subjects = [""] if guard.per == "account" else list(memories(state, guard.name)) or [""]  # type: ignore[union-attr]  # Counted
    found = [_one_counted(state, guard, subject) for subject in subjects]
    closed = [view for view in found if view.closed is not None]
    open_ = sorted(
        (view for view in found if view.closed is None), key=lambda view: -(view.gauge.used if view.gauge else 0.0)
    )
    return closed + open_[:1]


def _one_counted(state: EngineState, guard: dc.AnyGuard, subject: str) -> GuardView:
    memory = remembered(state, guard, subject) or Memory(base=state.equity, high=state.equity)
    used, stake, limit, unit, watches = _figures(state, guard, subject, memory)
    closed = None
    if memory.latched:
        closed = Closed("latched", memory.why, memory.latched_until, guard.name)
    elif isinstance(guard, dc.CountGuard) and memory.count >= guard.most and state.now < memory.end:
        closed = Closed("trade_count", f"{memory.count} entries", memory.end, guard.name)
    elif state.now < memory.until:
        closed = Closed("cool_down", memory.why, memory.until, guard.name)
    gauge = Gauge(min(1.0, max(0.0, used / limit)), min(1.0, max(0.0, stake / limit))) if limit > 0 else None
    return _view(
        state, guard, subject, memory, now=unit(used), stake=unit(stake) if stake else "", limit=unit(limit),
        gauge=gauge, closed=closed, watches=watches,
    )  # fmt: skip


Figures = tuple[float, float, float, Callable[[float], str], str]  # used, at stake, limit, as text, what it watches


def _figures(state: EngineState, guard: dc.AnyGuard, subject: str, memory: Memory) -> Figures:
    for kind, figures in _FIGURES.items():
        if isinstance(guard, kind):
            return figures(state, guard, subject, memory)
    raise AssertionError("unreachable: every kind that counts is listed")


def _at_stake(state: EngineState, guard: dc.Guard, subject: str) -> float:
    """What is lost from now on if every stop of what it watches is hit, money."""
    values, total = Valuation(state), 0.0
    for trade in state.live():
        if trade.open_steps and about(guard, subject, trade):
            total += max(0.0, values.floating(trade) - outcome_at_stop(values.stake(trade)) - trade.commission)
    return total


def _loss(state: EngineState, guard: dc.LossSwitch, subject: str, memory: Memory) -> Figures:
    lost = max(0.0, -result_of(state, guard, subject, memory, Valuation(state)))
    return _money_parts(state, guard, subject, lost, memory.base, f"loss this {guard.period}")


def _drawdown(state: EngineState, guard: dc.DrawdownSwitch, subject: str, memory: Memory) -> Figures:
    return _money_parts(
        state, guard, subject, max(0.0, memory.high - state.equity), memory.high, "fall from its highest"
    )


def _money_parts(
    state: EngineState, guard: dc.LossSwitch | dc.DrawdownSwitch, subject: str, lost: float, base: float, text: str
) -> Figures:
    """A loss in percent where the limit is one, else in money."""
    stake, currency = _at_stake(state, guard, subject), state.account.currency if state.account else ""
    whose = "equity" if whole_account(guard) else (subject or ", ".join(guard.instruments or guard.sources))
    if guard.percent is not None and base > 0:
        part = 100.0 / base
        return lost * part, stake * part, guard.percent, lambda value: fg.percent(value, 2), f"{text}, {whose}"
    return lost, stake, guard.money or 0.0, lambda value: fg.money(value, currency), f"{text}, {whose}"


def _floor(state: EngineState, guard: dc.FloorSwitch, subject: str, memory: Memory) -> Figures:
    room, currency = max(1.0, memory.high - guard.money), state.account.currency if state.account else ""
    used = max(0.0, memory.high - state.equity)
    text = f"equity above {fg.money(guard.money, currency)}, its highest less the floor"
    return used, _at_stake(state, guard, subject), room, lambda value: fg.money(value, currency), text


def _whole(value: float) -> str:
    return fg.number(value, 0)


def _streak(state: EngineState, guard: dc.StreakSwitch, subject: str, memory: Memory) -> Figures:
    live = sum(trade.open_steps > 0 and about(guard, subject, trade) for trade in state.live())
    return memory.count, live, guard.losses, _whole, "losing trades in a row"


def _count(state: EngineState, guard: dc.CountGuard, subject: str, memory: Memory) -> Figures:
    count = memory.count if state.now < memory.end else 0
    return count, 0, guard.most, _whole, f"entries this {guard.period}"


def _cool(state: EngineState, guard: dc.CoolDownGuard, subject: str, memory: Memory) -> Figures:
    left = max(0, memory.until - state.now) / MINUTE
    text = f"after a loss of {guard.from_r:g} R or more" if guard.from_r else "after a loss"
    return left, 0, guard.minutes, lambda value: f"{value:.0f} min", text


def _within(memory: Memory, now: int, window: float) -> int:
    return sum(time > now - window for time in memory.times)


def _rejects(state: EngineState, guard: dc.RejectSwitch, subject: str, memory: Memory) -> Figures:
    used = _within(memory, state.now, guard.window_min * MINUTE)
    return used, 0, guard.most, _whole, f"orders refused in {guard.window_min:g} min"


def _rate(state: EngineState, guard: dc.RateSwitch, subject: str, memory: Memory) -> Figures:
    used = _within(memory, state.now, guard.window_s * 1_000_000_000)
    return used, 0, guard.most, _whole, f"new orders in {guard.window_s:g} s"


def _silence(state: EngineState, guard: dc.SilenceSwitch, subject: str, memory: Memory) -> Figures:
    covered = [m for s, m in state.markets.items() if m.open and guard.covers(s) and subject in ("", s)]
    oldest = min((max(market.time, state.linked_at) for market in covered), default=state.now)
    age = (state.now - oldest) / 1_000_000_000
    return age, 0, guard.seconds, lambda value: f"{value:.0f} s", f"the oldest quote of {subject or 'an open market'}"


def _slippage(state: EngineState, guard: dc.SlippageSwitch, subject: str, memory: Memory) -> Figures:
    return 0, 0, guard.ticks, lambda value: f"{value:g} t", "a fill worse than expected"


_FIGURES: dict[type, Callable[[EngineState, Any, str, Memory], Figures]] = {
    dc.LossSwitch: _loss, dc.DrawdownSwitch: _drawdown, dc.FloorSwitch: _floor, dc.StreakSwitch: _streak,
    dc.CountGuard: _count, dc.CoolDownGuard: _cool, dc.RejectSwitch: _rejects, dc.RateSwitch: _rate,
    dc.SilenceSwitch: _silence, dc.SlippageSwitch: _slippage,
}  # fmt: skip


# The day


def _day(state: EngineState, symbol: str) -> list[Span]:
    """An instrument's hours, and the windows in them that are known now."""
    start, end = state.now - SHOWN_BACK, state.now + SHOWN_AHEAD
    instrument = state.instruments[symbol]
    found = [Span(a, b, "hours", "") for a, b in _open_parts(instrument.sessions, start, end)]
    for guard in state.guards.guard:
        if not guard.covers(symbol):
            continue
        if isinstance(guard, dc.NewsGuard):
            for one in windows(state.calendars, instrument.news_currencies, guard):
                if one.end > start and one.start < end:
                    text = f"{one.event.currency} {one.event.title}, {one.event.impact}"
                    found.append(Span(max(start, one.start), min(end, one.end), "news", text))
        elif isinstance(guard, dc.SessionGuard) and guard.closed_hours:
            parts = _open_parts(guard.closed_hours, start, end)
            found += [Span(a, b, "session", guard.name) for a, b in parts]
    for guard in state.guards.guard:
        memory = remembered(state, guard, "") or remembered(state, guard, symbol)
        if memory is not None and guard.covers(symbol) and (memory.latched or memory.until > state.now):
            until = memory.latched_until or memory.until
            since = max(start, memory.latched or memory.tripped)
            found.append(Span(since, min(end, until) if until else end, "closed", guard.name))
    return found


def _open_parts(sessions: tuple[Session, ...], start: int, end: int) -> list[tuple[int, int]]:
    """When sessions are on between two moments."""
    found, at = [], start
    while at < end:
        edge = next_change(sessions, at) or end
        if is_open(sessions, at):
            found.append((at, min(edge, end)))
        at = edge
    return found


def _coming(state: EngineState) -> Coming | None:
    """The next window that will close entries somewhere."""
    nearest: Coming | None = None
    for guard in state.guards.guard:
        if not guard.on or not isinstance(guard, dc.NewsGuard):
            continue
        for symbol, instrument in state.instruments.items():
            if not guard.covers(symbol):
                continue
            ahead = [
                one for one in windows(state.calendars, instrument.news_currencies, guard) if one.start > state.now
            ]
            if not ahead or (nearest is not None and ahead[0].start > nearest.at):
                continue
            first = ahead[0]
            if nearest is None or first.start < nearest.at:
                event = first.event
                then = consequence(state, guard, symbol) or "nothing waits or is open there"
                text = f"{event.currency} {event.title}, {event.impact}"
                nearest = Coming(first.start, (symbol,), text, first.end, f"{_does(guard)}; now: {then}")
            elif concerns(first.event, instrument.news_currencies, guard.impact) and first.end == nearest.until:
                nearest = nearest._replace(symbols=(*nearest.symbols, symbol))
    return nearest


def _calendar(state: EngineState) -> str:
    """How far the news can be relied on, in words."""
    horizon = max((g.horizon_h for g in state.guards.guard if isinstance(g, dc.NewsGuard) and g.on), default=0.0)
    if not horizon:
        return "no guard asks for news"
    wrong = trouble(state.calendars, state.now, horizon)
    if wrong:
        return wrong[0].upper() + wrong[1:]
    ends = [calendar.reaches for calendar in state.calendars if calendar.reaches]
    names = ", ".join(calendar.name for calendar in state.calendars)
    return f"{names}: good for {fg.duration(min(ends) - state.now)}" if ends else f"{names}: good, without an end"
