"""A source over bars: over a whole history at once, or on as bars come. Both are one way, so they
give the same."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from hawser.core.indicators import Array
from hawser.core.rules.bar_close import EITHER
from hawser.core.sources.conditions.base import PARTS, Part
from hawser.core.sources.conditions.declared import AnyCondition
from hawser.core.sources.growing import Growing
from hawser.core.sources.source import Source
from hawser.core.sources.view import BarsSeen, View


class Signalled(NamedTuple):
    """What a source says at each bar, int8: `signal` +1, -1 or 0; `leave` -1 leaves a long, +1 a
    short, 2 either. `both_ways`, bool: it said long and short at once, which is no signal."""

    signal: Array
    leave: Array
    both_ways: Array


def counted(said: Signalled) -> dict[str, int]:
    """How often a source says what."""
    either = said.leave == EITHER
    return {
        "long": int((said.signal == 1).sum()),
        "short": int((said.signal == -1).sum()),
        "leave_long": int(((said.leave == -1) | either).sum()),
        "leave_short": int(((said.leave == 1) | either).sum()),
        "both_ways": int(said.both_ways.sum()),
    }


class Answered(NamedTuple):
    """What one condition says at each bar, bool; `place` as `enter[0]`."""

    part: Part
    place: str
    condition: AnyCondition
    longs: Array
    shorts: Array


class _Asked:
    """One condition, and what it has answered."""

    def __init__(self, part: Part, place: str, condition: AnyCondition) -> None:
        self.part, self.place, self.condition = part, place, condition
        self._answers, self._carried = Growing([np.bool_, np.bool_]), condition.state()

    def answers(self, view: View, first: int) -> tuple[Array, Array]:
        """Long and short at every bar, filled from bar `first`."""
        size = view.size
        longs, shorts = self._answers.room(size)
        self.condition.answer(
            view, self.place, longs, shorts=shorts, first=first, carried=self._carried
        )
        if self.condition.against:
            kept = longs[first:size].copy()
            longs[first:size] = shorts[first:size]
            shorts[first:size] = kept
        if self.condition.either:
            shorts[first:size] = longs[first:size]
        return self.given(size)

    def given(self, size: int) -> tuple[Array, Array]:
        """The answers at the first bars, which have been asked for."""
        longs, shorts = self._answers.room(size)
        return longs[:size], shorts[:size]


class Evaluation:
    """A source that goes on as bars are added at the end."""

    def __init__(self, source: Source, span: int | None = None) -> None:
        """`span`: how long the bars are, ns, where that is known."""
        self.source, self.view = source, View(span)
        self._asked = [_Asked(*one) for one in source.conditions()]
        self._said = Growing([np.int8, np.int8, np.bool_])
        self._size = 0
        # whether the last bar's answer waits for the bar after it
        self._waits = any(one.condition.WAITS for one in self._asked)

    def extended(self, seen: BarsSeen) -> Signalled:
        """What it says at all the bars that are seen, which begin with those that were."""
        self.view.see(seen)
        size = self.view.size
        first = max(0, self._size - 1) if self._waits else self._size
        columns = self._said.room(size)
        if size > first:
            self._say(first, *(column[:size] for column in columns))
            self._size = size
        return Signalled._make(column[:size] for column in columns)

    @property
    def answers(self) -> list[Answered]:
        """What each condition says at all the bars that were seen."""
        return [
            Answered(one.part, one.place, one.condition, *one.given(self._size))
            for one in self._asked
        ]

    def _say(self, first: int, signal: Array, leave: Array, both_ways: Array) -> None:
        size, source = signal.size, self.source
        parts: dict[Part, list[tuple[Array, Array]]] = {part: [] for part in PARTS}
        for asked in self._asked:
            longs, shorts = asked.answers(self.view, first)
            parts[asked.part].append((longs[first:], shorts[first:]))
        join = np.logical_and if source.combine == "all" else np.logical_or
        long, short = (join.reduce([one[side] for one in parts["enter"]]) for side in (0, 1))
        for one in parts["only"]:
            long, short = long & one[0], short & one[1]
        if source.sides == "long":
            short = np.zeros(size - first, np.bool_)
        elif source.sides == "short":
            long = np.zeros(size - first, np.bool_)
        both_ways[first:] = long & short
        signal[first:] = long.view(np.int8) - short.view(np.int8)
        leave[first:] = 0
        if parts["leave"]:
            of_long = np.logical_or.reduce([one[1] for one in parts["leave"]])
            of_short = np.logical_or.reduce([one[0] for one in parts["leave"]])
            leave[first:] = of_short.view(np.int8) - of_long.view(np.int8)
            leave[first:][of_long & of_short] = EITHER


def evaluated(source: Source, seen: BarsSeen, span: int | None = None) -> Signalled:
    """What a source says over a whole history."""
    return Evaluation(source, span).extended(seen)
