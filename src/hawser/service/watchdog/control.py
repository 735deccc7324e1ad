"""The dead man's watch as the application keeps it: how it is set, whether one is there, and
starting it.

The watch is a process of its own in a session of its own, so that nothing which ends Hawser ends it
too. It holds a lock while it lives: whoever asks sees whether one watches, whoever started it.
"""

from __future__ import annotations

import fcntl
import os
import sys
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Annotated, BinaryIO

import msgspec

from hawser.core.errors import BadInput
from hawser.core.field_help import help_text
from hawser.formats.declared import load, save
from hawser.service.alerts.settings import AlertSettings
from hawser.service.profiles.profile import Profile
from hawser.service.timed_io import in_time

EVERY = 3.0  # seconds between two looks whether it is still there
LEAST, MOST = 2.0, 3600.0  # seconds of silence that may be asked for


class WatchSettings(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How Hawser is watched."""

    on: Annotated[bool, help_text("start the watch with Hawser")] = False
    silent_s: Annotated[
        float, help_text("how long Hawser may be silent while positions are open", "s")
    ] = 20.0
    flatten: Annotated[bool, help_text("then close everything at the venue")] = False

    def __post_init__(self) -> None:
        if not LEAST <= self.silent_s <= MOST:
            raise BadInput.at(
                "bad_watch", "silent_s", f"expected {LEAST:g} to {MOST:g} seconds", key="silent_s"
            )


def read_settings(profile: Profile) -> WatchSettings:
    """As they are kept; raises BadInput."""
    return load(WatchSettings, profile.watch) if profile.watch.is_file() else WatchSettings()


class Alone:
    """The lock of the one that watches a profile."""

    def __init__(self, profile: Profile) -> None:
        self._path = profile.state / "watch.lock"
        self._held = -1

    def take(self) -> bool:
        """Be the one that watches; False where another is, or somebody looks whether one is."""
        place = os.open(self._path, os.O_RDWR | os.O_CREAT, 0o600)
        try:
            fcntl.flock(place, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            os.close(place)
            return False
        self._held = place
        return True

    def leave(self) -> None:
        if self._held >= 0:
            os.close(self._held)
            self._held = -1

    def taken(self) -> bool:
        """Whether somebody watches."""
        try:
            free = self.take()
        except OSError:
            return False  # where no lock can be, nobody holds one
        self.leave()
        return not free


def _log(path: Path) -> BinaryIO:
    """Where a watch writes its lines: nowhere, on a disk that takes no file. That is no reason not
    to watch."""
    try:
        return path.open("ab")
    except OSError:
        return Path(os.devnull).open("ab")


class Sentry:
    """Starts the watch where it is wanted and none is there. `fault` hears what is wrong with its
    settings."""

    def __init__(self, profile: Profile, fault: Callable[[str], None]) -> None:
        self.profile, self._fault, self._lock = profile, fault, Alone(profile)
        self.settings, self.venue = WatchSettings(), ""
        self._next = 0.0
        self._there = False  # whether somebody watches, as was seen last
        self._looks = threading.Lock()

    def begin(self, venue: str) -> None:
        """Read the settings; `venue`: the socket of a venue that outlives Hawser, or nothing."""
        self.venue = venue
        try:
            self.settings = read_settings(self.profile)
        except BadInput as error:
            self._fault(f"{error.sentence}; nobody watches over Hawser")

    def change(self, settings: WatchSettings) -> None:
        """Have these from now on, and write them down; a watch that is there takes them over.
        Raises BadInput."""
        if settings.flatten and not self.venue:
            raise BadInput(
                "bad_watch", "The venue of this account ends with Hawser: a watch can only alert"
            )
        in_time(lambda: save(settings, self.profile.watch))
        self.settings, self._next = settings, 0.0

    def look(self, now: float) -> None:
        """From time to time, at `now` of a clock that only goes on: start a watch where one is
        wanted and none is. Not on this thread: a disk may hang, and a process takes its time to
        begin."""
        if now < self._next or not self._looks.acquire(blocking=False):
            return
        self._next = now + EVERY
        try:
            threading.Thread(target=self._look, name="watch", daemon=True).start()
        except BaseException:  # no room for one more thread: it is tried again
            self._looks.release()
            raise

    def _look(self) -> None:
        try:
            self._there = self._lock.taken()
            if self.settings.on and not self._there:
                self._start()
        finally:
            self._looks.release()

    def _start(self) -> None:
        import subprocess

        try:
            of = self.profile
            command = [sys.executable, "-m", "hawser", "watch", "--as-set", "--at", of.name]
            command += [str(folder) for folder in (of.data, of.config, of.state)]
            with _log(of.state / "watch.log") as log:
                # What is started forks and ends at once: the watch itself is nobody's child, and
                # nobody waits for it.
                subprocess.run(
                    command,
                    stdin=subprocess.DEVNULL,
                    stdout=log,
                    stderr=log,
                    start_new_session=True,
                    check=False,
                )
        except Exception as error:
            why = getattr(error, "strerror", None) or repr(error)
            self._fault(f"The dead man's watch cannot be started ({why})")

    def state(self, alerts: AlertSettings) -> str:
        """In a sentence: whether somebody watches, and what they will do."""
        there = self._there
        if not self.settings.on:
            return (
                "A watch started by hand is there"
                if there
                else "Off: nobody notices if Hawser is killed or hangs"
            )
        if not there:
            return "Wanted, not there yet"
        does = " and ".join(self.does(alerts))
        if not does:
            return "Watching, but it can tell nobody: set up mail or a webhook for alarms"
        return (
            f"Watching: after {self.settings.silent_s:g} s of silence with positions open it {does}"
        )

    def does(self, alerts: AlertSettings) -> list[str]:
        """What a watch does, in words; nothing where it can tell nobody."""
        ways = {"email": alerts.smtp is not None, "webhook": alerts.webhook is not None}
        words = {"email": "mail", "webhook": "webhook"}
        found = [words[way] for way in alerts.events.get("alarm", ()) if ways.get(way)]
        told = [f"alerts by {' and '.join(found)}"] if found else []
        return told + (["closes everything at the venue"] if self.settings.flatten else [])
