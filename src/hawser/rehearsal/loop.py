"""One rehearsed trade, from its entry to its end: the bar loop over `core/rules` (reckoning section
10).

Prices are whole ticks. What a trade needs is in small records and arrays; what it does is written
into arrays that are made once for a whole run. Everything here is compiled.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from hawser.core.compiled import compiled, inlined
from hawser.core.indicators import Array
from hawser.core.rules.bar_close import BREAK_EVEN, GUARD, decided_at, moved
from hawser.core.rules.entries import filled_at
from hawser.core.rules.inside_bar import (
    ADVERSE,
    FAVOURABLE,
    NO_LEVEL,
    RUNG,
    STOP,
    TARGET,
    inside,
    ladder_inside,
    nearest,
    touched,
)
from hawser.core.rules.ladders import common_target
from hawser.core.rules.moving import NO_MOVE, even_level, evened
from hawser.core.rules.trade_levels import Money, Rules, Setup, fee
from hawser.rehearsal import guarding as gd

INSIDE, END = 0, 4  # how a trade ended, beside what is decided at a close


# What fills are made on: bid prices and spread in ticks. Aligned: without, the loop takes twice as
# long.
PRICES = np.dtype(
    [
        ("open", np.int64),
        ("high", np.int64),
        ("low", np.int64),
        ("close", np.int64),
        ("spread", np.int64),
    ],
    align=True,
)
# What is decided on: the first row of prices after the bar, its ATR in ticks (NaN: none yet), what
# its close signals for an early exit, whether the next bar is the last a time exit by the hours
# allows.
BAR = np.dtype(
    [
        ("end", np.int64),
        ("atr", np.float64),
        ("signal", np.int8),
        ("leave", np.int8),
        ("last_next", np.bool_),
    ],
    align=True,
)


class BarRows(NamedTuple):
    """Of one length: bars that decide (rows of BAR), and signals once more, as a column to be
    searched; what a stop or a trail taken from bars stands on, in ticks, of no length where there
    is no such. `prices`: the bars that fills are made on (rows of PRICES), one or more within each
    that decides. The rig enters from row `begin` to before row `end` of them."""

    begin: int
    end: int
    prices: Array
    bars: Array
    signal: Array
    trail_long: Array
    trail_short: Array
    stop_long: Array
    stop_short: Array


class TradeStart(NamedTuple):
    """How a trade begins: steps, and levels in ticks."""

    side: int
    first: int  # the bar it is entered in
    at: int  # the row of prices that it is entered at
    ref: int
    steps: int
    stop: int


class Spare(NamedTuple):
    """Copies to try an order on."""

    target_parts: Array
    loss_parts: Array
    rung_steps: Array
    out: Array


class Levels(NamedTuple):
    """Mirrored levels that may fill, and what each has still to take or to add, which the loop uses
    up; where the rig's steps act, and lead. Made once for a run, and laid for each trade."""

    targets: Array
    target_parts: Array
    losses: Array
    loss_parts: Array
    rungs: Array
    rung_steps: Array
    step_at: Array
    step_to: Array
    spare: Spare


def levels_for(setup: Setup) -> Levels:
    """Room for a setup's levels."""
    targets, target_parts, spare_targets = np.zeros((3, setup.targets.kind.size), np.int64)
    losses, loss_parts, spare_losses = np.zeros((3, setup.losses.r.size), np.int64)
    rungs, rung_steps, spare_rungs = np.zeros((3, max(0, setup.ladder.rungs - 1)), np.int64)
    step_at, step_to = np.zeros((2, setup.steps.at_kind.size), np.int64)
    spare = Spare(spare_targets, spare_losses, spare_rungs, np.empty((40, 4), np.int64))
    return Levels(
        targets=targets,
        target_parts=target_parts,
        losses=losses,
        loss_parts=loss_parts,
        rungs=rungs,
        rung_steps=rung_steps,
        step_at=step_at,
        step_to=step_to,
        spare=spare,
    )


class PlayArrays(NamedTuple):
    """What trades write: fills (row of prices, entry 1 or exit -1, what, number, price, steps);
    moves (row of prices, level, why), at most one a bar by the rig and two by guards."""

    fills: Array
    moves: Array
    equity: Array
    out: Array  # one bar's fills


def play_arrays(bars: int, fills: int) -> PlayArrays:
    """Room for what is written about so many bars and fills. What is never written to takes no
    memory."""
    return PlayArrays(
        np.empty((fills, 6)),
        np.empty((3 * bars, 3), np.int64),
        np.empty(bars),
        np.empty((40, 4), np.int64),
    )


