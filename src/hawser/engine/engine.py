"""The engine: events in, commands out, nothing else. No clock, no thread, no file.

`Engine.handle` is the one funnel. The same events in the same order give the same commands, to the byte. What only
changes what is known (`observed.py`) leads to nothing and is not recorded by itself: `decided` says which it was.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import msgspec

from hawser.core import figures as fg
from hawser.core.account import Account
from hawser.core.clock import DAY, SECOND
from hawser.core.guards.declared import DrawdownSwitch
from hawser.engine import (
    adopting,
    answers,
    asks,
    baskets,
    entering,
    following,
    guardasks,
    holding,
    moneyguards,
    observed,
    reconciling,
    states,
    tending,
    tripping,
)  # fmt: skip
from hawser.engine import events as ev
from hawser.engine import reasons as rs
from hawser.engine.commands import AnyCommand
from hawser.engine.guarding import remembered
from hawser.engine.guardmemory import take_policy
from hawser.engine.observed import Observed
from hawser.engine.protecting import converge, deadline, leave, without_waiting
from hawser.engine.reasons import Reason
from hawser.engine.regrid import take_instruments
from hawser.engine.requests import NO_MOMENT, OVERDUE, Desk
from hawser.engine.state import EngineState, Halted, Market, Order, Trade
from hawser.engine.watchtimes import must_watch

KEEP_ENDED = 3600 * SECOND  # how long an ended trade stays in the state for late answers


class Engine:
    """Owns an EngineState and folds events into it."""

    def __init__(self, state: EngineState | None = None) -> None:
        self.state = state or EngineState()
        for order in self.state.orders.values():  # records by an earlier version do not list what is live
            self.state.list_live(self.state.trades[order.trade], order)
        self._bands: dict[str, tending.Band] = {}  # worked out from the state, no part of it
        self.seen = Observed()
        self.before: ev.Seen | None = None  # what had been seen when the last event led to something, to be recorded
        self.decided = False  # whether the last event may have led to more than what `seen` holds

    def handle(self, event: ev.AnyEvent) -> list[AnyCommand]:
        """Fold one event; returns the commands that follow, in order."""
        state = self.state
        state.now = max(state.now, event.time)
        if type(event) is ev.Quote:  # the one event that comes thousands of times a second
            return self._quoted(event)
        if self._only_seen(event):
            self.decided = False
            return []
        self._decide()
        desk = Desk(state)
        tripping.begin(desk, event)
        _HANDLERS[type(event)](desk, event)
        if desk.ended:
            baskets.end_empty(state)
        tripping.after(desk, event)
        return desk.out

    def _decide(self) -> None:
        """Something may follow from here on: by what is known at this moment, which goes into the record first."""
        self.decided, self.before = True, self.seen.told(self.state)
        self._bands.clear()

    def _only_seen(self, event: ev.AnyEvent) -> bool:
        """Take what an event tells of rates and money; whether nothing more can follow from it."""
        state, time_to_look = self.state, must_watch(self.state) and self.state.now >= self.state.guards_at
        if isinstance(event, ev.Seen):
            observed.fold(state, event)
            self._bands.clear()
            return True
        if time_to_look:  # a period may have ended, with what was known until then
            return False
        if isinstance(event, ev.RateSeen):
            observed.rate(state, event, self.seen)
            return True
        if not isinstance(event, ev.Figures) or _turns(state, event) or moneyguards.unbegun(state):
            return False
        observed.figures(state, event, self.seen)
        moneyguards.follow_highs(state, self.seen)
        return next(moneyguards.reached(state), None) is None

    def _quoted(self, event: ev.Quote) -> list[AnyCommand]:
        state, band = self.state, self._bands.get(event.symbol)
        observed.quote(state, event, self.seen)
        crossed = tripping.spread_crossed(state, event) if state.guards.guard else False
        self.decided = crossed
        if band is not None and not crossed and tending.quiet(band, event):
            return []
        observed.best_exits(state, event, self.seen)
        acting = [trade for trade in tending.watched_trades(state, event.symbol) if _acts(state, trade)]
        if not crossed and not acting:
            self._bands[event.symbol] = tending.band_of(state, event.symbol)
            return []
        self._decide()
        desk = Desk(state)
        tripping.begin(desk, event)
        if crossed:
            tripping.look(desk, (event.symbol,))
        for trade in acting:
            holding.watch(desk, trade)
            tending.watch_basket(desk, trade)
            baskets.quoted(desk, trade)
        tripping.after(desk, event)
        return desk.out


def _acts(state: EngineState, trade: Trade) -> bool:
    """Whether a trade whose lines are held here, or which lies under a basket, has something to do at this quote."""
    return holding.acts(state, trade) or tending.basket_acts(state, trade) or baskets.acts(state, trade)


def _opened(desk: Desk, event: ev.Opened) -> None:
    state = desk.state
    state.prefix, state.serial, state.suspect = event.prefix, event.serial, event.suspect
    if event.suspect:
        text = (
            f"{event.suspect[:1].upper()}{event.suspect[1:]}: nothing is sent before the venue has told what it holds"
        )
        desk.tell("alarm", "suspect", text)
    if event.lost:
        state.halt = state.halt or Halted(event.time, "the record is older than what was done")
        text = (
            f"{fg.counted(event.lost, 'line')} of the record are lost, by an older copy or a full disk: perhaps"
            " trades, halts and guards that had latched. Entries are closed until you re-arm"
        )
        desk.tell("alarm", "record_older", text)
    if state.account is None or state.declared != event.account:
        if state.account not in (None, state.declared):
            desk.tell("caution", "account_file", "The account's file has changed: it replaces what was edited here")
        state.account = _with_limits(desk, event.account)
    state.declared, state.rates_read = event.account, event.time
    _instruments_changed(desk, event)
    state.link_up, state.reconciled, state.link_why = False, False, "not connected yet"
    state.figures_at = 0
    if not state.figured:  # what the file says stands there until the venue tells; no guard counts from it
        state.equity = event.account.equity
        state.balance = event.account.basis_money("balance")


def _with_limits(desk: Desk, account: Account) -> Account:
    """Another account's file: its looser limits wait like any others."""
    if desk.state.account is None:
        return account
    policy = take_policy(desk, desk.state.account.policy, account.policy)
    return msgspec.structs.replace(account, policy=policy)


