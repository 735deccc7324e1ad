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
from hawser.core.rules.trade_levels import (
    Even,
    Money,
    Rules,
    Setup,
    even_level_of,
    fee,
    money_at,
)
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
    units: Array  # money of a move of 1.0 by one unit at each row; of no length: it stays


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
    book: TradeAccount,
    fills: Array,
    i: int,
    side: int,
    money: Money,
    out: Array,
    count: int,
    moving: bool,
) -> TradeAccount:
    """One bar's fills, written down and counted. Where the rate is `moving`, what leaves is money
    at once, against the average entry; else all is, once, at the end."""
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
            if moving:
                average = value / entered
                net += side * (price - average) * steps * money.tick_step
                flow += side * average * steps
            else:
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


class Playing(NamedTuple):
    """A trade under way, as it stands between two rows of prices: its account, stop and rows of
    moves; a ladder's common target (NO_LEVEL: there is none), and what that may still close in this
    bar; the nearest levels that may fill; the best and the worst mirrored exit price; rows whose
    order mattered; what is decided for the next open, and whether it turns then."""

    book: TradeAccount
    stop: int
    moves: int
    goal: int
    held: int
    top: int
    bottom: int
    best: int
    worst: int
    dependent: int
    decided: int
    turning: bool


@inlined
def entered(trade: TradeStart, rules: Rules, money: Money, levels: Levels, fills: Array) -> Playing:
    """A trade right after its entry. Its own account begins at 0: a small trade's cents are not
    lost in a large account's."""
    price = filled_at(trade.ref + trade.side * money.entry_slip)
    nf = _write(fills, 0, bar=trade.at, way=1, what=0, number=0, price=price, steps=trade.steps)
    goal = NO_LEVEL
    if rules.ladder_target > 0:
        goal = trade.side * common_target(float(trade.ref), 1, rules.ladder_target, trade.side)
    top, bottom = nearest(levels.targets, levels.target_parts, levels.losses, levels.loss_parts)
    book = TradeAccount(
        flow=-trade.side * price * trade.steps,
        value=price * trade.steps,
        net=-fee(money, float(trade.steps), price),
        entered=trade.steps,
        left=trade.steps,
        fills=nf,
        last=STOP,
        ready=0,
    )
    return Playing(
        book=book,
        stop=trade.stop,
        moves=0,
        goal=goal,
        held=trade.steps,
        top=top,
        bottom=bottom,
        best=0,
        worst=0,
        dependent=0,
        decided=0,
        turning=False,
    )


@inlined
def bar_opened(p: Playing, opens: int, first: bool) -> Playing:
    """A bar opens at a mirrored price. Levels stand as they stand now, while the prices within the
    bar go by; of the entry's own bar the open counts (section 10)."""
    return Playing(
        book=p.book,
        stop=p.stop,
        moves=p.moves,
        goal=p.goal,
        held=p.book.left,
        top=p.top,
        bottom=p.bottom,
        best=opens if first else p.best,
        worst=opens if first else p.worst,
        dependent=p.dependent,
        decided=p.decided,
        turning=p.turning,
    )


@inlined
def left_at(
    p: Playing, side: int, price: float, at: int, money: Money, fills: Array, why: int
) -> Playing:
    """All that is left is closed at a price in the row `at`, for a reason decided at a close or at
    the history's end."""
    book, left = p.book, p.book.left
    result = (book.flow + side * price * left) * money.tick_step - fee(money, float(left), price)
    nf = _write(fills, book.fills, bar=at, way=-1, what=10 + why, number=0, price=price, steps=left)
    book = TradeAccount(
        flow=book.flow,
        value=book.value,
        net=book.net + result,
        entered=book.entered,
        left=0,
        fills=nf,
        last=book.last,
        ready=book.ready,
    )
    return Playing(
        book=book,
        stop=p.stop,
        moves=p.moves,
        goal=p.goal,
        held=p.held,
        top=p.top,
        bottom=p.bottom,
        best=p.best,
        worst=p.worst,
        dependent=p.dependent,
        decided=why,
        turning=p.turning,
    )


@inlined
def left_at_open(p: Playing, side: int, opens: int, at: int, money: Money, fills: Array) -> Playing:
    """What was decided is done: all is closed at market, at a mirrored open."""
    price = filled_at(side * opens - side * money.exit_slip)
    p = left_at(p, side, price, at, money=money, fills=fills, why=p.decided)
    return _reached(p, p.stop, p.moves, max(p.best, opens), min(p.worst, opens))


