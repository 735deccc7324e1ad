"""Timers of widgets, which end with them."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QObject, QTimer


def every(owner: QObject, ms: int, act: Callable[[], object]) -> QTimer:
    """A timer that acts again and again once it is started."""
    timer = QTimer(owner)
    timer.setInterval(ms)
    timer.timeout.connect(act)
    return timer


def once(owner: QObject, ms: int, act: Callable[[], object]) -> QTimer:
    """A timer that acts once for each start; started again before that, it acts so much later."""
    timer = every(owner, ms, act)
    timer.setSingleShot(True)
    return timer
