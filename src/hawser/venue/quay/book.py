"""Quay's book: positions, resting orders, matching on bid and ask, money. Pure; `quay.py` adds time
and weather.

Each entry opens a position named by its order; an order that closes names the position and never
fills beyond it; one that adds names it too and goes with it. Cancelling what is left over is the
client's business: the venue knows no bracket and no OCO.
"""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal

import msgspec

from hawser.core.account import Rate
from hawser.core.clock import SECOND
from hawser.core.decimals import of_text
from hawser.core.errors import Refused, Unavailable, VenueRefused
from hawser.core.fx import convert
from hawser.core.instrument import MOST_TICKS, Instrument
from hawser.core.rules.quantity import BUDGET_NOISE, commission
from hawser.venue import port

LONGEST = 40  # signs of a number


def _number(text: str) -> Decimal | None:
    """A positive number as it is written plainly; None where it is none."""
    try:
        value = of_text(text) if len(text) <= LONGEST else Decimal(0)
    except ValueError:
        return None
    return value if value > 0 else None


def _check_sense(request: port.NewOrder) -> None:
    """Refuse an order that says what no order can."""
    if request.side not in (1, -1) or request.kind not in ("market", "stop", "limit"):
        raise VenueRefused("bad_order", "expected side 1 or -1, and kind market, stop or limit")
    if (request.level is None) != (request.kind == "market"):
        raise VenueRefused(
            "bad_level", "expected a level for a stop or a limit order, and for no other"
        )


class BookOrder(msgspec.Struct):
    """An order as the venue keeps it; level in ticks, quantities in steps."""

    id: str
    symbol: str
    side: int
    kind: str
    steps: int
    level: int | None
    closes: str | None
    bound: int | None = None
    until: int = 0
    triggered: bool = False  # a stop that was reached, or any order that has begun to fill
    status: str = "resting"
    filled: int = 0
    fills: list[port.FillTold] = []
    adds: str | None = None
    placed: int = 0  # UTC ns


class Position(msgspec.Struct):
    """An open position; `entry` in ticks."""

    id: str
    symbol: str
    side: int
    steps: int
    entry: float


class BookState(msgspec.Struct):
    """All that must survive the venue's own restart."""

    now: int = 0
    balance: float = 0.0
    counter: int = 0
    orders: dict[str, BookOrder] = {}
    positions: dict[str, Position] = {}
    clipped: int = 0
    # by which the venue's clock, as it tells it, is ahead of the time that passes; ns
    ahead: int = 0
    still: int = 0  # where it stands still; 0: it does not
    transferred: float = 0.0  # all that was paid in, less what was paid out
    # symbol -> the tick and the step that levels and quantities count
    grids: dict[str, tuple[str, str]] = {}
    currency: str = ""  # of all money here

    def go_on_with(self, instruments: dict[str, Instrument], currency: str) -> None:
        """These are traded from here on; raises Unavailable where what is held would be something
        else in them."""
        if self.currency not in ("", currency):
            sentence = (
                f"The simulated venue's books are in {self.currency}; expected the same, "
                f"not {currency}."
            )
            raise Unavailable("books", sentence)
        grids = {
            one.symbol: (str(one.tick.normalize()), str(one.qty_step.normalize()))
            for one in instruments.values()
        }
        held = {one.symbol for one in self.positions.values()} | {
            one.symbol for one in self.orders.values()
        }
        for symbol in sorted(held):
            if symbol not in grids:
                sentence = (
                    f"The simulated venue's books hold {symbol}; expected to be started "
                    "with its instrument too."
                )
                raise Unavailable("books", sentence)
            kept = self.grids.get(symbol, grids[symbol])
            if kept != grids[symbol]:
                was, now = (
                    f"tick {tick} and qty_step {step}" for tick, step in (kept, grids[symbol])
                )
                sentence = (
                    f"The simulated venue's books hold {symbol} with {was}; expected the "
                    f"same, not {now}."
                )
                raise Unavailable("books", sentence)
        self.grids, self.currency = grids, currency


