"""Compare what the engine believes with what the venue holds, and settle each difference: after
every connect, and where a check while the link stands has found one.

| difference | answer |
|---|---|
| our order, unknown there | its end is `missing`; the trade is protected anew |
| an order of ours there that we hold for ended | cancelled |
| an order there that is not ours | left alone, told |
| an order there by our name that no record has | cancelled once all that is open is covered |
| a quantity that differs | the venue's counts; stop and targets follow |
| a trade whose position is gone, or on the other side now | the trade has ended, told |
| a position there without a trade | told as an alarm and offered for adoption (`adopting.py`) |
"""

from __future__ import annotations

import math
from functools import partial

from hawser.core import figures as fg
from hawser.core.clock import SECOND
from hawser.engine import answers
from hawser.engine import events as ev
from hawser.engine.commands import Cancel
from hawser.engine.model import reasons as rs
from hawser.engine.model import transitions as states
from hawser.engine.model.exposure import Valuation, covered_steps
from hawser.engine.model.reasons import Reason
from hawser.engine.model.state import EngineState, Order, Trade
from hawser.engine.outbox import Outbox
from hawser.engine.protection.converge import converge, heard_out, without_waiting

# answers that lack a fill we know: then the venue has lost it, and its books count
OVERTAKEN_TRIES = 6
OVERTAKEN_PAUSE, LONGEST_PAUSE = SECOND // 4, 10 * SECOND


def up(outbox: Outbox) -> None:
    """The link stands: ask for everything."""
    state = outbox.state
    state.link_up, state.link_why, state.linked_at, state.compares = True, "", state.now, 0
    outbox.compare()
    for trade in state.under_way():  # what waited for the link
        converge(outbox, trade)


def down(outbox: Outbox, why: str) -> None:
    state = outbox.state
    state.link_up, state.link_why, state.reconciled = False, why, False
    held = sum(trade.held and trade.open_steps > 0 for trade in state.live())
    more = (
        f"; the held lines of {fg.counted(held, 'trade')} are not watched, only their backstops"
        if held
        else ""
    )
    outbox.tell(
        "alarm",
        "link_down",
        f"No link to the venue: {why}. Resting stops still protect at the venue{more}",
    )


def holdings(outbox: Outbox, event: ev.Holdings) -> None:
    """Settle every difference; entries stay closed until this is done."""
    state = outbox.state
    # Only the answer to the last question counts: an earlier one may come after it, and knows less.
    if event.token != state.holdings_token or state.reconciled:
        return
    state.compares += 1
    # The answer may have been overtaken by a fill: then it knows less than we do. The venue's clock
    # decides nothing here, it may have stepped back.
    since = {order.trade for order in state.orders.values() if order.token > event.token}
    overtaken = any(_lacks_fills(state, known) for known in event.asked) or any(
        state.trades[one].opened for one in since
    )
    if overtaken and state.compares <= OVERTAKEN_TRIES:
        _compare_later(outbox)
        return
    # Nothing is sent while the answer is gone through: what its first lines say may be undone by
    # its last.
    told = len(outbox.out)
    with heard_out(outbox):
        # first what entered, then what has left again
        for known in sorted(event.asked, key=partial(_closes, state)):
            order = state.orders.get(known.order)
            if order is not None:
                answers.held(outbox, order, known)
        # fills that are still on their way
        if _untold_fills(state) and state.compares <= OVERTAKEN_TRIES:
            _compare_later(outbox)
            return
        state.reconciled, state.compares, state.suspect = True, 0, ""
        # others, about which more was sent: by a check
        _positions(outbox, event.positions, set(state.trades) - since)
    _foreign_orders(outbox, event)
    for trade in state.under_way():
        market = state.markets.get(trade.symbol)
        if market is None or market.open:
            without_waiting(outbox, trade)
        # it is tried again when the market opens: until then each try would be one less that may
        # follow then
        else:
            converge(outbox, trade)
    for trade in state.trades.values():
        if (
            trade.progress.due
        ):  # what was to come after a trade, where nobody was there to carry it out
            outbox.later(f"{trade.progress.due}:{trade.id}", 0)
    if len(outbox.out) == told:
        count = fg.counted(len(event.positions), "position")
        outbox.tell("info", "reconciled", f"Checked with the venue: {count}, no differences")


