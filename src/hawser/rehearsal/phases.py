"""One trade between two rows of prices, and what each step of a bar makes of it (reckoning section
10): it is entered, a bar opens, prices go by, the bar closes, it is left.

`loop.py` calls these for one trade after the other. Everything here is compiled.
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
from hawser.core.rules.trade_levels import Even, Money, Rules, even_level_of, fee, money_at
from hawser.rehearsal.records import Levels, TradeStart


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
def _of_ladder(order: int, bar: Reach, levels: Levels, out: Array, back: bool) -> tuple[int, int]:
    """The same of a ladder, whose rungs guards may have taken `back`: none of them fills."""
    spare, waits = levels.spare, levels.spare.waiting
    waits[:] = levels.rung_steps
    if back:
        waits[:] = 0
    spare.rung_steps[:] = waits
    m = _ladder_way(0, bar, levels, spare.rung_steps, spare.out)
    spare.rung_steps[:] = waits
    k = _ladder_way(1, bar, levels, spare.rung_steps, out)
    apart = _differs(out, k, spare.out, m)
    count = _ladder_way(order, bar, levels, waits, out)
    if not back:
        levels.rung_steps[:] = waits
    return count, int(apart)


@inlined
def _within(
    order: int, bar: Reach, levels: Levels, out: Array, sides: int, back: bool
) -> tuple[int, int]:
    """What a bar fills that reaches these `sides`, and 1 where the two orders would fill it
    differently."""
    spare = levels.spare
    if bar.goal != NO_LEVEL:
        return _of_ladder(order, bar, levels, out, back)
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
    at once, against the average entry of what is open; else all is, once, at the end."""
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
                # of what is open: a rung may fill after a part has left
                average = -side * flow / left
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


class StandingStop(NamedTuple):
    """Where a trade's stop stands, and rows of moves."""

    stop: int
    moves: int


class Near(NamedTuple):
    """What may fill next, mirrored: a ladder's common target (NO_LEVEL: there is none), what that
    may still close in this bar, and the nearest level above and below."""

    goal: int
    held: int
    top: int
    bottom: int


class Gone(NamedTuple):
    """How far prices went: the best and the worst mirrored exit price; rows whose order
    mattered."""

    best: int
    worst: int
    dependent: int


class Decided(NamedTuple):
    """What is to be done at the next open (0: nothing), and whether the trade turns then."""

    why: int
    turning: bool


class Playing(NamedTuple):
    """A trade under way, as it stands between two rows of prices."""

    book: TradeAccount
    standing: StandingStop
    near: Near
    gone: Gone
    decided: Decided


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
    near = Near(goal, trade.steps, top, bottom)
    return Playing(book, StandingStop(trade.stop, 0), near, Gone(0, 0, 0), Decided(0, False))


@inlined
def bar_opened(p: Playing, opens: int, first: bool) -> Playing:
    """A bar opens at a mirrored price. Levels stand as they stand now, while the prices within the
    bar go by; of the entry's own bar the open counts (section 10)."""
    near = Near(p.near.goal, p.book.left, p.near.top, p.near.bottom)
    gone = Gone(opens, opens, 0) if first else p.gone
    return Playing(p.book, p.standing, near, gone, p.decided)


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
    return Playing(book, p.standing, p.near, p.gone, p.decided)


@inlined
def left_at_open(p: Playing, side: int, opens: int, at: int, money: Money, fills: Array) -> Playing:
    """What was decided is done: all is closed at market, at a mirrored open."""
    price = filled_at(side * opens - side * money.exit_slip)
    p = left_at(p, side, price, at, money=money, fills=fills, why=p.decided.why)
    return Playing(p.book, p.standing, p.near, _reached(p.gone, opens, opens), p.decided)


@inlined
def _reached(gone: Gone, high: int, low: int) -> Gone:
    return Gone(max(gone.best, high), min(gone.worst, low), gone.dependent)


class Prices(NamedTuple):
    """A row of prices on the exit side, mirrored; `spread` as it is."""

    opens: int
    high: int
    low: int
    closes: int
    spread: int


