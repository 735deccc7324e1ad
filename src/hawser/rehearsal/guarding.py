"""What guards do in a rehearsal, compiled: they refuse entries at an open, count, latch, and say
what is to follow.

What the filters say of each bar is found beforehand (`watch.py`); what counts is kept here from bar
to bar, by the same decisions as the live engine's (`core/guards/limits.py`). Money is judged at
each close and when a trade has ended.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from hawser.core.compiled import compiled, inlined
from hawser.core.guards.limits import (
    COOL_DOWN,
    COUNT,
    DRAWDOWN,
    FLOOR,
    LOSS,
    SPREAD_OK,
    STREAK,
    at_floor,
    cools,
    full,
    losses_in_a_row,
    lost,
    spread_over,
)
from hawser.core.indicators import Array

CLOSE, EVEN = 1, 2  # what is to follow, as bits
OPEN, UNTIL_END, FOR_GOOD = range(3)  # latched
REFUSED, TRIPPED, CLOSED = range(3)  # what is written down
OPENS, CLOSES = 0, 1  # moments of a bar


class CountedColumns(NamedTuple):
    """The guards that count, in the policy's order, one place in each array for each."""

    kind: Array  # what it counts (`limits.py`)
    number: Array  # in the policy
    watches: Array  # whether it watches the signals; else it only flattens
    weekly: Array
    until_end: Array  # whether what latches opens with the next period
    does: Array  # on tripping, as bits
    most: Array
    percent: Array  # of a cool-down the loss it begins from, R
    money: Array
    pause: Array  # ns


class GuardColumns(NamedTuple):
    """What the guards of a policy are and what is known of each bar beforehand; `on`: there are
    any.

    By row of prices: `time` (UTC ns; each `span` ns long); `shut`, for longs and shorts, the number
    of the first filter that is closed at its open, counted from 1 (0: none). By bar: `opened` (UTC
    ns); `follows`, what filters that close at its open and at its close do, as bits; `period`, its
    day at open and close and its week at open and close. By spread guard: `of_r` (percent) and
    `of_r_number`.
    """

    on: bool
    span: int
    time: Array
    shut: Array
    opened: Array
    follows: Array
    period: Array
    of_r: Array
    of_r_number: Array
    counted: CountedColumns


class GuardCounts(NamedTuple):
    """What each guard that counts remembers; `place`: how many rows are written, and the first bar
    whose close has not been judged."""

    latched: Array
    period: Array
    counts: Array
    until: Array
    base: Array
    high: Array
    place: Array


class Guarded(NamedTuple):
    """Guards at work: `written` gets rows of (UTC ns, number, what, side)."""

    watch: GuardColumns
    memory: GuardCounts
    written: Array


def memory_for(watch: GuardColumns, equity: float) -> GuardCounts:
    """Nothing has happened yet."""
    n = watch.counted.kind.size
    latched, counts, until = np.zeros((3, n), np.int64)
    return GuardCounts(
        latched=latched,
        period=np.full(n, -1, np.int64),
        counts=counts,
        until=until,
        base=np.full(n, equity),
        high=np.full(n, equity),
        place=np.zeros(2, np.int64),
    )


@compiled
def note(guarded: Guarded, time: int, number: int, what: int, side: int) -> None:
    """Write down what a guard did."""
    place = guarded.memory.place
    row = guarded.written[place[0]]
    row[0], row[1], row[2], row[3] = time, number, what, side
    place[0] += 1


@compiled
def roll(guarded: Guarded, bar: int, moment: int, equity: float) -> None:
    """Periods that are over by the bar's open or close give way to the next, which counts from the
    equity known. A limit that is still broken opens nothing with the new period; what was to follow
    followed when it broke."""
    watch, memory = guarded.watch, guarded.memory
    for g in range(watch.counted.kind.size):
        now = watch.period[bar, 2 * watch.counted.weekly[g] + moment]
        if now != memory.period[g]:
            opened = memory.latched[g] == UNTIL_END
            if opened:
                memory.latched[g], memory.counts[g] = OPEN, 0
            memory.period[g], memory.base[g] = now, equity
            if watch.counted.kind[g] == COUNT:
                memory.counts[g] = 0
            if opened and _reached(guarded, g, equity):
                _trip(guarded, bar, g)


