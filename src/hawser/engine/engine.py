"""The engine: events in, commands out, nothing else. No clock, no thread, no file.

`Engine.handle` is the one funnel. The same events in the same order give the same commands, to the byte.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from hawser.core.clock import DAY, SECOND
from hawser.engine import (
    adopting,
    answers,
    asks,
    baskets,
    entering,
    following,
    guardasks,
    holding,
    reconciling,
    states,
    tending,
    tripping,
)  # fmt: skip
from hawser.engine import events as ev
from hawser.engine import reasons as rs
from hawser.engine.commands import AnyCommand
from hawser.engine.protecting import converge, deadline, leave, without_waiting
from hawser.engine.reasons import Reason
from hawser.engine.requests import Desk
from hawser.engine.state import EngineState, Market, Order, Trade

KEEP_ENDED = 3600 * SECOND  # how long an ended trade stays in the state for late answers


class Engine:
    """Owns an EngineState and folds events into it."""

    def __init__(self, state: EngineState | None = None) -> None:
        self.state = state or EngineState()
        self._bands: dict[str, tending.Band] = {}  # worked out from the state, no part of it

    def handle(self, event: ev.AnyEvent) -> list[AnyCommand]:
        """Fold one event; returns the commands that follow, in order."""
        state = self.state
        state.now = max(state.now, event.time)
        if type(event) is ev.Quote:  # the one event that comes thousands of times a second
            return self._quoted(event)
        self._bands.clear()
        desk = Desk(state)
        tripping.begin(desk)
        _HANDLERS[type(event)](desk, event)
        tripping.after(desk, event)
        return desk.out

    def _quoted(self, event: ev.Quote) -> list[AnyCommand]:
        state, band = self.state, self._bands.get(event.symbol)
        tending.seen(state, event)
        crossed = tripping.spread_crossed(state, event) if state.guards.guard else False
        if band is not None and not crossed and tending.quiet(band, event):
            return []
        held = tending.quote(state, event)
        desk = Desk(state)
        if crossed:
            tripping.look(desk, (event.symbol,))
        for trade in held:
            if trade.held:
                holding.watch(desk, trade)
            if tending.rig_watched(trade):
                tending.watch_basket(desk, trade)
            if trade.basket_quoted:
                baskets.quoted(desk, trade)
        self._bands[event.symbol] = tending.band_of(state, event.symbol)
        return desk.out


def _opened(desk: Desk, event: ev.Opened) -> None:
    state = desk.state
    state.prefix = event.prefix
    if state.account is None or state.declared != event.account:
        if state.account not in (None, state.declared):
            desk.tell("caution", "account_file", "The account's file has changed: it replaces what was edited here")
        state.account = event.account
    state.declared = event.account
    state.instruments = {instrument.symbol: instrument for instrument in event.instruments}
    state.link_up, state.reconciled, state.link_why = False, False, "not connected yet"
    state.figures_at = 0
    if not state.equity:
        state.equity = event.account.equity
        state.balance = event.account.basis_money("balance")


def _bar(desk: Desk, event: ev.BarCompleted) -> None:
    tending.bar(desk, event)
    baskets.bar(desk, event)


def _rate(desk: Desk, event: ev.RateSeen) -> None:
    desk.state.rates[event.pair] = (event.mid, event.time)


def _figures(desk: Desk, event: ev.Figures) -> None:
    state = desk.state
    state.balance, state.equity, state.margin_used = event.balance, event.equity, event.margin_used
    state.figures_at = event.time
    day = event.time // DAY
    if day != state.day:
        state.day, state.day_equity = day, event.equity
    _forget_ended(state)


def _forget_ended(state: EngineState) -> None:
    """Old ended trades live on in the ledger only; this bounds the state."""
    baskets.end_empty(state)
    old = [t for t in state.trades.values() if t.state == states.ENDED and state.now - t.ended > KEEP_ENDED]
    for trade in old:
        if trade.basket in state.baskets:  # what it won still counts there
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
    market.open, market.until = event.open, event.until
    for trade in desk.state.trades_in(event.symbol) if event.open else ():
        if trade.state != states.ENDED:
            without_waiting(desk, trade)


def _timer(desk: Desk, event: ev.TimerFired) -> None:
    state = desk.state
    kind, name, *rest = event.name.split(":")
    if kind == "request":
        order = state.orders.get(name)
        if order is not None:
            if order.pending == "submit" and order.token == int(rest[0]):
                order.state = states.next_order_state(order.state, "silence")
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
    elif not order.pending:
        desk.cancel(trade, order, "its time is up")


def _trade_timer(desk: Desk, trade: Trade, kind: str, event: ev.TimerFired) -> None:
    since = int(event.name.rpartition(":")[2]) if kind in ("settle", "deadline") else 0
    if kind == "retry":
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
