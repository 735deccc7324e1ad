"""The venue's answers about orders, folded into orders and trades. Each may come late, twice, or out of order."""

from __future__ import annotations

from hawser.core.rules.rounding import level_ticks
from hawser.engine import events as ev
from hawser.engine import reasons as rs
from hawser.engine import states
from hawser.engine.anchoring import anchor
from hawser.engine.entering import first_fill, moved
from hawser.engine.protecting import RETRY, ROLE_NAMES, TARGET_RETRY, converge, leave, retry_later, signal
from hawser.engine.reasons import Reason, words
from hawser.engine.requests import Desk, settled
from hawser.engine.state import Order, Rest, Rung, TargetLine, Trade

LEVEL_TRIES = 2  # refusals of its level after which an exposed trade no longer waits for its stop
# Refusals that the same level would meet again.
LEVEL_CODES = {"too_near", "wrong_side", "bad_level"}


def accepted(desk: Desk, order: Order) -> None:
    """The order rests, or is about to fill. A late acceptance of a request already answered changes nothing."""
    order.state = states.next_order_state(order.state, "accept")
    if order.pending in ("submit", "query"):
        settled(order)
    trade = desk.state.trades[order.trade]
    if order.role == "stop" and not order.over:
        _note_rest(desk, trade, order)
    converge(desk, trade)


def _note_rest(desk: Desk, trade: Trade, order: Order) -> None:
    if not trade.held and order.level is not None and (not trade.trace or trade.trace[-1].level != order.level):
        trade.trace.append(Rest(desk.state.now, order.level))


def rejected(desk: Desk, order: Order, code: str, text: str) -> None:
    """The venue said no to a new order."""
    if order.over:
        return
    trade = desk.state.trades[order.trade]
    order.state = states.next_order_state(order.state, "reject")
    settled(order)
    if order.role == "close" and code == "no_position" and not trade.open_steps:
        converge(desk, trade)  # sent beside one that has closed it meanwhile: no failure
        return
    desk.tell("caution", f"rejected_{code}", f"The venue refused the {order.role} order: {text}", trade)
    _without(desk, trade, order, code, text)


def _without(desk: Desk, trade: Trade, order: Order, code: str, text: str) -> None:
    """What follows where an order of `trade` came to nothing."""
    if code == "no_position" and trade.open_steps and desk.state.reconciled:
        desk.tell("caution", "nothing_to_close", "The venue holds nothing to close: comparing with it", trade)
        desk.compare()
    if order.role == "entry":
        trade.end = Reason(rs.ENTRY_GONE if code == "cancelled" else rs.ENTRY_REFUSED, name=text)
    elif order.role == "rung":
        _without_rung(desk, trade, order, code, text)
    elif order.role == "stop":
        trade.stop_failures += 1
        market = desk.state.markets[trade.symbol]
        if trade.side * (market.exit_side(trade.side) - trade.venue_stop) <= 0 and trade.open_steps:
            desk.tell("caution", "stop_passed", "The market is already at the stop: closing", trade)
            leave(desk, trade, Reason(rs.STOP_PASSED))
        elif code in LEVEL_CODES and trade.stop_failures >= LEVEL_TRIES and trade.open_steps and trade.exposed_since:
            desk.tell("caution", "stop_impossible", "No stop may rest so near the market: closing", trade)
            trade.hurried = True
            leave(desk, trade, Reason(rs.STOP_TOO_NEAR))
        trade.stop_retry_at = retry_later(desk, trade, RETRY)
    elif order.role == "close":
        trade.close_failures += 1
        if trade.close_failures in (3, 10, 30, 100):
            desk.tell("alarm", "close_fails", f"Closing has failed {trade.close_failures} times: {text}", trade)
        trade.close_retry_at = retry_later(desk, trade, RETRY)
    else:
        line = line_of(trade, order)
        if line is not None:
            line.retry_at = retry_later(desk, trade, TARGET_RETRY)
    converge(desk, trade)


def _without_rung(desk: Desk, trade: Trade, order: Order, code: str, text: str) -> None:
    """A rung is tried again, but one that the margin forbids is given up: what is open is protected as it is."""
    rung = rung_of(trade, order)
    if code == "margin":
        rung.steps = rung.filled
        desk.tell("caution", "rung_given_up", f"Rung {rung.number} is given up: {text}", trade)
    else:
        rung.retry_at = retry_later(desk, trade, TARGET_RETRY)