@inlined
def _reached(guarded: Guarded, g: int, equity: float) -> bool:
    """Whether a kill switch that looks at money has reached its limit."""
    watch, memory = guarded.watch, guarded.memory
    kind = watch.counted.kind[g]
    if kind == LOSS:
        return lost(memory.base[g], equity, watch.counted.percent[g], watch.counted.money[g])
    if kind == DRAWDOWN:
        return lost(memory.high[g], equity, watch.counted.percent[g], watch.counted.money[g])
    return kind == FLOOR and at_floor(equity, watch.counted.money[g])


@compiled
def _trip(guarded: Guarded, bar: int, g: int) -> int:
    watch, memory = guarded.watch, guarded.memory
    memory.latched[g] = UNTIL_END if watch.counted.until_end[g] else FOR_GOOD
    note(guarded, watch.opened[bar], watch.counted.number[g], TRIPPED, 0)
    does: int = watch.counted.does[g]
    return does


@compiled
def judge(guarded: Guarded, bar: int, equity: float) -> int:
    """What money kill switches make of the equity; what is to follow, as bits."""
    watch, memory, follows = guarded.watch, guarded.memory, 0
    for g in range(watch.counted.kind.size):
        memory.high[g] = max(memory.high[g], equity)
        if not memory.latched[g] and _reached(guarded, g, equity):
            follows |= _trip(guarded, bar, g)
    return follows


@compiled
def trade_ended(
    guarded: Guarded, bar: int, price: int, moment: int, net: float, risk: float
) -> None:
    """What the end of a trade counts for: losing streaks, cool-downs. Its moment is the open of its
    row of prices, or that row's end."""
    watch, memory = guarded.watch, guarded.memory
    memory.place[1], r = bar, net / risk if risk else 0.0
    for g in range(watch.counted.kind.size):
        if watch.counted.kind[g] == STREAK:
            memory.counts[g] = losses_in_a_row(memory.counts[g], net)
            if full(memory.counts[g], watch.counted.most[g]) and not memory.latched[g]:
                _trip(guarded, bar, g)
        elif watch.counted.kind[g] == COOL_DOWN and cools(net, r, watch.counted.percent[g]):
            memory.until[g] = watch.time[price] + moment * watch.span + watch.counted.pause[g]
            note(guarded, watch.time[price], watch.counted.number[g], CLOSED, 0)


@compiled
def entered(guarded: Guarded) -> None:
    """One entry more in each period."""
    watch, memory = guarded.watch, guarded.memory
    for g in range(watch.counted.kind.size):
        if watch.counted.kind[g] == COUNT:
            memory.counts[g] += 1


@compiled
def idle(guarded: Guarded, until: int, equity: float) -> None:
    """Judge the closes before bar `until` at which no position was held."""
    place = guarded.memory.place
    for bar in range(place[1], until):
        roll(guarded, bar, CLOSES, equity)
        judge(guarded, bar, equity)
    place[1] = until


@compiled
def closed_for(guarded: Guarded, bar: int, price: int, late: bool, side: int, equity: float) -> int:
    """The number of the first guard that closes an entry at the open of a row of prices, -1: none.
    No position is held. `late`: others lie before it in the bar."""
    watch, memory = guarded.watch, guarded.memory
    idle(guarded, bar, equity)
    roll(guarded, bar, CLOSES if late else OPENS, equity)
    first: int = watch.shut[price, 0 if side > 0 else 1] - 1
    for g in range(watch.counted.kind.size):
        cold = watch.counted.kind[g] == COOL_DOWN and watch.time[price] < memory.until[g]
        spent = watch.counted.kind[g] == COUNT and full(memory.counts[g], watch.counted.most[g])
        closed = watch.counted.watches[g] and (memory.latched[g] or cold or spent)
        if closed and (first < 0 or watch.counted.number[g] < first):
            first = watch.counted.number[g]
    return first


@compiled
def too_wide(guarded: Guarded, spread: int, r_ticks: int) -> int:
    """The number of the first guard for which the spread is too large a part of R, -1: none."""
    watch = guarded.watch
    for k in range(watch.of_r.size):
        if (
            spread_over(
                float(spread),
                np.nan,
                r_ticks=float(r_ticks),
                max_ticks=np.nan,
                max_of_median=np.nan,
                max_percent_of_r=watch.of_r[k],
            )
            != SPREAD_OK
        ):
            number: int = watch.of_r_number[k]
            return number
    return -1


@inlined
def refused(guarded: Guarded, price: int, side: int, number: int) -> bool:
    """Whether an entry at a row of prices is refused by the guard of this number, which is written
    down."""
    if number < 0:
        return False
    note(guarded, guarded.watch.time[price], number, REFUSED, side)
    return True
