"""What guards make of events: they count, trip, latch and let go again, and carry out what was
chosen for that.

Whatever happens here closes entries, takes waiting ones back, tightens or closes; nothing here
opens or loosens.
"""

from __future__ import annotations

from hawser.core.clock import MINUTE
from hawser.core.guards.counting.base import EndedTrade, Stop
from hawser.core.guards.declared import AnyGuard, Counted, Filter, Guard, NewsGuard
from hawser.core.guards.filters.base import PREFIX, filter_verdict
from hawser.core.guards.memory import GuardMemory
from hawser.core.guards.news import UNREAD, trouble
from hawser.core.rules.moving import NO_MOVE, evened
from hawser.engine import events as ev
from hawser.engine.clearance.guards import (
    about,
    context_of,
    remembered,
    silent_since,
    subject_of,
)
from hawser.engine.commands import Submit
from hawser.engine.entries.anchoring import set_stop
from hawser.engine.entries.placing import is_pending
from hawser.engine.guards import money as guard_money
from hawser.engine.guards.memory import called, memory_of, period_of, roll
from hawser.engine.guards.next_look import NEVER, must_watch, next_moment, next_turn
from hawser.engine.model import reasons as rs
from hawser.engine.model.exposure import Valuation
from hawser.engine.model.reasons import Reason
from hawser.engine.model.state import EngineState, Trade
from hawser.engine.outbox import Outbox
from hawser.engine.protection.converge import converge, leave

# Refusals that say nothing ill of the venue: another close had closed all there was.
HARMLESS = frozenset({"no_position"})


def begin(outbox: Outbox, event: ev.AnyEvent) -> None:
    """Before an event is folded: what ends by its time has ended, with the equity known until then;
    and filters go by a bar from the moment it is complete."""
    state = outbox.state
    # Periods turn before the event is looked at, whatever it is. They once turned with the look at
    # the guards only, and a first quote after midnight that tripped another guard left all counters
    # on the day before.
    if isinstance(event, ev.BarCompleted) and state.guards.guard and (found := _measures(event)):
        state.measures.setdefault(event.symbol, {}).update(found)
    if must_watch(state) and state.now >= state.guards_at:
        _turned_over(outbox, roll(outbox))


def after(outbox: Outbox, event: ev.AnyEvent) -> None:
    """What the event just folded means for the guards."""
    state = outbox.state
    if not must_watch(state):
        return
    if isinstance(event, ev.BarCompleted):
        _measured(outbox, event)
    elif isinstance(event, ev.Figures) or (isinstance(event, ev.ChangeGuards) and state.figured):
        _money(outbox)
    elif isinstance(event, ev.OrderRejected):
        _rejected(outbox, event)
    elif isinstance(event, ev.OrderFilled):
        _slipped(outbox, event)
    # Ends before sends: a trade that ends and is followed at once counts its loss before the new
    # entry is counted.
    for trade in outbox.ended:
        _ended(outbox, trade)
    _sent(outbox)
    if state.now >= state.guards_at:
        look(outbox)
    # what was begun by this event ends in time
    state.guards_at = min(state.guards_at, next_turn(state))
    if state.guards_at not in (outbox.looks_at, NEVER):
        outbox.later(f"guards:{state.guards_at}", state.guards_at - state.now)


# Tripping


def trip(outbox: Outbox, guard: Guard, subject: str, memory: GuardMemory, why: str) -> None:
    """A kill switch latches; what waits is taken back, and what was chosen is done."""
    # What a latched switch does was done when it latched. Doing it again at each further loss would
    # close what a person has adopted since, or left open on purpose.
    if memory.latched:
        return
    _latch(outbox, guard, subject, memory, why)
    until = f"until the {period_of(guard)} ends" if memory.latched_until else "until it is re-armed"
    done = carry_out(outbox, guard, subject)
    text = f"{called(guard, subject)} closes entries {until}: {why}{done}"
    outbox.tell("alarm", "guard_tripped", text, guard=guard.name, subject=subject)