def _lacks_fills(state: EngineState, known: ev.OrderReport) -> bool:
    """Whether an answer about an order lacks a fill of it that we have heard of."""
    order = state.orders.get(known.order)
    return order is not None and not set(order.fills) <= {fill.id for fill in known.fills}


def _closes(state: EngineState, known: ev.OrderReport) -> bool:
    order = state.orders.get(known.order)
    return order is not None and order.role not in ("entry", "rung")


def _untold_fills(state: EngineState) -> bool:
    return any(order.told_filled > order.filled for order in state.orders.values())


def _compare_later(outbox: Outbox) -> None:
    """Ask again, after a pause that grows."""
    state = outbox.state
    wait = min(LONGEST_PAUSE, OVERTAKEN_PAUSE << min(state.compares, 10))
    state.reconciled, state.holdings_token = False, outbox.number()
    outbox.later(f"holdings:{state.holdings_token}", wait)


def differs(state: EngineState, event: ev.Checked) -> bool:
    """Whether what the venue holds is anything but what is known, or wanted, of the trades that may
    be judged."""
    # A trade about which something was under way cannot be judged: the answer may be from before or
    # after it. One thing of it holds all the same: a stop that rests nearer than anybody here ever
    # wanted was put there by another hand.
    judged = set(event.quiet)
    for known in event.asked:
        order = state.orders.get(known.order)
        if order is None:
            continue
        if (
            _order_differs(state, order, known)
            if order.trade in judged
            else _nearer(state, order, known)
        ):
            return True
    if any(_left_over(state, name, judged) for name in event.resting):
        return True
    strays = _strays(state, event.resting)
    if strays != state.strays or _to_take_back(state, event):
        return True
    return _positions_differ(state, event.positions, judged)


def _nearer(state: EngineState, order: Order, known: ev.OrderReport) -> bool:
    return answers.nearer_elsewhere(state.trades[order.trade], order, known)


def _left_over(state: EngineState, name: str, judged: set[str]) -> bool:
    """Whether an order that rests at the venue is over by the record: what took it back was lost,
    there or on its way."""
    order = state.orders.get(name)
    if order is None or not order.over or not _spare(state, order):
        return False
    return order.trade in judged or _settled_long_ago(state, state.trades[order.trade])


def _spare(state: EngineState, order: Order) -> bool:
    """Whether an order that is over and rests all the same may be taken back: a stop, once others
    cover all."""
    trade = state.trades[order.trade]
    return order.role != "stop" or covered_steps(state, trade) >= trade.open_steps


def _order_differs(state: EngineState, order: Order, known: ev.OrderReport) -> bool:
    if not {fill.id for fill in known.fills} <= set(order.fills):
        return True
    if order.over:
        return False
    if order.pending:  # since before the question: its own answer is lost, or late
        return True
    stays = known.status == "resting" and order.state == states.RESTING
    same_level = order.kind == "market" or known.level == order.level
    trade = state.trades[order.trade]
    # nothing is about to take it back
    if stays and trade.state == states.ENDED and trade.wake_at <= state.now:
        return True
    if stays and order.role == "entry" and answers.displaced(trade, order, known):
        return True
    return not (stays and same_level and known.steps == order.steps)


def _positions_differ(
    state: EngineState, positions: tuple[ev.VenuePosition, ...], judged: set[str]
) -> bool:
    by_entry = {
        trade.entry.order_id: trade for trade in state.trades.values() if trade.entry.order_id
    }
    held = {position.id: position for position in positions}
    for position in positions:
        trade = by_entry.get(position.id)
        if trade is None or position.id in state.unexplained:
            if state.unexplained.get(position.id) != position:
                return True
        elif (
            trade.id in judged and (trade.open_steps, trade.side) != (position.steps, position.side)
        ) or (trade.state == states.ENDED and _settled_long_ago(state, trade)):
            return True
    if any(name not in held for name in state.unexplained):
        return True
    return any(
        trade.open_steps and trade.id in judged and trade.entry.order_id not in held
        for trade in state.live()
    )


def _settled_long_ago(state: EngineState, trade: Trade) -> bool:
    """Whether nothing of an ended trade can still be on its way."""
    over = all(state.orders[name].over for name in trade.order_ids)
    return over and state.now - trade.ended > 30 * SECOND


