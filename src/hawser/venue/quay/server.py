"""Quay as a process of its own: one client at a time on a Unix socket that only its owner may open.

The venue goes on whether anybody listens or not; a client that comes back is told where everything
stands, as on any venue's line. Killing either side leaves the other alive.
"""

from __future__ import annotations

import contextlib
import os
import selectors
import socket
import time
from collections.abc import Callable
from pathlib import Path

from hawser.core.clock import DAY
from hawser.core.errors import HawserError, Unavailable
from hawser.venue import port
from hawser.venue.clock import Clock
from hawser.venue.quay import wire
from hawser.venue.quay.quay import Quay
from hawser.venue.quay.weather import KINDS

PACE = 0.004  # seconds between looks at the clock
BEAT = 1.0  # seconds between signs of life
FARTHEST = 366 * DAY  # ns that the venue's time may be put ahead, or a gust may last
FASTEST = 3600.0
BACKLOG = 64 * 1024 * 1024  # bytes a client may leave unread before it is let go
MOST_CALLERS = 8  # connections that have not said yet who they are


def listening(path: Path) -> socket.socket:
    """A socket at `path`; one left over by a process that has ended is replaced. Raises
    Unavailable."""
    server = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        if path.is_socket() and not _answers(path):
            path.unlink()
        old = os.umask(0o177)
        try:
            server.bind(str(path))
        finally:
            os.umask(old)
        server.listen(1)
        server.setblocking(False)
    except OSError as error:
        server.close()
        raise Unavailable(
            "socket", f"{path}: cannot be listened on ({error.strerror or error})"
        ) from error
    return server


def _answers(path: Path) -> bool:
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as probe, contextlib.suppress(OSError):
        probe.connect(str(path))
        return True
    return False


def _makes_sense(request: port.Message, venue: Quay) -> bool:
    """Whether what a client asks of the simulation can be: orders are the book's to refuse."""
    if isinstance(request, wire.Hello):
        return request.not_before <= venue.now + FARTHEST
    if isinstance(request, wire.Pace):
        return request.speed is None or 0 < request.speed <= FASTEST
    if isinstance(request, wire.MakeGust):
        known = request.symbol in venue.instruments or (
            not request.symbol and request.kind in ("drop", "restart")
        )
        return known and request.kind in (*KINDS, "hush") and 0 <= request.length <= FARTHEST
    if isinstance(request, wire.MakeStray):
        known = request.symbol in venue.instruments and request.side in (1, -1)
        return known and 0 < request.steps <= venue.instruments[request.symbol].qty_max_steps
    return True


