"""Watches the news files on a thread of its own: read again when they change, and as the days go on."""

from __future__ import annotations

import queue
import threading
from collections.abc import Callable
from pathlib import Path

from hawser.core.clock import HOUR
from hawser.core.guards.declared import NewsSources
from hawser.core.guards.news import Calendar

PAUSE = 2.0  # seconds between two looks at the files
AGAIN = 6 * HOUR  # of the venue's clock after which the days that are told have moved on
Read = tuple[Calendar, ...]


class NewsWatch:
    """`now` gives the venue's time; `found` hears the calendars, on this thread; so does `fault` of what went wrong."""

    def __init__(
        self,
        now: Callable[[], int],
        found: Callable[[Read], None],
        fault: Callable[[Exception], None],
    ) -> None:
        self._now, self._found, self._fault = now, found, fault
        self._asked: queue.SimpleQueue[tuple[NewsSources, Path, Callable[[Read | None], None]]] = queue.SimpleQueue()
        self._sources, self._folder = NewsSources(), Path()
        self._seen: tuple[object, ...] = ()
        self._read_at = 0
        self._changed, self._stop = threading.Event(), threading.Event()
        self._thread = threading.Thread(target=self._run, name="news", daemon=True)

    def watch(self, sources: NewsSources, folder: Path, then: Callable[[Read | None], None]) -> None:
        """Watch these from now on; `folder` is where their paths begin. `then` hears what they hold (None: that could
        not be looked at), so that a policy takes effect together with its news: without, it would find none and do
        what is to be done then."""
        self._asked.put((sources, folder, then))
        self._changed.set()

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        self._stop.set()
        self._changed.set()
        if self._thread.is_alive():
            self._thread.join(5)

    def _run(self) -> None:
        while not self._stop.is_set():
            try:
                self._look()
            except Exception as error:  # a file that goes away meanwhile, a full disk: it is told, and tried again
                self._fault(error)
            self._changed.wait(PAUSE)
            self._changed.clear()

    def _look(self) -> None:
        """Read what is to be watched from now on, or has changed since it was read last."""
        while not self._asked.empty():
            self._sources, self._folder, then = self._asked.get()
            self._seen, read = (), None
            try:
                read = self._read()
            finally:
                then(read)
        read = self._read()
        if read:
            self._found(read)

    def _read(self) -> Read | None:
        """The calendars, where anything has changed."""
        from hawser.formats.news import read_calendars

        sources, folder, now = self._sources, self._folder, self._now()
        seen = (sources, folder, *_marks(sources, folder))
        if seen == self._seen and abs(now - self._read_at) < AGAIN:
            return None
        self._seen, self._read_at = seen, now
        return read_calendars(sources, folder, now)


def _marks(sources: NewsSources, folder: Path) -> list[tuple[str, int, int]]:
    """What tells one state of the files from another: names, when they were written, sizes."""
    from hawser.formats.news import calendar_files

    found = []
    for path in calendar_files(sources, folder):
        try:
            stat = path.stat()
            found.append((str(path), stat.st_mtime_ns, stat.st_size))
        except OSError:
            found.append((str(path), 0, -1))
    return found