class TradeEnd(NamedTuple):
    """How a trade ended: the bar and the row of prices, how, whether it turns; rows of fills and
    moves; rows of prices whose order mattered; the best and the worst mirrored exit price; its net,
    money; the last fill's kind, and the stop."""

    bar: int
    at: int
    how: int
    turns: bool
    fills: int
    moves: int
    dependent: int
    best: int
    worst: int
    net: float
    last: int
    stop: int


@compiled
def _differs(first: Array, n: int, second: Array, m: int) -> bool:
    """Whether two ways through a bar fill differently."""
    if n != m:
        return True
    for i in range(n):
        found = False
        for j in range(m):
            same = True
            for k in range(4):
                same = same and first[i, k] == second[j, k]
            found = found or same
        if not found:
            return True
    return False


@inlined
def _mirrored(
    opens: int, high: int, low: int, close: int, spread: int, side: int
) -> tuple[int, int, int, int]:
    """Open, high, low and close of a bar on the exit side, mirrored."""
    if side > 0:
        return opens, high, low, close
    return -(opens + spread), -(low + spread), -(high + spread), -(close + spread)


class Reach(NamedTuple):
    """What a bar may fill, mirrored: its prices and spread, the stop, what is left of the position,
    and a ladder's common target (NO_LEVEL: there is none), which closes `held`."""

    opens: int
    high: int
    low: int
    spread: int
    stop: int
    left: int
    goal: int
    held: int


@inlined
def _ladder_way(order: int, bar: Reach, levels: Levels, rung_steps: Array, out: Array) -> int:
    """What a bar fills of a ladder in one order of its high and low; `rung_steps` are used up."""
    return ladder_inside(
        order,
        bar.opens,
        high=bar.high,
        low=bar.low,
        spread=bar.spread,
        stop=bar.stop,
        left=bar.left,
        held=bar.held,
        target=bar.goal,
        rungs=levels.rungs,
        rung_steps=rung_steps,
        out=out,
    )


@inlined
def _way(order: int, bar: Reach, levels: Levels, parts: tuple[Array, Array], out: Array) -> int:
    """The same without a ladder; the `parts` of targets and loss steps are used up."""
    return inside(
        order,
        bar.opens,
        high=bar.high,
        low=bar.low,
        stop=bar.stop,
        left=bar.left,
        targets=levels.targets,
        target_parts=parts[0],
        losses=levels.losses,
        loss_parts=parts[1],
        out=out,
    )


@inlined
def _within(order: int, bar: Reach, levels: Levels, out: Array, sides: int) -> tuple[int, int]:
    """What a bar fills that reaches these `sides`, and 1 where the two orders would fill it
    differently."""
    spare = levels.spare
    if bar.goal != NO_LEVEL:
        spare.rung_steps[:] = levels.rung_steps
        m = _ladder_way(0, bar, levels, spare.rung_steps, spare.out)
        spare.rung_steps[:] = levels.rung_steps
        k = _ladder_way(1, bar, levels, spare.rung_steps, out)
        apart = _differs(out, k, spare.out, m)
        return _ladder_way(order, bar, levels, levels.rung_steps, out), int(apart)
    differs = 0
    if sides == ADVERSE | FAVOURABLE:  # else there is one way through the bar
        tried = (spare.target_parts, spare.loss_parts)
        tried[0][:], tried[1][:] = levels.target_parts, levels.loss_parts
        m = _way(0, bar, levels, tried, spare.out)
        tried[0][:], tried[1][:] = levels.target_parts, levels.loss_parts
        k = _way(1, bar, levels, tried, out)
        differs = int(_differs(out, k, spare.out, m))
    return _way(order, bar, levels, (levels.target_parts, levels.loss_parts), out), differs


@inlined
def _write(
    fills: Array, n: int, bar: int, way: int, what: int, number: int, price: float, steps: int
) -> int:
    fills[n, 0], fills[n, 1], fills[n, 2], fills[n, 3], fills[n, 4], fills[n, 5] = (
        bar,
        way,
        what,
        number,
        price,
        steps,
    )
    return n + 1


@inlined
def _move(moves: Array, n: int, bar: int, level: int, why: int) -> int:
    """Write down a level that holds from `bar` on, in place of one that never held; rows of
    moves."""
    if n > 0 and moves[n - 1, 0] == bar:
        n -= 1
    moves[n, 0], moves[n, 1], moves[n, 2] = bar, level, why
    return n + 1


@inlined
def _evened(
    rules: Rules,
    side: int,
    entry: float,
    stop: int,
    exit_side: int,
    moves: Array,
    nm: int,
    bar: int,
) -> tuple[int, int]:
    """The stop at the entry from `bar` on where a guard may put it there, and rows of moves."""
    level = evened(even_level(side, entry), stop, exit_side, rules.min_stop, side)
    if level == NO_MOVE:
        return stop, nm
    return level, _move(moves, nm, bar, level, BREAK_EVEN)


