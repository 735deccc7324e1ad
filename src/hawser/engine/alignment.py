"""Where folding an event gives other commands than were recorded: what was really sent counts.

That happens when Hawser is killed and started again by a version whose rules differ: the events since the last snapshot
are folded by rules that decide otherwise, and the venue holds orders under the names of the old ones. The orders of the
state are made those that were recorded; whatever else differs is settled with the venue, before anything is sent.
"""

from __future__ import annotations

from hawser.engine import reasons as rs
from hawser.engine import states
from hawser.engine.commands import Amend, AnyCommand, Cancel, Submit
from hawser.engine.reasons import Reason
from hawser.engine.state import EngineState, Order, Trade


def effective(commands: list[AnyCommand]) -> list[tuple[object, ...]]:
    """What commands mean to the venue: no words, no timers, no questions."""
    found: list[tuple[object, ...]] = []
    for one in commands:
        if isinstance(one, Submit):
            found.append((
                "submit", one.order, one.trade, one.symbol, one.role, one.side, one.kind, one.steps, one.level,
                one.closes, one.bound, one.until, one.adds,
            ))  # fmt: skip
        elif isinstance(one, Amend):
            found.append(("amend", one.order, one.level, one.steps, one.bound))
        elif isinstance(one, Cancel):
            found.append(("cancel", one.order))
    return found


def align(state: EngineState, folded: list[AnyCommand], recorded: list[AnyCommand]) -> None:
    """Make the orders of `state`, in which an event has just been folded, those that were recorded with it."""
    ours = [one for one in folded if isinstance(one, Submit)]
    sent = [one for one in recorded if isinstance(one, Submit)]
    for one in sent:
        state.counter = max(state.counter, _number(one.order), _number(one.trade))
    left = list(ours)
    for one in sent:
        match = next((other for other in left if _alike(other, one)), None)
        if match is not None:
            left.remove(match)
            if match.order != one.order:
                _rename_order(state, match.order, one.order)
            if match.trade != one.trade and match.trade in state.trades and one.trade not in state.trades:
                _rename_trade(state, match.trade, one.trade)
            order = state.orders.get(one.order)
            if order is not None:
                order.steps, order.level, order.bound, order.until = one.steps, one.level, one.bound, one.until
        elif one.trade in state.trades and one.order not in state.orders:
            _add(state, state.trades[one.trade], one)
    for one in left:
        _never_sent(state, one)


def _number(name: str) -> int:
    """The counted part of a name that this ledger gave."""
    digits = name.rpartition("-")[2].lstrip("T")
    return int(digits) if digits.isdecimal() else 0


def _alike(one: Submit, other: Submit) -> bool:
    return (one.role, one.symbol, one.side, one.kind) == (other.role, other.symbol, other.side, other.kind)


def _rename_order(state: EngineState, old: str, new: str) -> None:
    order = state.orders.pop(old, None)
    if order is None or new in state.orders:
        return
    order.id = new
    state.orders[new] = order
    trade = state.trades[order.trade]
    trade.order_ids = [new if name == old else name for name in trade.order_ids]
    if trade.entry == old:
        trade.entry = new


def _rename_trade(state: EngineState, old: str, new: str) -> None:
    trade = state.trades.pop(old)
    trade.id = new
    state.trades[new] = trade
    state.by_symbol[trade.symbol] = [new if name == old else name for name in state.by_symbol[trade.symbol]]
    for name in trade.order_ids:
        state.orders[name].trade = new
    state.groups = {group: new if first == old else first for group, first in state.groups.items()}


def _add(state: EngineState, trade: Trade, sent: Submit) -> None:
    """An order that was sent and is not decided any more: it may rest or have filled."""
    order = Order(sent.order, trade.id, sent.role, sent.side, sent.kind, sent.steps, sent.level, bound=sent.bound,
                  until=sent.until)  # fmt: skip
    state.orders[order.id] = order
    trade.order_ids.append(order.id)


def _never_sent(state: EngineState, one: Submit) -> None:
    """An order that is decided now and was not then."""
    order = state.orders.pop(one.order, None)
    if order is None:
        return
    trade = state.trades[order.trade]
    trade.order_ids.remove(order.id)
    if trade.entry == order.id and not trade.entered:
        trade.state, trade.ended = states.ENDED, state.now
        trade.end, trade.entry = Reason(rs.ENTRY_GONE, name="never sent"), ""