def _latch(outbox: Outbox, guard: Guard, subject: str, memory: GuardMemory, why: str) -> None:
    memory.latched = memory.tripped = outbox.state.now
    memory.latched_until = 0 if getattr(guard, "period", "none") == "none" else memory.end
    memory.why = why


def _turned_over(outbox: Outbox, opened: list[tuple[Guard, str]]) -> None:
    """A limit that is still broken when its period turns opens nothing with the new one. What was
    to be done was done when it broke: this is the same breach, and what a person has settled since
    stays."""
    known = guard_money.reached(outbox.state) if opened and outbox.state.figured else ()
    broken = {(guard.name, subject): why for guard, subject, why in known}
    for guard, subject in opened:
        name, why = called(guard, subject), broken.get((guard.name, subject))
        if why is None:
            text = f"{name} is open again: a new {period_of(guard)}"
            outbox.tell("info", "guard_open", text, guard=guard.name, subject=subject)
            _set_out_again(outbox, guard, subject)
        else:
            _latch(outbox, guard, subject, memory_of(outbox.state, guard, subject), why)
            text = f"{name} stays closed until the new {period_of(guard)} ends: {why}"
            outbox.tell("alarm", "guard_tripped", text, guard=guard.name, subject=subject)


def _set_out_again(outbox: Outbox, guard: Guard, subject: str) -> None:
    """The rungs that a kill switch had taken back wait again once it is open."""
    for trade in outbox.state.live():
        if trade.ladder.rungs and about(guard, subject, trade):
            converge(outbox, trade)


def actions_of(guard: Guard) -> set[str]:
    """What a guard does on closing; a kill switch always takes back what waits."""
    return {*guard.then, "cancel"} if guard.LATCHES else set(guard.then)


def action_for(state: EngineState, guard: Guard, subject: str, trade: Trade) -> str:
    """What closing would do with a trade: cancel, close, even, or nothing."""
    then = actions_of(guard)
    if trade.leave or not ("flatten" in then or about(guard, subject, trade)):
        return ""
    if is_pending(state, trade):
        return "cancel" if guard.takes_back else ""
    return "" if guard.leads_to == "even" and not _may_even(state, trade) else guard.leads_to


def consequence(state: EngineState, guard: Guard, subject: str) -> str:
    """What closing would do now, in words; empty: nothing but close entries."""
    return _counted([action_for(state, guard, subject, trade) for trade in state.live()])


def _counted(actions: list[str]) -> str:
    words = {"cancel": "cancelled", "close": "closed", "even": "to break-even"}
    found = [
        f"{actions.count(action)} {word}" for action, word in words.items() if action in actions
    ]
    return ", ".join(found)


def carry_out(outbox: Outbox, guard: Guard, subject: str) -> str:
    """Do what a guard does on closing, to what waits and to what is open; told in words."""
    done = []
    for trade in outbox.state.live():
        action = action_for(outbox.state, guard, subject, trade)
        if action in ("cancel", "close"):
            leave(outbox, trade, Reason(rs.GUARD, name=guard.name))
        elif action == "even":
            _even(outbox, trade, guard)
        # what waits of a trade that stays is taken back there
        if action or about(guard, subject, trade):
            converge(outbox, trade)
        done.append(action)
    words = _counted(done)
    return f"; {words}" if words else ""


def _may_even(state: EngineState, trade: Trade) -> bool:
    """Whether the stop may rest at the entry now, and that tightens it."""
    if not trade.open_steps:
        return False
    exit_side = state.markets[trade.symbol].exit_side(trade.side)
    least = state.instruments[trade.symbol].min_stop_ticks
    return bool(evened(trade.break_even_level, trade.stop, exit_side, least, trade.side) != NO_MOVE)


