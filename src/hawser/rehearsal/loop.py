"""One rehearsed trade, from its entry to its end: the bar loop over `core/rules` (reckoning section
10).

What a trade needs is in small records and arrays; what it does is written into arrays that are made
once for a whole run. Everything here is compiled.
"""

from __future__ import annotations

import numpy as np

from hawser.core.compiled import inlined
from hawser.core.rules.trade_levels import Money, Rules, money_at
from hawser.rehearsal import guarding as gd
from hawser.rehearsal.phases import (
    bar_closed,
    bar_opened,
    entered,
    evened_at,
    floating,
    goal_followed,
    gone_by,
    guarded_to,
    left_at,
    left_at_open,
    mirrored,
    priced,
)
from hawser.rehearsal.records import END, INSIDE, BarRows, Levels, PlayArrays, TradeEnd, TradeStart


@inlined
# one trade's loop: the steps of section 10, one after the other, as a reader looks for them
def play(  # noqa: PLR0912, PLR0915
    history: BarRows,
    money: Money,
    rules: Rules,
    trade: TradeStart,
    levels: Levels,
    written: PlayArrays,
    order: int,
    cash: float,
    guarded: gd.Guarded,
) -> TradeEnd:
    """Play one trade to its end, or to the history's; `cash` is what there is before it."""
    side, fills, moves, out = trade.side, written.fills, written.moves, written.out
    # counted from 0, an index is known not to be from the end
    rows, bars = history.prices[trade.at :], history.bars[trade.first :]
    equity = written.equity[trade.first :]
    line = (history.trail_long if side > 0 else history.trail_short)[trade.first :]
    units = history.units
    p = entered(trade, rules, money_at(money, units, trade.at), levels=levels, fills=fills)
    on, marked, how = guarded.watch.on, cash, INSIDE
    laddered, back = on and levels.rungs.size > 0, False
    # One loop over the rows of prices: most bars have one, and a loop within this one would cost
    # them half as much again.
    k, end, i, at = 0, trade.at, trade.first, trade.at
    bar = bars[0]
    for f in range(rows.size):
        at = trade.at + f
        row = mirrored(rows[f], side)
        if at == end:  # a bar opens
            i, bar = trade.first + k, bars[k]
            end = bar["end"]
            p = bar_opened(p, row.opens, k == 0)
            if k > 0 and on:  # at the entry itself the guards were asked before it
                gd.roll(guarded, i, gd.OPENS, marked)
                follows = guarded.watch.follows[i, gd.OPENS]
                p = guarded_to(p, follows & gd.CLOSE != 0)
                if follows & gd.EVEN and not p.decided.why:
                    p = evened_at(p, side, side * row.opens, rules=rules, moves=moves, at=at)
            if p.decided.why:
                now = money_at(money, units, at)
                p = left_at_open(p, side, row.opens, at=at, money=now, fills=fills)
                how = p.decided.why
                break
        if laddered:
            back = gd.back_at_open(guarded, at, side, back)
        p = gone_by(
            p,
            row,
            at=at,
            side=side,
            money=money,
            units=units,
            levels=levels,
            order=order,
            fills=fills,
            out=out,
            back=back,
        )
        if p.book.left == 0:
            if on:
                gd.roll(guarded, i, gd.CLOSES, marked)
            break
        if at + 1 < end:
            continue
        p = goal_followed(p, trade, rules)
        now = money_at(money, units, at)
        profit = floating(p, row.closes, now)
        won = p.book.net + profit
        equity[k] = cash + won
        if k == bars.size - 1:
            p = left_at(p, side, float(side * row.closes), at, money=now, fills=fills, why=END)
            how = END
            break
        # Guards judge before signals: a limit that is reached at this close must not be overtaken
        # by an exit that the same close signals, but the reason written down is the signal's
        # (section 10, the order of reasons).
        ends = False
        if on:
            gd.roll(guarded, i, gd.CLOSES, marked)
            marked = cash + won
            gd.judge(guarded, i, marked)
            judged = gd.due(guarded)
            if judged & gd.EVEN:
                p = evened_at(p, side, side * row.closes, rules=rules, moves=moves, at=at + 1)
            ends = (judged | guarded.watch.follows[i, gd.CLOSES]) & gd.CLOSE != 0
        p = bar_closed(
            p,
            trade,
            rules=rules if units.size == 0 else priced(rules, now, trade),
            bar=bar,
            row=row,
            at=at,
            lived=k + 1,
            won=won,
            line=line[k] + (0 if side > 0 else row.spread) if line.size > 0 else np.nan,
            levels=levels,
            moves=moves,
        )
        if on:
            p = guarded_to(p, ends)
            if guarded.watch.follows[i, gd.CLOSES] & gd.EVEN:
                p = evened_at(p, side, side * row.closes, rules=rules, moves=moves, at=at + 1)
        if laddered:
            back = gd.back_at_close(guarded, i, at, side, back)
        k += 1
    at_once = how != INSIDE or units.size > 0  # what left is money already
    net = p.book.net + (0.0 if at_once else p.book.flow * money.tick_step)
    equity[i - trade.first] = cash + net
    return TradeEnd(
        bar=i,
        at=at,
        how=how,
        turns=p.decided.turning,
        fills=p.book.fills,
        moves=p.standing.moves,
        dependent=p.gone.dependent,
        best=p.gone.best,
        worst=p.gone.worst,
        net=net,
        last=p.book.last,
        stop=p.standing.stop,
    )
