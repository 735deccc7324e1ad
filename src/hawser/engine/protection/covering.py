"""The stops that cover a position, and the closes that end it. Both are split where the position is
larger than the greatest quantity of one order.
"""

from __future__ import annotations

from hawser.core.clock import MINUTE
from hawser.engine.model import reasons as rs
from hawser.engine.model import transitions as states
from hawser.engine.model.exposure import covered_steps
from hawser.engine.model.reasons import words
from hawser.engine.model.state import Order, Trade
from hawser.engine.outbox import Outbox
from hawser.engine.pacing import free_at

MOST_CLOSES = 4  # for one part of a position, under way at once
# orders that a position is split into at once; one that needs more is closed, as many at a time
MOST_PARTS = 50
# after a venue has refused a quantity as too large, twice what it took is tried
LARGER_AGAIN = 10 * MINUTE
EMERGENCY = 2  # times the least distance, for a stop that covers a trade while it is being closed


def due(
    outbox: Outbox, trade: Trade, role: str, number: int, retry_at: int, parts: int = 1
) -> bool:
    """Whether a request of a line, split into `parts`, may leave now; where not, the trade is
    looked at again when it may, or when the link stands again: what is sent without one is lost,
    and missing among what may follow then."""
    if not outbox.state.link_up:
        return False
    at = max(retry_at, free_at(outbox.state, trade, role, number, parts))
    if at > outbox.state.now:
        outbox.wake(trade, at)
        return False
    return True


def most_steps(outbox: Outbox, trade: Trade) -> int:
    """The greatest quantity of one order: the instrument's, or less where the venue has refused
    that of late."""
    most = max(1, outbox.state.instruments[trade.symbol].qty_max_steps)
    return min(most, trade.cover.most_steps) if trade.cover.most_steps else most


def _try_larger(outbox: Outbox, trade: Trade) -> None:
    """What a venue refused as too large some time ago it may take now."""
    if trade.cover.most_steps and outbox.state.now - trade.cover.most_at >= LARGER_AGAIN:
        trade.cover.most_steps, trade.cover.most_at = 2 * trade.cover.most_steps, outbox.state.now
        if trade.cover.most_steps >= outbox.state.instruments[trade.symbol].qty_max_steps:
            trade.cover.most_steps = 0


