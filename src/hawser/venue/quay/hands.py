"""What others do in the account: another hand trades beside Hawser, money comes and goes, the venue
closes a position.

All of it is done by the book's own rules; whether anybody is told is for the venue to say
(`quay.py`).
"""

from __future__ import annotations

import random

from hawser.core.errors import VenueRefused
from hawser.venue import port
from hawser.venue.quay.book import Book, BookOrder, Position

KINDS = ("enlarge", "reduce", "close", "reverse", "cancel", "move")
MOST_MOVED_TICKS = 40  # ticks by which an order is moved at most
PAID = 3_000.0  # money that is paid in or out at most


def trade(
    book: Book,
    name: str,
    symbol: str,
    side: int,
    steps: int,
    closes: str | None = None,
    adds: str | None = None,
) -> list[port.VenueMessage]:
    """A market order by another hand; raises VenueRefused."""
    book.state.counter += 1
    qty = book.instruments[symbol].qty(steps)
    request = port.NewOrder(
        id=f"{name}-{book.state.counter}",
        symbol=symbol,
        side=side,
        kind="market",
        qty=qty,
        closes=closes,
        adds=adds,
    )
    return book.new_order(request)


def meddle(book: Book, draw: random.Random) -> tuple[str, list[port.VenueMessage]]:
    """Change a position or an order, whichever is there: of which id, and what the venue would tell
    of it."""
    kind = draw.choice(KINDS)
    try:
        if kind in ("cancel", "move"):
            return _order_changed(book, kind, draw)
        positions = [one for one in book.state.positions.values() if one.symbol not in book.closed]
        return (
            _position_changed(book, kind, draw.choice(positions), draw) if positions else ("", [])
        )
    except VenueRefused:
        return "", []


def _order_changed(
    book: Book, kind: str, draw: random.Random
) -> tuple[str, list[port.VenueMessage]]:
    resting = [
        order for order in book.state.orders.values() if order.status == "resting" and order.level
    ]
    if not resting:
        return "", []
    order: BookOrder = draw.choice(resting)
    if kind == "cancel":
        return order.id, book.cancel(order.id)
    instrument = book.instruments[order.symbol]
    level = max(1, (order.level or 0) + draw.randint(-MOST_MOVED_TICKS, MOST_MOVED_TICKS))
    bound = None if order.bound is None else instrument.price(order.bound)
    amend = port.AmendOrder(
        id=order.id, level=instrument.price(level), qty=instrument.qty(order.steps), bound=bound
    )
    return order.id, book.amend(amend)


def _position_changed(
    book: Book, kind: str, held: Position, draw: random.Random
) -> tuple[str, list[port.VenueMessage]]:
    symbol, side = held.symbol, held.side
    if kind == "enlarge":
        return held.id, trade(
            book, "other", symbol, side, draw.randint(1, held.steps), adds=held.id
        )
    steps = draw.randint(1, max(1, held.steps - 1)) if kind == "reduce" else held.steps
    told = trade(book, "other", symbol, -side, steps, closes=held.id)
    if kind == "reverse" and held.id not in book.state.positions:
        bid, ask = book.quotes[symbol]
        price = float(bid if side > 0 else ask)
        book.state.positions[held.id] = Position(
            held.id, symbol, -side, draw.randint(1, 2 * steps), price
        )
    return held.id, told


def called(book: Book, draw: random.Random) -> tuple[str, list[port.VenueMessage]]:
    """The venue closes a position, or part of one, of its own accord."""
    positions = [one for one in book.state.positions.values() if one.symbol not in book.closed]
    if not positions:
        return "", []
    held = draw.choice(positions)
    steps = held.steps if draw.random() < 0.6 else draw.randint(1, held.steps)
    try:
        return held.id, trade(book, "call", held.symbol, -held.side, steps, closes=held.id)
    except VenueRefused:
        return "", []


def paid(book: Book, draw: random.Random) -> float:
    """Money is paid in or out, or the balance set to another; returns by how much it changed."""
    balance = book.state.balance
    amount = (
        draw.uniform(-PAID, PAID)
        if draw.random() < 0.7
        else draw.uniform(0.9, 1.2) * balance - balance
    )
    book.transfer(round(amount, 2))
    return amount
