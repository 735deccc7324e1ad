"""The dead man's watch: a process of its own that looks for Hawser's sign of life and, where it
stays away while positions are open, alerts, and flattens at the venue where the person chose so.

It needs nothing of what may have died: it reads one small file, asks Hawser itself where that says
nothing new, and speaks to the venue on a line of its own.
"""

from __future__ import annotations

import contextlib
import time
import uuid
from collections.abc import Callable, Iterator
from decimal import Decimal
from functools import partial
from pathlib import Path
from typing import NamedTuple

from hawser.core import figures as fg
from hawser.core.errors import HawserError, Unavailable
from hawser.service.timed_io import Patient
from hawser.service.watchdog.heartbeat import Pulse, read_pulse
from hawser.service.watchdog.voice import idle_of
from hawser.venue import port
from hawser.venue.quay.client import FarQuay

LOOK = 0.5  # seconds between two looks
ASLEEP = 5.0  # seconds: after a longer gap of its own the machine slept, and so did Hawser
ROUND = 0.7  # seconds an answer of the venue is waited for
FLATTEN_WAIT_S = 60.0  # seconds to flatten in
AGAIN = 30.0  # seconds, after which flattening that has failed is tried once more
MOST_CLOSES = 40  # of one position, sent at once
BACK = "back"  # why flattening ended: Hawser gives signs of life again

# Closes everything at a venue for as long as the second says that Hawser is silent; what came of
# it, in a sentence.
Flatten = Callable[[Pulse, Callable[[], bool]], str]


class WatchFinding(NamedTuple):
    """What the watch has to say in a sentence: `silent`, `back`, `unwritten`, `flattened` or
    `failed`."""

    kind: str
    text: str


class DeadMansWatch:
    """Looks at one heartbeat. `flatten` closes everything at a venue, for as long as Hawser stays
    silent, and says what came of it; None: it only alerts."""

    def __init__(
        self,
        path: Path,
        silent_s: float,
        told: Callable[[WatchFinding], None],
        flatten: Flatten | None,
    ) -> None:
        self._path, self.silent_s, self._told, self.flatten = path, silent_s, told, flatten
        self._stumbled, self._disk = False, Patient("sign of life")
        self._tripped = self._owed = False  # `owed`: everything was to be closed and is not
        self._unwritten = False  # Hawser says that it is at work, though it leaves no sign of life
        self._looked = self._seen = self._next = 0.0
        self._last: Pulse | None = None

    def look(self, now: float) -> bool:
        """See how it stands at `now` of a clock that only goes on; False once Hawser has ended on
        purpose."""
        pulse = self._pulse() or self._last  # a file that is gone or half-written says nothing new
        slept, self._looked = self._looked and now - self._looked > ASLEEP, now
        if pulse is None:
            return True
        if pulse != self._last or slept:
            self._unwritten = self._unwritten and pulse == self._last
            self._last, self._seen = pulse, now
            if self._tripped and not slept:
                self._tripped = self._owed = False
                self._tell("back", f"Hawser gives signs of life again, {pulse.open} positions open")
        if pulse.ended:
            return False
        age = now - self._seen
        if age >= self.silent_s and not self._tripped and (pulse.open or pulse.waiting):
            if self._answers(now):
                return True
            self._tripped = True
            self._trip(pulse, age, now)
        elif self._owed and now >= self._next:
            self._flatten(pulse, now)
        return True

    def _pulse(self) -> Pulse | None:
        """The last sign of life; a disk that hangs tells none."""
        return self._disk.ask(partial(read_pulse, self._path), None)

    def _answers(self, now: float) -> bool:
        """Whether Hawser itself says that it was at work of late."""
        idle = idle_of(self._path)
        if idle is None or not idle < self.silent_s:
            return False
        self._seen = now - idle
        if not self._unwritten:
            self._unwritten = True
            text = (
                "Hawser says that it is at work, but its sign of life is not written: the disk "
                "may be full, or hang"
            )
            self._tell("unwritten", text)
        return True

    @property
    def met(self) -> bool:
        """Whether its Hawser has ever given a sign of life."""
        return self._last is not None

    def _trip(self, pulse: Pulse, age: float, now: float) -> None:
        what = (
            f"{fg.counted(pulse.open, 'position')} open and "
            f"{fg.counted(pulse.waiting, 'entry', 'entries')} waiting"
        )
        then = (
            "flattening at the venue"
            if self.flatten is not None
            else "stops that rest at the venue still protect"
        )
        self._tell("silent", f"Hawser has been silent for {age:.0f} s with {what}: {then}")
        self._flatten(pulse, now)

    def _flatten(self, pulse: Pulse, now: float) -> None:
        """Where it fails, perhaps because a market is shut or the venue is away, it is tried until
        it is done or Hawser is back, which is no failure and told by the next look. That it has
        failed is told once."""
        if self.flatten is None:
            return
        try:
            self._tell("flattened", self.flatten(pulse, lambda: self._pulse() in (pulse, None)))
            self._owed = False
        except Exception as error:  # whatever it is, a watch that ends watches nothing
            if isinstance(error, HawserError) and error.code == BACK:
                return
            if not self._owed:
                why = error.sentence if isinstance(error, HawserError) else repr(error)
                self._tell("failed", f"Not flattened: {why}; it is tried again every {AGAIN:.0f} s")
            self._owed, self._next = True, now + AGAIN

    def _tell(self, kind: str, text: str) -> None:
        """What cannot be told, on a full disk say, keeps nobody from what is to be done."""
        with contextlib.suppress(Exception):
            self._told(WatchFinding(kind, text))

    def run(self, wanted: Callable[[], bool] = lambda: True) -> bool:
        """Until Hawser has ended on purpose (True), or it is no longer `wanted`. A watch that ends
        watches nothing: whatever a look fails by is told once, and the next one is taken."""
        while True:
            try:
                if not wanted():
                    return False
                if not self.look(time.monotonic()):
                    return True
            except Exception as error:
                if not self._stumbled:
                    self._tell(
                        "failed",
                        f"A look for the sign of life has failed ({error!r}): the watch goes on",
                    )
                self._stumbled = True
            time.sleep(LOOK)


