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

CLOSE, EVEN, ALL = 1, 2, 4  # what is to follow, as bits; ALL: for every member
OPEN, UNTIL_END, FOR_GOOD = range(3)  # latched
REFUSED, TRIPPED, CLOSED = range(3)  # what is written down
OPENS, CLOSES = 0, 1  # moments of a bar


class CountedColumns(NamedTuple):
    """What is counted, in the policy's order: one place in each array for each guard and whom it
    counts together."""

    kind: Array  # what it counts (`limits.py`)
    number: Array  # of the guard in the policy
    watches: Array  # (members, places) whose entries it keeps out; of none: it only flattens
    by_result: Array  # whether it goes by the results of those it watches, not by equity
    weekly: Array
    until_end: Array  # whether what latches opens with the next period
    does: Array  # on tripping, as bits
    most: Array
    percent: Array  # of a cool-down the loss it begins from, R
    money: Array
    pause: Array  # ns


class GuardColumns(NamedTuple):
    """What is known beforehand of each bar of one member's history; `on`: there are guards.

    By row of prices: `time` (UTC ns; each `span` ns long); `shut`, for longs and shorts, the number
    of the first filter that is closed at its open, counted from 1 (0: none). By bar: `opened` (UTC
    ns); `follows`, what filters that close at its open and at its close do, as bits; `period`, its
    day at open and close and its week at open and close. By spread guard: `of_r` (percent) and
    `of_r_number`. Of a ladder alone, else of no length: `back`, by row, whether a filter is closed
    at its open that takes back what waits; `back_at_close`, by bar, the same at its close, and
    `shut_at_close` whether any is closed there for longs and shorts.
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
    back: Array
    back_at_close: Array
    shut_at_close: Array


class GuardCounts(NamedTuple):
    """What is remembered of each that is counted; `place`: how many rows are written, and the first
    bar whose close has not been judged. By member: `due`, what is to follow, as bits, and
    `results`, money since the start; `won`: those of whom a place watches when its period began."""

    latched: Array
    period: Array
    counts: Array
    until: Array
    base: Array
    high: Array
    won: Array
    due: Array
    results: Array
    place: Array


class Guarded(NamedTuple):
    """Guards at work for one member: `written` gets rows of (UTC ns, number, what, side,
    member)."""

    watch: GuardColumns
    counted: CountedColumns
    memory: GuardCounts
    written: Array
    member: int


def memory_for(counted: CountedColumns, equity: float) -> GuardCounts:
    """Nothing has happened yet."""
    members, n = counted.watches.shape
    latched, counts, until = np.zeros((3, n), np.int64)
    return GuardCounts(
        latched=latched,
        period=np.full(n, -1, np.int64),
        counts=counts,
        until=until,
        base=np.full(n, equity),
        high=np.full(n, equity),
        won=np.zeros(n),
        due=np.zeros(members, np.int64),
        results=np.zeros(members),
        place=np.zeros(2, np.int64),
    )


@compiled
def note(guarded: Guarded, time: int, number: int, what: int, side: int, who: int) -> None:
    """Write down what a guard did, and for which member; -1: for all that it watches."""
    place = guarded.memory.place
    row = guarded.written[place[0]]
    row[0], row[1], row[2], row[3], row[4] = time, number, what, side, who
    place[0] += 1


@compiled
def roll(guarded: Guarded, bar: int, moment: int, equity: float) -> None:
    """Periods that are over by the bar's open or close give way to the next, which counts from the
    equity known. A limit that is still broken opens nothing with the new period; what was to follow
    followed when it broke."""
    watch, counted, memory = guarded.watch, guarded.counted, guarded.memory
    for g in range(counted.kind.size):
        now = watch.period[bar, 2 * counted.weekly[g] + moment]
        if now != memory.period[g]:
            opened = memory.latched[g] == UNTIL_END
            if opened:
                memory.latched[g], memory.counts[g] = OPEN, 0
            memory.period[g], memory.base[g] = now, equity
            memory.won[g] = _results(guarded, g)
            if counted.kind[g] == COUNT:
                memory.counts[g] = 0
            if opened and _reached(guarded, g, equity):
                _latch(guarded, watch.opened[bar], g)


@compiled
def _results(guarded: Guarded, g: int) -> float:
    """Results of those that a place watches, money since the start; 0 where it goes by equity."""
    total = 0.0
    if guarded.counted.by_result[g]:
        for m in range(guarded.memory.results.size):
            if guarded.counted.watches[m, g]:
                total += guarded.memory.results[m]
    return total


@inlined
def _reached(guarded: Guarded, g: int, equity: float) -> bool:
    """Whether a kill switch that looks at money has reached its limit."""
    counted, memory = guarded.counted, guarded.memory
    kind = counted.kind[g]
    if kind == LOSS:
        now = equity
        if counted.by_result[g]:
            now = memory.base[g] + _results(guarded, g) - memory.won[g]
        return lost(memory.base[g], now, counted.percent[g], counted.money[g])
    if kind == DRAWDOWN:
        return lost(memory.high[g], equity, counted.percent[g], counted.money[g])
    return kind == FLOOR and at_floor(equity, counted.money[g])


@compiled
def _latch(guarded: Guarded, time: int, g: int) -> None:
    guarded.memory.latched[g] = UNTIL_END if guarded.counted.until_end[g] else FOR_GOOD
    note(
        guarded,
        time,
        guarded.counted.number[g],
        what=TRIPPED,
        side=0,
        who=_only(guarded.counted.watches, g),
    )


@inlined
def _only(watches: Array, g: int) -> int:
    """The one member that a place counts; -1: it counts several together."""
    count, last = 0, -1
    for m in range(watches.shape[0]):
        if watches[m, g]:
            count, last = count + 1, m
    return last if count == 1 else -1


@compiled
def _follows(guarded: Guarded, g: int) -> None:
    """What a guard that closes does is due, for those it watches or for all."""
    does = guarded.counted.does[g]
    for m in range(guarded.memory.due.size):
        if does & ALL or guarded.counted.watches[m, g]:
            guarded.memory.due[m] |= does & (CLOSE | EVEN)


@compiled
def due(guarded: Guarded) -> int:
    """What is to follow for the member, as bits; it is taken as done."""
    memory = guarded.memory
    bits: int = memory.due[guarded.member]
    memory.due[guarded.member] = 0
    return bits


@compiled
def judge(guarded: Guarded, bar: int, equity: float) -> None:
    """What money kill switches make of the equity; what follows is due."""
    counted, memory = guarded.counted, guarded.memory
    for g in range(counted.kind.size):
        memory.high[g] = max(memory.high[g], equity)
        if not memory.latched[g] and _reached(guarded, g, equity):
            _latch(guarded, guarded.watch.opened[bar], g)
            _follows(guarded, g)


@compiled
def trade_ended(
    guarded: Guarded, bar: int, price: int, moment: int, net: float, risk: float
) -> None:
    """What the end of a trade counts for: losing streaks, cool-downs. Its moment is the open of its
    row of prices, or that row's end."""
    watch, counted, memory = guarded.watch, guarded.counted, guarded.memory
    r = net / risk if risk else 0.0
    for g in range(counted.kind.size):
        if not counted.watches[guarded.member, g]:
            continue
        if counted.kind[g] == STREAK:
            memory.counts[g] = losses_in_a_row(memory.counts[g], net)
            if full(memory.counts[g], counted.most[g]) and not memory.latched[g]:
                _latch(guarded, watch.opened[bar], g)
                _follows(guarded, g)
        elif counted.kind[g] == COOL_DOWN and cools(net, r, counted.percent[g]):
            memory.until[g] = watch.time[price] + moment * watch.span + counted.pause[g]
            note(
                guarded,
                watch.time[price],
                counted.number[g],
                what=CLOSED,
                side=0,
                who=guarded.member,
            )
            _follows(guarded, g)


