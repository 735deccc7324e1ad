"""What stands behind the trials of the Rigs station: the compiled rules made ready, fans drawn away
from the window's thread, the account that trials are sized by, a trial in words."""

from __future__ import annotations

import threading
from collections.abc import Callable
from itertools import groupby
from typing import ClassVar, NamedTuple

import msgspec
import numpy as np
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QWidget

from hawser.core.account import Account
from hawser.core.bars import Bars
from hawser.core.errors import BadInput
from hawser.core.guards.context import EntryContext
from hawser.core.guards.declared import Filter, Guards, SpreadGuard
from hawser.core.guards.news import Calendar
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.core.joined_bars import alone
from hawser.desk.models import figures as fg
from hawser.rehearsal.trial import Fan, Trial, TrialResult
from hawser.service.runtime.warming import prime_trials

STARTS = 500
NOWHERE: Array = np.zeros((0, 2), np.int16)


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


class Filters(NamedTuple):
    """What the filters of a policy say of an entry at the open of each of `bars`. `shut`: of longs
    and shorts, the number of the first that is closed, counted from 1 (0: none); `names` by number.
    `of_r`: by number, those that set the spread (ticks) against the R of an entry."""

    instrument: Instrument
    bars: Bars
    spread: Array
    names: tuple[str, ...] = ()
    shut: Array = NOWHERE
    of_r: tuple[tuple[int, SpreadGuard], ...] = ()
    wrong: str = ""

    def verdict(self, trial: TrialResult) -> str:
        """In words, of the entry of a trial over the same bars."""
        if self.wrong:
            return f"The filters cannot be judged here: {self.wrong}"
        if not self.names:
            return ""
        first = int(self.shut[trial.first, 0 if trial.side > 0 else 1])
        found = [first] if first else []
        r_ticks = float(abs(trial.ref - trial.stop))
        found += [n for n, guard in self.of_r if self.too_wide(guard, trial.first, r_ticks)]
        if not found:
            return "No filter would keep it out"
        return f"The filter '{self.names[min(found) - 1]}' would keep it out"

    def too_wide(self, guard: SpreadGuard, bar: int, r_ticks: float) -> bool:
        """Whether the spread at the open of a bar is beyond a guard's part of this R (ticks)."""
        at, spread = int(self.bars.time[bar]), float(self.spread[bar])
        context = EntryContext(at, self.instrument, spread, {}, (), r_ticks=r_ticks)
        return guard.verdict(context) is not None


def filters_over(
    guards: Guards,
    calendars: tuple[Calendar, ...],
    instrument: Instrument,
    bars: Bars,
    references: dict[str, Bars],
    account: Account,
) -> Filters:
    """What filters say over a history; to be called away from the window's thread. Kill switches
    count an account's own results, of which a trial has none."""
    from hawser.rehearsal.run import spreads
    from hawser.rehearsal.watch import HistoryPolicy, watch_of

    spread = spreads(bars, account)
    if not any(isinstance(one, Filter) for one in guards.guard):
        return Filters(instrument, bars, spread)
    policy = HistoryPolicy(guards, calendars, references=references)
    names = tuple(one.name for one in guards.guard)
    try:
        watch = watch_of(policy, instrument, bars._replace(spread=spread), alone(bars))
    except BadInput as error:
        return Filters(instrument, bars, spread, names, wrong=error.sentence)
    by_r = [(n + 1, guards.guard[n]) for n in watch.of_r_number.tolist()]
    of_r = tuple((n, one) for n, one in by_r if isinstance(one, SpreadGuard))
    found = Filters(instrument, bars, spread, names=names, shut=watch.shut, of_r=of_r)
    for _, guard in of_r:  # what it is compiled to is loaded here, not on the window's thread
        found.too_wide(guard, 0, 1.0)
    return found


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
