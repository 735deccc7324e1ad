"""Alerts by mail and webhook, each on a thread of its own: nobody waits for a network, one channel
never waits for another, and what cannot go now goes later.

Whatever goes wrong in a channel is told in a sentence, and the channel goes on: a server may answer
nonsense, or nothing for ever. Sound and the desktop's notifications are the window's to make:
`local` hears of those.
"""

from __future__ import annotations

import threading
import time
from collections import deque
from collections.abc import Callable
from pathlib import Path

import msgspec

from hawser.core.errors import UNDECODABLE, BadInput, Unavailable
from hawser.engine.commands import Tell
from hawser.formats.atomic import written
from hawser.formats.declared import load, save
from hawser.service.alerts.alert import Alert
from hawser.service.alerts.settings import FAULT, AlertSettings, Channel
from hawser.service.timed_io import Patient, in_time

LONGEST = 30.0  # and for all of an errand: a server that drips its answers keeps nobody
KEPT = 200  # alerts that wait for a network, for each channel; older ones are told as a number
FORGOTTEN = 7 * 86_400.0  # seconds: what waited longer is no alert any more
PAUSES = (2.0, 5.0, 15.0, 60.0, 300.0)  # seconds between tries while it is away
# each account's engine reads such a file at its start
_waiting = msgspec.json.Decoder(dict[Channel, list[Alert]])


class AlertQueue:
    """What waits for one channel, and when it may go: a few a minute, the rest together. For
    several threads."""

    def __init__(self, send: Callable[[list[Alert]], None]) -> None:
        self._send, self._lock = send, threading.Lock()
        self.waiting: deque[Alert] = deque()
        self._going: list[Alert] = []  # handed to the network, no answer yet
        self.lost = 0  # that found no room
        self.failures = 0
        self._not_before = 0.0
        self._sent: deque[float] = deque()

    def add(self, *alerts: Alert) -> None:
        with self._lock:
            self.waiting.extend(alerts)
            self._make_room()

    def held(self) -> list[Alert]:
        """What has not gone out yet."""
        with self._lock:
            return self._going + list(self.waiting)

    def _make_room(self) -> None:
        while len(self.waiting) > KEPT:
            self.waiting.popleft()
            self.lost += 1

    def due(self, now: float, most: int) -> bool:
        """Whether something may go now: at most `most` times a minute, and not before a pause is
        over."""
        while self._sent and now - self._sent[0] >= 60.0:
            self._sent.popleft()
        return bool(self.waiting) and now >= self._not_before and len(self._sent) < most

    def go(self, now: float) -> str:
        """Send all that waits as one; what could not go waits on. Returns what went wrong, in
        words."""
        with self._lock:
            batch, lost = list(self.waiting), self.lost
            self._going = batch
            self.waiting.clear()
        more = (
            [
                Alert(
                    batch[0].time,
                    batch[0].account,
                    "caution",
                    f"{lost} older alerts were dropped",
                )
            ]
            if lost
            else []
        )
        try:
            _in_time(lambda: self._send(more + batch))
        except Unavailable as error:
            with self._lock:
                self._going = []
                self.waiting.extendleft(reversed(batch))
                self._make_room()
            self._not_before = now + PAUSES[min(self.failures, len(PAUSES) - 1)]
            self.failures += 1
            return error.sentence
        self._going = []
        self._sent.append(now)
        self.failures, self.lost = 0, self.lost - lost
        return ""


def _in_time(errand: Callable[[], None]) -> None:
    """Have something done by a thread that nobody waits for beyond `LONGEST`; raises Unavailable,
    whatever went wrong. Words of an unforeseen error may hold a secret: only its kind is told."""
    wrong: list[Unavailable] = []

    def run() -> None:
        try:
            errand()
        except Unavailable as error:
            wrong.append(error)
        except Exception as error:
            wrong.append(Unavailable("channel", f"it failed ({type(error).__name__})"))

    thread = threading.Thread(target=run, name="errand", daemon=True)
    thread.start()
    thread.join(LONGEST)
    if thread.is_alive():
        raise Unavailable("channel", f"there was no end to it after {LONGEST:g} s")
    if wrong:
        raise wrong[0]


