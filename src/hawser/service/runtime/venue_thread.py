"""A venue in a thread of its own, joined to the engine's thread by one inbox.

Where the engine falls behind, quotes in the inbox are joined per instrument; everything else waits
its turn, and nothing overtakes: a quote is only joined with one that no other message follows for
that instrument's orders.

Messages are stamped by our own clock: a venue whose clock runs ahead, jumps or stands still moves
no deadline.
"""

from __future__ import annotations

import queue
import threading
import time
import traceback
from collections import deque
from collections.abc import Callable
from decimal import Decimal

from hawser.core.bars import Bars
from hawser.core.instrument import Instrument
from hawser.service import timed_io
from hawser.venue import port
from hawser.venue.clock import Clock

BEHIND = 2_000  # messages waiting before quotes are joined
PACE = 0.004  # seconds between looks at the clock
MOST_PAUSE = 1.0  # seconds, after one that fails each time


class Inbox:
    """Messages with the time they arrived, in order; many writers, one reader."""

    def __init__(self) -> None:
        self._items: deque[tuple[int, port.VenueMessage]] = deque()
        self._lock = threading.Lock()
        self._filled = threading.Condition(self._lock)
        self._joinable: dict[str, int] = {}  # symbol -> serial of its waiting quote
        self._taken = self._put = 0
        self.joined = 0

    def put(self, time: int, message: port.VenueMessage) -> None:
        with self._lock:
            if not isinstance(message, port.QuoteTold):
                self._joinable.clear()
            elif len(self._items) >= BEHIND and message.symbol in self._joinable:
                index = self._joinable[message.symbol] - self._taken
                if index >= 0:
                    waiting = self._items[index][1]
                    assert isinstance(waiting, port.QuoteTold)
                    self._items[index] = (time, joined(waiting, message))
                    self.joined += 1
                    return
            if isinstance(message, port.QuoteTold):
                self._joinable[message.symbol] = self._put
            self._items.append((time, message))
            self._put += 1
            self._filled.notify()

    def take(self, until: int | None = None) -> tuple[int, port.VenueMessage] | None:
        """The next message, or None where none has arrived by `until`."""
        with self._lock:
            if not self._items or (until is not None and self._items[0][0] > until):
                return None
            self._taken += 1
            return self._items.popleft()

    def wait(self, seconds: float) -> None:
        """Until something is there, or the time is up."""
        with self._lock:
            if not self._items:
                self._filled.wait(seconds)

    def wake(self) -> None:
        with self._lock:
            self._filled.notify()


def joined(first: port.QuoteTold, second: port.QuoteTold) -> port.QuoteTold:
    """Two quotes of one instrument as one: the last, with the best of both."""
    high = max(Decimal(first.high_bid or first.bid), Decimal(second.high_bid or second.bid))
    low = min(Decimal(first.low_ask or first.ask), Decimal(second.low_ask or second.ask))
    return port.QuoteTold(
        time=second.time,
        symbol=second.symbol,
        bid=second.bid,
        ask=second.ask,
        high_bid=str(high),
        low_ask=str(low),
    )


class Link:
    """Implements `port.Venue` over a venue that lives in its own thread."""

    def __init__(
        self, venue: port.Venue, clock: Clock, on_fault: Callable[[Exception], None]
    ) -> None:
        self._venue, self._clock, self._on_fault = venue, clock, on_fault
        self.inbox = Inbox()
        self._requests: queue.SimpleQueue[tuple[port.Request, int]] = queue.SimpleQueue()
        self._work: queue.SimpleQueue[Callable[[], None]] = queue.SimpleQueue()
        self._stop = threading.Event()
        self._now = self._told_to = venue.now
        self.instruments: dict[str, Instrument] = venue.instruments
        self.base_span = venue.base_span
        self._thread = threading.Thread(target=self._run, name="venue", daemon=True)

    @property
    def now(self) -> int:
        return self._now

    @property
    def told_to(self) -> int:
        """Up to when the venue has told what there was, of our clock."""
        return self._told_to

    def history(self, symbol: str) -> Bars:
        """Only before `start`."""
        return self._venue.history(symbol)

    def send(self, request: port.Request, at: int) -> None:
        self._requests.put((request, at))

    def next_message(self, until: int) -> port.VenueMessage | None:
        item = self.inbox.take(max(until, self._now))
        if item is None:
            self._now = max(self._now, until)
            return None
        self._now = max(self._now, item[0])
        return item[1]

    def catch_up(self, until: int, seconds: float) -> int:
        """Wait until the venue has told what there was up to `until`, as long as it gets on: at
        most `seconds` without. Returns how far it has told; `until` where it does not get on, for
        our clock does."""
        seen, end = self._told_to, time.monotonic() + seconds
        while self._told_to < until and self._thread.is_alive():
            if time.monotonic() > end:
                return until if self._told_to <= seen else self._told_to
            time.sleep(0.001)
        return until

    def do(self, work: Callable[[], None]) -> None:
        """Have `work` done on the venue's thread (a change of weather, say)."""
        self._work.put(work)

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        self._stop.set()
        if self._thread.is_alive():
            self._thread.join(timed_io.ENDING / 2)

    def _run(self) -> None:
        pause = PACE
        while not self._stop.wait(pause):
            try:
                self._turn()
                pause = PACE
            except Exception as error:  # the venue's fault must not end the link
                traceback.clear_frames(error.__traceback__)
                self._on_fault(error)
                pause = min(2 * pause, MOST_PAUSE)

    def _turn(self) -> None:
        while not self._work.empty():
            self._work.get()()
        while not self._requests.empty():
            request, at = self._requests.get()
            self._venue.send(request, max(at, self._venue.now))
        until = self._clock.now()
        while (message := self._venue.next_message(until)) is not None:
            self._told_to = max(self._told_to, min(self._venue.now, until))
            self.inbox.put(self._told_to, message)
            if not self._requests.empty():
                request, at = self._requests.get()
                self._venue.send(request, max(at, self._venue.now))
        self._told_to = max(self._told_to, until)