@inlined
def _reached(p: Playing, stop: int, moves: int, best: int, worst: int) -> Playing:
    """The same with another stop, or other extremes."""
    return Playing(
        book=p.book,
        stop=stop,
        moves=moves,
        goal=p.goal,
        held=p.held,
        top=p.top,
        bottom=p.bottom,
        best=best,
        worst=worst,
        dependent=p.dependent,
        decided=p.decided,
        turning=p.turning,
    )


class Prices(NamedTuple):
    """A row of prices on the exit side, mirrored; `spread` as it is."""

    opens: int
    high: int
    low: int
    closes: int
    spread: int


@inlined
def gone_by(
    p: Playing,
    row: Prices,
    at: int,
    side: int,
    money: Money,
    units: Array,
    levels: Levels,
    order: int,
    fills: Array,
    out: Array,
) -> Playing:
    """A row of prices goes by: what it fills. The trade has ended where nothing is left of it."""
    # Most prices reach nothing, and are done with here: what a bar fills costs ten times as much
    # to find out.
    sides = touched(row.high, row.low, side * p.stop, p.top, p.bottom)
    if p.goal == NO_LEVEL and not sides:
        return _reached(p, p.stop, p.moves, max(p.best, row.high), min(p.worst, row.low))
    return _filled(
        p,
        row,
        at=at,
        side=side,
        money=money_at(money, units, at),
        levels=levels,
        order=order,
        fills=fills,
        out=out,
        sides=sides,
        moving=units.size > 0,
    )


@inlined
def _filled(
    p: Playing,
    row: Prices,
    at: int,
    side: int,
    money: Money,
    levels: Levels,
    order: int,
    fills: Array,
    out: Array,
    sides: int,
    moving: bool,
) -> Playing:
    """The same where the row reaches a level."""
    reach = Reach(
        opens=row.opens,
        high=row.high,
        low=row.low,
        spread=row.spread,
        stop=side * p.stop,
        left=p.book.left,
        goal=p.goal,
        held=p.held,
    )
    count, differs = _within(order, reach, levels, out, sides)
    book, top, bottom, held = p.book, p.top, p.bottom, p.held
    best, worst = p.best, p.worst
    if count:
        book = _booked(
            book, fills, i=at, side=side, money=money, out=out, count=count, moving=moving
        )
        top, bottom = nearest(levels.targets, levels.target_parts, levels.losses, levels.loss_parts)
        held = _still_held(out, count, held)
    if book.left == 0:
        best, worst = _ending(out, count, best, worst)
    else:
        best, worst = max(best, row.high), min(worst, row.low)
    return Playing(
        book=book,
        stop=p.stop,
        moves=p.moves,
        goal=p.goal,
        held=held,
        top=top,
        bottom=bottom,
        best=best,
        worst=worst,
        dependent=p.dependent + differs,
        decided=p.decided,
        turning=p.turning,
    )


@inlined
def floating(p: Playing, closes: int, money: Money) -> float:
    """What the open part would make at a mirrored price, and what the closed parts have made,
    commissions apart; money."""
    return (p.book.flow + float(closes) * p.book.left) * money.tick_step


@inlined
def bar_closed(
    p: Playing,
    trade: TradeStart,
    rules: Rules,
    bar: np.void,
    row: Prices,
    at: int,
    lived: int,
    won: float,
    line: float,
    levels: Levels,
    moves: Array,
) -> Playing:
    """What a bar's close decides: whether the trade is left at the next open, and where its stop
    stands from there. `won`: its result so far, money; `line`: what its trail follows."""
    side, at_close, goal = trade.side, trade.side * row.closes, p.goal
    decided, turning = decided_at(
        rules,
        bar["signal"],
        leave=bar["leave"],
        lived=lived,
        side=side,
        won=won,
        last=bar["last_next"],
    )
    # Also where the trade is to be left at the next open: a gap may stop it out first, at the level
    # decided here.
    level, why = moved(
        rules,
        side,
        ref=trade.ref,
        step_at=levels.step_at,
        step_to=levels.step_to,
        atr=bar["atr"],
        line=line,
        stop=p.stop,
        best=side * p.best,
        close=at_close,
        exit_side=at_close,
        ready=p.book.ready,
    )
    stop, nm = p.stop, p.moves
    if why >= 0:
        stop, nm = level, _move(moves, nm, at + 1, level, why)
    return Playing(
        book=p.book,
        stop=stop,
        moves=nm,
        goal=goal,
        held=p.held,
        top=p.top,
        bottom=p.bottom,
        best=p.best,
        worst=p.worst,
        dependent=p.dependent,
        decided=decided,
        turning=turning,
    )


