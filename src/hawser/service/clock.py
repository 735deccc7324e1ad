"""The clock a simulated venue runs by: it can pause, and run at a multiple of real time."""

from __future__ import annotations

import threading
import time


class Clock:
    """UTC ns of the venue's world. Safe to read and set from any thread."""

    def __init__(self, start: int, speed: float = 1.0, running: bool = True) -> None:
        self._lock = threading.Lock()
        self._base, self._at = start, time.monotonic_ns()
        self._speed, self._running = speed, running

    def now(self) -> int:
        with self._lock:
            return self._now()

    def _now(self) -> int:
        if not self._running:
            return self._base
        return self._base + int((time.monotonic_ns() - self._at) * self._speed)

    @property
    def speed(self) -> float:
        return self._speed

    @property
    def running(self) -> bool:
        return self._running

    def at_least(self, now: int) -> None:
        """Go on from `now`, where that is later."""
        with self._lock:
            self._base, self._at = max(self._now(), now), time.monotonic_ns()

    def set(self, speed: float | None = None, running: bool | None = None) -> None:
        """Change speed or pause from this moment on."""
        with self._lock:
            self._base, self._at = self._now(), time.monotonic_ns()
            self._speed = self._speed if speed is None else speed
            self._running = self._running if running is None else running
