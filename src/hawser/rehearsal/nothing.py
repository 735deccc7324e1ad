"""Why a rehearsal made no trade: its signals, counted by what kept each from being entered."""

from __future__ import annotations

from collections import Counter

import numpy as np

from hawser.core import figures as fg
from hawser.core.errors import Refused
from hawser.core.indicators import Array
from hawser.core.sizing import sized
from hawser.rehearsal.guarding import REFUSED
from hawser.rehearsal.run import Outcome, Rehearsal

MOST = 2_000  # signals that are looked at one by one


def why_nothing(rehearsal: Rehearsal, outcome: Outcome) -> list[str]:
    """A sentence for each reason, the most frequent first."""
    history = rehearsal.history
    at = np.flatnonzero(history.signal)
    if not at.size:
        return [
            f"None of the {fg.counted(history.bars.size, 'bar')} has a signal: the column holds "
            "nothing but 0"
        ]
    told = [f"{fg.counted(at.size, 'signal')}, and none was entered"]
    guarded = outcome.guarded[outcome.guarded[:, 2] == REFUSED]
    found = _by_guards(rehearsal, guarded[:, 1])
    found += _by_the_rest(rehearsal, at[~_refused_then(rehearsal, at, guarded[:, 0])])
    more = at.size - sum(found.values())
    if more > 0:
        found["not looked at one by one"] = more
    return told + [f"{count}: {why}" for why, count in found.most_common()]


def _refused_then(rehearsal: Rehearsal, at: Array, times: Array) -> Array:
    """Which signals a guard refused, by the moments at which it did (UTC ns)."""
    rows = rehearsal.history.bars["end"][at]
    there = rows < rehearsal.fine_time.size
    entries = rehearsal.fine_time[np.where(there, rows, 0)]
    found: Array = there & np.isin(entries, times)
    return found


def _by_guards(rehearsal: Rehearsal, numbers: Array) -> Counter[str]:
    found: Counter[str] = Counter()
    for number, count in zip(*np.unique(numbers, return_counts=True), strict=True):
        assert rehearsal.policy is not None
        name = rehearsal.policy.guards.guard[int(number)].name
        found[f"the guard '{name}' was closed"] = int(count)
    return found


def _by_the_rest(rehearsal: Rehearsal, at: Array) -> Counter[str]:
    history, rig, found = rehearsal.history, rehearsal.rig, Counter[str]()
    examples: dict[str, str] = {}
    for bar in at[:MOST].tolist():
        side, row = int(history.signal[bar]), int(history.bars[bar]["end"])
        if row >= history.prices.size:
            found["no bar follows at which it could be entered"] += 1
        elif not rig.allows(side):
            found[f"the rig's direction is {rig.direction}"] += 1
        elif not history.begin <= row < history.end:
            found["it lies outside the rig's from and to"] += 1
        else:
            code, sentence = _refusal(rehearsal, bar, side)
            found[examples.setdefault(code, sentence)] += 1
    return found


def _refusal(rehearsal: Rehearsal, bar: int, side: int) -> tuple[str, str]:
    """The code and the sentence of what refuses an entry after a bar; of many the first stands for
    all."""
    try:
        sized(rehearsal.request(bar, side))
    except Refused as refusal:
        return refusal.code, refusal.sentence.rstrip(".")
    return "", "an indicator of the rig has no value yet"
