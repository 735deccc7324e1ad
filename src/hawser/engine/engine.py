"""The engine: events in, commands out, nothing else. No clock, no thread, no file.

`Engine.handle` is the one funnel. The same events in the same order give the same commands, to the
byte. What only changes what is known (`observed.py`) leads to nothing and is not recorded by
itself: `decided` says which it was.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import msgspec

from hawser.core import figures as fg
from hawser.core.account import Account
from hawser.core.clock import DAY, SECOND
from hawser.engine import answers, asks, reconcile
from hawser.engine import events as ev
from hawser.engine.clearance.guards import remembered
from hawser.engine.commands import AnyCommand
from hawser.engine.entries import adopting, follow_on, placing
from hawser.engine.guards import asks as guard_asks
from hawser.engine.guards import money as guard_money
from hawser.engine.guards import tripping
from hawser.engine.guards.memory import take_policy
from hawser.engine.guards.next_look import must_watch
from hawser.engine.model import observed
from hawser.engine.model import reasons as rs
from hawser.engine.model import transitions as states
from hawser.engine.model.observed import Observed
from hawser.engine.model.reasons import Reason
from hawser.engine.model.state import EngineState, Halted, Market, Order, Trade
from hawser.engine.outbox import NO_MOMENT, OVERDUE, Outbox
from hawser.engine.protection import held_lines
from hawser.engine.protection.converge import converge, deadline, leave, without_waiting
from hawser.engine.protection.regrid import take_instruments
from hawser.engine.rigs import baskets, tending

KEEP_ENDED = 3600 * SECOND  # how long an ended trade stays in the state for late answers


class Engine:
    """Owns an EngineState and folds events into it."""

    def __init__(self, state: EngineState | None = None) -> None:
        self.state = state or EngineState()
        # records by an earlier version do not list what is live
        for order in self.state.orders.values():
            self.state.list_live(self.state.trades[order.trade], order)
        self._bands: dict[str, tending.QuietBand] = {}  # worked out from the state, no part of it
        self.seen = Observed()
        # what had been seen when the last event led to something, to be recorded
        self.before: ev.Seen | None = None
        self.decided = False  # whether the last event may have led to more than what `seen` holds

    def handle(self, event: ev.AnyEvent) -> list[AnyCommand]:
        """Fold one event; returns the commands that follow, in order."""
        # Time never runs back here: a record may hold events out of order by a little, and
        # deadlines must not come twice.
        state = self.state
        state.now = max(state.now, event.time)
        if type(event) is ev.Quote:  # the one event that comes thousands of times a second
            return self._quoted(event)
        if self._only_seen(event):
            self.decided = False
            return []
        # What was only seen goes into the record before what follows from it, so that the fold
        # decides by the same values. Guards frame the event: periods turn before it, and what it
        # tripped is carried out after it.
        self._decide()
        outbox = Outbox(state)
        tripping.begin(outbox, event)
        _HANDLERS[type(event)](outbox, event)
        if outbox.ended:
            baskets.end_empty(state)
        tripping.after(outbox, event)
        return outbox.out

    def _decide(self) -> None:
        """Something may follow from here on: by what is known at this moment, which goes into the
        record first."""
        self.decided, self.before = True, self.seen.told(self.state)
        self._bands.clear()

    def _only_seen(self, event: ev.AnyEvent) -> bool:
        """Take what an event tells of rates and money; whether nothing more can follow from it."""
        state = self.state
        time_to_look = must_watch(self.state) and self.state.now >= self.state.guards_at
        if isinstance(event, ev.Seen):
            observed.fold(state, event)
            self._bands.clear()
            return True
        if time_to_look:  # a period may have ended, with what was known until then
            return False
        if isinstance(event, ev.RateSeen):
            observed.rate(state, event, self.seen)
            return True
        if not isinstance(event, ev.Figures) or _turns(state, event) or guard_money.unbegun(state):
            return False
        observed.figures(state, event, self.seen)
        guard_money.follow_highs(state, self.seen)
        return next(guard_money.reached(state), None) is None

    def _quoted(self, event: ev.Quote) -> list[AnyCommand]:
        # Most quotes lead to nothing. Between the nearest levels at which something would happen
        # (the band) a quote is only noted, and costs a microsecond or two.
        state, band = self.state, self._bands.get(event.symbol)
        observed.quote(state, event, self.seen)
        crossed = tripping.spread_crossed(state, event) if state.guards.guard else False
        self.decided = crossed
        if band is not None and not crossed and tending.quiet(band, event):
            return []
        observed.best_exits(state, event, self.seen)
        acting = [
            trade for trade in tending.watched_trades(state, event.symbol) if _acts(state, trade)
        ]
        if not crossed and not acting:
            self._bands[event.symbol] = tending.band_of(state, event.symbol)
            return []
        self._decide()
        outbox = Outbox(state)
        tripping.begin(outbox, event)
        if crossed:
            tripping.look(outbox, (event.symbol,))
        for trade in acting:
            held_lines.watch(outbox, trade)
            tending.watch_basket(outbox, trade)
            baskets.quoted(outbox, trade)
        tripping.after(outbox, event)
        return outbox.out


def _acts(state: EngineState, trade: Trade) -> bool:
    """Whether a trade whose lines are held here, or which lies under a basket, has something to do
    at this quote."""
    return (
        held_lines.acts(state, trade)
        or tending.basket_acts(state, trade)
        or baskets.acts(state, trade)
    )


def _opened(outbox: Outbox, event: ev.Opened) -> None:
    state = outbox.state
    state.prefix, state.serial, state.suspect = event.prefix, event.serial, event.suspect
    if event.suspect:
        text = (
            f"{event.suspect[:1].upper()}{event.suspect[1:]}: nothing is sent before the venue has "
            "told what it holds"
        )
        outbox.tell("alarm", "suspect", text)
    if event.lost:
        state.halt = state.halt or Halted(event.time, "the record is older than what was done")
        text = (
            f"{fg.counted(event.lost, 'line')} of the record are lost, by an older copy or a full "
            "disk: perhaps"
            " trades, halts and guards that had latched. Entries are closed until you re-arm"
        )
        outbox.tell("alarm", "record_older", text)
    if state.account is None or state.declared != event.account:
        if state.account not in (None, state.declared):
            outbox.tell(
                "caution",
                "account_file",
                "The account's file has changed: it replaces what was edited here",
            )
        state.account = _with_limits(outbox, event.account)
    state.declared, state.rates_read = event.account, event.time
    _instruments_changed(outbox, event)
    # A new session knows nothing of the venue: entries stay closed until it has told what it holds.
    state.link_up, state.reconciled, state.link_why = False, False, "not connected yet"
    state.figures_at = 0
    # what the file says stands there until the venue tells; no guard counts from it
    if not state.figured:
        state.equity = event.account.equity
        state.balance = event.account.basis_money("balance")


def _with_limits(outbox: Outbox, account: Account) -> Account:
    """Another account's file: its looser limits wait like any others."""
    if outbox.state.account is None:
        return account
    policy = take_policy(outbox, outbox.state.account.policy, account.policy)
    return msgspec.structs.replace(account, policy=policy)


