"""Work away from the window's thread, of which only the newest counts."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import QObject, QThreadPool, pyqtSignal


class Newest(QObject):
    """One piece of work after another; `done` tells the result of the one that was asked for last,
    and none that came too late."""

    done = pyqtSignal(object)
    _finished = pyqtSignal(int, object, object)

    def __init__(self, parent: QObject, threads: int = 1) -> None:
        """`threads`: how many pieces may be worked on at a time."""
        super().__init__(parent)
        self._pool, self._asked = QThreadPool(self), 0
        self._pool.setMaxThreadCount(threads)
        self._finished.connect(self._tell)

    def ask(self, work: Callable[[], object]) -> None:
        """Have it done, in the place of what has not begun yet."""
        self._asked += 1
        self._pool.clear()
        self._pool.start(partial(self._work, self._asked, work))

    def stop(self) -> None:
        """Nothing more is told; returns once nothing is worked on any more."""
        self.forget()
        self._pool.waitForDone()

    def forget(self) -> None:
        """Nothing more is told; what has begun goes on by itself."""
        self._asked += 1
        self._pool.clear()

    def _work(self, number: int, work: Callable[[], object]) -> None:
        found, failed = None, None
        try:
            found = work()
        except Exception as error:  # told where all errors of the window are: on its own thread
            failed = error
        with contextlib.suppress(RuntimeError):  # the window is gone meanwhile
            self._finished.emit(number, found, failed)

    def _tell(self, number: int, found: object, failed: Exception | None) -> None:
        if failed is not None:
            raise failed
        if number == self._asked:
            self.done.emit(found)


def while_there(emit: Callable[..., None]) -> Callable[..., None]:
    """A signal to be sent from the engine's thread: where its object is gone meanwhile, nobody is
    told, and nothing fails there."""

    def sent(*values: object) -> None:
        with contextlib.suppress(RuntimeError):
            emit(*values)

    return sent
