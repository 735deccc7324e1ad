"""What Quay and its client say to each other over a Unix socket: length-framed msgpack, one tagged
record a frame.

Requests and messages are those of `venue/port.py`; beside them stands what only a simulated venue
has: its clock and its weather. A frame that cannot be read ends the connection; nothing in it is
ever run.
"""

from __future__ import annotations

import struct
from typing import Any

import msgspec
import numpy as np

from hawser.core.bars import Bars
from hawser.core.errors import UNDECODABLE, Unavailable
from hawser.core.instrument import Instrument
from hawser.venue import port
from hawser.venue.quay.weather import Weather

MOST = 64 * 1024 * 1024  # bytes of a frame: a long history of one instrument is far below
_LENGTH = struct.Struct(">I")


class Hello(port.Message, frozen=True):
    """The first frame of a client: the venue's clock goes on from `not_before` at least."""

    not_before: int = 0


class Pace(port.Message, frozen=True):
    """The venue's clock: how many times as fast, and whether it runs."""

    speed: float | None = None
    running: bool | None = None


class SetWeather(port.Message, frozen=True):
    weather: Weather
    seed: int


class MakeGust(port.Message, frozen=True):
    kind: str
    symbol: str
    length: int


class MakeStray(port.Message, frozen=True):
    symbol: str
    side: int
    steps: int


class Welcome(port.VenueMessage, frozen=True):
    """The venue as it is: what is traded, the money, and its weather."""

    base_span: int
    currency: str
    balance: float
    instruments: tuple[Instrument, ...]
    weather: Weather
    speed: float
    running: bool


class SentBars(port.VenueMessage, frozen=True, tag="Column"):
    """The completed bars of one instrument, each column as little-endian bytes."""

    symbol: str
    columns: tuple[bytes, ...]


class Moment(port.VenueMessage, frozen=True):
    """The venue is alive; what its weather has done so far, by kind."""

    counts: dict[str, int]


class Replaced(port.VenueMessage, frozen=True):
    """The last message to a client: another has said who it is, and has the line from now on."""


FromVenue = (
    port.NewOrder
    | port.AmendOrder
    | port.CancelOrder
    | port.AskOrder
    | port.AskHoldings
    | Hello
    | Pace
    | SetWeather
    | MakeGust
    | MakeStray
)
Outward = (
    port.QuoteTold
    | port.BarTold
    | port.RateTold
    | port.StateTold
    | port.FiguresTold
    | port.LinkTold
    | port.Accepted
    | port.Rejected
    | port.Filled
    | port.Cancelled
    | port.Amended
    | port.StatusTold
    | port.HoldingsTold
    | Welcome
    | SentBars
    | Moment
    | Replaced
)


def packed(bars: Bars, symbol: str, now: int) -> SentBars:
    """A history as one message."""
    kinds = ("<i8", *("<f8" for _ in bars[1:]))
    return SentBars(
        time=now,
        symbol=symbol,
        columns=tuple(
            np.ascontiguousarray(one, kind).tobytes() for one, kind in zip(bars, kinds, strict=True)
        ),
    )


def unpacked(message: SentBars) -> Bars:
    """The history of a message; its columns can be written to. Raises Unavailable where it is
    none."""
    try:
        first, *others = message.columns
        bars = Bars(
            np.frombuffer(first, "<i8").copy(),
            *(np.frombuffer(one, "<f8").copy() for one in others),
        )
    except (ValueError, TypeError) as error:
        raise Unavailable("bad_frame", f"A history could not be read: {error}.") from error
    if len({column.size for column in bars}) > 1:
        raise Unavailable(
            "bad_frame", "A history could not be read: its columns are not equally long."
        )
    return bars


class Frames:
    """Cuts a stream of bytes into records of `kinds`. Raises Unavailable for what is no frame of
    theirs."""

    def __init__(self, kinds: Any) -> None:
        self._decoder: msgspec.msgpack.Decoder[Any] = msgspec.msgpack.Decoder(kinds)
        self._held = bytearray()

    def feed(self, data: bytes) -> list[Any]:
        """The records that `data` completes."""
        self._held += data
        found, at = [], 0
        while len(self._held) - at >= _LENGTH.size:
            (length,) = _LENGTH.unpack_from(self._held, at)
            if length > MOST:
                raise Unavailable("bad_frame", f"A frame of {length} bytes is no frame of Quay's.")
            end = at + _LENGTH.size + length
            if len(self._held) < end:
                break
            try:
                found.append(self._decoder.decode(bytes(self._held[at + _LENGTH.size : end])))
            except UNDECODABLE as error:
                raise Unavailable("bad_frame", f"A frame could not be read: {error}.") from error
            at = end
        del self._held[:at]
        return found


_encode = msgspec.msgpack.Encoder().encode


def framed(message: port.Message) -> bytes:
    """One record as a frame."""
    body = _encode(message)
    return _LENGTH.pack(len(body)) + body
