"""Quay without weather and latency, walked bar by bar: fills are those of the reckoning's section
10.

Who walks it says when the price opens, sweeps to an extreme and closes. A market order waits for
the next open, unless it is asked for while the price stands at one; all else is carried out at
once, but a limit that the market is beyond rests until the price moves.
"""

from __future__ import annotations

from collections import deque

import msgspec

from hawser.core.account import Account
from hawser.core.bars import Bars
from hawser.core.errors import VenueRefused
from hawser.core.instrument import Instrument
from hawser.venue import port
from hawser.venue.quay.book import Book, BookOrder, BookState

ANY_PRICE = 1 << 40  # a price that no limit to buy is beyond


class BarWalk:
    """Implements `port.Venue` for one instrument; slippage in whole ticks."""

    def __init__(self, instrument: Instrument, account: Account, base_span: int) -> None:
        self.instruments = {instrument.symbol: instrument}
        self.base_span, self.now = base_span, 0
        self._symbol, self._account = instrument.symbol, account
        self._entry_slip = round(account.costs.entry_slippage_ticks)
        self._exit_slip = round(account.costs.exit_slippage_ticks)
        # Section 10 knows no distance that targets keep, and no margin call.
        near = msgspec.structs.replace(instrument, min_stop_ticks=0, margin_rate=0.0)
        state = BookState(balance=float(account.equity))
        self.book = Book({instrument.symbol: near}, account.currency, dict(account.rates), state)
        self._balance_off = account.basis_money("balance") - account.equity
        self._ready: deque[port.VenueMessage] = deque()
        self._waiting: list[port.NewOrder] = []
        self._at_open = False

    # The port

    def history(self, symbol: str) -> Bars:
        return Bars.empty()

    def next_message(self, until: int) -> port.VenueMessage | None:
        return self._ready.popleft() if self._ready else None

    def send(self, request: port.Request, at: int) -> None:
        if isinstance(request, port.NewOrder) and request.kind == "market" and not self._at_open:
            self._waiting.append(request)
        else:
            self._carry_out(request)

    # The walk

    def greet(self, time: int) -> None:
        """The link stands, the instrument trades."""
        self.now = self.book.state.now = time
        self._ready.append(port.LinkTold(time=time, up=True))
        self._ready.append(port.StateTold(time=time, symbol=self._symbol, open=True, until=0))
        self._figures()

    def open_at(self, time: int, bid: int, spread: int) -> None:
        """The price opens; what waited for it fills first."""
        self.now = self.book.state.now = time
        self.book.quotes[self._symbol] = (bid, bid + spread)
        self._at_open = True
        self._quote(bid, spread)
        waiting, self._waiting = self._waiting, []
        for request in waiting:
            self._carry_out(request)

    def leave_open(self) -> None:
        """From now on market orders wait."""
        self._at_open = False

    def next_reached(self, bid: int, spread: int, gap: bool) -> bool:
        """Fill the nearest order that a move to `bid` reaches, at its level, or where the open
        jumped over it at the price; False where there is none."""
        reached = [
            order for order in self.book.resting(self._symbol) if self._reaches(order, bid, spread)
        ]
        if not reached:
            return False
        # rungs before the stop
        reached = [order for order in reached if order.adds is not None] or reached
        bid_now, ask_now = self.book.quotes[self._symbol]
        # the price jumped: what lies farthest behind it came first, and targets last
        way = -1 if gap else 1

        def place(one: BookOrder) -> tuple[bool, int]:
            far = abs(self._level(one) - (ask_now if one.side > 0 else bid_now))
            return gap and one.kind == "limit" and one.closes is not None, way * far

        order = min(reached, key=place)
        at = (bid if order.side < 0 else bid + spread) if gap else self._level(order)
        self.book.quotes[self._symbol] = (at, at + spread) if order.side < 0 else (at - spread, at)
        self.book.slippage = lambda: self._exit_slip
        self._ready += self.book.fill(order)
        self._told_when_flat()
        return True

    def mark(self) -> None:
        """The account's figures as the bar closes."""
        self._figures()

    def stand_at(self, bid: int, spread: int, high: int, low: int) -> None:
        """The price is at `bid`, after it went as high and low as told."""
        price = self.instruments[self._symbol].price
        self.book.quotes[self._symbol] = (bid, bid + spread)
        self._ready.append(
            port.QuoteTold(
                time=self.now,
                symbol=self._symbol,
                bid=price(bid),
                ask=price(bid + spread),
                high_bid=price(high),
                low_ask=price(low + spread),
            )
        )

    def complete(
        self,
        time: int,
        opened: int,
        prices: tuple[int, int, int, int],
        spread: int,
        low_ask: int,
    ) -> None:
        """The bar that opened at `opened` is complete."""
        self.now = self.book.state.now = time
        price = self.instruments[self._symbol].price
        open_, high, low, close = map(price, prices)
        self._ready.append(
            port.BarTold(
                time=time,
                symbol=self._symbol,
                opened=opened,
                open=open_,
                high=high,
                low=low,
                close=close,
                spread=float(spread),
                low_ask=price(low_ask),
            )
        )

    def end(self) -> None:
        """The history is over: what is closed now fills where the price stands, without slippage,
        and so does what was to be closed at the next open. No entry comes to anything any more."""
        self._at_open, self._exit_slip = True, 0
        closes, self._waiting = (
            [request for request in self._waiting if request.closes is not None],
            [],
        )
        for request in closes:
            self._carry_out(request)

    # Inside

    @staticmethod
    def _level(order: BookOrder) -> int:
        assert order.level is not None  # what rests has one
        return order.level

    def _reaches(self, order: BookOrder, bid: int, spread: int) -> bool:
        through = order.side * ((bid + spread if order.side > 0 else bid) - self._level(order))
        return through <= 0 if order.kind == "limit" else through >= 0

    def _quote(self, bid: int, spread: int) -> None:
        self.stand_at(bid, spread, bid, bid)

    def _told_when_flat(self) -> None:
        """An account is valued at each close and when nothing is held any more, as the reckoning
        has it."""
        if not self.book.positions():
            self._figures()

    def _figures(self) -> None:
        balance, equity, margin = self.book.figures()
        self._ready.append(
            port.FiguresTold(
                time=self.now,
                balance=balance + self._balance_off,
                equity=equity,
                margin_used=margin + self._account.margin_used,
            )
        )

    def _carry_out(self, request: port.Request) -> None:
        book = self.book
        if isinstance(request, port.NewOrder):
            slip = self._entry_slip if request.closes is None else self._exit_slip
            book.slippage = lambda: slip
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
        self._told_when_flat()

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
        quotes = self.book.quotes
        now = quotes[self._symbol]
        if request.kind == "limit":
            # It rests, wherever the market is.
            quotes[self._symbol] = (1, 1) if request.side < 0 else (ANY_PRICE, ANY_PRICE)
        try:
            return self.book.new_order(request)
        finally:
            quotes[self._symbol] = now