def _even(outbox: Outbox, trade: Trade, guard: Guard) -> None:
    level, instrument = trade.break_even_level, outbox.state.instruments[trade.symbol]
    why = (
        f"Stop {instrument.price(trade.stop)} \u2192 {instrument.price(level)}: break-even by "
        f"{guard.name}"
    )
    set_stop(outbox, trade, level, why, rs.GUARD_EVEN)


def look(outbox: Outbox, symbols: tuple[str, ...] = ()) -> None:
    """See which filters have closed or opened (of these instruments, or all), and when to look
    next."""
    state = outbox.state
    for guard in state.guards.guard:
        if isinstance(guard, Counted):
            _silent(outbox, guard)
        else:
            if isinstance(guard, NewsGuard) and guard.missing == "warn":
                _warn(outbox, guard)
            for symbol in symbols or tuple(state.instruments):
                if guard.covers(symbol):
                    _turned(outbox, guard, symbol)
    at = next_moment(state)
    if at < state.guards_at or state.guards_at <= state.now:
        state.guards_at = at


def _warn(outbox: Outbox, guard: NewsGuard) -> None:
    """What is wrong with the news, once, of a guard that closes nothing for it."""
    state = outbox.state
    wrong = trouble(state.calendars, state.now, guard.horizon_h) if guard.on else None
    memory = remembered(state, guard, "")
    code = f"{wrong.code} {wrong.calendar}" if wrong is not None else ""
    if wrong is not None and wrong.code == "unread":
        return
    if code == (memory.code if memory else ""):
        return
    memory = memory_of(state, guard, "")
    memory.code, memory.why = code, wrong.text if wrong is not None else ""
    if wrong is None:
        outbox.tell("info", "calendar", f"{guard.name} knows the news again", guard=guard.name)
    else:
        text = f"{guard.name} lets entries pass without news: {wrong.text}"
        outbox.tell("caution", "calendar", text, guard=guard.name)


def _turned(outbox: Outbox, guard: AnyGuard, symbol: str) -> None:
    """A filter, once it closes or opens for an instrument."""
    state = outbox.state
    closed = filter_verdict(guard, context_of(state, symbol))
    memory = remembered(state, guard, symbol)
    if (closed is not None) == (memory is not None and memory.shut):
        return
    if closed is not None and closed.code == UNREAD:
        # entries are closed for a moment; what is to be done on closing waits until the news is
        # known
        return
    memory = memory_of(state, guard, symbol)
    memory.shut = closed is not None
    if closed is None:
        outbox.tell(
            "info",
            "guard_open",
            f"{called(guard, symbol)} is open again",
            guard=guard.name,
            subject=symbol,
        )
        for trade in state.trades_in(symbol):  # what it had taken back is set out again
            converge(outbox, trade)
        return
    memory.tripped, memory.why = state.now, closed.text
    done = carry_out(outbox, guard, symbol)
    text = f"{called(guard, symbol)} closes entries: {closed.text}{done}"
    outbox.tell(
        "caution" if done else "info", "guard_closed", text, guard=guard.name, subject=symbol
    )


# What they watch


def spread_crossed(state: EngineState, quote: ev.Quote) -> bool:
    """Whether a quote takes a spread beyond the limit of a guard that does something then, or back
    within it."""
    for guard in state.guards.guard:
        if (
            isinstance(guard, Filter)
            and guard.BY_QUOTE
            and guard.then
            and guard.covers(quote.symbol)
        ):
            memory = remembered(state, guard, quote.symbol)
            closed = filter_verdict(guard, context_of(state, quote.symbol)) is not None
            if closed != (memory is not None and memory.shut):
                return True
    return False


def _measures(bar: ev.BarCompleted) -> dict[str, float]:
    return {key: value for key, value in bar.values.items() if key.startswith(PREFIX)}


def _measured(outbox: Outbox, bar: ev.BarCompleted) -> None:
    found = _measures(bar)
    if found or bar.base:
        look(outbox, () if found else (bar.symbol,))


def _money(outbox: Outbox) -> None:
    """Equity has moved: day and week loss, drawdown, floor."""
    guard_money.begin(outbox.state)
    _reached(outbox)


