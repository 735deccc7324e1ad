"""What the Rigs station tries away from the window's thread: the compiled trial made ready, and fans of many starts."""

from __future__ import annotations

import threading
from collections.abc import Callable
from functools import partial
from typing import ClassVar

from PyQt6.QtCore import QObject, QThreadPool, QTimer, pyqtSignal
from PyQt6.QtWidgets import QWidget

from hawser.rehearsal.trial import Fan, Trial
from hawser.service.prime import prime_trials

STARTS = 500


class Primer(QTimer):
    """Has the compiled trial loaded away from the window's thread, once for the process; looks whether it is there."""

    thread_of_all: ClassVar[threading.Thread | None] = None

    def __init__(self, parent: QWidget, done: Callable[[], None]) -> None:
        super().__init__(parent, interval=50)
        self.ready, self._done = False, done
        self.timeout.connect(self._look)

    def begin(self) -> None:
        """Begin to load, where nobody has."""
        if Primer.thread_of_all is None:
            Primer.thread_of_all = threading.Thread(target=prime_trials, name="primer", daemon=True)
            Primer.thread_of_all.start()
        self.start()

    def _look(self) -> None:
        if Primer.thread_of_all is not None and not Primer.thread_of_all.is_alive():
            self.stop()
            self.ready = True
            self._done()


class Fans(QObject):
    """Draws fans, one after another; `drawn` tells those that were asked for last, and none that came too late."""

    drawn = pyqtSignal(object)  # a list of Fan or None, as many as there were trials
    _finished = pyqtSignal(int, object)

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._pool, self._asked = QThreadPool(self), 0
        self._pool.setMaxThreadCount(1)
        self._finished.connect(self._tell)

    def ask(self, trials: list[Trial | None], side: int, seed: int) -> None:
        self._asked += 1
        self._pool.clear()
        self._pool.start(partial(self._work, self._asked, trials, side, seed))

    def stop(self) -> None:
        """Nothing more is told; returns once nothing is drawn any more."""
        self._asked += 1
        self._pool.clear()
        self._pool.waitForDone()

    def _work(self, number: int, trials: list[Trial | None], side: int, seed: int) -> None:
        found: list[Fan | None] | Exception
        try:
            found = [trial.fan(side, STARTS, seed) if trial and trial.size > 2 else None for trial in trials]
        except Exception as error:  # told where all errors of the window are: on its own thread
            found = error
        self._finished.emit(number, found)

    def _tell(self, number: int, found: list[Fan | None] | Exception) -> None:
        if isinstance(found, Exception):
            raise found
        if number == self._asked:
            self.drawn.emit(found)
