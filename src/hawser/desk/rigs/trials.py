"""What stands behind the trials of the Rigs station: the compiled rules made ready, fans drawn away
from the window's thread, the account that trials are sized by, a trial in words."""

from __future__ import annotations

import threading
from collections.abc import Callable
from itertools import groupby
from typing import ClassVar

import msgspec
from PyQt6.QtCore import QTimer
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


def fans(trials: list[Trial | None], side: int, seed: int) -> list[Fan | None]:
    """From many bars at once; None where there is no trial, or too few bars for one."""
    return [trial.fan(side, STARTS, seed) if trial and trial.size > 2 else None for trial in trials]


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
