"""Trades one after another, compiled: signals to entries, reversals, follow-ons, until a batch is
full or the end."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from hawser.core.borrowed_arrays import borrowed
from hawser.core.compiled import compiled, inlined
from hawser.core.indicators import Array
from hawser.core.rules.bar_close import follow_on
from hawser.core.rules.trade_levels import Money, Setup
from hawser.rehearsal import guarding as gd
from hawser.rehearsal.entries import Sizer, alone_at, begin
from hawser.rehearsal.loop import play
from hawser.rehearsal.records import INSIDE, BarRows, Levels, PlayArrays, TradeEnd, TradeStart

TRADES = 4096  # in a batch, where nothing else is asked for
ROWS = 48  # of fills that one trade may need
# Columns of a trade's row
SIDE, DECIDED, FIRST, LAST, FOLLOWS, REF, STOP_AT, STEPS, BEST, WORST = range(10)
FILL_FROM, FILL_TO, MOVE_FROM, MOVE_TO, HOW, DEPENDENT, LATE = range(10, 17)
RISK, NET = range(2)


class RunState(NamedTuple):
    """Where a run stands: the bar from which signals count, cash, an entry that is pending (`side`
    0: none) and the row of prices it is for; how many trades, fills and moves are written."""

    at: int
    cash: float
    side: int
    decided: int
    price: int
    follows: bool
    chain: int
    trades: int
    fills: int
    moves: int


def first_state(cash: float) -> RunState:
    """At the beginning of a history: nothing is pending, and nothing is written."""
    return RunState(
        at=0,
        cash=cash,
        side=0,
        decided=0,
        price=0,
        follows=False,
        chain=0,
        trades=0,
        fills=0,
        moves=0,
    )


class Table(NamedTuple):
    """Rows of trades: whole numbers and money."""

    whole: Array
    money: Array


def table(trades: int) -> Table:
    return Table(np.empty((trades, 17), np.int64), np.empty((trades, 2)))


@compiled
def _signal(history: BarRows, at: int, equity: Array, cash: float) -> int:
    """The next bar from `at` on whose close has a signal; the length of the history where there is
    none. Up to there no position is held: equity is the cash."""
    rest = borrowed(history.signal)[at:]  # counted from 0, an index is known not to be from the end
    found: int = rest.size
    for k in range(rest.size):
        if rest[k] != 0:
            found = k
            break
    equity[at : at + found + 1] = cash
    return at + found


@inlined
def _allowed(
    history: BarRows,
    setup: Setup,
    guarded: gd.Guarded,
    bar: int,
    price: int,
    late: bool,
    side: int,
    cash: float,
) -> bool:
    """Whether the rig and the guards let an entry pass at the open of a row of prices, which lies
    in `bar`. `late`: others lie before it there."""
    if (
        not (setup.entry.long if side > 0 else setup.entry.short)
        or not history.begin <= price < history.end
    ):
        return False
    if not guarded.watch.on:
        return True
    gd.idle(guarded, bar, cash)
    gd.roll(guarded, bar, gd.CLOSES if late else gd.OPENS, cash)
    number = gd.closed_for(guarded, price, side)
    return not gd.refused(guarded, price, side, number)


@inlined
def _entered(history: BarRows, guarded: gd.Guarded, trade: TradeStart) -> bool:
    """Whether a trade that was laid is entered: it has a size, and its R bears the spread."""
    if trade.steps == 0:
        return False
    if guarded.watch.on:
        wide = gd.too_wide(guarded, history.prices[trade.at]["spread"], abs(trade.ref - trade.stop))
        if gd.refused(guarded, trade.at, trade.side, wide):
            return False
        gd.entered(guarded)
    return True


@inlined
def _write_trade(row: Array, trade: TradeStart, end: TradeEnd, late: bool) -> None:
    row[SIDE], row[FIRST], row[REF], row[STOP_AT], row[STEPS] = (
        trade.side,
        trade.first,
        trade.ref,
        trade.stop,
        trade.steps,
    )
    row[LAST], row[BEST], row[WORST], row[HOW], row[DEPENDENT] = (
        end.bar,
        end.best,
        end.worst,
        end.how,
        end.dependent,
    )
    row[LATE] = late
    row[FILL_TO], row[MOVE_TO] = row[FILL_FROM] + end.fills, row[MOVE_FROM] + end.moves


@inlined
def _judge_end(guarded: gd.Guarded, end: TradeEnd, risk: float, cash: float) -> None:
    """What guards make of the end of a trade; `cash`: before it."""
    moment = gd.CLOSES if end.how == INSIDE else gd.OPENS
    gd.trade_ended(guarded, end.bar, end.at, moment, net=end.net, risk=risk)
    gd.judge(guarded, end.bar, cash + end.net)
    gd.due(guarded)  # nothing is open for which it could be done
    guarded.memory.place[1] = end.bar


@compiled
def run_batch(
    history: BarRows,
    money: Money,
    sizer: Sizer,
    setup: Setup,
    levels: Levels,
    written: PlayArrays,
    rows: Table,
    order: int,
    place: RunState,
    most: int,
    guarded: gd.Guarded,
) -> RunState:
    """Play up to `most` trades from `place` on; returns where the run stands then (`at` -1: at its
    end)."""
    history = borrowed(history)
    setup = borrowed(setup)
    levels = borrowed(levels)
    written = borrowed(written)
    rows = borrowed(rows)
    guarded = borrowed(guarded)
    at, cash, side, decided, price, follows, chain, count, nf, nm = place
    n, full = history.bars.size, count + most
    while count < full:
        if side == 0:
            decided, follows, chain = _signal(history, at, written.equity, cash), False, 0
            if decided >= n - 1:
                at = -1
                if guarded.watch.on:
                    gd.idle(guarded, n, cash)
                break
            side, price = int(history.signal[decided]), history.bars[decided]["end"]
        if price >= history.prices.size:
            at = -1
            break
        # A follow-on enters at the next row of prices, which may lie in the very bar that its
        # forerunner ended in.
        late = price < history.bars[decided]["end"]
        first = decided if late else decided + 1
        if not _allowed(
            history,
            setup,
            guarded=guarded,
            bar=first,
            price=price,
            late=late,
            side=side,
            cash=cash,
        ):
            at, side = first, 0
            continue
        begun = begin(
            history,
            money,
            sizer=sizer,
            setup=setup,
            side=side,
            first=first,
            at=price,
            now=alone_at(sizer, cash),
            levels=levels,
        )
        trade = begun.trade
        if not _entered(history, guarded, trade):
            at, side = first, 0
            continue
        room = PlayArrays(written.fills[nf:], written.moves[nm:], written.equity, written.out)
        end = play(
            history,
            money,
            rules=begun.rules,
            trade=trade,
            levels=levels,
            written=room,
            order=order,
            cash=cash,
            guarded=guarded,
        )
        if guarded.watch.on:
            _judge_end(guarded, end, risk=begun.risk, cash=cash)
        row = rows.whole[count]
        row[DECIDED], row[FOLLOWS], row[FILL_FROM], row[MOVE_FROM] = decided, follows, nf, nm
        _write_trade(row, trade, end, late)
        rows.money[count, RISK], rows.money[count, NET] = begun.risk, end.net
        nf, nm, count, cash, at = nf + end.fills, nm + end.moves, count + 1, cash + end.net, end.bar
        if end.how == INSIDE:
            decided, price, follows = end.bar, end.at + 1, True
            side = follow_on(setup, side, ref=trade.ref, last=end.last, stop=end.stop, chain=chain)
            chain += 1
        elif end.turns:
            side, decided, price, follows, chain = -side, end.bar - 1, end.at, False, 0
        else:
            side = 0
    return RunState(
        at=at,
        cash=cash,
        side=side,
        decided=decided,
        price=price,
        follows=follows,
        chain=chain,
        trades=count,
        fills=nf,
        moves=nm,
    )


@compiled
def fan(
    history: BarRows,
    money: Money,
    sizer: Sizer,
    setup: Setup,
    levels: Levels,
    written: PlayArrays,
    side: int,
    starts: Array,
    cash: float,
    guarded: gd.Guarded,
) -> tuple[Array, Array]:
    """One trade from each of `starts` (bars at whose close it is decided), each by itself: results
    in R (NaN: no entry), and rows of how it ended, its last fill's kind, why its stop moved last
    (-1: never)."""
    history = borrowed(history)
    setup = borrowed(setup)
    levels = borrowed(levels)
    written = borrowed(written)
    results, ends = np.full(starts.size, np.nan), np.zeros((starts.size, 3), np.int64)
    for k in range(starts.size):
        if starts[k] + 1 >= history.bars.size:
            continue
        begun = begin(
            history,
            money,
            sizer=sizer,
            setup=setup,
            side=side,
            first=starts[k] + 1,
            at=history.bars[starts[k]]["end"],
            now=alone_at(sizer, cash),
            levels=levels,
        )
        if begun.trade.steps == 0 or begun.risk <= 0:
            continue
        end = play(
            history,
            money,
            rules=begun.rules,
            trade=begun.trade,
            levels=levels,
            written=written,
            order=0,
            cash=cash,
            guarded=guarded,
        )
        results[k] = end.net / begun.risk
        ends[k, 0], ends[k, 1] = end.how, end.last
        ends[k, 2] = written.moves[end.moves - 1, 2] if end.moves else -1
    return results, ends