def _instruments_changed(desk: Desk, event: ev.InstrumentsChanged | ev.Opened) -> None:
    take_instruments(desk, event.instruments, event.spans)
    for trade in desk.state.live():
        if trade.open_steps and not trade.leave:  # its session may end at another time
            tending.want_hours(desk, trade)


_ASIDE = {
    "crossed": "crossed quotes", "one_sided": "one-sided quotes", "unreadable": "messages that cannot be read",
    "foreign": "messages about foreign orders",
}  # fmt: skip


def _set_aside(desk: Desk, event: ev.SetAside) -> None:
    where = f"{event.symbol}: " if event.symbol else ""
    desk.tell("caution", "set_aside", f"{where}{event.count} {_ASIDE[event.what]} of the venue set aside so far")


def _record_failed(desk: Desk, event: ev.RecordFailed) -> None:
    if not desk.state.record_down:
        text = f"The record cannot be written ({event.why}): entries are closed, open trades are protected all the same"
        desk.tell("alarm", "record_down", text)
    desk.state.record_down = event.why


def _record_healed(desk: Desk, event: ev.RecordHealed) -> None:
    desk.state.record_down = ""
    kept = fg.counted(event.kept, "event")
    text = f"The record is written again, with {kept} kept meanwhile. It no longer closes entries"
    desk.tell("caution", "record_up", text)


def _bar(desk: Desk, event: ev.BarCompleted) -> None:
    tending.bar(desk, event)
    baskets.bar(desk, event)


def _rate(desk: Desk, event: ev.RateSeen) -> None:
    desk.state.rates[event.pair] = (event.mid, event.time)


def _turns(state: EngineState, event: ev.Figures) -> bool:
    """Whether figures tell more than money that has moved: the first of a session, a day's first, money paid in or
    out, and of an older record what several stand for."""
    first = not state.figures_at or event.time // DAY != state.day
    return first or event.transferred not in (None, state.transferred) or event.high > event.equity