def _instruments_changed(outbox: Outbox, event: ev.InstrumentsChanged | ev.Opened) -> None:
    take_instruments(outbox, event.instruments, event.spans)
    for trade in outbox.state.live():
        if trade.open_steps and not trade.leave:  # its session may end at another time
            tending.want_hours(outbox, trade)


_ASIDE = {
    "crossed": "crossed quotes",
    "one_sided": "one-sided quotes",
    "unreadable": "messages that cannot be read",
    "foreign": "messages about foreign orders",
}


def _set_aside(outbox: Outbox, event: ev.SetAside) -> None:
    where = f"{event.symbol}: " if event.symbol else ""
    outbox.tell(
        "caution",
        "set_aside",
        f"{where}{event.count} {_ASIDE[event.what]} of the venue set aside so far",
    )


def _record_failed(outbox: Outbox, event: ev.RecordFailed) -> None:
    if not outbox.state.record_down:
        text = (
            f"The record cannot be written ({event.why}): entries are closed, open trades are "
            "protected all the same"
        )
        outbox.tell("alarm", "record_down", text)
    outbox.state.record_down = event.why


def _record_healed(outbox: Outbox, event: ev.RecordHealed) -> None:
    outbox.state.record_down = ""
    kept = fg.counted(event.kept, "event")
    text = f"The record is written again, with {kept} kept meanwhile. It no longer closes entries"
    outbox.tell("caution", "record_up", text)


def _bar(outbox: Outbox, event: ev.BarCompleted) -> None:
    tending.bar(outbox, event)
    baskets.bar(outbox, event)


def _rate(outbox: Outbox, event: ev.RateSeen) -> None:
    outbox.state.rates[event.pair] = (event.mid, event.time)