def checked(outbox: Outbox, event: ev.Checked) -> None:
    """Settle what a check has found, of the trades about which nothing is under way."""
    state, judged = outbox.state, set(event.quiet)
    told = len(outbox.out)
    with heard_out(outbox):
        for known in sorted(event.asked, key=partial(_closes, state)):
            order = state.orders.get(known.order)
            if order is None:
                continue
            if order.trade not in judged:
                if _nearer(state, order, known):
                    answers.take_nearer(outbox, order, known)
            elif _order_differs(state, order, known):
                answers.held(outbox, order, known)
        late = {
            one.id
            for one in state.trades.values()
            if one.state == states.ENDED and _settled_long_ago(state, one)
        }
        _positions(outbox, event.positions, judged | late)
    _foreign_orders(outbox, event)
    # one that is sent again says nothing new
    if any(not isinstance(command, Cancel) for command in outbox.out[told:]):
        outbox.tell(
            "caution",
            "check_differs",
            "A check with the venue has found what nobody had told: it is settled",
        )
    for name in event.quiet:
        if name in state.trades:
            converge(outbox, state.trades[name])


def _strays(state: EngineState, resting: tuple[str, ...]) -> tuple[str, ...]:
    """Orders at the venue by a name of ours that no record has: a session that could not write sent
    them."""
    return tuple(name for name in resting if name not in state.orders and state.is_ours(name))


def _all_covered(state: EngineState) -> bool:
    """Whether stops that the record has cover everything: also what is being closed, which may take
    hours."""
    return all(
        covered_steps(state, trade) >= trade.open_steps for trade in state.live() if not trade.left
    )


def _to_take_back(state: EngineState, event: ev.Holdings | ev.Checked) -> set[str]:
    """Which of them may go: what closes nothing at once, for it may open something yet; what may be
    a stop once stops that the record has cover everything."""
    # The worst that a stray can do is to be the only stop of a position. So it stays until that is
    # known not to be so.
    found = set(_strays(state, event.resting)) - _guarding(state, event)
    if _all_covered(state):
        return found
    return {name for name in found if event.closing is not None and name not in event.closing}


def _guarding(state: EngineState, event: ev.Holdings | ev.Checked) -> set[str]:
    """Orders by a name of ours that may be all that protects a position which no record has: where
    a copy of the record was put back, say, that is older than the trade. Where the venue does not
    tell what an order closes, any may."""
    known = {trade.entry.order_id for trade in state.live()}
    bare = {position.id for position in event.positions} - known
    strays = _strays(state, event.resting)
    return {
        name
        for name in strays
        if (bare if event.closing is None else event.closing.get(name) in bare)
    }


def _foreign_orders(outbox: Outbox, event: ev.Holdings | ev.Checked) -> None:
    state, resting = outbox.state, event.resting
    strays, guarding = _strays(state, resting), _guarding(state, event)
    for order_id in sorted(guarding - set(state.strays)):
        text = (
            "An order of ours that no record has protects a position that no record has: "
            f"{order_id} stays"
        )
        outbox.tell("caution", "stray_stays", text)
    for order_id in resting:
        order = state.orders.get(order_id)
        if order is None and order_id not in strays and order_id not in state.foreign:
            outbox.tell(
                "caution", "order_not_ours", f"Foreign order at the venue, left alone: {order_id}"
            )
        elif order is not None and order.over and _spare(state, order):
            trade = state.trades[order.trade]
            if order_id not in state.left_over:
                outbox.tell(
                    "caution",
                    "order_left_over",
                    f"A {order.role} order of an ended request still rests",
                    trade,
                )
            outbox.out.append(
                Cancel(order=order.id, trade=trade.id, symbol=trade.symbol, why="left over")
            )
        elif order is not None and not order.over and order.role in ("entry", "rung"):
            trade = state.trades[order.trade]
            if trade.left:  # what it opened would be tended by nobody
                why = "its trade is left as it rests"
                outbox.out.append(
                    Cancel(order=order.id, trade=trade.id, symbol=trade.symbol, why=why)
                )
    state.left_over = tuple(
        name for name in resting if name in state.orders and state.orders[name].over
    )
    state.foreign = tuple(
        name for name in resting if name not in state.orders and name not in strays
    )
    go = _to_take_back(state, event)
    # At the second sight only: at the first it may be an order of this moment whose record is still
    # being written.
    for order_id in strays:
        if order_id in state.strays and order_id in go:
            outbox.tell(
                "caution",
                "stray",
                f"An order of ours that no record has is taken back: {order_id}",
            )
            outbox.out.append(Cancel(order=order_id, trade="", symbol="", why="no record has it"))
    state.strays = strays