class Book:
    """Carries out requests against the present quotes. Raises VenueRefused with a code and a
    sentence."""

    def __init__(
        self,
        instruments: dict[str, Instrument],
        currency: str,
        rates: dict[str, float | Rate],
        state: BookState,
    ) -> None:
        self.instruments, self.currency, self.state = instruments, currency, state
        self.rates: dict[str, float | Rate] = dict(rates)
        # orders that were not written down since they changed
        self.touched: set[str] = set(state.orders)
        self.quotes: dict[str, tuple[int, int]] = {}
        self.closed: set[str] = set()
        # ticks by which market and stop orders fill worse
        self.slippage: Callable[[], int] = lambda: 0
        # of a resting order that is reached, what fills at once
        self.part: Callable[[], float] = lambda: 1.0
        self._resting: dict[str, list[BookOrder]] = {symbol: [] for symbol in instruments}
        for order in state.orders.values():
            if order.status == "resting" and order.kind != "market":
                self._resting[order.symbol].append(order)

    @property
    def time(self) -> int:
        """The venue's clock as it tells it, UTC ns: an order lives by it."""
        return self.state.still or self.state.now + self.state.ahead

    # What the market does

    def tick(self, symbol: str, bid: int, ask: int) -> list[port.VenueMessage]:
        """A new quote: triggers what it reaches; returns what there is to tell."""
        self.quotes[symbol] = (bid, ask)
        instrument = self.instruments[symbol]
        if instrument.kind == "fx":
            self.rates[f"{instrument.base}/{instrument.quote}"] = (
                (bid + ask) / 2 * instrument.tick_size
            )
        told: list[port.VenueMessage] = []
        for order in [order for order in self._resting[symbol] if self._reached(order, bid, ask)]:
            if order.status == "resting":  # it may have gone with the position that another closed
                told += self._execute(
                    order, max(1, int((order.steps - order.filled) * self.part()))
                )
        return told

    def expire(self, order_id: str) -> list[port.VenueMessage]:
        """Give an order up whose time has come; nothing where it is over."""
        order = self.state.orders[order_id]
        if order.status != "resting" or not 0 < order.until <= self.time:
            return []
        self._done(order, "cancelled")
        return [self._cancelled(order, "expired")]

    def _reached(self, order: BookOrder, bid: int, ask: int) -> bool:
        assert order.level is not None  # resting orders have one
        price = ask if order.side > 0 else bid
        through = order.side * (price - order.level)
        if order.kind == "limit":
            return through <= 0
        if through >= 0 and not order.triggered:
            order.triggered = True
            self.touched.add(order.id)
        within = order.bound is None or order.side * (price - order.bound) <= 0
        return order.triggered and within

    def fill(self, order: BookOrder) -> list[port.VenueMessage]:
        """Fill a resting order wholly at the present quote."""
        return self._execute(order)

    # What the client asks

    def new_order(self, request: port.NewOrder, part: float = 1.0) -> list[port.VenueMessage]:
        """Accept an order, and fill it where it is at the market; only `part` of it where it fills
        in pieces."""
        if request.id in self.state.orders:
            raise VenueRefused("duplicate", f"order id {request.id} was used before")
        instrument = self._instrument(request.symbol)
        _check_sense(request)
        self.touched.add(request.id)
        order = BookOrder(
            id=request.id,
            symbol=request.symbol,
            side=request.side,
            kind=request.kind,
            steps=self._steps(instrument, request.qty),
            level=None if request.level is None else self._ticks(instrument, request.level),
            closes=request.closes,
            bound=None if request.bound is None else self._ticks(instrument, request.bound),
            until=request.until,
            adds=request.adds,
            placed=self.state.now,
        )
        try:
            if order.symbol in self.closed or order.symbol not in self.quotes:
                raise VenueRefused("market_closed", f"{order.symbol} is not trading now")
            if order.closes is not None and self._to_close(order) is None:
                raise VenueRefused("no_position", "there is no position to close")
            if order.adds is not None and order.adds not in self.state.positions:
                raise VenueRefused("no_position", "there is no position to add to")
            if order.closes is None:
                self._check_margin(order, instrument)
            at_market = self._at_market(order, instrument)
        except VenueRefused:
            order.status = "rejected"
            self.state.orders[order.id] = order
            raise
        self.state.orders[order.id] = order
        told: list[port.VenueMessage] = [port.Accepted(time=self.time, id=order.id)]
        if at_market:
            return told + self._execute(order, max(1, int(order.steps * part)))
        self._resting[order.symbol].append(order)
        return told

    def next_piece(self, order_id: str, part: float) -> list[port.VenueMessage]:
        """More of an order that fills in pieces; nothing where it is over."""
        order = self.state.orders[order_id]
        if order.status != "resting":
            return []
        return self._execute(order, max(1, int((order.steps - order.filled) * part)))

    def in_pieces(self, order_id: str) -> bool:
        """Whether an order has filled in part and goes on filling."""
        order = self.state.orders.get(order_id)
        return order is not None and order.status == "resting" and order.kind == "market"

    def amend(self, request: port.AmendOrder) -> list[port.VenueMessage]:
        order = self._resting_order(request.id)
        instrument = self.instruments[order.symbol]
        level, steps = self._ticks(instrument, request.level), self._steps(instrument, request.qty)
        if steps <= order.filled:
            raise VenueRefused("bad_qty", "the new quantity is not above what has filled")
        bound = None if request.bound is None else self._ticks(instrument, request.bound)
        if order.triggered and (level != order.level or order.closes is None):
            raise VenueRefused("filling", "the order is filling already")
        trial = BookOrder(
            id=order.id,
            symbol=order.symbol,
            side=order.side,
            kind=order.kind,
            steps=steps,
            level=level,
            closes=order.closes,
        )
        if level != order.level and self._at_market(trial, instrument):
            raise VenueRefused("wrong_side", f"{request.level} is at or through the market")
        order.level, order.steps, order.bound = level, steps, bound
        self.touched.add(order.id)
        return [
            port.Amended(
                time=self.time,
                id=order.id,
                level=request.level,
                qty=request.qty,
                token=request.token,
            )
        ]

    def adjust(self, order_id: str, ticks: int) -> int:
        """Put a resting order's level some ticks elsewhere, where it may rest; returns its
        level."""
        order = self.state.orders[order_id]
        assert order.level is not None  # one that rests has one
        trial = msgspec.structs.replace(order, level=order.level + ticks)
        if order.level + ticks > 0 and not order.triggered:
            try:
                aside = self._at_market(trial, self.instruments[order.symbol])
            except VenueRefused:
                aside = True
            order.level = order.level if aside else trial.level
            self.touched.add(order.id)
        return order.level or 0

    def cancel(self, order_id: str) -> list[port.VenueMessage]:
        order = self._resting_order(order_id)
        self._done(order, "cancelled")
        return [self._cancelled(order, "asked for")]

    def known(self, order_id: str) -> port.OrderTold:
        """What is known of an order; status `missing` where nothing is."""
        order = self.state.orders.get(order_id)
        if order is None:
            return port.OrderTold(order_id, "", "missing", None, "0")
        instrument = self.instruments[order.symbol]
        level = None if order.level is None else instrument.price(order.level)
        qty = instrument.qty(order.steps)
        return port.OrderTold(
            id=order.id,
            symbol=order.symbol,
            status=order.status,
            level=level,
            qty=qty,
            fills=tuple(order.fills),
        )

    def positions(self) -> tuple[port.PositionTold, ...]:
        return tuple(
            port.PositionTold(
                held.id,
                held.symbol,
                held.side,
                self.instruments[held.symbol].qty(held.steps),
                held.entry * self.instruments[held.symbol].tick_size,
            )
            for held in self.state.positions.values()
        )

    def resting_ids(self) -> tuple[str, ...]:
        return tuple(order.id for orders in self._resting.values() for order in orders)

    def closing(self) -> dict[str, str]:
        """Of the resting orders that close a position, which."""
        return {
            one.id: one.closes
            for orders in self._resting.values()
            for one in orders
            if one.closes is not None
        }

    def resting(self, symbol: str) -> list[BookOrder]:
        return self._resting[symbol]

    # Money

    def unit_money(self, instrument: Instrument) -> float:
        return instrument.multiplier * convert(instrument.quote, self.currency, self.rates)

    def transfer(self, amount: float) -> None:
        """Money is paid in, or out where it is negative."""
        self.state.balance += amount
        self.state.transferred += amount

    def figures(self) -> tuple[float, float, float]:
        """Balance, equity, margin used."""
        floating = margin = 0.0
        for held in self.state.positions.values():
            instrument = self.instruments[held.symbol]
            bid, ask = self.quotes.get(held.symbol, (held.entry, held.entry))
            size = (
                held.steps
                * instrument.step_size
                * instrument.tick_size
                * self.unit_money(instrument)
            )
            price = bid if held.side > 0 else ask
            floating += held.side * (price - held.entry) * size
            margin += price * size * instrument.margin_rate
        return self.state.balance, self.state.balance + floating, margin

    # Inside

    def _execute(self, order: BookOrder, most: int | None = None) -> list[port.VenueMessage]:
        bid, ask = self.quotes[order.symbol]
        price, steps = ask if order.side > 0 else bid, order.steps - order.filled
        if most is not None:
            steps = min(steps, most)
        if order.kind != "limit":
            price = max(1, price + order.side * self.slippage())
            if order.bound is not None and order.side * (price - order.bound) > 0:
                if order.kind == "market":
                    self._done(order, "cancelled")
                    return [self._cancelled(order, "beyond the slippage allowed")]
                price = order.bound  # a stop-limit never fills worse
        profit, position, clipped = 0.0, order.id, False
        instrument = self.instruments[order.symbol]
        if order.closes is not None:
            held = self._to_close(order)
            if held is None:
                self._done(order, "cancelled")
                return [self._cancelled(order, "nothing to close")]
            if steps > held.steps:
                self.state.clipped += 1
                clipped = True
            steps, position = min(steps, held.steps), held.id
            size = steps * instrument.step_size * instrument.tick_size
            profit = held.side * (price - held.entry) * size * self.unit_money(instrument)
            held.steps -= steps
            if not held.steps:
                del self.state.positions[position]
        else:
            position = self._add(order, steps, price)
        told = self._book_fill(
            order, instrument, price=price, steps=steps, profit=profit, clipped=clipped
        )
        return (
            told if position in self.state.positions else told + self._no_more_to_add_to(position)
        )

    def _to_close(self, order: BookOrder) -> Position | None:
        """The position that an order closes; one that another hand has turned about is none."""
        held = self.state.positions.get(order.closes or "")
        return held if held is not None and held.side != order.side else None

    def _no_more_to_add_to(self, position: str) -> list[port.VenueMessage]:
        """The position is gone: so are the orders that would add to it."""
        told: list[port.VenueMessage] = []
        adding = [
            order for orders in self._resting.values() for order in orders if order.adds == position
        ]
        for order in adding:
            self._done(order, "cancelled")
            told.append(self._cancelled(order, "no position to add to"))
        return told

    def _add(self, order: BookOrder, steps: int, price: int) -> str:
        """An entry's fill: the position it opens, or more of it; returns which."""
        name = order.adds or order.id
        held = self.state.positions.get(name)
        if held is None:
            self.state.positions[name] = Position(
                name, order.symbol, order.side, steps, float(price)
            )
        else:
            held.entry = (held.entry * held.steps + price * steps) / (held.steps + steps)
            held.steps += steps
        return name

    def _book_fill(
        self,
        order: BookOrder,
        instrument: Instrument,
        price: int,
        steps: int,
        profit: float,
        clipped: bool,
    ) -> list[port.VenueMessage]:
        fees = instrument.fees(self.unit_money(instrument))
        fee = commission(steps * instrument.step_size, price * instrument.tick_size, fees)
        self.state.balance += profit - fee
        self.state.counter += 1
        fill = port.FillTold(
            id=f"F{self.state.counter}",
            time=self.time,
            qty=instrument.qty(steps),
            price=instrument.price(price),
            profit=profit,
            commission=fee,
        )
        self.touched.add(order.id)
        order.filled += steps
        order.fills.append(fill)
        if order.filled >= order.steps or clipped:
            self._done(order, "filled" if order.filled >= order.steps else "cancelled")
        told: list[port.VenueMessage] = [port.Filled(time=self.time, id=order.id, fill=fill)]
        if order.status == "cancelled":
            told.append(self._cancelled(order, "no more to close"))
        return told

    def _cancelled(self, order: BookOrder, why: str) -> port.Cancelled:
        filled = self.instruments[order.symbol].qty(order.filled)
        return port.Cancelled(time=self.time, id=order.id, why=why, filled=filled)

    def _done(self, order: BookOrder, status: str) -> None:
        order.status = status
        self.touched.add(order.id)
        if order in self._resting[order.symbol]:
            self._resting[order.symbol].remove(order)

    def _instrument(self, symbol: str) -> Instrument:
        if symbol not in self.instruments:
            raise VenueRefused("no_instrument", f"{symbol} is not traded here")
        return self.instruments[symbol]

    def _resting_order(self, order_id: str) -> BookOrder:
        order = self.state.orders.get(order_id)
        if order is None or order.status != "resting":
            raise VenueRefused("not_resting", f"order {order_id} does not rest")
        return order

    @staticmethod
    def _ticks(instrument: Instrument, text: str) -> int:
        """A level, exactly on the grid with no more digits than the instrument has."""
        value = _number(text)
        if value is None or value > MOST_TICKS * instrument.tick:
            raise VenueRefused("bad_level", f"{text[:LONGEST]} is not a price")
        decimals = len(text.partition(".")[2])
        if decimals > instrument.price_digits or value % instrument.tick:
            raise VenueRefused("bad_level", f"{text} is not on the grid of {instrument.tick}")
        return int(value / instrument.tick)

    @staticmethod
    def _steps(instrument: Instrument, text: str) -> int:
        value = _number(text)
        steps = (
            instrument.steps(value) if value is not None and value <= instrument.qty_max else None
        )
        if steps is None or steps <= 0 or steps > instrument.qty_max_steps:
            raise VenueRefused(
                "bad_qty", f"{text[:LONGEST]} is not a quantity of {instrument.symbol}"
            )
        return steps

    def _at_market(self, order: BookOrder, instrument: Instrument) -> bool:
        """Whether the order fills at once; refuses what would rest on the wrong side or too
        near."""
        if order.kind == "market":
            return True
        assert order.level is not None
        if order.symbol not in self.quotes:  # the venue has just begun with it
            raise VenueRefused("market_closed", f"{order.symbol} is not trading now")
        bid, ask = self.quotes[order.symbol]
        away = order.side * (order.level - (ask if order.side > 0 else bid))
        if order.kind == "limit":
            away = -away
        least = max(1, instrument.min_stop_ticks)
        if away <= 0 and order.kind == "limit":
            return True
        shown = instrument.price(order.level)
        if away <= 0:
            raise VenueRefused("wrong_side", f"a stop at {shown} is at or through the market")
        if away < least:
            raise VenueRefused(
                "too_near", f"{shown} is {away} ticks from the market, {least} are needed"
            )
        return False

    def _check_margin(self, order: BookOrder, instrument: Instrument) -> None:
        _, equity, used = self.figures()
        bid, ask = self.quotes[order.symbol]
        try:
            size = (
                order.steps
                * instrument.step_size
                * instrument.tick_size
                * self.unit_money(instrument)
            )
        except Refused as error:
            raise VenueRefused("no_rate", error.sentence) from None
        price = order.level or (ask if order.side > 0 else bid)
        if price * size * instrument.margin_rate > max(0.0, equity - used) * (1 + BUDGET_NOISE):
            raise VenueRefused("margin", "not enough free margin")


def trim(state: BookState, keep_ns: int = 7 * 86400 * SECOND) -> list[str]:
    """Forget finished orders older than `keep_ns`, so that the state stays small; returns which."""
    old = [
        order.id
        for order in state.orders.values()
        if order.status != "resting"
        and max([order.placed, *(one.time for one in order.fills)]) < state.now - keep_ns
    ]
    for order_id in old:
        del state.orders[order_id]
    return old
