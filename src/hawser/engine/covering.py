"""The stops that cover a position, and the closes that end it. Both are split where the position is larger than the
greatest quantity of one order.
"""

from __future__ import annotations

from hawser.core.clock import MINUTE
from hawser.engine import reasons as rs
from hawser.engine import states
from hawser.engine.exposure import covered_steps
from hawser.engine.pacing import free_at
from hawser.engine.reasons import words
from hawser.engine.requests import Desk
from hawser.engine.state import Order, Trade

MOST_CLOSES = 4  # for one part of a position, under way at once
MOST_PARTS = 50  # orders that a position is split into at once; one that needs more is closed, as many at a time
LARGER_AGAIN = 10 * MINUTE  # after a venue has refused a quantity as too large, twice what it took is tried
EMERGENCY = 2  # times the least distance, for a stop that covers a trade while it is being closed


def due(desk: Desk, trade: Trade, role: str, number: int, retry_at: int, parts: int = 1) -> bool:
    """Whether a request of a line, split into `parts`, may leave now; where not, the trade is looked at again when it
    may, or when the link stands again: what is sent without one is lost, and missing among what may follow then."""
    if not desk.state.link_up:
        return False
    at = max(retry_at, free_at(desk.state, trade, role, number, parts))
    if at > desk.state.now:
        desk.wake(trade, at)
        return False
    return True


def most_steps(desk: Desk, trade: Trade) -> int:
    """The greatest quantity of one order: the instrument's, or less where the venue has refused that of late."""
    most = max(1, desk.state.instruments[trade.symbol].qty_max_steps)
    return min(most, trade.most) if trade.most else most


def _try_larger(desk: Desk, trade: Trade) -> None:
    """What a venue refused as too large some time ago it may take now."""
    if trade.most and desk.state.now - trade.most_at >= LARGER_AGAIN:
        trade.most, trade.most_at = 2 * trade.most, desk.state.now
        if trade.most >= desk.state.instruments[trade.symbol].qty_max_steps:
            trade.most = 0