def _positions(outbox: Outbox, positions: tuple[ev.VenuePosition, ...], judged: set[str]) -> None:
    state = outbox.state
    by_entry = {
        trade.entry.order_id: trade for trade in state.trades.values() if trade.entry.order_id
    }
    unexplained: dict[str, ev.VenuePosition] = {}
    gone = {
        trade.entry.order_id: trade
        for trade in state.live()
        if trade.open_steps and trade.id in judged
    }
    for position in positions:
        trade = by_entry.get(position.id)
        another_s = position.id in state.unexplained and (
            trade is None or trade.state == states.ENDED
        )
        if trade is not None and trade.side == position.side and not trade.left and not another_s:
            gone.pop(position.id, None)
            if trade.id in judged and trade.open_steps != position.steps:
                _differs(outbox, trade, position.steps, position.entry)
            continue
        if trade is not None and trade.id not in judged and not trade.left and not another_s:
            gone.pop(position.id, None)
            continue
        unexplained[position.id] = position
    _tell_unexplained(outbox, unexplained, {position.id for position in positions})
    state.unexplained = unexplained
    for trade in gone.values():
        _differs(outbox, trade, 0)


def _tell_unexplained(outbox: Outbox, found: dict[str, ev.VenuePosition], there: set[str]) -> None:
    """What has become of positions that no trade explains: nobody else watches over them. `there`:
    the ids of all."""
    known = outbox.state.unexplained
    for name, position in found.items():
        side, was = fg.side_word(position.side), known.get(name)
        if was is None:
            text = (
                f"Foreign {side} position in {position.symbol}, without a stop of ours: adopt "
                "it, or close it there"
            )
            outbox.tell("alarm", "position_unexplained", text)
        elif (was.side, was.steps) != (position.side, position.steps):
            qty = outbox.state.instruments[position.symbol].qty(position.steps)
            text = f"The foreign position in {position.symbol} is another now: {side} {qty}"
            outbox.tell("caution", "position_changed", text)
    for name in sorted(known.keys() - there):
        outbox.tell(
            "info", "position_gone", f"The foreign position in {known[name].symbol} is closed"
        )


def _differs(outbox: Outbox, trade: Trade, steps: int, entry: float = 0.0) -> None:
    """The venue's quantity counts; `entry`: its average price, ticks."""
    # The venue's books are the money: a quantity that we believe in protects nobody. What differs
    # is told as an alarm, because either a message was lost or another hand is in the account.
    instrument = outbox.state.instruments[trade.symbol]
    ours, theirs = instrument.qty(trade.open_steps), instrument.qty(steps)
    outbox.tell(
        "alarm",
        "quantity_differs",
        f"Hawser held {ours} open, the venue {theirs}: the venue's counts",
        trade,
    )
    more = steps - trade.open_steps
    if more > 0:
        price, ours_at = entry or trade.entry_price or float(trade.ref), trade.entry_price
        # had been more than was known when it was closed
        over = max(0, trade.closed - trade.entered)
        trade.entry_value += ours_at * over + max(0.0, price * steps - ours_at * trade.open_steps)
        trade.entered += over + more
        if trade.state in (states.ENTERING, states.ENDED):
            trade.state = states.next_trade_state(trade.state, "open")
            trade.ended, trade.opened = 0, trade.opened or outbox.state.now
            trade.progress.best_exit = trade.progress.best_exit or outbox.state.markets[
                trade.symbol
            ].exit_side(trade.side)
    else:
        _book_unheard(outbox, trade, -more)
        trade.closed = trade.entered - steps
        if not steps:
            trade.end = Reason(rs.AT_VENUE)
    converge(outbox, trade)


def _book_unheard(outbox: Outbox, trade: Trade, steps: int) -> None:
    """Part of a trade was closed by a fill that nobody told: its result is taken as of the present
    quote, so that what counts losses counts it."""
    market = outbox.state.markets.get(trade.symbol)
    if market is None or not market.bid or not trade.entered:
        return
    ticks = trade.side * (market.exit_side(trade.side) - trade.entry_price)
    money = Valuation(outbox.state).money(trade.symbol, ticks, steps)
    if not math.isnan(money):
        trade.profit += money