def _turns(state: EngineState, event: ev.Figures) -> bool:
    """Whether figures tell more than money that has moved: the first of a session, a day's first,
    money paid in or out, and of an older record what several stand for."""
    first = not state.figures_at or event.time // DAY != state.day
    return first or event.transferred not in (None, state.transferred) or event.high > event.equity


def _figures(outbox: Outbox, event: ev.Figures) -> None:
    state = outbox.state
    state.balance, state.equity, state.margin_used = event.balance, event.equity, event.margin_used
    state.figures_at = event.time
    if not state.figured:
        state.figured = True
        guard_money.first_figures(state)
    _paid(outbox, event.transferred)
    day = event.time // DAY
    if day != state.day:
        state.day, state.day_equity = day, event.equity
        _forget_ended(state)
    # of an older record: what several figures stand for
    for guard, subject in guard_money.watching(state):
        memory = remembered(state, guard, subject)
        if guard.BY_HIGH and memory is not None:
            memory.high = max(memory.high, event.equity, event.high)


def _paid(outbox: Outbox, transferred: float | None) -> None:
    """Money that was paid in or out since the venue last told: no result of a trade."""
    state = outbox.state
    if transferred is None:
        return
    before, state.transferred = state.transferred, transferred
    amount = transferred - before if before is not None else 0.0
    if amount:
        guard_money.transferred(state, amount)
        what = "paid in" if amount > 0 else "paid out"
        text = (
            f"{fg.money(abs(amount), outbox.currency)} {what}: no profit or loss, every limit "
            "counts without it"
        )
        outbox.tell("caution", "transferred", text)


def _forget_ended(state: EngineState) -> None:
    """Old ended trades live on in the ledger only; this bounds the state."""
    baskets.end_empty(state)
    old = [
        t
        for t in state.trades.values()
        # What is to follow may wait for its market over a weekend, while others trade.
        if t.state == states.ENDED and state.now - t.ended > KEEP_ENDED and not t.progress.due
    ]
    for trade in old:
        # What it won still counts in its basket; what it opened, where another hand has it now, is
        # in the record.
        if trade.progress.basket in state.baskets or trade.entry.order_id in state.unexplained:
            continue
        orders = [state.orders[name] for name in trade.order_ids]
        if all(order.over for order in orders) and trade.ended // DAY != state.now // DAY:
            del state.trades[trade.id]
            state.by_symbol[trade.symbol].remove(trade.id)
            for order in orders:
                del state.orders[order.id]
            if trade.entry.group and not any(
                other.entry.group == trade.entry.group for other in state.trades.values()
            ):
                state.groups.pop(trade.entry.group, None)


def _instrument_state(outbox: Outbox, event: ev.InstrumentState) -> None:
    market = outbox.state.markets.setdefault(event.symbol, Market())
    if event.open and not market.open:
        market.opened = outbox.state.now
    market.open, market.until = event.open, event.until
    if event.open and event.until > outbox.state.now:
        placing.session_ends(outbox, event.symbol, event.until)
    for trade in outbox.state.trades_in(event.symbol) if event.open else ():
        if trade.under_way:
            without_waiting(outbox, trade)
        if trade.state == states.ENDED and trade.progress.due:
            outbox.later(f"{trade.progress.due}:{trade.id}", 0)


def _timer(outbox: Outbox, event: ev.TimerFired) -> None:
    state = outbox.state
    kind, name, *rest = event.name.split(":")
    if kind == "request":
        order = state.orders.get(name)
        if order is not None:
            if order.pending == "submit" and order.token == int(rest[0]):
                state.advance(order, "silence")
            outbox.silent(order, int(rest[0]))
            converge(outbox, state.trades[order.trade])
    elif kind == "guards":
        pass  # looked at before and after every event whose time has come
    elif kind == "basket":
        baskets.minute(outbox, name)
    elif kind == "holdings":
        if int(name) == state.holdings_token and state.link_up and not state.reconciled:
            outbox.compare()
    elif kind == "until":
        _overdue(outbox, state.orders.get(name))
    elif name in state.trades:
        _trade_timer(outbox, state.trades[name], kind, event)


