"""A Quay in another process, as a venue like any other. Where the line is gone it says so, and
comes back by itself."""

from __future__ import annotations

import socket
import time
from collections import deque
from collections.abc import Callable
from pathlib import Path

import msgspec

from hawser.core.bars import Bars
from hawser.core.errors import HawserError, Unavailable
from hawser.core.instrument import Instrument
from hawser.venue import port
from hawser.venue.quay import wire
from hawser.venue.quay.weather import Weather

GREETING_WAIT_S = 10.0  # seconds for the venue to say what it is
STUCK = 1.0  # seconds a request may wait to be taken
SILENT = 5.0  # seconds without a sign of life after which the line counts as lost
AGAIN = 0.5  # seconds between attempts to come back
# the same where an account in another currency answered, or another program has the line
ANOTHER = 10.0
NO_VENUE = "what listens there does not answer as a simulated venue does"


class FarQuay:
    """Implements `venue.port.Venue` over the socket at `path`. The first connect must succeed:
    raises Unavailable.

    `seconds` is the clock by which it counts a silence and waits before it tries again; nothing
    moves it back.
    """

    def __init__(
        self, path: Path, not_before: int = 0, seconds: Callable[[], float] = time.monotonic
    ) -> None:
        self._path, self._now, self._seconds = path, not_before, seconds
        self._socket: socket.socket | None = None
        self._frames = wire.Frames(wire.Outward)
        self._waiting: deque[port.VenueMessage] = deque()
        self._histories: dict[str, Bars] = {}
        self._heard_at = self._try_at = 0.0
        self._again = False  # whether the line was cut, and is not known to stand again
        self._refused = ""  # the currency of an account that is not ours, as it was told
        self.counts: dict[str, int] = {}
        self.instruments: dict[str, Instrument] = {}
        self.base_span = 0
        self.welcome = self._first()

    @property
    def now(self) -> int:
        """The clock of who drives it, as far as it was driven: the venue's own is in what it
        tells."""
        return self._now

    @property
    def weather(self) -> Weather:
        return self.welcome.weather

    def history(self, symbol: str) -> Bars:
        return self._histories[symbol]

    def send(self, request: port.Message, at: int) -> None:
        """Sets out at once, whatever `at` says: the venue has its own clock. Lost where the line is
        down."""
        if self._socket is None:
            return
        left, end = memoryview(wire.framed(request)), self._seconds() + STUCK
        while left:
            try:
                left = left[self._socket.send(left) :]
            except BlockingIOError:
                if self._seconds() > end:
                    self._lost("the venue's process does not answer")
                    return
                time.sleep(0.001)
            except OSError:
                self._lost("the venue's process is gone")
                return

    def next_message(self, until: int) -> port.VenueMessage | None:
        """What has come; nothing waits for `until`, which is when it has arrived."""
        if not self._waiting:
            self._listen()
        self._now = max(self._now, until)
        return self._waiting.popleft() if self._waiting else None

    def close(self) -> None:
        """Hang up; the venue goes on."""
        if self._socket is not None:
            self._socket.close()
            self._socket = None

    # What only a simulated venue has

    def set_weather(self, weather: Weather, seed: int) -> None:
        self.send(wire.SetWeather(weather=weather, seed=seed), self._now)
        self.welcome = msgspec.structs.replace(self.welcome, weather=weather)

    def gust(self, kind: str, symbol: str, length: int) -> None:
        self.send(wire.MakeGust(kind=kind, symbol=symbol, length=length), self._now)

    def stray(self, symbol: str, side: int, steps: int) -> None:
        self.send(wire.MakeStray(symbol=symbol, side=side, steps=steps), self._now)

    def pace(self, speed: float | None, running: bool | None) -> None:
        self.send(wire.Pace(speed=speed, running=running), self._now)

    # Inside

    def _first(self) -> wire.Welcome:
        """Connect and hear what the venue is."""
        if not self._connect():
            raise Unavailable(
                "no_quay",
                f"{self._path}: no simulated venue listens there; start it with: hawser quay",
            )
        end = self._seconds() + GREETING_WAIT_S
        while self._seconds() < end:
            self._listen()
            if self.instruments and set(self._histories) == set(self.instruments):
                # the date of its world; from here on ours goes on
                self._now = max(self._now, self.welcome.time)
                return self.welcome
            time.sleep(0.005)
        self.close()
        raise Unavailable("no_quay", f"{self._path}: {NO_VENUE}")

    def _connect(self) -> bool:
        self._try_at = self._seconds() + AGAIN
        try:
            line = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        except OSError:  # no room for one more
            return False
        try:
            line.settimeout(1.0)
            line.connect(str(self._path))
            line.sendall(wire.framed(wire.Hello(not_before=self._now)))
        except OSError:
            line.close()
            return False
        line.setblocking(False)
        self._socket, self._frames, self._heard_at = (
            line,
            wire.Frames(wire.Outward),
            self._seconds(),
        )
        return True

    def _listen(self) -> None:
        if self._socket is None:
            if self._seconds() >= self._try_at:
                self._connect()
            return
        try:
            data = self._socket.recv(1 << 20)
            messages = self._frames.feed(data)
        except BlockingIOError:
            if self._seconds() - self._heard_at > SILENT:
                self._lost("the venue's process does not answer")
            return
        except (OSError, HawserError):
            data, messages = b"", []
        if not data:
            self._lost("the venue's process is gone")
            return
        self._heard_at = self._seconds()
        try:
            for message in messages:
                if self._socket is not None:  # hung up on who is not ours
                    self._take(message)
        except HawserError:
            self._lost(NO_VENUE)

    def _take(self, message: port.VenueMessage) -> None:
        if isinstance(message, wire.Welcome):
            self._greeted(message)
        elif isinstance(message, wire.SentBars):
            self._histories[message.symbol] = wire.unpacked(message)
        elif isinstance(message, wire.Moment):
            self.counts = message.counts
        elif isinstance(message, wire.Replaced):
            self._lost("another program has connected to this account at the venue")
            self._try_at = self._seconds() + ANOTHER
        else:
            # every history has come by now
            if self._again and isinstance(message, port.LinkTold) and message.up:
                self._again = False
                self._waiting.append(self._traded(message.time))
            self._waiting.append(message)

    def _greeted(self, welcome: wire.Welcome) -> None:
        """Who answers says what it is. Another may listen there by now: all money that it told
        would be taken for money of ours if it were in another currency."""
        traded, before = {one.symbol: one for one in welcome.instruments}, self.instruments
        if before and welcome.currency != self.welcome.currency:
            self.close()
            self._try_at = self._seconds() + ANOTHER
            if self._refused != welcome.currency:
                self._refused, ours = welcome.currency, self.welcome.currency
                why = f"the account there is in {welcome.currency}, not in {ours}"
                self._waiting.append(port.LinkTold(time=self._now, up=False, why=why))
            return
        self._again = bool(before)
        self.welcome, self.instruments, self.base_span, self._refused = (
            welcome,
            traded,
            welcome.base_span,
            "",
        )

    def _traded(self, at: int) -> port.InstrumentsTold:
        """What is traded now, with all its bars; raises Unavailable where some are missing."""
        if not set(self.instruments) <= set(self._histories):
            raise Unavailable("no_quay", NO_VENUE)
        histories = {symbol: self._histories[symbol] for symbol in self.instruments}
        return port.InstrumentsTold(
            time=at,
            instruments=tuple(self.instruments.values()),
            base_span=self.base_span,
            histories=histories,
        )

    def _lost(self, why: str) -> None:
        self.close()
        self._waiting.append(port.LinkTold(time=self._now, up=False, why=why))
