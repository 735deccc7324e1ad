"""The picture that the Guards station shows, made from the state when the station asks for it."""

from __future__ import annotations

from typing import Any

import msgspec

from hawser.core import figures as fg
from hawser.core.guards import declared as dc
from hawser.core.guards.memory import GuardMemory
from hawser.core.guards.news import concerns, trouble
from hawser.core.hours import open_parts
from hawser.core.plan import BY_HAND
from hawser.engine.clearance.guards import context_of, memory_verdict, one_verdict, remembered
from hawser.engine.guards.memory import memories
from hawser.engine.guards.money import EngineFacts, subjects
from hawser.engine.guards.tripping import actions_of, consequence
from hawser.engine.model.state import EngineState
from hawser.service.views.guards import (
    SHOWN_AHEAD,
    SHOWN_BACK,
    Coming,
    Gauge,
    GuardPicture,
    GuardView,
    Span,
)

NEAR = 0.5  # of a limit
DOES = {
    "cancel": "cancels what waits",
    "break_even": "stops to the entry",
    "close": "closes its trades",
    "flatten": "closes everything",
}


def picture(state: EngineState, shown: str) -> GuardPicture:
    """The guards now; `shown`: the instrument whose present values filters are told for."""
    views: list[GuardView] = []
    for guard in state.guards.guard:
        if guard.on:
            views += (
                _counted(state, guard, shown)
                if isinstance(guard, dc.Counted)
                else [_filter(state, guard, shown)]
            )
    days = tuple((symbol, tuple(_day(state, symbol))) for symbol in state.instruments)
    return GuardPicture(
        time=state.now,
        currency=state.account.currency if state.account else "",
        views=tuple(views),
        days=days,
        coming=_coming(state),
        calendar=_calendar(state),
        policy=state.guards,
        waits=_waits(state),
    )


def _waits(state: EngineState) -> tuple[tuple[int, str], ...]:
    """What somebody asked for that makes anything looser, and that does not hold yet; guards tell
    it in their rows."""
    found = []
    if state.rules_later is not None:
        found.append((state.rules_later.at, "looser periods, news or loosening"))
    if state.policy_later is not None:
        found.append((state.policy_later.at, "looser limits of the account"))
    return tuple(found)


def _does(guard: dc.Guard) -> str:
    words = [text for key, text in DOES.items() if key in actions_of(guard)]
    return ", ".join(["closes entries", *words])


def _view(
    state: EngineState, guard: dc.Guard, subject: str, memory: GuardMemory | None, **more: Any
) -> GuardView:
    values: dict[str, Any] = {
        "now": "",
        "stake": "",
        "limit": "",
        "gauge": None,
        "closed": None,
        "where": (),
        "watches": "",
    } | more
    later = state.guards_later.get(guard.name)
    waits = "" if later is None else ("goes" if later.guard is None else "is looser")
    return GuardView(
        name=guard.name,
        kind=str(guard.__struct_config__.tag),
        subject=subject,
        latches=guard.LATCHES,
        since=memory.latched if memory else 0,
        tripped=memory.tripped if memory else 0,
        does=_does(guard),
        later=waits,
        **values,
    )


# Filters


def _filter(state: EngineState, guard: dc.Guard, shown: str) -> GuardView:
    """A filter over all its instruments; its present value is that of the one shown."""
    covered = [symbol for symbol in state.instruments if guard.covers(symbol)]
    said = {symbol: one_verdict(state, guard, context_of(state, symbol), "") for symbol in covered}
    where = tuple(symbol for symbol, closed in said.items() if closed is not None)
    symbol = shown if shown in covered else (where or tuple(covered) or ("",))[0]
    now, limit, watches = "", "", ""
    if symbol and isinstance(guard, dc.Filter):
        now, limit, watches = guard.figures(context_of(state, symbol))
    tripped = max((memory.tripped for memory in memories(state, guard.name).values()), default=0)
    closed = said.get(symbol) or next((one for one in said.values() if one is not None), None)
    view = _view(
        state,
        guard,
        symbol,
        None,
        now=now,
        limit=limit,
        watches=watches,
        closed=closed,
        where=where,
    )
    return msgspec.structs.replace(view, tripped=tripped)


# What counts


