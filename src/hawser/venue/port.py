"""What a venue must offer. Levels and quantities cross this boundary as decimal strings with the
instrument's digits.

A venue never answers a request directly: `send` returns at once and answers come, if they come, as
messages. Answers to changes and questions carry their `token`: an adapter for a venue that does not
tell it keeps them apart itself.
"""

from __future__ import annotations

from typing import Protocol

import msgspec

from hawser.core.bars import Bars
from hawser.core.instrument import Instrument


class Message(msgspec.Struct, frozen=True, tag=True, kw_only=True):
    """Base of requests and messages."""


# Requests: what Hawser sends.


class NewOrder(Message, frozen=True):
    """`kind`: market, stop or limit. `closes` names a position; such an order never fills beyond
    it. `adds` names one too, which its fills make larger; it lives no longer than the position.

    `bound`: the worst price it may fill at; a market order gives up what would fill worse, a stop
    with one rests as a limit there once it is reached. `until`: the venue gives the order up then,
    UTC ns; 0: never.
    """

    id: str
    symbol: str
    side: int
    kind: str
    qty: str
    level: str | None = None
    closes: str | None = None
    bound: str | None = None
    until: int = 0
    adds: str | None = None


class AmendOrder(Message, frozen=True):
    """Changes a resting order in place; the answer carries `token`, by which late and repeated ones
    are told apart."""

    id: str
    level: str
    qty: str
    bound: str | None = None
    token: int = 0


class CancelOrder(Message, frozen=True):
    id: str


class AskOrder(Message, frozen=True):
    """What became of an order; the answer carries `token`."""

    id: str
    token: int = 0


class AskHoldings(Message, frozen=True):
    token: int
    orders: tuple[str, ...]


Request = NewOrder | AmendOrder | CancelOrder | AskOrder | AskHoldings


# Messages: what the venue tells. `time` is the venue's, UTC ns.


class VenueMessage(Message, frozen=True):
    time: int


class QuoteTold(VenueMessage, frozen=True):
    """A quote; where several were joined, the highest bid and the lowest ask among them too."""

    symbol: str
    bid: str
    ask: str
    high_bid: str = ""
    low_ask: str = ""


class BarTold(VenueMessage, frozen=True):
    """A completed base bar that opened at `opened`, complete at `time`; bid prices; `spread` in
    ticks, as it was last. `low_ask`: the lowest ask, where the venue knows it."""

    symbol: str
    opened: int
    open: str
    high: str
    low: str
    close: str
    spread: float
    low_ask: str = ""


class RateTold(VenueMessage, frozen=True):
    pair: str
    mid: float


class StateTold(VenueMessage, frozen=True):
    symbol: str
    open: bool
    until: int


class FiguresTold(VenueMessage, frozen=True):
    """`transferred`: all that was ever paid in, less what was paid out, resets of the balance among
    it; None: the venue does not keep it. So a payment is known though the message about it is
    lost."""

    balance: float
    equity: float
    margin_used: float
    transferred: float | None = None


class LinkTold(VenueMessage, frozen=True):
    """Once the link is `up`, the venue tells of every instrument whether it trades, before it
    answers anything: what was known of it before may be out of date."""

    up: bool
    why: str = ""


class InstrumentsTold(VenueMessage, frozen=True):
    """Told where a line is back, before the link stands: what is traded now, which may be another
    than before, and every completed bar of it, for those that completed meanwhile were told to
    nobody."""

    instruments: tuple[Instrument, ...]
    base_span: int
    histories: dict[str, Bars]


class Accepted(VenueMessage, frozen=True):
    """`level`: where the order rests, where the venue has adjusted it."""

    id: str
    level: str | None = None


class Rejected(VenueMessage, frozen=True):
    """`what`: order, amend or cancel; `token`: of the change that is refused."""

    id: str
    what: str
    code: str
    text: str
    token: int = 0


class FillTold(msgspec.Struct, frozen=True):
    """One fill; `profit` and `commission` in the account's currency."""

    id: str
    time: int
    qty: str
    price: str
    profit: float
    commission: float


class Filled(VenueMessage, frozen=True):
    id: str
    fill: FillTold


class Cancelled(VenueMessage, frozen=True):
    """`filled`: all that the order had filled before, so that a fill whose telling is late or lost
    is missed."""

    id: str
    why: str
    filled: str = "0"


class Amended(VenueMessage, frozen=True):
    """A resting order has changed; `token`: by which request of ours, 0 where by another hand."""

    id: str
    level: str
    qty: str
    token: int = 0


class OrderTold(msgspec.Struct, frozen=True):
    """What the venue knows of an order. `status`: resting, filled, cancelled, rejected or
    missing."""

    id: str
    symbol: str
    status: str
    level: str | None
    qty: str
    fills: tuple[FillTold, ...] = ()


class StatusTold(VenueMessage, frozen=True):
    order: OrderTold
    token: int = 0  # of the question; 0 where the venue does not tell it


class PositionTold(msgspec.Struct, frozen=True):
    """A position; `entry` is its average price, price units."""

    id: str
    symbol: str
    side: int
    qty: str
    entry: float = 0.0


class HoldingsTold(VenueMessage, frozen=True):
    """`closing`: of the resting orders that close a position, which; None: the venue does not
    tell."""

    token: int
    asked: tuple[OrderTold, ...]
    resting: tuple[str, ...]
    positions: tuple[PositionTold, ...]
    closing: dict[str, str] | None = None


class Venue(Protocol):
    """A venue. `next_message` gives the next message due by `until`, or None.

    `now` is the clock of who drives it, as far as the venue has been driven: it never passes
    `until`, whatever the venue's own clock says. That one is in `Told.time`, and decides nothing.
    """

    instruments: dict[str, Instrument]
    base_span: int

    @property
    def now(self) -> int: ...

    def history(self, symbol: str) -> Bars:
        """Completed base bars up to now; prices as floats on the grid."""
        ...

    def send(self, request: Request, at: int) -> None:
        """Hand over a request at venue time `at`; never blocks, never answers."""
        ...

    def next_message(self, until: int) -> VenueMessage | None: ...


class Connection(Venue, Protocol):
    """A venue as it is opened for an account."""

    def close(self) -> None:
        """Nothing more is asked or told."""
