"""Quay without weather and latency, walked bar by bar: fills are those of the reckoning's section
10.

Who walks it says when the price opens, sweeps to an extreme and closes. A market order waits for
the next open, unless it is asked for while the price stands at one; all else is carried out at
once, but a limit that the market is beyond rests until the price moves.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence

import msgspec

from hawser.core.account import Account
from hawser.core.bars import Bars
from hawser.core.errors import VenueRefused
from hawser.core.instrument import Instrument
from hawser.venue import port
from hawser.venue.quay.book import Book, BookOrder, BookState

ANY_PRICE = 1 << 40  # a price that no limit to buy is beyond


class BarWalk:
    """Implements `port.Venue` for the instruments of one account; slippage in whole ticks. It
    tells the account's figures when it is asked to
    (`mark`)."""

    def __init__(self, instruments: Sequence[Instrument], account: Account, base_span: int) -> None:
        self.instruments = {one.symbol: one for one in instruments}
        self.base_span, self.now = base_span, 0
        self._account = account
        self._entry_slip = round(account.costs.entry_slippage_ticks)
        self._exit_slip = round(account.costs.exit_slippage_ticks)
        # Section 10 knows no distance that targets keep, and no margin call.
        near = {
            one.symbol: msgspec.structs.replace(one, min_stop_ticks=0, margin_rate=0.0)
            for one in instruments
        }
        state = BookState(balance=float(account.equity))
        self.book = Book(near, account.currency, dict(account.rates), state)
        self._balance_off = account.basis_money("balance") - account.equity
        self._ready: deque[port.VenueMessage] = deque()
        self._waiting: list[port.NewOrder] = []
        self._at_open: set[str] = set()
        self._entered: set[str] = set()  # at the open where the price stands
        self._ended: set[str] = set()  # whose histories are over
        self._refs: dict[str, int] = {}  # of each entry, the price it was decided on, ticks

    # The port

    def history(self, symbol: str) -> Bars:
        return Bars.empty()

    def next_message(self, until: int) -> port.VenueMessage | None:
        return self._ready.popleft() if self._ready else None

    def send(self, request: port.Request, at: int) -> None:
        if isinstance(request, port.NewOrder) and request.kind == "market" and self._waits(request):
            self._waiting.append(request)
        else:
            self._carry_out(request)

    def _waits(self, request: port.NewOrder) -> bool:
        """Whether a market order waits: for the next open, or until all entries of this one are
        through, where it closes a part of one of them that the open has reached already."""
        return request.symbol not in self._at_open or request.closes in self._entered

    # The walk

    def greet(self, time: int) -> None:
        """The link stands, the instruments trade."""
        self.now = self.book.state.now = time
        self._ready.append(port.LinkTold(time=time, up=True))
        for symbol in self.instruments:
            self._ready.append(port.StateTold(time=time, symbol=symbol, open=True, until=0))
        self.mark()

    def tell_rate(self, pair: str, mid: float) -> None:
        """A pair of currencies is at `mid` from now on."""
        self.book.rates[pair] = mid
        self._ready.append(port.RateTold(time=self.now, pair=pair, mid=mid))

    def open_at(self, symbol: str, time: int, bid: int, spread: int) -> None:
        """The price opens."""
        self.now = self.book.state.now = time
        self.stand_at(symbol, bid, spread, bid, bid)

    def fill_waiting(self, symbol: str) -> None:
        """What waited for the open fills; from now on market orders fill at once."""
        self._at_open.add(symbol)
        self._carry_out_waiting(symbol)

    def leave_open(self) -> None:
        """All entries are through; from now on market orders wait."""
        self._entered.clear()
        for symbol in self.instruments:
            if symbol in self._at_open:
                self._carry_out_waiting(symbol)
        self._at_open.clear()

    def next_reached(self, symbol: str, bid: int, spread: int, gap: bool) -> BookOrder | None:
        """The nearest order that a move to `bid` reaches; None where there is none. `gap`: the open
        jumped there."""
        reached = [
            order for order in self.book.resting(symbol) if self._reaches(order, bid, spread)
        ]
        if not reached:
            return None
        # rungs before the stop
        reached = [order for order in reached if order.adds is not None] or reached
        bid_now, ask_now = self.book.quotes[symbol]
        # the price jumped: what lies farthest behind it came first, and targets last
        way = -1 if gap else 1

        def place(one: BookOrder) -> tuple[bool, int]:
            far = abs(self._level(one) - (ask_now if one.side > 0 else bid_now))
            return gap and one.kind == "limit" and one.closes is not None, way * far

        return min(reached, key=place)

    def closes_all(self, order: BookOrder) -> bool:
        """Whether nothing is left of its position once an order has filled."""
        held = self.book.state.positions.get(order.closes or "")
        return held is not None and order.steps - order.filled >= held.steps

    def fill(self, order: BookOrder, bid: int, spread: int, gap: bool) -> None:
        """Fill an order that is reached: at its level, or where the open jumped over it at the
        price."""
        at = (bid if order.side < 0 else bid + spread) if gap else self._level(order)
        quote = (at, at + spread) if order.side < 0 else (at - spread, at)
        self.book.quotes[order.symbol] = quote
        self.book.slippage = lambda: self._exit_slip
        self._ready += self.book.fill(order)

    def mark(self) -> None:
        """Tell the account's figures."""
        money = self.figures()
        self._ready.append(
            port.FiguresTold(time=self.now, balance=money[0], equity=money[1], margin_used=money[2])
        )

    def figures(self) -> tuple[float, float, float]:
        """Balance, equity and margin used; margin is bound at the price each entry was decided on,
        as the reckoning has it."""
        balance, equity, _ = self.book.figures()
        margin = self._account.margin_used
        for held in self.book.state.positions.values():
            of = self.instruments[held.symbol]
            worth = self._refs[held.id] * of.tick_size * self.book.unit_money(of)
            margin += worth * held.steps * of.step_size * of.margin_rate
        return balance + self._balance_off, equity, margin

    def stand_at(self, symbol: str, bid: int, spread: int, high: int, low: int) -> None:
        """The price is at `bid`, after it went as high and low as told."""
        price = self.instruments[symbol].price
        self.book.quotes[symbol] = (bid, bid + spread)
        self._ready.append(
            port.QuoteTold(
                time=self.now,
                symbol=symbol,
                bid=price(bid),
                ask=price(bid + spread),
                high_bid=price(high),
                low_ask=price(low + spread),
            )
        )

    def complete(
        self,
        symbol: str,
        time: int,
        opened: int,
        prices: tuple[int, int, int, int],
        spread: int,
        low_ask: int,
    ) -> None:
        """The bar that opened at `opened` is complete."""
        self.now = self.book.state.now = time
        price = self.instruments[symbol].price
        open_, high, low, close = map(price, prices)
        self._ready.append(
            port.BarTold(
                time=time,
                symbol=symbol,
                opened=opened,
                open=open_,
                high=high,
                low=low,
                close=close,
                spread=float(spread),
                low_ask=price(low_ask),
            )
        )

    def end(self, symbol: str) -> None:
        """Its history is over: what is closed now fills where the price stands, without slippage,
        and so does what was to be closed at the next open. No entry comes to anything any more."""
        self._at_open.add(symbol)
        self._waiting = [
            one for one in self._waiting if one.symbol != symbol or one.closes is not None
        ]
        self._ended.add(symbol)
        self._carry_out_waiting(symbol)

    # Inside

    @staticmethod
    def _level(order: BookOrder) -> int:
        assert order.level is not None  # what rests has one
        return order.level

    def _reaches(self, order: BookOrder, bid: int, spread: int) -> bool:
        through = order.side * ((bid + spread if order.side > 0 else bid) - self._level(order))
        return through <= 0 if order.kind == "limit" else through >= 0

    def _carry_out_waiting(self, symbol: str) -> None:
        waiting, self._waiting = self._waiting, []
        for request in waiting:
            if request.symbol == symbol:
                self._carry_out(request)
            else:
                self._waiting.append(request)

    def _carry_out(self, request: port.Request) -> None:
        book = self.book
        if isinstance(request, port.NewOrder):
            slip = self._entry_slip if request.closes is None else self._exit_slip
            book.slippage = lambda: 0 if request.symbol in self._ended else slip
        try:
            self._ready += self._done(request)
        except VenueRefused as refusal:
            what = {port.NewOrder: "order", port.AmendOrder: "amend"}.get(type(request), "cancel")
            order = "" if isinstance(request, port.AskHoldings) else request.id
            self._ready.append(
                port.Rejected(
                    time=self.now, id=order, what=what, code=refusal.code, text=refusal.sentence
                )
            )

    def _done(self, request: port.Request) -> list[port.VenueMessage]:
        book = self.book
        if isinstance(request, port.NewOrder):
            return self._new(request)
        if isinstance(request, port.AmendOrder):
            return book.amend(request)
        if isinstance(request, port.CancelOrder):
            return book.cancel(request.id)
        if isinstance(request, port.AskOrder):
            return [
                port.StatusTold(time=self.now, order=book.known(request.id), token=request.token)
            ]
        return [
            port.HoldingsTold(
                time=self.now,
                token=request.token,
                asked=tuple(map(book.known, request.orders)),
                resting=book.resting_ids(),
                positions=book.positions(),
                closing=book.closing(),
            )
        ]

    def _new(self, request: port.NewOrder) -> list[port.VenueMessage]:
        quotes, symbol = self.book.quotes, request.symbol
        now = quotes[symbol]
        if request.kind == "market" and request.closes is None:
            self._refs[request.id] = now[request.side > 0]
            self._entered.add(request.id)
        if request.kind == "limit":
            # It rests, wherever the market is.
            quotes[symbol] = (1, 1) if request.side < 0 else (ANY_PRICE, ANY_PRICE)
        try:
            return self.book.new_order(request)
        finally:
            quotes[symbol] = now