@inlined
def reached_by(p: Playing, row: Prices, side: int) -> int:
    """Which sides of the levels a row of prices reaches; -1: it reaches nothing. Of a ladder each
    row is looked into."""
    near = p.near
    sides = touched(row.high, row.low, side * p.standing.stop, near.top, near.bottom)
    return -1 if near.goal == NO_LEVEL and not sides else sides


@inlined
def unreached(p: Playing, row: Prices) -> Playing:
    """A row of prices has gone by, and reached nothing."""
    return Playing(p.book, p.standing, p.near, _reached(p.gone, row.high, row.low), p.decided)


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
    back: bool,
) -> Playing:
    """A row of prices goes by: what it fills. The trade has ended where nothing is left of it.
    `back`: the rungs of a ladder are taken back."""
    # Most prices reach nothing, and are done with here: what a bar fills costs ten times as much
    # to find out.
    sides = reached_by(p, row, side)
    if sides < 0:
        return unreached(p, row)
    return filled(
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
        back=back,
    )


@inlined
def filled(
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
    back: bool,
) -> Playing:
    """What a row of prices fills that reaches these `sides`."""
    reach = Reach(
        opens=row.opens,
        high=row.high,
        low=row.low,
        spread=row.spread,
        stop=side * p.standing.stop,
        left=p.book.left,
        goal=p.near.goal,
        held=p.near.held,
    )
    count, differs = _within(order, reach, levels, out=out, sides=sides, back=back)
    book, near, gone = p.book, p.near, p.gone
    if count:
        book = _booked(
            book, fills, i=at, side=side, money=money, out=out, count=count, moving=moving
        )
        top, bottom = nearest(levels.targets, levels.target_parts, levels.losses, levels.loss_parts)
        near = Near(near.goal, _still_held(out, count, near.held), top, bottom)
    if book.left == 0:
        best, worst = _ending(out, count, gone.best, gone.worst)
    else:
        best, worst = max(gone.best, row.high), min(gone.worst, row.low)
    gone = Gone(best, worst, gone.dependent + differs)
    return Playing(book, p.standing, near, gone, p.decided)


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
    side, at_close, stop = trade.side, trade.side * row.closes, p.standing.stop
    reason, turning = decided_at(
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
        stop=stop,
        best=side * p.gone.best,
        close=at_close,
        exit_side=at_close,
        ready=p.book.ready,
    )
    standing = p.standing
    if why >= 0:
        standing = StandingStop(level, _move(moves, standing.moves, at + 1, level, why))
    return Playing(p.book, standing, p.near, p.gone, Decided(reason, turning))


@inlined
def priced(rules: Rules, money: Money, trade: TradeStart) -> Rules:
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
        stop=p.standing.stop,
        exit_side=exit_side,
        moves=moves,
        nm=p.standing.moves,
        bar=at,
    )
    return Playing(p.book, StandingStop(stop, nm), p.near, p.gone, p.decided)


@inlined
def guarded_to(p: Playing, closes: bool) -> Playing:
    """The same, left at the next open because a guard says so where nothing else was decided."""
    why = GUARD if closes and not p.decided.why else p.decided.why
    return Playing(p.book, p.standing, p.near, p.gone, Decided(why, p.decided.turning))


@inlined
def goal_followed(p: Playing, trade: TradeStart, rules: Rules) -> Playing:
    """The common target follows the average of all fills, from the next bar on (section 8)."""
    near = p.near
    if near.goal == NO_LEVEL or p.book.entered <= trade.steps:
        return p
    goal = trade.side * common_target(p.book.value, p.book.entered, rules.ladder_target, trade.side)
    near = Near(goal, near.held, near.top, near.bottom)
    return Playing(p.book, p.standing, near, p.gone, p.decided)


@inlined
def mirrored(row: np.void, side: int) -> Prices:
    """A row of prices as a trade of one side sees it."""
    spread = row["spread"]
    opens, high, low, closes = _mirrored(
        row["open"], row["high"], low=row["low"], close=row["close"], spread=spread, side=side
    )
    return Prices(opens, high, low, closes, spread)
