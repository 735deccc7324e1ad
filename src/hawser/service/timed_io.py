"""What a disk that hangs may hold up: done on a thread of its own, and waited for only so long.

Unlike the record's own thread (`recording.Aside`), which must come to its end, one that hangs here
keeps no process from ending.
"""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable
from typing import TypeVar

from hawser.core.errors import BadInput

Found = TypeVar("Found")
WAIT_S = 1.0  # s
ENDING = 10.0  # s that who leaves waits for what is still at work
HANGS = "the disk does not answer. What you changed may still be written when it does"


class Patient:
    """Does one piece of work after another, whoever asks; while one hangs, no other is begun."""

    def __init__(self, name: str) -> None:
        self._name, self._one = name, threading.Lock()
        self._thread: threading.Thread | None = None

    @property
    def hangs(self) -> bool:
        return self._thread is not None and self._thread.is_alive()

    def ask(self, work: Callable[[], Found], instead: Found) -> Found:
        """What `work` comes to; `instead` where it fails, takes longer than `WAIT_S`, or an earlier
        one hangs."""
        with self._one:
            return instead if self.hangs else self._done(work, instead)

    def _done(self, work: Callable[[], Found], instead: Found) -> Found:
        found: list[Found] = []

        def run() -> None:
            with contextlib.suppress(Exception):
                found.append(work())

        thread = threading.Thread(target=run, name=self._name, daemon=True)
        try:
            thread.start()
        except RuntimeError:  # the system gives no thread for it
            run()
        else:
            self._thread = thread
            thread.join(WAIT_S)
        return found[0] if found else instead


_PERSON = Patient("disk")


def in_time(work: Callable[[], Found]) -> Found:
    """What `work` comes to, where a person waits for it; raises what it raises, and BadInput where
    the disk does not answer: the window must live, for what is open may have to be closed by it."""

    def tried() -> tuple[list[Found], list[Exception]]:
        try:
            return [work()], []
        except Exception as error:
            return [], [error]

    nothing: tuple[list[Found], list[Exception]] = ([], [])
    found, wrong = _PERSON.ask(tried, nothing)
    if wrong:
        raise wrong[0]
    if not found:
        raise BadInput("disk_hangs", HANGS)
    return found[0]