@compiled
def entered(guarded: Guarded) -> None:
    """One entry more in each period."""
    counted, memory = guarded.counted, guarded.memory
    for g in range(counted.kind.size):
        if counted.kind[g] == COUNT and counted.watches[guarded.member, g]:
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
def closed_for(guarded: Guarded, price: int, side: int) -> int:
    """The number of the first guard that closes an entry at the open of a row of prices, -1:
    none."""
    watch, counted, memory = guarded.watch, guarded.counted, guarded.memory
    first: int = watch.shut[price, 0 if side > 0 else 1] - 1
    for g in range(counted.kind.size):
        cold = counted.kind[g] == COOL_DOWN and watch.time[price] < memory.until[g]
        spent = counted.kind[g] == COUNT and full(memory.counts[g], counted.most[g])
        closed = counted.watches[guarded.member, g] and (memory.latched[g] or cold or spent)
        if closed and (first < 0 or counted.number[g] < first):
            first = counted.number[g]
    return first


@compiled
def latched(guarded: Guarded) -> bool:
    """Whether a kill switch that watches the member is latched: it takes back what waits."""
    counted, memory = guarded.counted, guarded.memory
    for g in range(counted.kind.size):
        if counted.watches[guarded.member, g] and memory.latched[g]:
            return True
    return False


@compiled
def _cold(guarded: Guarded, time: int) -> bool:
    """Whether a cool-down of the member lasts at a moment."""
    counted, memory = guarded.counted, guarded.memory
    for g in range(counted.kind.size):
        if counted.watches[guarded.member, g] and time < memory.until[g]:
            return True
    return False


@compiled
def back_at_open(guarded: Guarded, price: int, side: int, back: bool) -> bool:
    """Whether a ladder's rungs are taken back from the open of a row of prices on; `back`: they
    were before it. They wait again once no guard is closed; the entry was counted when it was
    made."""
    watch = guarded.watch
    if watch.back[price] or latched(guarded):
        return True
    closed = watch.shut[price, 0 if side > 0 else 1] > 0 or _cold(guarded, watch.time[price])
    return back and closed


@compiled
def back_at_close(guarded: Guarded, bar: int, price: int, side: int, back: bool) -> bool:
    """The same from the close of a bar on, whose last row of prices is given."""
    watch = guarded.watch
    if watch.back_at_close[bar] or latched(guarded):
        return True
    closed = watch.shut_at_close[bar, 0 if side > 0 else 1]
    return back and (closed or _cold(guarded, watch.time[price] + watch.span))


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
    note(guarded, guarded.watch.time[price], number, what=REFUSED, side=side, who=guarded.member)
    return True
