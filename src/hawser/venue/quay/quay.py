"""Quay: a simulated venue in simulated time, driven by a feed and troubled by weather.

It is a discrete-event machine: the feed's items, the arrival of requests and the delivery of
answers happen in order of time, however coarsely the clock outside is advanced. Requests of one
connection never overtake each other; answers do where the weather says so.
"""

from __future__ import annotations

import heapq
from collections import deque
from collections.abc import Callable

import msgspec

from hawser.core.account import Rate as AccountRate
from hawser.core.bars import Bars
from hawser.core.clock import SECOND
from hawser.core.errors import Unavailable, VenueRefused
from hawser.venue import port
from hawser.venue.quay import feed as fd
from hawser.venue.quay import hands
from hawser.venue.quay.book import Book, BookState, trim
from hawser.venue.quay.gusts import Gusts
from hawser.venue.quay.store import Store, reread
from hawser.venue.quay.weather import SEVERITIES, Sky, Weather

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
        store: Store | None = None,
        not_before: int = 0,
    ) -> None:
        self._feed, self._store = feed, store
        state = (store.load() if store else None) or BookState(now=feed.start, balance=balance)
        state.now = max(state.now, not_before)
        self.instruments, self.base_span = feed.instruments, feed.base_span
        self.currency = currency
        self.book = self._opened(state, rates)
        self.sky = Sky(weather, seed ^ (state.counter * 7919))
        self._arrivals: deque[tuple[int, port.Request, str]] = deque()
        self._outbox: list[tuple[int, int, port.VenueMessage]] = []
        self._pieces: list[tuple[int, str]] = []
        self._expiries: list[tuple[int, str]] = []
        self._serial = 0
        self._down_until = 0
        self._gusts = Gusts()
        self._still_until = 0
        # positions and orders that another hand, or the venue, has changed
        self.meddled: set[str] = set()
        self._next_gust = state.now + SECOND
        self._ready: deque[port.VenueMessage] = deque()
        self._missed: list[port.VenueMessage] = []  # bars that completed while the line was down
        self._last_arrival = state.now
        self._next_figures = state.now
        self._next_save = state.now + SAVE_EVERY
        self._delivered = state.now
        feed.seek(state.now)
        # what was filling in pieces when the venue went down goes on
        for order in list(state.orders):
            self._go_on(order)
            self._note_expiry(order)
        self._ready.append(port.LinkTold(time=state.now, up=True))

    def _opened(self, state: BookState, rates: dict[str, float | AccountRate]) -> Book:
        state.go_on_with(self.instruments, self.currency)
        book = Book(dict(self.instruments), self.currency, rates, state)
        book.slippage, book.part = self._slippage, self._part
        return book

    @property
    def now(self) -> int:
        return self.book.state.now

    def history(self, symbol: str) -> Bars:
        return self._feed.history(symbol)

    def send(self, request: port.Request, at: int) -> None:
        """The request sets out at `at`; what the weather does to it is drawn now."""
        fate = self.sky.fate()
        if fate != "lost" and not self._down_until:
            self._last_arrival = max(self._last_arrival, max(at, self.now) + self.sky.latency())
            self._arrivals.append((self._last_arrival, request, fate))

    def next_message(self, until: int) -> port.VenueMessage | None:
        """The next message due by `until`; advances the venue's time to it, or to `until`."""
        while True:
            while self._ready:
                message = self._ready.popleft()
                if not self._down_until or isinstance(message, port.LinkTold):
                    return message
                if isinstance(message, port.BarTold):
                    self._missed.append(message)
            soonest, happen = self._soonest()
            if soonest > until:
                self._set_now(until)
                return None
            self._set_now(soonest)
            happen()

    def hang_up(self) -> None:
        """The client is gone: what is on its way to it is lost."""
        self._outbox.clear()
        self._ready.clear()
        self._missed.clear()

    def pick_up(self) -> None:
        """A client connects: it hears that the line stands, and what the market is."""
        self.hang_up()
        self._delivered = self.now
        if not self._down_until:
            self._greet()

    def _greet(self) -> None:
        self._ready.append(port.LinkTold(time=self.book.time, up=True))
        for symbol in self.instruments:
            self._tell_state(symbol)
            if symbol in self.book.quotes:
                self._tell_quote(symbol)

    def _slippage(self) -> int:
        return self.sky.slippage()

    def _part(self) -> float:
        return self.sky.first_piece()

    def _note_expiry(self, order: str) -> None:
        known = self.book.state.orders[order]
        if known.until and known.status == "resting":
            heapq.heappush(self._expiries, (known.until, order))

    def _expire(self) -> None:
        told = self.book.expire(heapq.heappop(self._expiries)[1])
        if told:
            self._save()
            self._answer(told)

    def _next_expiry(self) -> int:
        """When an order's time is up by the venue's clock, of the time that passes."""
        if not self._expiries or self.book.state.still:
            return fd.NEVER
        return max(self.now, self._expiries[0][0] - self.book.state.ahead)

    def _soonest(self) -> tuple[int, Callable[[], None]]:
        """What happens next, and when. At one instant answers go first, then requests, then the
        market."""
        return min(
            (
                (self._outbox[0][0] if self._outbox else fd.NEVER, self._deliver),
                (self._arrivals[0][0] if self._arrivals else fd.NEVER, self._arrive),
                (self._pieces[0][0] if self._pieces else fd.NEVER, self._piece),
                (self._next_expiry(), self._expire),
                (self._feed.next_time(), lambda: self._fed(self._feed.pop())),
                (self._next_figures, self._figures),
                (self._next_gust, self._gust),
            ),
            key=lambda pair: pair[0],
        )

    def _deliver(self) -> None:
        self._ready.append(heapq.heappop(self._outbox)[2])

    def _arrive(self) -> None:
        _, request, fate = self._arrivals.popleft()
        self._arrived(request, fate)

    def _figures(self) -> None:
        self._next_figures = self.now + FIGURES_EVERY
        self._tell_figures()

    def _piece(self) -> None:
        """A market order goes on filling."""
        _, order = heapq.heappop(self._pieces)
        if self.book.known(order).symbol in self.book.closed:
            heapq.heappush(self._pieces, (self.now + SECOND, order))
            return
        told = self.book.next_piece(order, self.sky.first_piece())
        if told:
            self._save()
            self._answer(told)
            self._tell_figures()
        self._go_on(order)

    def _go_on(self, order: str) -> None:
        if self.book.in_pieces(order):
            heapq.heappush(self._pieces, (self.now + self.sky.pause(), order))

    # Gusts

    def _gust(self) -> None:
        """Each second: what ended, and what the sky brings."""
        self._next_gust = self.now + SECOND
        if self._down_until and self.now >= self._down_until:
            self._down_until = 0
            # what completed meanwhile is told before the line stands
            self._ready.extend(self._missed)
            self._missed.clear()
            self._greet()
        halted = self._gusts.halted
        for symbol in [symbol for symbol, until in halted.items() if self.now >= until]:
            del halted[symbol]
            self.book.closed.discard(symbol)
            self._tell_state(symbol)
        self._end_still()
        for symbol in [
            symbol for symbol, until in self._gusts.smaller.items() if self.now >= until
        ]:
            del self._gusts.smaller[symbol]
            self.book.instruments[symbol] = self.instruments[symbol]
        for kind, (symbol, length) in self.sky.gusts(list(self.instruments)).items():
            self.gust(kind, symbol, length)

    def gust(self, kind: str, symbol: str, length: int) -> None:
        """Make one gust now, for `length` ns: a kind of `weather.KINDS`, or hush; of `symbol`,
        where it is of one. It comes to nothing where there is such a one already, or nothing to
        change."""
        struck = self._struck(kind, symbol, self.now + length)
        self.counts[kind] = self.counts.get(kind, 0) + struck

    def _struck(self, kind: str, symbol: str, until: int) -> bool:
        if kind in ("drop", "restart"):
            return self._cut(kind, until)
        if kind == "jump":
            return self._leap(until)
        if kind in ("hand", "call", "payment"):
            return self._others(kind)
        if kind == "odd":
            return self._odd_quote(symbol)
        return self._blown(kind, symbol, until)

    def _blown(self, kind: str, symbol: str, until: int) -> bool:
        """What lasts for a while."""
        if kind == "squall":
            self._gusts.wide[symbol] = until
        elif kind == "hush":
            self._gusts.hushed[symbol] = until
        elif kind == "rateless":
            self._gusts.rateless = until
        elif kind == "smaller":
            whole, most = self.instruments[symbol], round(10 ** self.sky.random.uniform(1.5, 3))
            most = min(max(most, whole.qty_min_steps), whole.qty_max_steps)
            self.book.instruments[symbol] = msgspec.structs.replace(
                whole, qty_max=whole.qty_step * most
            )
            self._gusts.smaller[symbol] = until
        elif kind == "gap" and symbol in self.book.quotes:
            bid, ask = self.book.quotes[symbol]
            self._gusts.jump(symbol, round((ask - bid) * self.sky.jump()), self.now, until)
        elif kind in ("halt", "shut") and symbol not in self.book.closed:
            self._gusts.halted[symbol] = until
            self.book.closed.add(symbol)
            self._tell_state(symbol)
        else:
            return False
        return True

    def _leap(self, until: int) -> bool:
        """The venue's clock jumps, or stands still; the time that passes does neither."""
        state, leap = self.book.state, self.sky.leap()
        self._end_still(now=True)
        if leap:
            state.ahead += leap
        else:
            state.still, self._still_until = self.book.time, until
            self.counts["still"] = self.counts.get("still", 0) + 1
        return True

    def _end_still(self, now: bool = False) -> None:
        """A clock that stood still goes on from where it stood."""
        state = self.book.state
        if state.still and (now or self.now >= self._still_until):
            state.ahead, state.still = state.still - self.now, 0

    def _others(self, kind: str) -> bool:
        """What is done by others in the account; half of what another hand does is told."""
        draw = self.sky.random
        if kind == "payment":
            hands.paid(self.book, draw)
            self._save()
            return True
        name, told = (hands.meddle if kind == "hand" else hands.called)(self.book, draw)
        if name:
            self.meddled.add(name)
            self._save()
            if draw.random() < 0.5:
                self._answer(told)
        return bool(name)

    def _odd_quote(self, symbol: str) -> bool:
        """A quote that cannot be, or is not of now, beside the true ones."""
        if symbol not in self.book.quotes or self._down_until:
            return False
        price, (bid, ask), draw = (
            self.instruments[symbol].price,
            self.book.quotes[symbol],
            self.sky.random,
        )
        kind, time = draw.choice(("crossed", "one_sided", "repeated", "backward")), self.book.time
        if kind == "crossed":
            bid, ask = ask + draw.randint(1, 20), bid
        shown = (price(bid), price(ask))
        if kind == "one_sided":
            shown = draw.choice(((shown[0], "0"), ("0", shown[1]), ("", shown[1])))
        elif kind == "backward":
            time -= draw.randint(1, 90) * SECOND
        for _ in range(draw.randint(1, 3)):
            self._ready.append(port.QuoteTold(time=time, symbol=symbol, bid=shown[0], ask=shown[1]))
        return True

    def _cut(self, kind: str, until: int) -> bool:
        if self._down_until:
            return False
        why = "the line dropped" if kind == "drop" else "the venue restarts"
        self._ready.append(port.LinkTold(time=self.book.time, up=False, why=why))
        self._down_until = until
        if kind == "restart":
            self._restart()
        return True

    def _restart(self) -> None:
        """The venue goes on with what it had saved; what was under way to it or from it is lost."""
        self._arrivals.clear()
        self._outbox.clear()
        self._pieces.clear()
        self._expiries.clear()
        old = self.book
        self.book = self._opened(reread(old.state), old.rates)
        self.book.quotes, self.book.closed = old.quotes, old.closed
        for order in list(self.book.state.orders):
            self._go_on(order)
            self._note_expiry(order)

    @property
    def counts(self) -> dict[str, int]:
        """What the weather has done so far, by kind."""
        return self.sky.counts

    @property
    def weather(self) -> Weather:
        return self.sky.weather

    def set_weather(self, weather: Weather, seed: int) -> None:
        """Another weather from now on, its counts from nothing."""
        self.sky = Sky(weather, seed)

    def set_air_clear(self) -> None:
        """Calm from now on: what a gust has hold of is let go, the clock goes right, and nothing
        has been counted."""
        self.sky.weather = SEVERITIES["calm"]
        self._end_still(now=True)
        until = self.now
        for symbol in self._gusts.halted:
            self._gusts.halted[symbol] = until
        for symbol in self._gusts.smaller:
            self._gusts.smaller[symbol] = until
        self._gusts.rateless = until

    def pace(self, speed: float | None, running: bool | None) -> None:
        """Nothing: who drives this venue has its clock."""

    def stray(self, symbol: str, side: int, steps: int) -> None:
        """Open a position as if by another hand: nobody is told but who asks for all there is."""
        hands.trade(self.book, "other", symbol, side, steps)
        self._save()
        self._tell_figures()

    def _tell_state(self, symbol: str) -> None:
        until = self._gusts.halted.get(symbol, 0)
        told = port.StateTold(
            time=self.book.time, symbol=symbol, open=symbol not in self.book.closed, until=until
        )
        self._ready.append(told)

    def _tell_quote(self, symbol: str) -> None:
        price, (bid, ask) = self.instruments[symbol].price, self.book.quotes[symbol]
        self._ready.append(
            port.QuoteTold(time=self.book.time, symbol=symbol, bid=price(bid), ask=price(ask))
        )

    def close(self) -> None:
        self._save()
        if self._store:
            self._store.close()

    # Inside

    def _set_now(self, now: int) -> None:
        self.book.state.now = max(self.now, now)
        if self.now >= self._next_save:
            self._next_save = self.now + SAVE_EVERY
            self.book.touched.update(trim(self.book.state))
            self._save()

    def _save(self) -> None:
        """Write what has changed; where that cannot be, it stays to be written with what changes
        next."""
        if self._store:
            try:
                self._store.save(self.book.state, self.book.touched)
            except Unavailable:
                return
        self.book.touched.clear()

    def _answer(self, messages: list[port.VenueMessage]) -> None:
        for message in messages:
            if self.sky.swallowed():
                continue
            held_back = self.sky.held_back()
            if held_back:
                self._post(self.now + held_back, message)
            else:
                self._delivered = max(self._delivered, self.now + self.sky.latency())
                self._post(self._delivered, message)
            if self.sky.duplicated():
                self._post(self._delivered + self.sky.latency(), message)

    def _post(self, at: int, message: port.VenueMessage) -> None:
        self._serial += 1
        heapq.heappush(self._outbox, (at, self._serial, message))

    def _tell_figures(self) -> None:
        balance, equity, margin = self.book.figures()
        self._ready.append(
            port.FiguresTold(
                time=self.book.time,
                balance=balance,
                equity=equity,
                margin_used=margin,
                transferred=self.book.state.transferred,
            )
        )

    def _arrived(self, request: port.Request, fate: str) -> None:
        if fate == "reject" and isinstance(
            request, (port.NewOrder, port.AmendOrder, port.CancelOrder)
        ):
            self._answer([self._refusal(request, "busy", "the venue is busy")])
            return
        if fate == "margin" and isinstance(request, port.NewOrder) and request.closes is None:
            self._answer([self._refusal(request, "margin", "not enough free margin")])
            return
        if (
            fate == "near"
            and isinstance(request, (port.NewOrder, port.AmendOrder))
            and request.level is not None
        ):
            self._answer(
                [
                    self._refusal(
                        request, "too_near", f"{request.level} is too near to the market just now"
                    )
                ]
            )
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

    def _carried_out(self, request: port.Request) -> list[port.VenueMessage]:
        book = self.book
        if isinstance(request, port.NewOrder):
            told = book.new_order(
                request, self.sky.first_piece() if request.kind == "market" else 1.0
            )
            self._go_on(request.id)
            self._note_expiry(request.id)
            return self._adjusted(request.id, told)
        if isinstance(request, port.AmendOrder):
            return self._adjusted(request.id, book.amend(request))
        if isinstance(request, port.CancelOrder):
            return book.cancel(request.id)
        if isinstance(request, port.AskOrder):
            return [
                port.StatusTold(
                    time=self.book.time, order=book.known(request.id), token=request.token
                )
            ]
        asked = tuple(book.known(order) for order in request.orders)
        return [
            port.HoldingsTold(
                time=book.time,
                token=request.token,
                asked=asked,
                resting=book.resting_ids(),
                positions=book.positions(),
                closing=book.closing(),
            )
        ]

    def _adjusted(self, order_id: str, told: list[port.VenueMessage]) -> list[port.VenueMessage]:
        """The answer to a level: it may have been put elsewhere."""
        order = self.book.state.orders[order_id]
        ticks = self.sky.adjusted() if order.status == "resting" and order.kind != "market" else 0
        if not ticks:
            return told
        level = self.instruments[order.symbol].price(self.book.adjust(order_id, ticks))
        self.counts["adjust"] = self.counts.get("adjust", 0) + 1
        return [
            msgspec.structs.replace(one, level=level) if hasattr(one, "level") else one
            for one in told
        ]

    def _refusal(self, request: port.Request, code: str, text: str) -> port.Rejected:
        what = {port.NewOrder: "order", port.AmendOrder: "amend"}.get(type(request), "cancel")
        order = "" if isinstance(request, port.AskHoldings) else request.id
        token = request.token if isinstance(request, port.AmendOrder) else 0
        return port.Rejected(
            time=self.book.time, id=order, what=what, code=code, text=text, token=token
        )

    def _fed(self, item: fd.FeedItem) -> None:
        if isinstance(item, fd.Tick):
            told = self._ticked(item)
            if self._gusts.hushed.get(item.symbol, 0) <= self.now:
                self._tell_quote(item.symbol)
            if told:
                self._save()
                self._answer(told)
                self._tell_figures()
        elif isinstance(item, fd.BarDone):
            item = self._gusts.bar(item)
            price, shift = self.instruments[item.symbol].price, self.book.time - self.now
            self._ready.append(
                port.BarTold(
                    time=self.book.time,
                    symbol=item.symbol,
                    opened=item.opened + shift,
                    open=price(item.open),
                    high=price(item.high),
                    low=price(item.low),
                    close=price(item.close),
                    spread=item.spread,
                )
            )
        elif isinstance(item, fd.FeedRate):
            self.book.rates[item.pair] = item.mid
            if self._gusts.rateless <= self.now:
                self._ready.append(port.RateTold(time=self.book.time, pair=item.pair, mid=item.mid))
        else:
            if item.open and item.symbol not in self._gusts.halted:
                self.book.closed.discard(item.symbol)
            elif not item.open:
                self._gusts.halted.pop(item.symbol, None)
                self.book.closed.add(item.symbol)
            self._ready.append(
                port.StateTold(
                    time=self.book.time, symbol=item.symbol, open=item.open, until=item.until
                )
            )

    def _ticked(self, item: fd.Tick) -> list[port.VenueMessage]:
        """The quote as the weather leaves it; without effect while the instrument is halted."""
        bid, ask = self._gusts.quoted(item, self.now)
        if item.symbol in self._gusts.halted:
            self.book.quotes[item.symbol] = (bid, ask)
            return []
        return self.book.tick(item.symbol, bid, ask)
