"""After every connect: compare what the engine believes with what the venue holds, and settle each difference.

| difference | answer |
|---|---|
| our order, unknown there | its end is `missing`; the trade is protected anew |
| an order of ours there that we hold for ended | cancelled |
| an order there that is not ours | left alone, told |
| a quantity that differs | the venue's counts; stop and targets follow |
| a trade whose position is gone | the trade has ended, told |
| a position there without a trade | told as an alarm and offered for adoption (`adopting.py`) |
"""

from __future__ import annotations

from hawser.core import figures as fg
from hawser.engine import answers, states
from hawser.engine import events as ev
from hawser.engine import reasons as rs
from hawser.engine.commands import Cancel
from hawser.engine.protecting import converge
from hawser.engine.reasons import Reason
from hawser.engine.requests import Desk
from hawser.engine.state import Trade


def up(desk: Desk) -> None:
    """The link stands: ask for everything."""
    state = desk.state
    state.link_up, state.link_why, state.linked_at = True, "", state.now
    desk.compare()


def down(desk: Desk, why: str) -> None:
    state = desk.state
    state.link_up, state.link_why, state.reconciled = False, why, False
    held = sum(trade.held and trade.open_steps > 0 for trade in state.live())
    more = f"; the held lines of {fg.counted(held, 'trade')} are not watched, only their backstops" if held else ""
    desk.tell("alarm", "link_down", f"No link to the venue: {why}. Resting stops still protect at the venue{more}")


def holdings(desk: Desk, event: ev.Holdings) -> None:
    """Settle every difference; entries stay closed until this is done."""
    state = desk.state
    if event.token != state.holdings_token or state.reconciled:
        return
    if event.as_of and state.last_fill > event.as_of:  # the answer was overtaken: it knows less than we do
        desk.compare()
        return
    state.reconciled = True
    told = len(desk.out)
    for known in event.asked:
        order = state.orders.get(known.order)
        if order is not None:
            answers.status(desk, order, known)
    if any(order.owed > order.filled for order in state.orders.values()):  # fills that are still on their way
        desk.compare()
        return
    _foreign_orders(desk, event)
    _positions(desk, event)
    for trade in state.live():
        converge(desk, trade)
    for trade in state.trades.values():
        if trade.due:  # what was to come after a trade, where nobody was there to carry it out
            desk.later(f"{trade.due}:{trade.id}", 0)
    if len(desk.out) == told:
        desk.tell("info", "reconciled", f"In step with the venue: {len(event.positions)} positions, nothing differs")


def _foreign_orders(desk: Desk, event: ev.Holdings) -> None:
    for order_id in event.resting:
        order = desk.state.orders.get(order_id)
        if order is None:
            desk.tell("caution", "order_not_ours", f"An order rests at the venue that Hawser did not send: {order_id}")
        elif order.over:
            trade = desk.state.trades[order.trade]
            desk.tell("caution", "order_left_over", f"A {order.role} order of an ended request still rests", trade)
            desk.out.append(Cancel(order=order.id, trade=trade.id, symbol=trade.symbol, why="left over"))


def _positions(desk: Desk, event: ev.Holdings) -> None:
    state = desk.state
    by_entry = {trade.entry: trade for trade in state.trades.values() if trade.entry}
    held = {position.id: position for position in event.positions}
    state.unexplained = {}
    for position in event.positions:
        trade = by_entry.get(position.id)
        if trade is None:
            side = "long" if position.side > 0 else "short"
            state.unexplained[position.id] = position
            what = f"a {side} position in {position.symbol} that no trade explains"
            text = f"The venue holds {what}: adopt it, or close it there"
            desk.tell("alarm", "position_unexplained", text)
        elif trade.open_steps != position.steps:
            _differs(desk, trade, position.steps)
    for trade in state.live():
        if trade.open_steps and trade.entry not in held:
            _differs(desk, trade, 0)


def _differs(desk: Desk, trade: Trade, steps: int) -> None:
    """The venue's quantity counts."""
    instrument = desk.state.instruments[trade.symbol]
    ours, theirs = instrument.qty(trade.open_steps), instrument.qty(steps)
    desk.tell("alarm", "quantity_differs", f"Hawser held {ours} open, the venue {theirs}: the venue's counts", trade)
    if steps > trade.open_steps:
        trade.entered += steps - trade.open_steps
        trade.entry_value += (steps - trade.open_steps) * trade.ref
        if trade.state in (states.ENTERING, states.ENDED):
            trade.state = states.next_trade_state(trade.state, "open")
            trade.ended, trade.opened = 0, trade.opened or desk.state.now
            trade.best_exit = trade.best_exit or desk.state.markets[trade.symbol].exit_side(trade.side)
    else:
        trade.closed = trade.entered - steps
        if not steps:
            trade.end = Reason(rs.AT_VENUE)