def _overdue(outbox: Outbox, order: Order | None) -> None:
    """The venue should have given the order up by now, by our clock; its own may stand still."""
    if order is None or order.over or order.unwanted:
        return
    trade = outbox.state.trades[order.trade]
    if order.role == "entry" and not trade.entered:
        leave(outbox, trade, Reason(rs.ENTRY_GONE, name="expired"))
        converge(outbox, trade)
    elif order.pending:  # it can be taken back once its answer is here
        outbox.later(f"until:{order.id}", OVERDUE)
    else:
        outbox.cancel(trade, order, "its time is up")


def _trade_timer(outbox: Outbox, trade: Trade, kind: str, event: ev.TimerFired) -> None:
    since = (
        int(event.name.rpartition(":")[2])
        if kind in ("settle", "deadline", "hours", "retry")
        else 0
    )
    if kind == "retry":
        if since >= NO_MOMENT and since != trade.wake_at:
            return  # an earlier one has taken its place
        trade.wake_at = 0
        converge(outbox, trade)
    elif kind == "minute":
        tending.watch_basket(outbox, trade)
        converge(outbox, trade)  # and its next minute
    elif kind == "settle":
        held_lines.settled(outbox, trade, since)
    elif kind == "turn":
        follow_on.turned(outbox, trade, event)
    elif kind == "follow":
        follow_on.followed(outbox, trade, event)
    elif kind == "hours":
        tending.hours_ended(outbox, trade, since)
    elif kind == "deadline":
        deadline(outbox, trade, since)


def _about_order(action: Callable[..., None], *fields: str) -> Callable[[Outbox, Any], None]:
    """A handler that finds the order an answer is about; answers about orders not ours are told."""

    def handler(outbox: Outbox, event: Any) -> None:
        order_id = event.known.order if isinstance(event, ev.OrderStatus) else event.order
        order = outbox.state.orders.get(order_id)
        if order is None:
            outbox.tell(
                "caution",
                "order_not_ours",
                f"The venue speaks of an order Hawser does not know: {order_id}",
            )
            return
        action(outbox, order, *(getattr(event, field) for field in fields))

    return handler


_HANDLERS: dict[type, Callable[[Outbox, Any], None]] = {
    ev.Opened: _opened,
    ev.InstrumentsChanged: _instruments_changed,
    ev.BarCompleted: _bar,
    ev.RateSeen: _rate,
    ev.Figures: _figures,
    ev.InstrumentState: _instrument_state,
    ev.VenueUp: lambda outbox, event: reconcile.up(outbox),
    ev.VenueDown: lambda outbox, event: reconcile.down(outbox, event.why),
    ev.OrderAccepted: _about_order(answers.accepted, "level"),
    ev.OrderRejected: _about_order(answers.rejected, "code", "text"),
    ev.OrderFilled: _about_order(answers.filled, "fill"),
    ev.OrderCancelled: _about_order(answers.cancelled, "why", "filled"),
    ev.AmendAccepted: _about_order(answers.amended, "level", "steps", "token"),
    ev.AmendRejected: _about_order(answers.amend_refused, "code", "text", "token"),
    ev.CancelRejected: _about_order(answers.cancel_refused, "code", "text"),
    ev.OrderStatus: _about_order(answers.status, "known", "token"),
    ev.Holdings: reconcile.holdings,
    ev.Checked: reconcile.checked,
    ev.SetAside: _set_aside,
    ev.RecordFailed: _record_failed,
    ev.RecordHealed: _record_healed,
    ev.TimerFired: _timer,
    ev.ClosesKnown: baskets.closes_known,
    ev.PlaceTrade: placing.place,
    ev.PlaceStraddle: placing.place_straddle,
    ev.MoveEntry: placing.move_entry,
    ev.LinkEntries: placing.link,
    ev.FormBasket: baskets.form,
    ev.DissolveBasket: baskets.dissolve,
    ev.SetTarget: asks.set_target,
    ev.ChangeRules: asks.reequip,
    ev.HoldLines: asks.hold_lines,
    ev.Adopt: adopting.adopt,
    ev.MoveStop: asks.move_stop,
    ev.MoveTarget: asks.move_target,
    ev.CloseTrade: asks.close_trade,
    ev.CloseAll: asks.close_some,
    ev.StopToEntry: asks.break_even,
    ev.TurnAround: asks.turn_around,
    ev.Halt: asks.halt,
    ev.Rearm: asks.rearm,
    ev.ChangeAccount: asks.change_account,
    ev.ChangeGuards: guard_asks.change,
    ev.RearmGuard: guard_asks.rearm,
    ev.Drill: guard_asks.drill,
    ev.CalendarChanged: guard_asks.calendar_changed,
}