def _counted(state: EngineState, guard: dc.Counted, shown: str) -> list[GuardView]:
    """A guard that counts: once for the account; else for each subject it has closed, and of the
    others the one that is nearest to it, or the instrument shown where none is near: a row stays
    what it is while a hand goes to it."""
    whom = subjects(state, guard)
    if guard.per == "instrument":
        covered = [symbol for symbol in state.instruments if guard.covers(symbol)]
        first = [shown] if shown in covered else covered[:1] or [""]
        whom = list(dict.fromkeys([*first, *whom, *covered]))
    elif guard.per == "source" and not whom:
        whom = [(*guard.sources, BY_HAND)[0]]
    found = [_one_counted(state, guard, subject) for subject in whom]
    closed = [view for view in found if view.closed is not None]
    open_ = sorted(
        (view for view in found if view.closed is None),
        key=lambda view: (
            -view.gauge.used if view.gauge is not None and view.gauge.used >= NEAR else 0.0
        ),
    )
    return closed + open_[:1]


def _one_counted(state: EngineState, guard: dc.Counted, subject: str) -> GuardView:
    memory = remembered(state, guard, subject) or GuardMemory(base=state.equity, high=state.equity)
    used, stake, limit, unit, watches = guard.figures(
        memory, EngineFacts(state, guard, subject, memory)
    )
    gauge = (
        Gauge(min(1.0, max(0.0, used / limit)), min(1.0, max(0.0, stake / limit)))
        if limit > 0
        else None
    )
    return _view(
        state,
        guard,
        subject,
        memory,
        now=unit(used),
        stake=unit(stake) if stake else "",
        limit=unit(limit),
        gauge=gauge,
        closed=memory_verdict(state, guard, subject),
        watches=watches,
    )


# The day


def _day(state: EngineState, symbol: str) -> list[Span]:
    """An instrument's hours, and the windows in them that are known now."""
    start, end = state.now - SHOWN_BACK, state.now + SHOWN_AHEAD
    instrument = state.instruments[symbol]
    found = [Span(a, b, "hours", "") for a, b in open_parts(instrument.sessions, start, end)]
    for guard in state.guards.guard:
        if not guard.covers(symbol):
            continue
        if isinstance(guard, dc.Filter):
            found += [Span(*part) for part in guard.parts(instrument, state.calendars, start, end)]
    for guard in state.guards.guard:
        memories_here = (remembered(state, guard, subject) for subject in ("", symbol))
        for memory in (one for one in memories_here if one is not None and guard.covers(symbol)):
            if not memory.latched and memory.until <= state.now:
                continue
            until = memory.latched_until or memory.until
            since = max(start, memory.latched or memory.tripped)
            found.append(Span(since, min(end, until) if until else end, "closed", guard.name))
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
                one
                for one in guard.windows(state.calendars, instrument.news_currencies)
                if one.start > state.now
            ]
            if not ahead or (nearest is not None and ahead[0].start > nearest.at):
                continue
            first = ahead[0]
            if nearest is None or first.start < nearest.at:
                event = first.event
                then = consequence(state, guard, symbol) or "nothing waits or is open there"
                text = f"{event.currency} {event.title}, {event.impact}"
                nearest = Coming(
                    first.start, (symbol,), text, first.end, f"{_does(guard)}; now: {then}"
                )
            elif (
                concerns(first.event, instrument.news_currencies, guard.impact)
                and first.end == nearest.until
            ):
                nearest = nearest._replace(symbols=(*nearest.symbols, symbol))
    return nearest


def _calendar(state: EngineState) -> str:
    """How far the news can be relied on, in words."""
    horizon = max(
        (g.horizon_h for g in state.guards.guard if isinstance(g, dc.NewsGuard) and g.on),
        default=0.0,
    )
    if not horizon:
        return "no guard asks for news"
    wrong = trouble(state.calendars, state.now, horizon)
    if wrong is not None:
        return wrong.text[:1].upper() + wrong.text[1:]
    ends = [calendar.reaches for calendar in state.calendars if calendar.reaches]
    names = ", ".join(calendar.name for calendar in state.calendars)
    return (
        f"{names}: good for {fg.duration(min(ends) - state.now)}"
        if ends
        else f"{names}: good, without an end"
    )