def flatten(socket: Path, silent: Callable[[], bool] = lambda: True) -> str:
    """Close every position and take back every order at the venue that listens there; raises
    Unavailable. Hawser gets the line to the venue back as soon as it is no longer `silent`: the two
    would take it from each other."""
    venue = FarQuay(socket)
    try:
        closed, end = 0, time.monotonic() + FLATTEN_WAIT_S
        while time.monotonic() < end:
            found = _holdings(venue)
            if not silent():
                raise Unavailable(BACK, "Hawser gave signs of life meanwhile")
            if found is None:
                continue
            if not found.positions and not found.resting:
                return f"Flat: {closed} closes sent, nothing is open and nothing rests at the venue"
            for position in found.positions:
                for close in _closes(venue, position):
                    closed += 1
                    venue.send(close, venue.now)
            for order in to_take_back(found):
                venue.send(port.CancelOrder(id=order), venue.now)
            _wait(venue, lambda message: False)
        raise Unavailable("not_flat", f"the venue was not flat after {FLATTEN_WAIT_S:.0f} s")
    finally:
        venue.close()


def to_take_back(found: port.HoldingsTold) -> list[str]:
    """The orders to cancel now: what may still open something at once, for nobody would set a stop
    for it; what closes a position once there is none, for stops rest until what they cover is
    gone."""
    closing = found.closing if found.closing is not None else dict.fromkeys(found.resting)
    return [order for order in found.resting if not found.positions or order not in closing]


def _closes(venue: FarQuay, position: port.PositionTold) -> Iterator[port.NewOrder]:
    """As many as the greatest quantity of one order asks for, so many at once. No close ever fills
    beyond its position, so that one too many does no harm."""
    instrument, left = venue.instruments.get(position.symbol), Decimal(position.qty)
    most = instrument.qty_step * instrument.qty_max_steps if instrument is not None else left
    for _ in range(MOST_CLOSES):
        if left <= 0:
            return
        yield port.NewOrder(
            id=f"watch-{uuid.uuid4().hex[:12]}",
            symbol=position.symbol,
            side=-position.side,
            kind="market",
            qty=str(min(left, most)),
            closes=position.id,
        )
        left -= most


def _holdings(venue: FarQuay) -> port.HoldingsTold | None:
    token = uuid.uuid4().int % 1_000_000_007
    venue.send(port.AskHoldings(token=token, orders=()), venue.now)
    found = _wait(
        venue, lambda message: isinstance(message, port.HoldingsTold) and message.token == token
    )
    return found if isinstance(found, port.HoldingsTold) else None


def _wait(venue: FarQuay, wanted: Callable[[port.VenueMessage], bool]) -> port.VenueMessage | None:
    """Hear the venue for a moment, or until what is wanted is told."""
    end = time.monotonic() + ROUND
    while time.monotonic() < end:
        message = venue.next_message(venue.now)
        if message is None:
            time.sleep(0.01)
        elif wanted(message):
            return message
    return None