@inlined
def _priced(rules: Rules, money: Money, trade: TradeStart) -> Rules:
    """The rules at the money of the moment: break-even covers what costs would be now."""
    even, level = rules.even, rules.even.level
    if level != NO_LEVEL and even.costs:
        level = even_level_of(
            even.offset, even.costs, money, side=trade.side, ref=trade.ref, steps=trade.steps
        )
    return Rules(
        min_stop=rules.min_stop,
        even=Even(level, even.offset, even.costs, even.begins),
        trail=rules.trail,
        trail_begins=rules.trail_begins,
        time_bars=rules.time_bars,
        basket=rules.basket,
        reverse=rules.reverse,
        ladder_target=rules.ladder_target,
    )


@inlined
def evened_at(
    p: Playing, side: int, exit_side: int, rules: Rules, moves: Array, at: int
) -> Playing:
    """A guard puts the stop to the entry, where it may, from the row `at` on."""
    stop, nm = _evened(
        rules,
        side,
        entry=p.book.value / p.book.entered,
        stop=p.stop,
        exit_side=exit_side,
        moves=moves,
        nm=p.moves,
        bar=at,
    )
    return _reached(p, stop, nm, p.best, p.worst)


@inlined
def guarded_to(p: Playing, closes: bool) -> Playing:
    """The same, left at the next open because a guard says so where nothing else was decided."""
    return Playing(
        book=p.book,
        stop=p.stop,
        moves=p.moves,
        goal=p.goal,
        held=p.held,
        top=p.top,
        bottom=p.bottom,
        best=p.best,
        worst=p.worst,
        dependent=p.dependent,
        decided=GUARD if closes and not p.decided else p.decided,
        turning=p.turning,
    )


@inlined
def goal_followed(p: Playing, trade: TradeStart, rules: Rules) -> Playing:
    """The common target follows the average of all fills, from the next bar on (section 8)."""
    if p.goal == NO_LEVEL or p.book.entered <= trade.steps:
        return p
    goal = trade.side * common_target(p.book.value, p.book.entered, rules.ladder_target, trade.side)
    return Playing(
        book=p.book,
        stop=p.stop,
        moves=p.moves,
        goal=goal,
        held=p.held,
        top=p.top,
        bottom=p.bottom,
        best=p.best,
        worst=p.worst,
        dependent=p.dependent,
        decided=p.decided,
        turning=p.turning,
    )


@inlined
def mirrored(row: np.void, side: int) -> Prices:
    """A row of prices as a trade of one side sees it."""
    spread = row["spread"]
    opens, high, low, closes = _mirrored(
        row["open"], row["high"], low=row["low"], close=row["close"], spread=spread, side=side
    )
    return Prices(opens, high, low, closes, spread)


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
                if follows & gd.EVEN and not p.decided:
                    p = evened_at(p, side, side * row.opens, rules=rules, moves=moves, at=at)
            if p.decided:
                now = money_at(money, units, at)
                p = left_at_open(p, side, row.opens, at=at, money=now, fills=fills)
                how = p.decided
                break
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
            judged = gd.judge(guarded, i, marked)
            if judged & gd.EVEN:
                p = evened_at(p, side, side * row.closes, rules=rules, moves=moves, at=at + 1)
            ends = (judged | guarded.watch.follows[i, gd.CLOSES]) & gd.CLOSE != 0
        p = bar_closed(
            p,
            trade,
            rules=rules if units.size == 0 else _priced(rules, now, trade),
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
        k += 1
    at_once = how != INSIDE or units.size > 0  # what left is money already
    net = p.book.net + (0.0 if at_once else p.book.flow * money.tick_step)
    equity[i - trade.first] = cash + net
    return TradeEnd(
        bar=i,
        at=at,
        how=how,
        turns=p.turning,
        fills=p.book.fills,
        moves=p.moves,
        dependent=p.dependent,
        best=p.best,
        worst=p.worst,
        net=net,
        last=p.book.last,
        stop=p.stop,
    )
