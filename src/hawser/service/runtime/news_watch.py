"""Watches the news files on a thread of its own: read again when they change, and as the days go
on."""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Callable
from pathlib import Path

from hawser.core.clock import HOUR
from hawser.core.guards.declared import NewsSources
from hawser.core.guards.news import Calendar
from hawser.service import timed_io

PAUSE = 2.0  # seconds between two looks at the files
AGAIN = 6 * HOUR  # of the venue's clock after which the days that are told have moved on
ENDLESS = 240.0  # seconds that no look takes but one that hangs
Read = tuple[Calendar, ...]


def unknown(why: str) -> Read:
    """Calendars in the place of those that cannot be had: the guards close as they are to without
    news."""
    return (Calendar("news", state="unreadable", why=why),)


class NewsWatch:
    """`now` gives the venue's time; `found` hears the calendars, on this thread; so does `fault` of
    what went wrong. The sources name their files from anywhere."""

    def __init__(
        self,
        now: Callable[[], int],
        found: Callable[[Read], None],
        fault: Callable[[Exception], None],
    ) -> None:
        self._now, self._found, self._fault = now, found, fault
        self._asked: queue.SimpleQueue[tuple[NewsSources, Callable[[Read], None]]] = (
            queue.SimpleQueue()
        )
        self._sources = NewsSources()
        self._seen: tuple[object, ...] = ()
        # of the venue's clock; of one that only goes on, while it looks
        self._read_at, self._since = 0, 0.0
        self._changed, self._stop = threading.Event(), threading.Event()
        self._thread = threading.Thread(target=self._run, name="news", daemon=True)

    @property
    def sources(self) -> NewsSources:
        """What is watched."""
        return self._sources

    def watch(self, sources: NewsSources) -> None:
        """Watch these from now on."""
        self._sources, self._seen = sources, ()
        self._changed.set()

    def read(self, sources: NewsSources, then: Callable[[Read], None]) -> None:
        """Have `then` hear what these hold, so that a policy takes effect together with its news:
        without, it would find none and do what is to be done then."""
        self._asked.put((sources, then))
        self._changed.set()

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        self._stop.set()
        self._changed.set()
        if self._thread.is_alive():
            self._thread.join(timed_io.ENDING / 2)

    def hangs(self) -> bool:
        """Whether a look has not ended for longer than any takes: told once for each."""
        since = self._since
        if not since or time.monotonic() < since + ENDLESS:
            return False
        self._since = 0.0
        return True

    def _run(self) -> None:
        while not self._stop.is_set():
            self._changed.clear()
            self._since = time.monotonic()
            try:
                self._look()
            # a full disk, whatever: it is told, entries close, and it is tried again
            except Exception as error:
                self._fault(error)
                self._found(unknown("looking at the files failed"))
            self._since = 0.0
            self._changed.wait(PAUSE)

    def _look(self) -> None:
        """Read what was asked for, and what is watched where it has changed since it was read last.
        Who has stopped it meanwhile is told nothing: what was given up says nothing of the
        files."""
        from hawser.formats.news import read_calendars

        given_up = self._stop.is_set

        while not self._asked.empty():
            sources, then = self._asked.get()
            read = unknown("looking at the files failed")
            try:
                read = read_calendars(sources, Path(), self._now(), given_up=given_up)
            finally:
                if not given_up():
                    then(read)
        sources, now = self._sources, self._now()
        seen = (sources, *_marks(sources))
        if sources.files and (seen != self._seen or abs(now - self._read_at) >= AGAIN):
            found = read_calendars(sources, Path(), now, given_up=given_up)
            if sources is self._sources and not given_up():  # else others are watched by now
                self._seen, self._read_at = seen, now
                self._found(found)


def _marks(sources: NewsSources) -> list[tuple[str, int, int]]:
    """What tells one state of the files from another: names, when they were written, sizes."""
    from hawser.formats.news import calendar_files

    found = []
    for path in calendar_files(sources, Path()):
        try:
            stat = path.stat()
            found.append((str(path), stat.st_mtime_ns, stat.st_size))
        except (OSError, ValueError):
            found.append((str(path), 0, -1))
    return found
