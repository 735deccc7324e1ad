"""`hawser watch`: the dead man's watch with its alerts, as a process."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

from hawser.core.errors import BadInput, Unavailable
from hawser.engine.commands import Tell, Weight
from hawser.formats.declared import load
from hawser.service.alerts.alert import Alert
from hawser.service.alerts.channels import Alerts
from hawser.service.alerts.settings import AlertSettings, Channel
from hawser.service.profiles.profile import Profile
from hawser.service.timed_io import Patient
from hawser.service.watchdog.control import Alone, read_settings
from hawser.service.watchdog.heartbeat import Pulse
from hawser.service.watchdog.watch import DeadMansWatch, WatchFinding, flatten

WEIGHTS: dict[str, Weight] = {
    "silent": "alarm",
    "failed": "alarm",
    "unwritten": "alarm",
    "flattened": "caution",
    "back": "caution",
}
_LINES = Patient("lines")
LAST_WORDS = 3.0  # seconds for what waits to be sent


class AsSet:
    """Has a watch go by the settings of its profile, whenever they change."""

    def __init__(self, profile: Profile, watch: DeadMansWatch, alerts: Alerts) -> None:
        self._profile, self._watch, self._alerts = profile, watch, alerts
        self._read: tuple[float, float] | None = None
        self._wanted, self._disk = True, Patient("settings")

    def __call__(self) -> bool:
        """Whether a watch is still wanted. Settings that cannot be read change nothing."""
        self._wanted = self._disk.ask(self._look, self._wanted)
        return self._wanted

    def _look(self) -> bool:
        changed = (_changed(self._profile.watch), _changed(self._profile.alerts))
        if changed == self._read:
            return self._wanted
        try:
            settings = read_settings(self._profile)
            if self._profile.alerts.is_file():
                self._alerts.settings = load(AlertSettings, self._profile.alerts)
        except BadInput:
            return self._wanted
        self._read = changed
        self._watch.silent_s = settings.silent_s
        self._watch.flatten = _at_its_venue if settings.flatten else None
        return settings.on


def say(text: str) -> None:
    """Write a line to the watch's log or the terminal."""
    _put(f"{time.strftime('%H:%M:%S')}  {text}\n")


def _put(text: str) -> None:
    """A disk that is full or hangs, or a terminal that is gone, does not end the watch or hold it
    up."""
    _LINES.ask(partial(print, text, end="", file=sys.stderr, flush=True), None)


def _alone(lock: Alone) -> bool:
    """Whether the lock could be taken: who only looks at it holds it for a moment too."""
    for _ in range(5):
        if lock.take():
            return True
        time.sleep(0.05)
    return False


def _changed(path: Path) -> float:
    try:
        return path.stat().st_mtime
    except OSError:
        return 0.0


def _at_its_venue(pulse: Pulse, silent: Callable[[], bool]) -> str:
    if not pulse.venue:
        raise Unavailable("no_venue", "its venue ended with it")
    return flatten(Path(pulse.venue), silent)


def watch(profile: Profile, silent_s: float, socket: Path | None, as_set: bool = False) -> bool:
    """Watch until Hawser has ended on purpose; True where it never fell silent, or all that was
    asked for was done. `as_set`: by the settings that Hawser keeps, for as long as they want
    one."""
    lock = Alone(profile)
    if not _alone(lock):
        print(f"{profile.name} is watched already", file=sys.stderr)
        return True
    failed: list[str] = []

    def local(channel: Channel, alert: Alert) -> None:
        if channel == "sound":
            _put("\a")

    alerts = Alerts(profile.alerts, profile.state / "watch-waiting.json", profile.name, local, say)

    def told(finding: WatchFinding) -> None:
        say(finding.text)
        if finding.kind == "failed":
            failed.append(finding.text)
        elif finding.kind == "flattened":
            failed.clear()
        alerts.tell(
            Tell(weight=WEIGHTS[finding.kind], code=f"watch_{finding.kind}", text=finding.text)
        )

    alerts.begin()
    watching = DeadMansWatch(
        profile.heartbeat,
        silent_s,
        told,
        (lambda _, silent: flatten(socket, silent)) if socket is not None else None,
    )
    wanted: Callable[[], bool] = AsSet(profile, watching, alerts) if as_set else lambda: True
    wanted()
    say(f"Watching {profile.name}: silent for {watching.silent_s:g} s with positions open counts")
    watching.look(time.monotonic())
    if not watching.met:
        say(
            f"There has been no sign of life of {profile.name} yet: nothing is watched before "
            "its "
            "Hawser is there"
        )
        if socket is not None and not socket.exists():
            say(f"Nobody listens at {socket}: is that the venue's socket?")
    try:
        say(
            "Hawser was closed: the watch ends"
            if watching.run(wanted)
            else "No watch is wanted any more: it ends"
        )
    except KeyboardInterrupt:
        say("The watch was ended by hand")
    finally:
        alerts.finish(LAST_WORDS)
        lock.leave()
    return not failed