def parts_of(outbox: Outbox, trade: Trade) -> int:
    """How many orders it would take to cover a position, or to close it."""
    return -(-trade.open_steps // most_steps(outbox, trade))


def want_stops(outbox: Outbox, trade: Trade) -> None:
    """Stops for all that is open: those there are keep what they cover, then take as much more as
    one order may, and new ones what is left."""
    _try_larger(outbox, trade)
    most, left = most_steps(outbox, trade), trade.open_steps
    live = sorted(
        outbox.state.orders_of(trade, "stop"),
        key=lambda one: (one.state != states.RESTING, one.number),
    )
    shares: dict[str, int] = {}
    for order in live:
        shares[order.id] = min(order.surely_left, most, left)
        left -= shares[order.id]
    for order in live:
        more = min(most - shares[order.id], left)
        shares[order.id] += more
        left -= more
    if not _crowded(outbox, trade):
        _new_stops(outbox, trade, left, {order.number for order in live})
    for order in live:
        _keep_stop(outbox, trade, order, shares[order.id])


def _crowded(outbox: Outbox, trade: Trade) -> bool:
    """All is covered by what rests, and more orders than there may be would be needed to cover it
    anew: some of them beside what rests would only cover a part twice."""
    return (
        parts_of(outbox, trade) > MOST_PARTS
        and covered_steps(outbox.state, trade) >= trade.open_steps
    )


def _new_stops(outbox: Outbox, trade: Trade, left: int, taken: set[int]) -> None:
    most = most_steps(outbox, trade)
    free = (number for number in range(MOST_PARTS) if number not in taken)
    while left > 0 and (number := next(free, None)) is not None:
        if _close_sets_out(outbox, trade) or not due(
            outbox, trade, "stop", number, trade.cover.retry_at
        ):
            return
        outbox.submit(
            trade,
            "stop",
            kind="stop",
            steps=min(left, most),
            level=_restable(outbox, trade),
            why=trade.cover.why,
            number=number,
        )
        left -= most


def _keep_stop(outbox: Outbox, trade: Trade, order: Order, steps: int) -> None:
    """One resting stop: at the level that is wanted, for `steps` of what is open; taken back where
    others cover all."""
    if order.pending or order.state != states.RESTING:
        return
    level, needed = trade.venue_stop, order.filled + steps
    if order.level is not None and _stays(trade, order, order.level):
        level = order.level
    if not outbox.state.reconciled and order.left >= steps:
        return  # an older record may not know how near it rests: what the venue holds comes first
    if (order.level == level and order.steps == needed) or not due(
        outbox, trade, "stop", order.number, order.retry_at
    ):
        return
    if not steps:
        outbox.cancel(trade, order, "another stop rests for the position")
    elif (
        order.left > steps
        and _surely_covered(outbox, trade) - order.surely_left + steps < trade.open_steps
    ):
        # it covers more than one order may now: it stays until the others rest
        _cannot_move(outbox, trade, order)
    else:
        open_qty = outbox.state.instruments[trade.symbol].qty(trade.open_steps)
        moves = order.level != level
        why = trade.cover.why if moves else f"Stop quantity follows the position: {open_qty}"
        outbox.amend(
            trade,
            order,
            level=level,
            steps=needed,
            why=why,
            code=trade.cover.code if moves else rs.QTY,
        )


def _surely_covered(outbox: Outbox, trade: Trade) -> int:
    """Steps that what rests covers, whatever has become of changes that make it less."""
    return sum(
        one.surely_left
        for one in outbox.state.orders_of(trade, "stop")
        if one.state == states.RESTING
    )


def _stays(trade: Trade, order: Order, level: int) -> bool:
    """Whether one of several stops stays at the level where the venue has it. It does until another
    than the one that it gave up is wanted; where it rests nearer to the market than that, until a
    still nearer one is, or a person moves them away. One that rests nearer only because the venue
    or another hand has put it there stays too."""
    wanted = trade.venue_stop
    if order.given_up == wanted:
        return True
    nearer = trade.side * (level - wanted) > 0
    moved_away = not order.given_up or trade.side * (wanted - order.given_up) < 0
    return nearer and (trade.cover.code in rs.AS_IT_RESTS or not moved_away)


def _cannot_move(outbox: Outbox, trade: Trade, order: Order) -> None:
    """A stop that stays where it is, because too many orders would have to take its place; told
    once for a level."""
    if (
        order.level in (None, trade.venue_stop)
        or order.given_up == trade.venue_stop
        or not _crowded(outbox, trade)
    ):
        return
    instrument, parts = outbox.state.instruments[trade.symbol], parts_of(outbox, trade)
    order.given_up = trade.venue_stop
    most, level = instrument.qty(most_steps(outbox, trade)), instrument.price(order.level)
    text = (
        f"The stop stays at {level}: one order takes {most} at most, and {parts} orders would "
        "have to replace it"
    )
    outbox.tell("caution", "stop_stays", text, trade)


def _restable(outbox: Outbox, trade: Trade) -> int:
    """The stop's level; farther out where time is up and the market stands too near to it: some
    cover is better than none while the trade is being closed, and it is told."""
    wanted = trade.venue_stop
    if not trade.cover.hurried:
        return wanted
    instrument, market = outbox.state.instruments[trade.symbol], outbox.state.markets[trade.symbol]
    nearest = market.exit_side(trade.side) - trade.side * EMERGENCY * max(
        1, instrument.min_stop_ticks
    )
    level = max(1, min(wanted, nearest) if trade.side > 0 else max(wanted, nearest))
    if level not in (wanted, trade.cover.emergency):
        text = (
            f"The stop cannot rest so near: one at {instrument.price(level)} covers the trade "
            "while it is closed"
        )
        outbox.tell("alarm", "emergency_stop", text, trade)
        trade.cover.emergency = level
    return level


def _close_sets_out(outbox: Outbox, trade: Trade) -> bool:
    """A close has just been sent, and before its time is up nothing says that it needs a stop
    beside it."""
    closes = outbox.state.orders_of(trade, "close")
    return not trade.cover.hurried and any(order.state == states.SENDING for order in closes)


def want_close(outbox: Outbox, trade: Trade) -> None:
    """Closes for all that is open. Where the time without cover is up, those that nothing is heard
    of do not count: no close ever fills beyond the position, so that one too many does no harm. In
    a market that is shut nothing fills, and what is sent there would be missing among the tries
    when it opens."""
    closes = outbox.state.orders_of(trade, "close")
    trading = outbox.state.markets[trade.symbol].open
    most, parts = most_steps(outbox, trade), min(MOST_PARTS, parts_of(outbox, trade))
    counted = [
        order for order in closes if not (trade.cover.hurried and trading and order.silences)
    ]
    left, room = trade.open_steps - sum(order.left for order in counted), MOST_PARTS - len(counted)
    room = min(room, MOST_CLOSES * parts - len(closes))
    while (
        left > 0
        and room > 0
        and due(outbox, trade, role="close", number=0, retry_at=trade.closing.retry_at, parts=parts)
    ):
        outbox.submit(
            trade,
            "close",
            kind="market",
            steps=min(left, most),
            level=None,
            why=words(trade.leave, outbox.currency),
        )
        left, room = left - most, room - 1
