"""Where folding an event gives other commands than were recorded: what was really sent counts.

That happens when Hawser is killed and started again by a version whose rules differ: the events
since the last snapshot are folded by rules that decide otherwise, and the venue holds orders under
the names of the old ones. The orders of the state are made those that were recorded; whatever else
differs is settled with the venue, before anything is sent.
"""

from __future__ import annotations

from hawser.engine.commands import Amend, AnyCommand, Cancel, QueryAll, StartTimer, Submit
from hawser.engine.model import reasons as rs
from hawser.engine.model import transitions as states
from hawser.engine.model.reasons import Reason
from hawser.engine.model.state import EngineState, Order, Trade
from hawser.engine.outbox import NO_MOMENT


def effective(commands: list[AnyCommand]) -> list[tuple[object, ...]]:
    """What commands mean to the venue: no words, no timers, no questions."""
    found: list[tuple[object, ...]] = []
    for one in commands:
        if isinstance(one, Submit):
            found.append(
                (
                    "submit",
                    one.order,
                    one.trade,
                    one.symbol,
                    one.role,
                    one.side,
                    one.kind,
                    one.steps,
                    one.level,
                    one.closes,
                    one.bound,
                    one.until,
                    one.adds,
                )
            )
        elif isinstance(one, Amend):
            found.append(("amend", one.order, one.level, one.steps, one.bound))
        elif isinstance(one, Cancel):
            found.append(("cancel", one.order))
    return found


def align(state: EngineState, folded: list[AnyCommand], recorded: list[AnyCommand]) -> None:
    """Make the orders of `state`, in which an event has just been folded, those that were recorded
    with it; and all numbers that names and answers are told apart by."""
    left = [one for one in folded if isinstance(one, Submit)]
    sent = [one for one in recorded if isinstance(one, Submit)]
    renamed: list[tuple[Submit, Submit]] = []
    for one in sent:
        match = next((other for other in left if _alike(other, one)), None)
        if match is not None:
            left.remove(match)
            renamed.append((match, one))
    for one in left:
        _never_sent(state, one)
    _rename_orders(state, {ours.order: theirs.order for ours, theirs in renamed})
    for ours, theirs in renamed:
        if (
            ours.trade != theirs.trade
            and ours.trade in state.trades
            and theirs.trade not in state.trades
        ):
            _rename_trade(state, ours.trade, theirs.trade)
        order = state.orders.get(theirs.order)
        if order is not None:
            order.steps, order.level, order.bound, order.until = (
                theirs.steps,
                theirs.level,
                theirs.bound,
                theirs.until,
            )
    for one in sent:
        if one.trade in state.trades and one.order not in state.orders:
            _add(state, state.trades[one.trade], one)
    _number_alike(state, recorded)


def _number_alike(state: EngineState, recorded: list[AnyCommand]) -> None:
    """The counter and the tokens as they were: later events speak of them."""
    numbers = [_number(one.order) for one in recorded if isinstance(one, Submit)]
    numbers += [_number(one.trade) for one in recorded if isinstance(one, Submit)]
    for one in recorded:
        if isinstance(one, QueryAll):
            state.holdings_token = one.token
            numbers.append(one.token)
        elif isinstance(one, StartTimer):
            kind, name, *rest = one.name.split(":")
            token = int(rest[-1]) if rest and rest[-1].isdecimal() else 0
            if kind == "request" and name in state.orders:
                state.orders[name].token = token
            if kind == "retry" and token >= NO_MOMENT and name in state.trades:
                state.trades[name].wake_at = token
            elif kind in ("request", "retry"):
                numbers.append(token)
    if numbers:
        state.counter = max(numbers)


def _number(name: str) -> int:
    """The counted part of a name that this ledger gave."""
    digits = name.rpartition("-")[2].lstrip("T")
    return int(digits) if digits.isdecimal() else 0


def _alike(one: Submit, other: Submit) -> bool:
    return (one.role, one.symbol, one.side, one.kind) == (
        other.role,
        other.symbol,
        other.side,
        other.kind,
    )


def _rename_orders(state: EngineState, names: dict[str, str]) -> None:
    """All at once: what one is called now another may have been called."""
    taken = [(state.orders.pop(old), new) for old, new in names.items() if old in state.orders]
    for order, new in taken:
        trade = state.trades[order.trade]
        trade.order_ids = [new if name == order.id else name for name in trade.order_ids]
        trade.live_ids = [new if name == order.id else name for name in trade.live_ids]
        if trade.entry.order_id == order.id:
            trade.entry.order_id = new
        order.id = new
        state.orders[new] = order


def _rename_trade(state: EngineState, old: str, new: str) -> None:
    trade = state.trades.pop(old)
    trade.id = new
    state.trades[new] = trade
    state.by_symbol[trade.symbol] = [
        new if name == old else name for name in state.by_symbol[trade.symbol]
    ]
    for name in trade.order_ids:
        state.orders[name].trade = new
    state.groups = {group: new if first == old else first for group, first in state.groups.items()}


def _add(state: EngineState, trade: Trade, sent: Submit) -> None:
    """An order that was sent and is not decided any more: it may rest or have filled."""
    order = Order(
        id=sent.order,
        trade=trade.id,
        role=sent.role,
        side=sent.side,
        kind=sent.kind,
        steps=sent.steps,
        level=sent.level,
        bound=sent.bound,
        until=sent.until,
    )
    state.orders[order.id] = order
    trade.order_ids.append(order.id)
    state.list_live(trade, order)


def _never_sent(state: EngineState, one: Submit) -> None:
    """An order that is decided now and was not then."""
    order = state.orders.pop(one.order, None)
    if order is None:
        return
    trade = state.trades[order.trade]
    trade.order_ids.remove(order.id)
    if order.id in trade.live_ids:
        trade.live_ids.remove(order.id)
    if trade.entry.order_id == order.id and not trade.entered:
        trade.state, trade.ended = states.ENDED, state.now
        trade.end, trade.entry.order_id = Reason(rs.ENTRY_GONE, name="never sent"), ""
