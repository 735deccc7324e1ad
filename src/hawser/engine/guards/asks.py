"""What is asked of the guards: another policy, a kill switch re-armed, calendars that have
changed."""

from __future__ import annotations

from hawser.core import figures as fg
from hawser.core.clock import MINUTE, SECOND
from hawser.core.guards.declared import AnyGuard, Counted, Guard, Guards, NewsGuard
from hawser.core.guards.looseness import loosened, loosened_rules, tightest_guard
from hawser.core.guards.news import Calendar
from hawser.core.guards.periods import period_at
from hawser.engine import events as ev
from hawser.engine.clearance.guards import remembered
from hawser.engine.guards.memory import (
    called,
    count_anew,
    memories,
    memory_of,
    period_now,
    period_of,
    replace_guards,
    unlatch,
)
from hawser.engine.guards.money import EngineFacts
from hawser.engine.guards.tripping import carry_out, consequence, look, trip
from hawser.engine.model.state import EngineState, LaterGuard, LaterRules
from hawser.engine.outbox import Outbox


def rearm(outbox: Outbox, ask: ev.RearmGuard) -> None:
    """Open a latched kill switch by hand; it counts anew from here."""
    state, guard = outbox.state, outbox.state.guards.named(ask.guard)
    memory = remembered(state, guard, ask.subject) if guard is not None else None
    problem = ""
    if guard is None or memory is None or not memory.latched:
        problem = f"{ask.guard} is not latched"
    elif len(ask.reason.strip()) < 3:
        problem = "Re-arming needs a reason in words"
    elif isinstance(guard, Counted) and (
        why := guard.not_rearmed(EngineFacts(state, guard, ask.subject, memory))
    ):
        problem = why
    else:
        left = memory.latched + round(getattr(guard, "cool_down_min", 0.0) * MINUTE) - state.now
        problem = f"{guard.name} can be re-armed in {fg.duration(left)}" if left > 0 else ""
    if problem or guard is None or memory is None:
        outbox.tell("refused", "not_rearmed", problem, ask_id=ask.ask_id)
        return
    unlatch(memory)
    count_anew(state, guard, ask.subject, memory)
    memory.high = memory.base
    text = f"{called(guard, ask.subject)} re-armed, it counts anew from here: {ask.reason.strip()}"
    outbox.tell(
        "caution", "guard_rearmed", text, ask_id=ask.ask_id, guard=guard.name, subject=ask.subject
    )


def change(outbox: Outbox, ask: ev.ChangeGuards) -> None:
    """Another policy. What is tighter holds at once; what is looser waits for its next period where
    a limit was reached, or the policy says so."""
    state, old, new = outbox.state, outbox.state.guards, ask.guards
    # what was asked for before is not asked for any more
    state.guards_later, state.rules_later = {}, None
    whole = _held_back(outbox, old, new, ask.ask_id)
    late = _rules_that_wait(outbox, old, new, ask.ask_id)
    rules = old if late else new
    replace_guards(
        state,
        zone=rules.zone,
        day_starts=rules.day_starts,
        week_starts=rules.week_starts,
        loosen=rules.loosen,
        news=rules.news,
        guard=whole,
    )
    # the event stays as it is
    state.measures = {symbol: dict(values) for symbol, values in ask.measures.items()}
    stays = any(isinstance(one, NewsGuard) and one.name in state.guards_later for one in whole)
    # a guard that stays for a while goes on by the news it had
    unread = stays and not ask.calendars
    news_waits = late and old.news != new.news
    if ask.calendars is not None and not news_waits and not unread:
        _take_calendars(outbox, ask.calendars)
    for guard in whole:
        if isinstance(guard, Counted) and guard.per == "account":
            memory_of(state, guard, "")
    count = len(whole)
    outbox.tell(
        "info",
        "guards_changed",
        f"{count} guard{'s watch' if count != 1 else ' watches'} now",
        ask_id=ask.ask_id,
    )
    state.guards_at = min(state.guards_at, state.now)
    look(outbox)