def filled(desk: Desk, order: Order, fill: ev.Fill) -> None:
    """A fill, counted once however often it is told."""
    if fill.id in order.fills:
        return
    trade = desk.state.trades[order.trade]
    order.fills.append(fill.id)
    desk.state.last_fill = max(desk.state.last_fill, fill.time)
    order.filled += fill.steps
    # A change whose answer is not here yet, or was lost, may have made the order larger than what is known of it.
    whole = order.filled == max(order.steps, order.hoped)
    order.state = states.next_order_state(order.state, "whole" if whole else "part")
    if not whole and order.filled >= order.steps and not order.pending:
        desk.query(order)
    # A part says nothing of a part before it, whose telling may be lost: the request is still asked about.
    if order.over:
        settled(order)
    trade.commission += fill.commission
    if order.role in ("entry", "rung"):
        _entered(desk, trade, order, fill)
    else:
        _left(desk, trade, order, fill)
    converge(desk, trade)


def _entered(desk: Desk, trade: Trade, order: Order, fill: ev.Fill) -> None:
    trade.entered += fill.steps
    trade.entry_value += fill.steps * fill.price
    instrument, market = desk.state.instruments[trade.symbol], desk.state.markets[trade.symbol]
    if not trade.opened:
        trade.opened = fill.time
        trade.best_exit = market.exit_side(trade.side)
        trade.entry_equity = desk.state.equity
    if trade.state in (states.ENTERING, states.ENDED):
        late = trade.state == states.ENDED
        signal(desk, trade, "open")
        trade.ended = 0
        if late:
            desk.tell("alarm", "late_fill", f"The {order.role} filled after it had been given up", trade)
        if trade.leave or late:
            leave(desk, trade, Reason(rs.LATE_FILL, name=order.role))
    word = "long" if trade.side > 0 else "short"
    text = f"{word} {instrument.qty(fill.steps)} {trade.symbol} at {instrument.price(fill.price)}"
    if order.role == "rung":
        rung = rung_of(trade, order)
        rung.filled += fill.steps
        trade.fresh += fill.steps
        average = instrument.price(level_ticks(trade.entry_price, trade.side))
        desk.tell("info", "rung_entered", f"Rung {rung.number} entered {text}: average {average}", trade)
        return
    desk.tell("info", "entered", f"Entered {text}", trade)
    anchor(desk, trade)
    if trade.held and not trade.trace:
        trade.trace.append(Rest(desk.state.now, trade.stop))
    first_fill(desk, trade)


def rung_of(trade: Trade, order: Order) -> Rung:
    """The rung that an order is for."""
    return next(rung for rung in trade.rungs if rung.number == order.number)


def line_of(trade: Trade, order: Order) -> TargetLine | None:
    """The target or loss step that an order is for."""
    lines = {"target": trade.targets, "loss": trade.losses}.get(order.role, [])
    return next((line for line in lines if line.number == order.number), None)


def _left(desk: Desk, trade: Trade, order: Order, fill: ev.Fill) -> None:
    over = trade.closed + fill.steps - trade.entered
    trade.closed += fill.steps
    trade.profit += fill.profit
    instrument = desk.state.instruments[trade.symbol]
    by = _left_by(trade, order)
    line = line_of(trade, order)
    if line is not None:
        line.filled += fill.steps
        line.whole = line.whole or trade.open_steps <= trade.fresh
    if trade.closed >= trade.entered:
        trade.end = by
    qty, price = instrument.qty(fill.steps), instrument.price(fill.price)
    text = f"Left {qty} {trade.symbol} at {price} by {words(by, desk.currency)}"
    desk.tell("info", "left", text, trade)
    if over > 0:
        desk.tell("alarm", "overfilled", f"{instrument.qty(over)} more was closed than was open", trade)


def _left_by(trade: Trade, order: Order) -> Reason:
    """What a fill of an order that closes is due to."""
    if order.role == "close":
        return trade.leave or Reason(rs.CLOSED)
    code = {"stop": rs.STOP, "target": rs.TARGET, "loss": rs.LOSS_STEP}[order.role]
    return Reason(code, order.number if order.role != "stop" else 0)