def _reached(outbox: Outbox) -> None:
    for one in list(guard_money.reached(outbox.state)):
        trip(
            outbox, one.guard, one.subject, memory_of(outbox.state, one.guard, one.subject), one.why
        )


def _of_trade(outbox: Outbox, trade: Trade) -> list[tuple[Counted, str, GuardMemory]]:
    """The guards that count a trade, each with what it remembers."""
    state = outbox.state
    found: list[tuple[Counted, str, GuardMemory]] = []
    for guard in state.guards.guard:
        if isinstance(guard, Counted) and guard.watches(trade.symbol, trade.plan.source):
            subject = subject_of(guard, trade.symbol, trade.plan.source)
            found.append((guard, subject, memory_of(state, guard, subject)))
    return found


def _rejected(outbox: Outbox, event: ev.OrderRejected) -> None:
    order = outbox.state.orders.get(event.order)
    if order is None or event.code in HARMLESS:
        return
    for guard, subject, memory in _of_trade(outbox, outbox.state.trades[order.trade]):
        if why := guard.order_refused(memory, outbox.state.now, event.text):
            trip(outbox, guard, subject, memory, why)


def _sent(outbox: Outbox) -> None:
    """New orders that leave with this event; entries are counted by trades."""
    for command in list(outbox.out):
        if not isinstance(command, Submit):
            continue
        entry, trade = command.role == "entry", outbox.state.trades[command.trade]
        for guard, subject, memory in _of_trade(outbox, trade):
            if why := guard.order_sent(memory, outbox.state.now, entry):
                trip(outbox, guard, subject, memory, why)


def _slipped(outbox: Outbox, event: ev.OrderFilled) -> None:
    """A fill that is worse than was expected: of a stop from its level, of a market order from the
    quote."""
    # A target is a limit order: it fills at its level or better.
    order = outbox.state.orders.get(event.order)
    if order is None or order.role == "target":
        return
    trade = outbox.state.trades[order.trade]
    expected = order.seen if order.level is None else order.level
    worse = order.side * (event.fill.price - expected)
    for guard, subject, memory in _of_trade(outbox, trade):
        if why := guard.order_filled(order.role, worse):
            trip(outbox, guard, subject, memory, why)


def _ended(outbox: Outbox, trade: Trade) -> None:
    """A trade has ended: what it came to, the losing streak, the cool-down."""
    # An entry that never filled is neither a win nor a loss.
    if not trade.entered:
        return
    net, planned = trade.profit - trade.commission, trade.entry.planned_risk
    r = net / planned if planned else 0.0
    values = Valuation(outbox.state)
    for guard, subject, memory in _of_trade(outbox, trade):
        since = net - values.earlier(memory.before.pop(trade.id, None), trade.symbol)
        ended = EndedTrade(trade.symbol, net, r, since)
        stop = guard.trade_ended(memory, outbox.state.now, ended)
        if stop is not None and stop.until:
            _pause(outbox, guard, subject, memory, stop)
        elif stop is not None:
            trip(outbox, guard, subject, memory, stop.why)


def _pause(outbox: Outbox, guard: Counted, subject: str, memory: GuardMemory, stop: Stop) -> None:
    """Closed for a time; what was chosen is done."""
    now = outbox.state.now
    memory.until, memory.tripped, memory.why = stop.until, now, stop.why
    done = carry_out(outbox, guard, subject)
    minutes = (stop.until - now) / MINUTE
    text = f"{called(guard, subject)} closes entries for {minutes:g} min: {stop.why}{done}"
    outbox.tell("caution", "guard_closed", text, guard=guard.name, subject=subject)


def _silent(outbox: Outbox, guard: Counted) -> None:
    """No quote for too long, while the link stands and the instrument is open."""
    state = outbox.state
    for subject, since in silent_since(state, guard).items():
        if why := guard.silent(state.now - since):
            trip(outbox, guard, subject, memory_of(state, guard, subject), why)