def _held_back(outbox: Outbox, old: Guards, new: Guards, ask_id: str) -> tuple[AnyGuard, ...]:
    """The guards that hold now: the new ones, but for what is looser in them and waits."""
    state, kept = outbox.state, dict[str, AnyGuard]()
    for guard in old.guard:
        fresh = new.named(guard.name)
        keys = ", ".join(loosened(guard, fresh))
        reached = any(memory.latched for memory in memories(state, guard.name).values())
        if keys and (reached or old.loosen == "next_period"):
            kept[guard.name] = tightest_guard(guard, fresh)
            state.guards_later[guard.name] = LaterGuard(period_now(state, guard)[1], fresh)
            why = "its limit was reached" if reached else "the policy says so"
            text = f"{guard.name} is looser ({keys}) from its next period on: {why}"
            outbox.tell("caution", "guard_loosened", text, ask_id=ask_id, guard=guard.name)
        elif keys:
            text = f"{guard.name} is looser from now on: {keys}"
            outbox.tell("caution", "guard_loosened", text, ask_id=ask_id, guard=guard.name)
    return tuple(kept.pop(guard.name, guard) for guard in new.guard) + tuple(kept.values())


def _rules_that_wait(outbox: Outbox, old: Guards, new: Guards, ask_id: str) -> bool:
    """Whether periods, news and the rest stay as they were for now. Periods of a week wait for its
    end: a day that begins elsewhere moves it too."""
    state, keys = outbox.state, loosened_rules(old, new)
    latched = any(memory.latched for memory in state.memory.values())
    if not keys or (old.loosen == "now" and not latched):
        return False
    week = any(period_of(guard) == "week" for guard in old.guard)
    at = period_at(old, state.now, week)[1]
    state.rules_later = LaterRules(
        at=at,
        zone=new.zone,
        day_starts=new.day_starts,
        week_starts=new.week_starts,
        loosen=new.loosen,
        news=new.news,
    )
    when = "week" if week else "day"
    text = (
        f"{', '.join(key.replace('_', ' ') for key in keys)}: as asked for from the next {when} on"
    )
    outbox.tell("caution", "guard_loosened", text, ask_id=ask_id)
    return True


def drill(outbox: Outbox, ask: ev.Drill) -> None:
    """Set a guard off on purpose, to see what follows; or only tell what would."""
    state, guard = outbox.state, outbox.state.guards.named(ask.guard)
    if guard is None or not guard.on or not _subject_fits(state, guard, ask.subject):
        text = (
            f"There is no guard {ask.guard}{f' for {ask.subject}' if ask.subject else ''} that "
            "watches"
        )
        outbox.tell("refused", "no_guard", text, ask_id=ask.ask_id)
        return
    name, what = called(guard, ask.subject), consequence(state, guard, ask.subject)
    if ask.watch_only:
        then = f": {what}" if what else ""
        outbox.tell(
            "caution",
            "drill",
            f"Drill, watched only: {name} would close entries{then}",
            ask_id=ask.ask_id,
        )
        return
    memory = memory_of(state, guard, ask.subject)
    if guard.LATCHES:
        trip(outbox, guard, ask.subject, memory, "a drill")
        return
    memory.until = state.now + round(ask.seconds * SECOND)
    memory.tripped, memory.why = state.now, "a drill"
    # until it is found open; what counts is never looked at like that
    memory.shut = not isinstance(guard, Counted)
    done = carry_out(outbox, guard, ask.subject)
    outbox.tell(
        "caution",
        "drill",
        f"Drill: {name} closes entries for {ask.seconds:g} s{done}",
        ask_id=ask.ask_id,
    )


def _subject_fits(state: EngineState, guard: Guard, subject: str) -> bool:
    """Whether the guard remembers anything under that name."""
    per = guard.per if isinstance(guard, Counted) else "instrument"
    if per == "account":
        return not subject
    return (
        bool(subject) if per == "source" else subject in state.instruments and guard.covers(subject)
    )


def calendar_changed(outbox: Outbox, event: ev.CalendarChanged) -> None:
    """The calendars as read now."""
    _take_calendars(outbox, event.calendars)
    outbox.state.guards_at = min(outbox.state.guards_at, outbox.state.now)


def _take_calendars(outbox: Outbox, calendars: tuple[Calendar, ...]) -> None:
    outbox.state.calendars = calendars
    for calendar in calendars:
        if calendar.state not in ("good", "unread"):
            outbox.tell(
                "caution",
                "calendar",
                f"News calendar {calendar.name} is {calendar.state}: {calendar.why}",
            )