class TradeAccount(NamedTuple):
    """A trade's account: `flow` (entries out, exits in) and `value` (entries) in ticks times steps,
    `net` in money (less commissions so far), steps entered and left, rows of fills, the last fill's
    kind, targets filled as bits."""

    flow: float
    value: float
    net: float
    entered: int
    left: int
    fills: int
    last: int
    ready: int


@inlined
def _booked(
    book: TradeAccount, fills: Array, i: int, side: int, money: Money, out: Array, count: int
) -> TradeAccount:
    """One bar's fills, written down and counted."""
    flow, value, net, entered, left, nf, last, ready = book
    for row in range(count):
        what, number, steps = out[row, 0], out[row, 1], out[row, 3]
        price = float(side * out[row, 2])
        if what == RUNG:
            flow -= side * price * steps
            value += price * steps
            entered += steps
            left += steps
        else:
            price = filled_at(price - (0.0 if what == TARGET else side * money.exit_slip))
            flow += side * price * steps
            left -= steps
            last = what
            ready |= 1 << number if what == TARGET else 0
        net -= fee(money, float(steps), price)
        nf = _write(
            fills,
            nf,
            bar=i,
            way=1 if what == RUNG else -1,
            what=what,
            number=number,
            price=price,
            steps=steps,
        )
    return TradeAccount(
        flow=flow,
        value=value,
        net=net,
        entered=entered,
        left=left,
        fills=nf,
        last=last,
        ready=ready,
    )


@inlined
def _still_held(out: Array, count: int, held: int) -> int:
    """What a ladder's common target may still close in this bar: nothing, once it has."""
    for row in range(count):
        if out[row, 0] == TARGET:
            held = 0
    return held


@inlined
def _ending(out: Array, count: int, best: int, worst: int) -> tuple[int, int]:
    """The best and worst with an ending bar's exits, which is all that counts of it."""
    for row in range(count):
        if out[row, 0] != RUNG:
            best, worst = max(best, out[row, 2]), min(worst, out[row, 2])
    return best, worst