def cancelled(desk: Desk, order: Order, why: str, filled: int = 0) -> None:
    """The order is gone, by our wish or the venue's. `filled`: what it had filled; fills not told yet are asked for."""
    order.owed = max(order.owed, filled)
    if order.over:
        return
    trade = desk.state.trades[order.trade]
    moot = not trade.open_steps and order.role != "entry"
    wished = order.unwanted or moot or bool(trade.leave)
    unheard = order.state in (states.SENDING, states.UNKNOWN) or order.pending == "submit"
    order.state = states.next_order_state(order.state, "cancel")
    settled(order)
    if unheard or order.owed > order.filled:  # what it filled before may not have been told
        desk.query(order)
    if wished:
        converge(desk, trade)
    else:
        desk.tell("caution", "cancelled_by_venue", f"The venue gave the {order.role} order up: {why}", trade)
        _without(desk, trade, order, "cancelled", why)


def amended(desk: Desk, order: Order, level: int, steps: int) -> None:
    trade = desk.state.trades[order.trade]
    if steps == order.hoped:  # else an older change, told again
        order.hoped = 0
    if order.role == "entry":
        moved(desk, trade, level, steps)
    if order.over:
        return
    if order.role != "entry" or (trade.ref, trade.asked_steps) == (level, steps):  # else an older move, told again
        order.level, order.steps = level, steps
    if order.pending in ("amend", "query"):
        settled(order)
    if order.role == "stop":
        _note_rest(desk, trade, order)
    converge(desk, trade)


def amend_refused(desk: Desk, order: Order, code: str, text: str) -> None:
    """The order rests as it did. A level the venue won't have is given up; anything else is tried again."""
    if order.over:
        return
    trade = desk.state.trades[order.trade]
    settled(order)
    if order.filled >= order.steps:  # it may be at its end, or larger than is known
        desk.query(order)
        return
    if code in LEVEL_CODES and order.level is not None:
        if order.role == "stop" and trade.venue_stop != order.level:
            desk.tell("caution", "move_refused", f"The venue refused to move the stop: {text}", trade)
            trade.stop_why, trade.stop_code = "kept where it rests", rs.KEPT
            if trade.held:
                trade.backstop = order.level
            else:
                trade.stop = order.level
        if order.role == "entry" and trade.moving is not None:
            desk.tell("caution", "move_refused", f"The venue refused to move the entry: {text}", trade)
            trade.moving, trade.then = trade.then, None
        line = line_of(trade, order)
        if line is not None and line.level != order.level and not trade.rungs:  # a ladder's is where the average says
            name = f"{ROLE_NAMES[order.role]} {line.number}"
            desk.tell("caution", "move_refused", f"The venue refused to move {name}: {text}", trade)
            line.level = order.level
    order.retry_at = retry_later(desk, trade, RETRY)
    converge(desk, trade)


def cancel_refused(desk: Desk, order: Order, code: str, text: str) -> None:
    """The cancel did not work: ask what the order is now, after a pause where it was a passing refusal."""
    if not order.over:
        settled(order)
        desk.query(order)


def status(desk: Desk, order: Order, known: ev.Known) -> None:
    """What the venue knows of an order: missed fills first, then where it stands."""
    for fill in known.fills:
        filled(desk, order, fill)
    trade = desk.state.trades[order.trade]
    order.hoped = 0
    settled(order)
    if order.over:
        return
    if known.status == "resting":
        order.level = known.level if order.kind != "market" else None
        order.steps = known.steps
        if order.role == "entry":
            moved(desk, trade, known.level, known.steps)
        accepted(desk, order)
    elif known.status == "filled":  # with all its fills, which were taken above
        order.steps = order.filled
        order.state = states.next_order_state(order.state, "whole")
        converge(desk, trade)
    elif known.status == "cancelled":
        cancelled(desk, order, "cancelled at the venue")
    elif known.status == "rejected":
        rejected(desk, order, "refused", "refused while nobody heard the answer")
    else:
        order.state = states.next_order_state(order.state, "lost")
        desk.tell("caution", "request_lost", f"The venue never got the {order.role} order", trade)
        _without(desk, trade, order, "lost", "the venue never got the order")
