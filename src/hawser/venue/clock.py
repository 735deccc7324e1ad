"""Hawser's clock: nothing outside moves it, and deadlines are kept by it. On a simulated venue it
can pause, and run at a multiple of real time.

It counts real time as the kernel does since the machine was started, the time it slept included:
setting the machine's clock, and summer time, leave it alone, and after a sleep no window of news
and no session is late.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable


def uptime() -> int:
    """Real time since the machine was started, sleep included, ns."""
    return time.clock_gettime_ns(time.CLOCK_BOOTTIME)


class Clock:
    """UTC ns. Safe to read and set from any thread. `real` counts real time; tests step one of
    their own."""

    def __init__(
        self, start: int, speed: float = 1.0, running: bool = True, real: Callable[[], int] = uptime
    ) -> None:
        self._lock, self._real = threading.Lock(), real
        self._base, self._at = start, real()
        self._speed, self._running = speed, running

    def now(self) -> int:
        with self._lock:
            return self._now()

    def _now(self) -> int:
        if not self._running:
            return self._base
        return self._base + int((self._real() - self._at) * self._speed)

    @property
    def speed(self) -> float:
        return self._speed

    @property
    def running(self) -> bool:
        return self._running

    def at_least(self, now: int) -> None:
        """Go on from `now`, where that is later."""
        with self._lock:
            self._base, self._at = max(self._now(), now), self._real()

    def set(self, speed: float | None = None, running: bool | None = None) -> None:
        """Change speed or pause from this moment on."""
        with self._lock:
            self._base, self._at = self._now(), self._real()
            self._speed = self._speed if speed is None else speed
            self._running = self._running if running is None else running
