"""Quay: a simulated venue in simulated time, driven by a feed and troubled by weather.

It is a discrete-event machine: the feed's items, the arrival of requests and the delivery of answers happen in
order of time, however coarsely the clock outside is advanced. Answers of one connection never overtake each other.
"""

from __future__ import annotations

from collections import deque

from hawser.core.account import Rate as AccountRate
from hawser.core.bars import Bars
from hawser.core.clock import SECOND
from hawser.core.errors import VenueRefused
from hawser.venue import port
from hawser.venue.quay import feed as fd
from hawser.venue.quay.book import Book, BookState, trim
from hawser.venue.quay.store import BookStore
from hawser.venue.quay.weather import Sky, Weather

FIGURES_EVERY = SECOND
SAVE_EVERY = 20 * SECOND


class Quay:
    """Implements `venue.port.Venue`."""

    def __init__(
        self,
        feed: fd.Feed,
        currency: str,
        balance: float,
        rates: dict[str, float | AccountRate],
        weather: Weather,
        seed: int = 1,
        store: BookStore | None = None,
        not_before: int = 0,
    ) -> None:
        self._feed, self._store = feed, store
        state = (store.load() if store else None) or BookState(now=feed.start, balance=balance)
        state.now = max(state.now, not_before)
        self.instruments, self.base_span = feed.instruments, feed.base_span
        self.book = Book(feed.instruments, currency, rates, state)
        self.sky = Sky(weather, seed ^ (state.counter * 7919))
        self._arrivals: deque[tuple[int, port.Request, str]] = deque()
        self._outbox: deque[tuple[int, port.Told]] = deque()
        self._ready: deque[port.Told] = deque()
        self._last_arrival = state.now
        self._next_figures = state.now
        self._next_save = state.now + SAVE_EVERY
        self._delivered = state.now
        feed.seek(state.now)
        self._ready.append(port.LinkTold(time=state.now, up=True))

    @property
    def now(self) -> int:
        return self.book.state.now

    def history(self, symbol: str) -> Bars:
        return self._feed.history(symbol)

    def send(self, request: port.Request, at: int) -> None:
        """The request sets out at `at`; what the weather does to it is drawn now."""
        fate = self.sky.fate()
        if fate != "lost":
            self._last_arrival = max(self._last_arrival, max(at, self.now) + self.sky.latency())
            self._arrivals.append((self._last_arrival, request, fate))

    def next_message(self, until: int) -> port.Told | None:
        """The next message due by `until`; advances the venue's time to it, or to `until`."""
        while True:
            if self._ready:
                return self._ready.popleft()
            arrival = self._arrivals[0][0] if self._arrivals else fd.NEVER
            answer = self._outbox[0][0] if self._outbox else fd.NEVER
            item = self._feed.next_time()
            soonest = min(arrival, answer, item, self._next_figures)
            if soonest > until:
                self._set_now(until)
                return None
            self._set_now(soonest)
            if answer == soonest:
                return self._outbox.popleft()[1]
            if arrival == soonest:
                _, request, fate = self._arrivals.popleft()
                self._arrived(request, fate)
            elif item == soonest:
                self._fed(self._feed.pop())
            else:
                self._next_figures = soonest + FIGURES_EVERY
                self._tell_figures()

    def close(self) -> None:
        self._save()
        if self._store:
            self._store.close()

    # Inside

    def _set_now(self, now: int) -> None:
        self.book.state.now = max(self.now, now)
        if self.now >= self._next_save:
            self._next_save = self.now + SAVE_EVERY
            trim(self.book.state)
            self._save()

    def _save(self) -> None:
        if self._store:
            self._store.save(self.book.state)

    def _answer(self, messages: list[port.Told]) -> None:
        for message in messages:
            self._delivered = max(self._delivered, self.now + self.sky.latency())
            self._outbox.append((self._delivered, message))

    def _tell_figures(self) -> None:
        balance, equity, margin = self.book.figures()
        self._ready.append(port.FiguresTold(time=self.now, balance=balance, equity=equity, margin_used=margin))

    def _arrived(self, request: port.Request, fate: str) -> None:
        if fate == "reject" and isinstance(request, (port.NewOrder, port.AmendOrder, port.CancelOrder)):
            self._answer([self._refusal(request, "busy", "the venue is busy")])
            return
        if fate == "reject":
            return  # a question the venue is too busy for is not answered
        changes = not isinstance(request, (port.AskOrder, port.AskHoldings))
        try:
            told = self._carried_out(request)
        except VenueRefused as refusal:
            told = [self._refusal(request, refusal.code, refusal.sentence)]
        if changes:
            self._save()  # before anybody is told
        if fate != "mute":
            self._answer(told)
        if any(isinstance(message, port.Filled) for message in told):
            self._tell_figures()

    def _carried_out(self, request: port.Request) -> list[port.Told]:
        book = self.book
        if isinstance(request, port.NewOrder):
            return book.new_order(request)
        if isinstance(request, port.AmendOrder):
            return book.amend(request)
        if isinstance(request, port.CancelOrder):
            return book.cancel(request.id)
        if isinstance(request, port.AskOrder):
            return [port.StatusTold(time=self.now, order=book.known(request.id))]
        asked = tuple(book.known(order) for order in request.orders)
        return [
            port.HoldingsTold(
                time=self.now, token=request.token, asked=asked, resting=book.resting_ids(), positions=book.positions()
            )
        ]

    def _refusal(self, request: port.Request, code: str, text: str) -> port.Rejected:
        what = {port.NewOrder: "order", port.AmendOrder: "amend"}.get(type(request), "cancel")
        order = "" if isinstance(request, port.AskHoldings) else request.id
        return port.Rejected(time=self.now, id=order, what=what, code=code, text=text)

    def _fed(self, item: fd.FeedItem) -> None:
        if isinstance(item, fd.Tick):
            instrument = self.instruments[item.symbol]
            told = self.book.tick(item.symbol, item.bid, item.ask)
            bid, ask = instrument.price(item.bid), instrument.price(item.ask)
            self._ready.append(port.QuoteTold(time=item.time, symbol=item.symbol, bid=bid, ask=ask))
            if told:
                self._save()
                self._answer(told)
                self._tell_figures()
        elif isinstance(item, fd.BarDone):
            price = self.instruments[item.symbol].price
            self._ready.append(
                port.BarTold(
                    time=item.time, symbol=item.symbol, opened=item.opened, open=price(item.open),
                    high=price(item.high), low=price(item.low), close=price(item.close), spread=item.spread,
                )
            )  # fmt: skip
        elif isinstance(item, fd.Rate):
            self.book.rates[item.pair] = item.mid
            self._ready.append(port.RateTold(time=item.time, pair=item.pair, mid=item.mid))
        else:
            (self.book.closed.discard if item.open else self.book.closed.add)(item.symbol)
            self._ready.append(port.StateTold(time=item.time, symbol=item.symbol, open=item.open, until=item.until))