def _figures(desk: Desk, event: ev.Figures) -> None:
    state = desk.state
    state.balance, state.equity, state.margin_used = event.balance, event.equity, event.margin_used
    state.figures_at = event.time
    if not state.figured:
        state.figured = True
        moneyguards.first_figures(state)
    _paid(desk, event.transferred)
    day = event.time // DAY
    if day != state.day:
        state.day, state.day_equity = day, event.equity
        _forget_ended(state)
    for guard, subject in moneyguards.watching(state):  # of an older record: what several figures stand for
        memory = remembered(state, guard, subject)
        if isinstance(guard, DrawdownSwitch) and memory is not None:
            memory.high = max(memory.high, event.equity, event.high)


def _paid(desk: Desk, transferred: float | None) -> None:
    """Money that was paid in or out since the venue last told: no result of a trade."""
    state = desk.state
    if transferred is None:
        return
    before, state.transferred = state.transferred, transferred
    amount = transferred - before if before is not None else 0.0
    if amount:
        moneyguards.transferred(state, amount)
        what = "paid in" if amount > 0 else "paid out"
        text = f"{fg.money(abs(amount), desk.currency)} {what}: no profit or loss, every limit counts without it"
        desk.tell("caution", "transferred", text)


def _forget_ended(state: EngineState) -> None:
    """Old ended trades live on in the ledger only; this bounds the state."""
    baskets.end_empty(state)
    old = [t for t in state.trades.values() if t.state == states.ENDED and state.now - t.ended > KEEP_ENDED]
    for trade in old:
        # What it won still counts in its basket; what it opened, where another hand has it now, is in the record.
        if trade.basket in state.baskets or trade.entry in state.unexplained:
            continue
        orders = [state.orders[name] for name in trade.order_ids]
        if all(order.over for order in orders) and trade.ended // DAY != state.now // DAY:
            del state.trades[trade.id]
            state.by_symbol[trade.symbol].remove(trade.id)
            for order in orders:
                del state.orders[order.id]
            if trade.group and not any(other.group == trade.group for other in state.trades.values()):
                state.groups.pop(trade.group, None)


def _instrument_state(desk: Desk, event: ev.InstrumentState) -> None:
    market = desk.state.markets.setdefault(event.symbol, Market())
    if event.open and not market.open:
        market.opened = desk.state.now
    market.open, market.until = event.open, event.until
    if event.open and event.until > desk.state.now:
        entering.session_ends(desk, event.symbol, event.until)
    for trade in desk.state.trades_in(event.symbol) if event.open else ():
        if trade.under_way:
            without_waiting(desk, trade)
        if trade.state == states.ENDED and trade.due:
            desk.later(f"{trade.due}:{trade.id}", 0)


def _timer(desk: Desk, event: ev.TimerFired) -> None:
    state = desk.state
    kind, name, *rest = event.name.split(":")
    if kind == "request":
        order = state.orders.get(name)
        if order is not None:
            if order.pending == "submit" and order.token == int(rest[0]):
                state.advance(order, "silence")
            desk.silent(order, int(rest[0]))
            converge(desk, state.trades[order.trade])
    elif kind == "guards":
        pass  # looked at before and after every event whose time has come
    elif kind == "basket":
        baskets.minute(desk, name)
    elif kind == "holdings":
        if int(name) == state.holdings_token and state.link_up and not state.reconciled:
            desk.compare()
    elif kind == "until":
        _overdue(desk, state.orders.get(name))
    elif name in state.trades:
        _trade_timer(desk, state.trades[name], kind, event)


def _overdue(desk: Desk, order: Order | None) -> None:
    """The venue should have given the order up by now, by our clock; its own may stand still."""
    if order is None or order.over or order.unwanted:
        return
    trade = desk.state.trades[order.trade]
    if order.role == "entry" and not trade.entered:
        leave(desk, trade, Reason(rs.ENTRY_GONE, name="expired"))
        converge(desk, trade)
    elif order.pending:  # it can be taken back once its answer is here
        desk.later(f"until:{order.id}", OVERDUE)
    else:
        desk.cancel(trade, order, "its time is up")