@inlined
# one trade's loop: split further, its state would be handed about at every bar
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
    """Play one trade to its end, or to the history's; `cash` is what there is before it. Its own
    account begins at 0: a small trade's cents are not lost in a large account's."""
    side, i, at = trade.side, trade.first, trade.at
    fills, moves, out = written.fills, written.moves, written.out
    # counted from 0, an index is known not to be from the end
    rows, bars, equity = history.prices[at:], history.bars[i:], written.equity[i:]
    ref, step_at, step_to = trade.ref, levels.step_at, levels.step_to
    line = (history.trail_long if side > 0 else history.trail_short)[i:]
    lined = line.size > 0
    targets = levels.targets
    target_parts = levels.target_parts
    losses = levels.losses
    loss_parts = levels.loss_parts
    stop, left, entered = trade.stop, trade.steps, trade.steps
    price = filled_at(trade.ref + side * money.entry_slip)
    nf = _write(fills, 0, bar=at, way=1, what=0, number=0, price=price, steps=trade.steps)
    nm, dependent, ready, last = 0, 0, 0, STOP
    net = -fee(money, float(trade.steps), price)
    value, flow = price * trade.steps, -side * price * trade.steps
    goal = NO_LEVEL
    if rules.ladder_target > 0:
        goal = side * common_target(float(trade.ref), 1, rules.ladder_target, side)
    top, bottom = nearest(targets, target_parts, losses, loss_parts)
    decided, turning, best, worst, on, marked = 0, False, 0, 0, guarded.watch.on, cash
    book = TradeAccount(
        flow=flow,
        value=value,
        net=net,
        entered=entered,
        left=left,
        fills=nf,
        last=last,
        ready=ready,
    )
    # One loop over the rows of prices: most bars have one, and a loop within this one would cost
    # them half as much again.
    k, end, held, i, at = 0, trade.at, left, trade.first, trade.at
    bar = bars[0]
    for f in range(rows.size):
        row, at = rows[f], trade.at + f
        spread = row["spread"]
        opens, high, low, closes = _mirrored(
            row["open"], row["high"], low=row["low"], close=row["close"], spread=spread, side=side
        )
        if at == end:  # a bar opens
            i, bar = trade.first + k, bars[k]
            # levels stand as they stand now, while the prices within the bar go by
            end, held = bar["end"], left
            if k == 0:
                best = worst = opens  # of the entry's own bar the open counts (section 10)
            elif on:  # at the entry itself the guards were asked before it
                gd.roll(guarded, i, gd.OPENS, marked)
                follows = guarded.watch.follows[i, gd.OPENS]
                if follows & gd.CLOSE and not decided:
                    decided = GUARD
                if follows & gd.EVEN and not decided:
                    stop, nm = _evened(
                        rules,
                        side,
                        entry=value / entered,
                        stop=stop,
                        exit_side=side * opens,
                        moves=moves,
                        nm=nm,
                        bar=at,
                    )
            if decided:  # at market, at this open
                price = filled_at(side * opens - side * money.exit_slip)
                paid = fee(money, float(left), price)
                net += (flow + side * price * left) * money.tick_step - paid
                nf = _write(
                    fills, nf, bar=at, way=-1, what=10 + decided, number=0, price=price, steps=left
                )
                best, worst = max(best, opens), min(worst, opens)
                break
        # Most prices reach nothing, and are done with here: what a bar fills costs ten times as
        # much to find out.
        sides = touched(high, low, side * stop, top, bottom)
        if goal != NO_LEVEL or sides:
            reach = Reach(
                opens=opens,
                high=high,
                low=low,
                spread=spread,
                stop=side * stop,
                left=left,
                goal=goal,
                held=held,
            )
            count, differs = _within(order, reach, levels, out, sides)
            dependent += differs
            if count:
                book = _booked(book, fills, i=at, side=side, money=money, out=out, count=count)
                flow, value, net, entered, left, nf, last, ready = book
                top, bottom = nearest(targets, target_parts, losses, loss_parts)
                held = _still_held(out, count, held)
                if left == 0:
                    if on:
                        gd.roll(guarded, i, gd.CLOSES, marked)
                    net += flow * money.tick_step
                    best, worst = _ending(out, count, best, worst)
                    break
        best, worst = max(best, high), min(worst, low)
        if at + 1 < end:
            continue
        # The common target follows the average of all fills, from the next bar on (section 8).
        if goal != NO_LEVEL and entered > trade.steps:
            goal = side * common_target(value, entered, rules.ladder_target, side)
        profit = (flow + float(closes) * left) * money.tick_step
        won = net + profit
        equity[k] = cash + won
        if k == bars.size - 1:
            net += profit - fee(money, float(left), float(side * closes))
            nf = _write(
                fills,
                nf,
                bar=at,
                way=-1,
                what=10 + END,
                number=0,
                price=float(side * closes),
                steps=left,
            )
            decided = END
            break
        # Guards judge before signals: a limit that is reached at this close must not be overtaken
        # by an exit that the same close signals, but the reason written down is the signal's
        # (section 10, the order of reasons).
        at_close, ends = side * closes, False
        if on:
            gd.roll(guarded, i, gd.CLOSES, marked)
            marked = cash + won
            judged = gd.judge(guarded, i, marked)
            if judged & gd.EVEN:
                stop, nm = _evened(
                    rules,
                    side,
                    entry=value / entered,
                    stop=stop,
                    exit_side=at_close,
                    moves=moves,
                    nm=nm,
                    bar=at + 1,
                )
            ends = (judged | guarded.watch.follows[i, gd.CLOSES]) & gd.CLOSE != 0
        decided, turning = decided_at(
            rules,
            bar["signal"],
            leave=bar["leave"],
            lived=k + 1,
            side=side,
            won=won,
            last=bar["last_next"],
        )
        if ends and not decided:
            decided = GUARD
        value_of = line[k] + (0 if side > 0 else spread) if lined else np.nan
        # Also where the trade is to be left at the next open: a gap may stop it out first, at the
        # level decided here.
        level, why = moved(
            rules,
            side,
            ref=ref,
            step_at=step_at,
            step_to=step_to,
            atr=bar["atr"],
            line=value_of,
            stop=stop,
            best=side * best,
            close=at_close,
            exit_side=at_close,
            ready=ready,
        )
        if why >= 0:
            stop, nm = level, _move(moves, nm, at + 1, level, why)
        if on and guarded.watch.follows[i, gd.CLOSES] & gd.EVEN:
            stop, nm = _evened(
                rules,
                side,
                entry=value / entered,
                stop=stop,
                exit_side=at_close,
                moves=moves,
                nm=nm,
                bar=at + 1,
            )
        k += 1
    equity[i - trade.first] = cash + net
    return TradeEnd(
        bar=i,
        at=at,
        how=decided,
        turns=turning,
        fills=nf,
        moves=nm,
        dependent=dependent,
        best=best,
        worst=worst,
        net=net,
        last=last,
        stop=stop,
    )