def parts_of(desk: Desk, trade: Trade) -> int:
    """How many orders it would take to cover a position, or to close it."""
    return -(-trade.open_steps // most_steps(desk, trade))


def want_stops(desk: Desk, trade: Trade) -> None:
    """Stops for all that is open: those there are keep what they cover, then take as much more as one order may, and
    new ones what is left."""
    _try_larger(desk, trade)
    most, left = most_steps(desk, trade), trade.open_steps
    live = sorted(desk.state.orders_of(trade, "stop"), key=lambda one: (one.state != states.RESTING, one.number))
    shares: dict[str, int] = {}
    for order in live:
        shares[order.id] = min(order.surely_left, most, left)
        left -= shares[order.id]
    for order in live:
        more = min(most - shares[order.id], left)
        shares[order.id] += more
        left -= more
    if not _crowded(desk, trade):
        _new_stops(desk, trade, left, {order.number for order in live})
    for order in live:
        _keep_stop(desk, trade, order, shares[order.id])


def _crowded(desk: Desk, trade: Trade) -> bool:
    """All is covered by what rests, and more orders than there may be would be needed to cover it anew: some of them
    beside what rests would only cover a part twice."""
    return parts_of(desk, trade) > MOST_PARTS and covered_steps(desk.state, trade) >= trade.open_steps


def _new_stops(desk: Desk, trade: Trade, left: int, taken: set[int]) -> None:
    most, free = most_steps(desk, trade), (number for number in range(MOST_PARTS) if number not in taken)
    while left > 0 and (number := next(free, None)) is not None:
        if _close_sets_out(desk, trade) or not due(desk, trade, "stop", number, trade.stop_retry_at):
            return
        desk.submit(trade, "stop", "stop", min(left, most), _restable(desk, trade), trade.stop_why, number)
        left -= most


def _keep_stop(desk: Desk, trade: Trade, order: Order, steps: int) -> None:
    """One resting stop: at the level that is wanted, for `steps` of what is open; taken back where others cover all."""
    if order.pending or order.state != states.RESTING:
        return
    level, needed = trade.venue_stop, order.filled + steps
    if order.level is not None and _stays(trade, order, order.level):
        level = order.level
    if not desk.state.reconciled and order.left >= steps:
        return  # an older record may not know how near it rests: what the venue holds comes first
    if (order.level == level and order.steps == needed) or not due(desk, trade, "stop", order.number, order.retry_at):
        return
    if not steps:
        desk.cancel(trade, order, "another stop rests for the position")
    elif order.left > steps and _surely_covered(desk, trade) - order.surely_left + steps < trade.open_steps:
        _cannot_move(desk, trade, order)  # it covers more than one order may now: it stays until the others rest
    else:
        open_qty = desk.state.instruments[trade.symbol].qty(trade.open_steps)
        moves = order.level != level
        why = trade.stop_why if moves else f"Stop quantity follows the position: {open_qty}"
        desk.amend(trade, order, level, needed, why, trade.stop_code if moves else rs.QTY)


def _surely_covered(desk: Desk, trade: Trade) -> int:
    """Steps that what rests covers, whatever has become of changes that make it less."""
    return sum(one.surely_left for one in desk.state.orders_of(trade, "stop") if one.state == states.RESTING)


def _stays(trade: Trade, order: Order, level: int) -> bool:
    """Whether one of several stops stays at the level where the venue has it. It does until another than the one that
    it gave up is wanted; where it rests nearer to the market than that, until a still nearer one is, or a person moves
    them away. One that rests nearer only because the venue or another hand has put it there stays too."""
    wanted = trade.venue_stop
    if order.given_up == wanted:
        return True
    nearer = trade.side * (level - wanted) > 0
    moved_away = not order.given_up or trade.side * (wanted - order.given_up) < 0
    return nearer and (trade.stop_code in rs.AS_IT_RESTS or not moved_away)


def _cannot_move(desk: Desk, trade: Trade, order: Order) -> None:
    """A stop that stays where it is, because too many orders would have to take its place; told once for a level."""
    if order.level in (None, trade.venue_stop) or order.given_up == trade.venue_stop or not _crowded(desk, trade):
        return
    instrument, parts = desk.state.instruments[trade.symbol], parts_of(desk, trade)
    order.given_up = trade.venue_stop
    most, level = instrument.qty(most_steps(desk, trade)), instrument.price(order.level)
    text = f"The stop stays at {level}: one order takes {most} at most, and {parts} orders would have to replace it"
    desk.tell("caution", "stop_stays", text, trade)


def _restable(desk: Desk, trade: Trade) -> int:
    """The stop's level; farther out where time is up and the market stands too near to it: some cover is better than
    none while the trade is being closed, and it is told."""
    wanted = trade.venue_stop
    if not trade.hurried:
        return wanted
    instrument, market = desk.state.instruments[trade.symbol], desk.state.markets[trade.symbol]
    nearest = market.exit_side(trade.side) - trade.side * EMERGENCY * max(1, instrument.min_stop_ticks)
    level = max(1, min(wanted, nearest) if trade.side > 0 else max(wanted, nearest))
    if level not in (wanted, trade.emergency):
        text = f"The stop cannot rest so near: one at {instrument.price(level)} covers the trade while it is closed"
        desk.tell("alarm", "emergency_stop", text, trade)
        trade.emergency = level
    return level


def _close_sets_out(desk: Desk, trade: Trade) -> bool:
    """A close has just been sent, and before its time is up nothing says that it needs a stop beside it."""
    closes = desk.state.orders_of(trade, "close")
    return not trade.hurried and any(order.state == states.SENDING for order in closes)


def want_close(desk: Desk, trade: Trade) -> None:
    """Closes for all that is open. Where the time without cover is up, those that nothing is heard of do not count: no
    close ever fills beyond the position, so that one too many does no harm. In a market that is shut nothing fills, and
    what is sent there would be missing among the tries when it opens."""
    closes, trading = desk.state.orders_of(trade, "close"), desk.state.markets[trade.symbol].open
    most, parts = most_steps(desk, trade), min(MOST_PARTS, parts_of(desk, trade))
    counted = [order for order in closes if not (trade.hurried and trading and order.silences)]
    left, room = trade.open_steps - sum(order.left for order in counted), MOST_PARTS - len(counted)
    room = min(room, MOST_CLOSES * parts - len(closes))
    while left > 0 and room > 0 and due(desk, trade, "close", 0, trade.close_retry_at, parts):
        desk.submit(trade, "close", "market", min(left, most), None, words(trade.leave, desk.currency))
        left, room = left - most, room - 1