class Server:
    """Joins a Quay, its clock and a socket."""

    def __init__(self, venue: Quay, path: Path, speed: float = 1.0) -> None:
        self._venue, self._clock, self._path = venue, Clock(venue.now, speed), path
        self._socket = listening(path)
        self._selector = selectors.DefaultSelector()
        self._selector.register(self._socket, selectors.EVENT_READ)
        self._client: socket.socket | None = None
        # of the client, and of callers that have not greeted yet
        self._lines: dict[socket.socket, wire.Frames] = {}
        self._out = bytearray()
        self._greeted = False
        self._beat_at = 0.0

    def run(self, stopped: Callable[[], bool]) -> None:
        """Serve until `stopped`; the venue's state is saved at the end."""
        try:
            while not stopped():
                self.turn()
        finally:
            for line in list(self._lines):
                self._hang_up(line)
            self._socket.close()
            self._path.unlink(missing_ok=True)
            self._venue.close()

    def turn(self) -> None:
        """What has come, what the clock brings, what is to be told."""
        for key, _ in self._selector.select(PACE):
            if key.fileobj is self._socket:
                self._accept()
            elif key.fileobj in self._lines:  # not hung up on in this turn
                self._hear(key.fileobj)
        until = self._clock.now()
        while (message := self._venue.next_message(until)) is not None:
            self._tell(message)
        if time.monotonic() >= self._beat_at:
            self._beat_at = time.monotonic() + BEAT
            self._tell(wire.Moment(time=self._venue.now, counts=dict(self._venue.sky.counts)))
        self._flush()

    def _accept(self) -> None:
        try:
            caller, _ = self._socket.accept()
        except OSError:  # gone again, or no room for one more: it is asked again at the next turn
            time.sleep(PACE)
            return
        callers = [line for line in self._lines if line is not self._client]
        for line in callers[: max(0, len(callers) - MOST_CALLERS + 1)]:
            self._hang_up(line)
        caller.setblocking(False)
        self._lines[caller] = wire.Frames(wire.FromVenue)
        self._selector.register(caller, selectors.EVENT_READ)

    def _hang_up(self, line: socket.socket) -> None:
        if self._lines.pop(line, None) is None:
            return
        self._selector.unregister(line)
        line.close()
        if line is self._client:
            self._client, self._greeted = None, False
            self._out.clear()
            self._venue.hang_up()

    def _hear(self, line: socket.socket) -> None:
        try:
            data = line.recv(1 << 16)
            requests = self._lines[line].feed(data)
        except BlockingIOError:
            return
        except (OSError, HawserError):
            data, requests = b"", []
        if not data:
            self._hang_up(line)
        for request in requests:
            if line not in self._lines:
                return
            if (
                line is not self._client
                and isinstance(request, wire.Hello)
                and _makes_sense(request, self._venue)
            ):
                self._give_line_to(line)
            if line is not self._client or not self._take(request):
                self._hang_up(line)

    def _give_line_to(self, caller: socket.socket) -> None:
        """Who greets last counts: the client before may be a process that hangs. It is told that it
        is none any more, so that two programs do not take the line from each other all the time."""
        if self._client is not None:
            self._tell(wire.Replaced(time=self._venue.now))
            self._flush()
        if self._client is not None:
            self._hang_up(self._client)
        self._client = caller

    def _take(self, request: port.Message) -> bool:
        """Do what is asked; False where it makes no sense."""
        venue = self._venue
        if not _makes_sense(request, venue):
            return False
        if isinstance(request, wire.Hello):
            self._greet(request)
        elif isinstance(request, wire.Pace):
            self._clock.set(request.speed, request.running)
        elif isinstance(request, wire.SetWeather):
            venue.set_weather(request.weather, request.seed)
        elif isinstance(request, wire.MakeGust):
            venue.gust(request.kind, request.symbol, request.length)
        elif isinstance(request, wire.MakeStray):
            venue.stray(request.symbol, request.side, request.steps)
        else:
            # what is left of `Inward` are requests
            venue.send(request, venue.now)  # type: ignore[arg-type]
        return True

    def _greet(self, hello: wire.Hello) -> None:
        venue = self._venue
        self._clock.at_least(hello.not_before)
        while venue.next_message(self._clock.now()) is not None:
            pass
        self._greeted = True
        self._tell(
            wire.Welcome(
                time=venue.now,
                base_span=venue.base_span,
                currency=venue.currency,
                balance=venue.book.state.balance,
                instruments=tuple(venue.instruments.values()),
                weather=venue.sky.weather,
                speed=self._clock.speed,
                running=self._clock.running,
            )
        )
        for symbol in venue.instruments:
            self._tell(wire.packed(venue.history(symbol), symbol, venue.now))
        venue.pick_up()

    def _tell(self, message: port.VenueMessage) -> None:
        if self._greeted:
            self._out += wire.framed(message)

    def _flush(self) -> None:
        if self._client is None or not self._out:
            return
        try:
            while self._out:
                del self._out[: self._client.send(self._out[: 1 << 18])]
        except BlockingIOError:
            if len(self._out) > BACKLOG:
                self._hang_up(self._client)
        except OSError:
            self._hang_up(self._client)