def _trade_timer(desk: Desk, trade: Trade, kind: str, event: ev.TimerFired) -> None:
    since = int(event.name.rpartition(":")[2]) if kind in ("settle", "deadline", "hours", "retry") else 0
    if kind == "retry":
        if since >= NO_MOMENT and since != trade.wake_at:
            return  # an earlier one has taken its place
        trade.wake_at = 0
        converge(desk, trade)
    elif kind == "minute":
        tending.watch_basket(desk, trade)
        converge(desk, trade)  # and its next minute
    elif kind == "settle":
        holding.settled(desk, trade, since)
    elif kind == "turn":
        following.turned(desk, trade, event)
    elif kind == "follow":
        following.followed(desk, trade, event)
    elif kind == "hours":
        tending.hours_ended(desk, trade, since)
    elif kind == "deadline":
        deadline(desk, trade, since)


def _about_order(action: Callable[..., None], *fields: str) -> Callable[[Desk, Any], None]:
    """A handler that finds the order an answer is about; answers about orders not ours are told."""

    def handler(desk: Desk, event: Any) -> None:
        order_id = event.known.order if isinstance(event, ev.OrderStatus) else event.order
        order = desk.state.orders.get(order_id)
        if order is None:
            desk.tell("caution", "order_not_ours", f"The venue speaks of an order Hawser does not know: {order_id}")
            return
        action(desk, order, *(getattr(event, field) for field in fields))

    return handler


_HANDLERS: dict[type, Callable[[Desk, Any], None]] = {
    ev.Opened: _opened,
    ev.InstrumentsChanged: _instruments_changed,
    ev.BarCompleted: _bar,
    ev.RateSeen: _rate,
    ev.Figures: _figures,
    ev.InstrumentState: _instrument_state,
    ev.VenueUp: lambda desk, event: reconciling.up(desk),
    ev.VenueDown: lambda desk, event: reconciling.down(desk, event.why),
    ev.OrderAccepted: _about_order(answers.accepted, "level"),
    ev.OrderRejected: _about_order(answers.rejected, "code", "text"),
    ev.OrderFilled: _about_order(answers.filled, "fill"),
    ev.OrderCancelled: _about_order(answers.cancelled, "why", "filled"),
    ev.AmendAccepted: _about_order(answers.amended, "level", "steps"),
    ev.AmendRejected: _about_order(answers.amend_refused, "code", "text"),
    ev.CancelRejected: _about_order(answers.cancel_refused, "code", "text"),
    ev.OrderStatus: _about_order(answers.status, "known"),
    ev.Holdings: reconciling.holdings,
    ev.Checked: reconciling.checked,
    ev.SetAside: _set_aside,
    ev.RecordFailed: _record_failed,
    ev.RecordHealed: _record_healed,
    ev.TimerFired: _timer,
    ev.PlaceTrade: entering.place,
    ev.PlaceStraddle: entering.place_straddle,
    ev.MoveEntry: entering.move_entry,
    ev.LinkEntries: entering.link,
    ev.FormBasket: baskets.form,
    ev.DissolveBasket: baskets.dissolve,
    ev.SetTarget: asks.set_target,
    ev.Reequip: asks.reequip,
    ev.HoldLines: asks.hold_lines,
    ev.Adopt: adopting.adopt,
    ev.MoveStop: asks.move_stop,
    ev.MoveTarget: asks.move_target,
    ev.CloseTrade: asks.close_trade,
    ev.CloseAll: asks.close_some,
    ev.BreakEven: asks.break_even,
    ev.TurnAround: asks.turn_around,
    ev.Halt: asks.halt,
    ev.Rearm: asks.rearm,
    ev.ChangeAccount: asks.change_account,
    ev.ChangeGuards: guardasks.change,
    ev.RearmGuard: guardasks.rearm,
    ev.Drill: guardasks.drill,
    ev.CalendarChanged: guardasks.calendar_changed,
}
