"""What stands behind the trials of the Rigs station: the compiled rules made ready, fans drawn away
from the window's thread, the account that trials are sized by, a trial in words."""

from __future__ import annotations

import threading
from collections.abc import Callable
from functools import partial
from itertools import groupby
from typing import ClassVar

import msgspec
from PyQt6.QtCore import QObject, QThreadPool, QTimer, pyqtSignal
from PyQt6.QtWidgets import QWidget

from hawser.core.account import Account
from hawser.desk.models import figures as fg
from hawser.rehearsal.trial import Fan, Trial, TrialResult
from hawser.service.runtime.warming import prime_trials

STARTS = 500


class Primer(QTimer):
    """Has the compiled trial loaded away from the window's thread, once for the process; looks
    whether it is there."""

    thread_of_all: ClassVar[threading.Thread | None] = None

    def __init__(self, parent: QWidget, done: Callable[[], None]) -> None:
        super().__init__(parent)
        self.setInterval(50)
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
    """Draws fans, one after another; `drawn` tells those that were asked for last, and none that
    came too late."""

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
            found = [
                trial.fan(side, STARTS, seed) if trial and trial.size > 2 else None
                for trial in trials
            ]
        except Exception as error:  # told where all errors of the window are: on its own thread
            found = error
        self._finished.emit(number, found)

    def _tell(self, number: int, found: list[Fan | None] | Exception) -> None:
        if isinstance(found, Exception):
            raise found
        if number == self._asked:
            self.drawn.emit(found)


def account_alone(account: Account) -> Account:
    """The account as a trial sizes by: its own rule, costs and caps, with nothing else open."""
    return msgspec.structs.replace(account, margin_used=0.0)


def in_words(trial: TrialResult) -> str:
    """A trial in a line: its result, how long, what happened."""
    bars = trial.last - trial.first + 1
    steps = sorted(
        [(bar, why) for bar, _, why in trial.moves]
        + [(one.bar, one.why) for one in (*trial.rungs, *trial.exits)]
    )
    words = []
    for why, run in groupby(why for _, why in steps):
        times = len(list(run))
        words.append(why.replace("_", " ") + (f" \u00d7{times}" if times > 1 else ""))
    how = "still open at the end" if trial.open_at_end else f"out by {trial.ended}"
    return f"{fg.r(trial.result)} in {fg.counted(bars, 'bar')}: {', '.join(words)}; {how}"