class Alerts:
    """Takes what is told on any thread. `local` hears what the window is to make; `fault` what is
    wrong, once. What waits for a network is kept in the file `waiting`, for its owner only, and
    goes on waiting when Hawser is started again."""

    def __init__(
        self,
        path: Path,
        waiting: Path,
        account: str,
        local: Callable[[Channel, Alert], None],
        fault: Callable[[str], None],
        tried: Callable[[Channel, str], None] = lambda channel, wrong: None,
        clock: Callable[[], float] = time.time,
    ) -> None:
        self.path, self._account, self._local, self._fault, self._clock = (
            path,
            account,
            local,
            fault,
            clock,
        )
        self._kept, self._in_file = waiting, dict[str, list[Alert]]()
        self._tried = tried
        self._attempts: dict[Channel, deque[AlertSettings]] = {"email": deque(), "webhook": deque()}
        self._begun = False
        self.settings = AlertSettings()
        self._wake: dict[Channel, threading.Event] = {
            "email": threading.Event(),
            "webhook": threading.Event(),
        }
        self._stop, self._disk = threading.Event(), Patient("alerts kept")
        self._boxes: dict[Channel, AlertQueue] = {
            "email": AlertQueue(lambda batch: _send("email", self.settings, batch)),
            "webhook": AlertQueue(lambda batch: _send("webhook", self.settings, batch)),
        }
        self._threads: dict[Channel, threading.Thread] = {}

    def begin(self) -> None:
        """Read the settings and start; a file that is wrong is told, and nothing alerts by
        network."""
        if self.path.is_file():
            try:
                self.settings = load(AlertSettings, self.path)
            except BadInput as error:
                self._fault(f"{error.sentence}; alerts go by sound and notification only")
        self._take_up()
        self._begun = True
        for channel in self._boxes:
            self._start(channel)

    def _start(self, channel: Channel) -> None:
        self._threads[channel] = threading.Thread(
            target=self._run, args=(channel,), name=f"alerts {channel}", daemon=True
        )
        self._threads[channel].start()

    def _rouse(self, channel: Channel) -> None:
        """Have a channel look at once what it is to do; its thread is started again should it have
        ended."""
        if self._begun and not self._stop.is_set() and not self._threads[channel].is_alive():
            self._start(channel)
            self._fault(f"Alerts by {channel} had come to an end: they are started again")
        self._wake[channel].set()

    def held(self, channel: Channel) -> list[Alert]:
        """What waits to be sent by mail or webhook."""
        return self._boxes[channel].held()

    def _take_up(self) -> None:
        """What an earlier run could not send."""
        try:
            found = _waiting.decode(self._kept.read_bytes())
        except FileNotFoundError:
            return
        except (OSError, *UNDECODABLE) as error:
            self._fault(f"{self._kept}: alerts that waited cannot be read ({error})")
            return
        for channel, box in self._boxes.items():
            if not self._set_up(channel):
                continue  # nobody is to be told that way any more
            box.add(
                *(
                    alert
                    for alert in found.get(channel, ())
                    if self._clock() - alert.time < FORGOTTEN
                )
            )

    def _keep(self) -> None:
        """Write down what waits, where that has changed; a disk that hangs keeps no alert from
        going."""
        self._disk.ask(self._write_down, None)

    def _write_down(self) -> None:
        held = {channel: found for channel, box in self._boxes.items() if (found := box.held())}
        if held == self._in_file:
            return
        try:
            if held:
                with written(self._kept, private=True) as file:
                    file.write(msgspec.json.encode(held))
            else:
                self._kept.unlink(missing_ok=True)
        except (BadInput, OSError):
            return  # they still go from memory
        self._in_file = {str(channel): found for channel, found in held.items()}

    def stop(self) -> None:
        self._stop.set()
        for wake in self._wake.values():
            wake.set()
        for thread in self._threads.values():
            thread.join(0.5)  # a network that hangs keeps nobody from leaving
        self._keep()

    def finish(self, seconds: float) -> None:
        """Stop once all that waits has gone, or after so long."""
        end = time.monotonic() + seconds
        while time.monotonic() < end and any(box.held() for box in self._boxes.values()):
            time.sleep(0.05)
        self.stop()

    def change(self, settings: AlertSettings) -> None:
        """Have these from now on, and write them down for their owner only; raises BadInput."""
        in_time(lambda: save(settings, self.path, private=True))
        self.settings = settings
        for channel in self._boxes:
            self._rouse(channel)

    def tell(self, told: Tell) -> None:
        """An event: alert by what the table says."""
        text = f"{told.symbol}: {told.text}" if told.symbol else told.text
        self._spread(self.settings.channels(told), told.weight, text)

    def tell_fault(self, sentence: str) -> None:
        """Something in Hawser went wrong: an alarm."""
        self._spread(self.settings.events.get("alarm", ()), FAULT, sentence)

    def attempt(self, channel: Channel, settings: AlertSettings) -> None:
        """Try mail or webhook as these settings have it; `tried` hears what came of it, empty where
        it went out."""
        self._attempts[channel].append(settings)
        self._rouse(channel)

    def _trial(self) -> Alert:
        return Alert(self._clock(), self._account, "info", "This is a trial: alerts reach you here")

    def _try_out(self, channel: Channel) -> None:
        while self._attempts[channel]:
            made, trial = self._attempts[channel].popleft(), [self._trial()]
            wrong = ""
            try:
                _in_time(lambda: _send(channel, made, trial))  # noqa: B023 - over before the next
            except Unavailable as error:
                wrong = error.sentence
            self._tried(channel, wrong)

    def _spread(self, channels: tuple[Channel, ...], weight: str, text: str) -> None:
        if not self._begun:  # what was played before anybody looked alerts nobody
            return
        alert = Alert(self._clock(), self._account, weight, text)
        for channel in channels:
            box = self._boxes.get(channel)
            if box is None:
                self._local(channel, alert)
            elif self._set_up(channel):
                box.add(alert)
                self._rouse(channel)

    def _set_up(self, channel: Channel) -> bool:
        return (self.settings.smtp if channel == "email" else self.settings.webhook) is not None

    def _run(self, channel: Channel) -> None:
        while not self._stop.is_set():
            self._wake[channel].wait(1.0)
            self._wake[channel].clear()
            try:
                self._turn(channel)
            except Exception as error:  # an alert that cannot be made keeps none of the later ones
                self._fault(f"Alerts by {channel} met a fault and go on ({type(error).__name__})")

    def _turn(self, channel: Channel) -> None:
        self._keep()
        self._try_out(channel)
        box = self._boxes[channel]
        if box.due(time.monotonic(), self.settings.most_per_min) and not self._stop.is_set():
            wrong = box.go(time.monotonic())
            if wrong and box.failures == 1:
                self._fault(f"Alerts by {channel} wait: {wrong}")
            self._keep()


def _send(channel: Channel, settings: AlertSettings, batch: list[Alert]) -> None:
    """Send alerts; raises Unavailable. Late: who has nothing to send loads no mail and no HTTP."""
    from hawser.service.alerts.sending import mail, post

    if channel == "email":
        mail(settings.smtp, batch)
    else:
        post(settings.webhook, batch)
