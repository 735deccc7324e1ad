"""What each step of a fleet's opening makes of one member's open trade, compiled: its bar opens,
prices go by, its bar closes, its bars end.

Each is a step of a single trade's (`rehearsal/phases.py`), compiled once by itself and called for
one member after the other.
"""

from __future__ import annotations

import numpy as np

from hawser.core.compiled import compiled, inlined
from hawser.core.indicators import Array
from hawser.core.rules.bar_close import BASKET, follow_on
from hawser.core.shelves import held, part, put_part
from hawser.rehearsal import batch
from hawser.rehearsal import guarding as gd
from hawser.rehearsal.fleet.account import heat_of, money_of
from hawser.rehearsal.fleet.entering import guards_of
from hawser.rehearsal.fleet.records import (
    CASH,
    FULL,
    GROUP_DONE,
    MARKED,
    MEMBER,
    TRADES,
    Deck,
)
from hawser.rehearsal.phases import (
    Decided,
    Playing,
    Prices,
    bar_closed,
    bar_opened,
    evened_at,
    filled,
    floating,
    goal_followed,
    guarded_to,
    left_at,
    left_at_open,
    mirrored,
    priced,
    reached_by,
    unreached,
)
from hawser.rehearsal.records import END, INSIDE


@compiled
def rolled(m: int, moment: int, deck: Deck) -> None:
    """Periods of guards that are over by the bar of a member give way, with the equity that is
    known."""
    common = part(deck.members, m, deck.of_member, "common")
    bar, equity = common.progress.bar[m], common.run.money[MARKED]
    gd.roll(guards_of(m, deck), bar, moment, equity)


@inlined
def _prices(m: int, at: int, side: int, deck: Deck) -> Prices:
    return mirrored(part(deck.members, m, deck.of_member, "history.prices")[at], side)


@compiled
def _over(m: int, how: int, at: int, p: Playing, deck: Deck) -> None:
    """A trade has ended in a row of prices: it is written down, and its result is cash."""
    common = part(deck.members, m, deck.of_member, "common")
    history = part(deck.members, m, deck.of_member, "history")
    trade = part(deck.trades, m, deck.of_trade, "trade")
    risk = part(deck.trades, m, deck.of_trade, "risk")
    s, run, number = common.progress, common.run, common.run.counts[TRADES]
    at_once = how != INSIDE or history.units.size > 0  # what left is money already
    tick_step = part(deck.members, m, deck.of_member, "money.tick_step")
    net = p.book.net + (0.0 if at_once else p.book.flow * tick_step)
    row, decided = common.written.trades.whole[number], s.decided[m]
    row[batch.SIDE], row[batch.DECIDED], row[batch.FIRST] = trade.side, decided, trade.first
    row[batch.LAST], row[batch.FOLLOWS], row[batch.REF] = s.bar[m], s.follows[m], trade.ref
    row[batch.STOP_AT], row[batch.STEPS] = trade.stop, trade.steps
    row[batch.BEST], row[batch.WORST] = p.gone.best, p.gone.worst
    row[batch.FILL_FROM], row[batch.FILL_TO] = s.fills[m], s.fills[m] + p.book.fills
    row[batch.MOVE_FROM], row[batch.MOVE_TO] = s.moves[m], s.moves[m] + p.standing.moves
    row[batch.HOW], row[batch.DEPENDENT], row[MEMBER] = how, p.gone.dependent, m
    row[batch.LATE] = trade.at < history.bars[decided]["end"]
    common.written.trades.money[number, batch.RISK] = risk
    common.written.trades.money[number, batch.NET] = net
    run.counts[TRADES] += 1
    run.money[CASH] += net
    run.money[GROUP_DONE] += net
    s.fills[m] += p.book.fills
    s.moves[m] += p.standing.moves
    s.done[m] += net
    s.open[m], s.won[m], s.heat[m], s.side[m] = 0, 0.0, 0.0, 0
    rooms = part(deck.members, m, deck.of_member, "fills").shape[0]
    if (
        s.fills[m] + common.shared.needs[m] > rooms
        or run.counts[TRADES] + common.shared.most > common.written.trades.whole.shape[0]
    ):
        run.counts[FULL] = 1
    if common.shared.on:
        moment = gd.CLOSES if how in (INSIDE, END) else gd.OPENS
        gd.trade_ended(guards_of(m, deck), s.bar[m], at, moment=moment, net=net, risk=risk)


@compiled
def opens(m: int, deck: Deck) -> bool:
    """A member's bar opens: what was decided at earlier closes is done. Whether a trade ended."""
    s = part(deck.members, m, deck.of_member, "common.progress")
    on = part(deck.members, m, deck.of_member, "common.shared.on")
    if not on and not part(deck.trades, m, deck.of_trade, "playing.decided.why"):
        # most bars open so; `bar_opened` would do no more
        left = part(deck.trades, m, deck.of_trade, "playing.book.left")
        put_part(deck.trades, m, deck.of_trade, "playing.near.held", left)
        return False
    at, bar, side = s.row[m], s.bar[m], part(deck.trades, m, deck.of_trade, "trade.side")
    row = _prices(m, at, side, deck)
    p = bar_opened(part(deck.trades, m, deck.of_trade, "playing"), row.opens, False)
    if on:
        guards = guards_of(m, deck)
        bits = guards.watch.follows[bar, gd.OPENS] | gd.due(guards)
        p = guarded_to(p, bits & gd.CLOSE != 0)
        if bits & gd.EVEN and not p.decided.why:
            moves = part(deck.members, m, deck.of_member, "moves")[s.moves[m] :]
            rules = part(deck.trades, m, deck.of_trade, "rules")
            p = evened_at(p, side, side * row.opens, rules=rules, moves=moves, at=at)
    if not p.decided.why:
        put_part(deck.trades, m, deck.of_trade, "playing", p)
        return False
    how, turning, now = p.decided.why, p.decided.turning, money_of(m, at, deck)
    fills = part(deck.members, m, deck.of_member, "fills")[s.fills[m] :]
    p = left_at_open(p, side, row.opens, at=at, money=now, fills=fills)
    _over(m, how, at, p, deck)
    if turning:  # its reversal is due here
        s.side[m], s.decided[m], s.follows[m], s.chain[m] = -side, bar - 1, 0, 0
    return True


@inlined
def _laddered(m: int, deck: Deck) -> bool:
    return bool(part(deck.members, m, deck.of_member, "levels.rungs").size > 0)


@compiled
def rungs_looked_at(m: int, deck: Deck) -> None:
    """Whether guards take the rungs of a member's open ladder back from an open on."""
    s = part(deck.members, m, deck.of_member, "common.progress")
    if _laddered(m, deck):
        side = part(deck.trades, m, deck.of_trade, "trade.side")
        s.back[m] = gd.back_at_open(guards_of(m, deck), s.row[m], side, s.back[m] != 0)


@compiled
def goes_by(m: int, deck: Deck) -> bool:
    """A row of prices goes by for an open trade. Whether it ended."""
    s = part(deck.members, m, deck.of_member, "common.progress")
    at = s.row[m]
    side = part(deck.trades, m, deck.of_trade, "trade.side")
    p, row = part(deck.trades, m, deck.of_trade, "playing"), _prices(m, at, side, deck)
    sides = reached_by(p, row, side)
    if sides < 0:
        put_part(deck.trades, m, deck.of_trade, "playing.gone", unreached(p, row).gone)
        return False
    return _fills(m, at, sides, deck)


@compiled
def _fills(m: int, at: int, sides: int, deck: Deck) -> bool:
    """A row of prices fills something. Whether the trade has ended."""
    common = part(deck.members, m, deck.of_member, "common")
    s, trade = common.progress, part(deck.trades, m, deck.of_trade, "trade")
    p = filled(
        part(deck.trades, m, deck.of_trade, "playing"),
        _prices(m, at, trade.side, deck),
        at=at,
        side=trade.side,
        money=money_of(m, at, deck),
        levels=part(deck.members, m, deck.of_member, "levels"),
        order=common.shared.order,
        fills=part(deck.members, m, deck.of_member, "fills")[s.fills[m] :],
        out=common.written.out,
        sides=sides,
        moving=part(deck.members, m, deck.of_member, "history.units").size > 0,
        back=s.back[m] != 0,
    )
    if p.book.left:
        put_part(deck.trades, m, deck.of_trade, "playing", p)
        return False
    if common.shared.on:
        rolled(m, gd.CLOSES, deck)
    _over(m, INSIDE, at, p, deck)
    s.side[m] = follow_on(
        part(deck.members, m, deck.of_member, "setup"),
        trade.side,
        ref=trade.ref,
        last=p.book.last,
        stop=p.standing.stop,
        chain=s.chain[m],
    )
    s.decided[m], s.follows[m] = s.bar[m], 1
    s.chain[m] += 1
    return True


@compiled
def won_at_close(m: int, deck: Deck) -> float:
    """An open trade's result so far at its member's close, money."""
    at = part(deck.members, m, deck.of_member, "common.progress.end")[m] - 1
    p = part(deck.trades, m, deck.of_trade, "playing")
    row = _prices(m, at, part(deck.trades, m, deck.of_trade, "trade.side"), deck)
    return float(p.book.net + floating(p, row.closes, money_of(m, at, deck)))


@inlined
def _basketed(p: Playing, m: int, lapses: Array) -> Playing:
    """A trade once the fleet's basket is reached: it leaves at its next open, if it does not
    anyway; what was to follow lapses."""
    if p.decided.turning:
        lapses[m] = 1
    why = p.decided.why if p.decided.why else BASKET
    return Playing(p.book, p.standing, p.near, p.gone, Decided(why, p.decided.turning))


@compiled
def closes(m: int, reached: bool, deck: Deck) -> None:
    """What a bar's close decides for an open trade. `reached`: so is the fleet's basket."""
    common = part(deck.members, m, deck.of_member, "common")
    history = part(deck.members, m, deck.of_member, "history")
    o, s = held(deck.trades, m, deck.of_trade), common.progress
    at, bar, side = s.end[m] - 1, s.bar[m], o.trade.side
    moves = part(deck.members, m, deck.of_member, "moves")[s.moves[m] :]
    row, now = _prices(m, at, side, deck), money_of(m, at, deck)
    p, ends = goal_followed(o.playing, o.trade, o.rules), False
    won = p.book.net + floating(p, row.closes, now)
    if common.shared.on:
        guards = guards_of(m, deck)
        bits = gd.due(guards)
        if bits & gd.EVEN:
            p = evened_at(p, side, side * row.closes, rules=o.rules, moves=moves, at=at + 1)
        ends = (bits | guards.watch.follows[bar, gd.CLOSES]) & gd.CLOSE != 0
    rules = o.rules if history.units.size == 0 else priced(o.rules, now, o.trade)
    line = history.trail_long if side > 0 else history.trail_short
    s.lived[m] += 1
    p = bar_closed(
        p,
        o.trade,
        rules=rules,
        bar=history.bars[bar],
        row=row,
        at=at,
        lived=s.lived[m],
        won=won,
        line=line[bar] + (0 if side > 0 else row.spread) if line.size > 0 else np.nan,
        levels=part(deck.members, m, deck.of_member, "levels"),
        moves=moves,
    )
    if reached:
        p = _basketed(p, m, s.lapses)
    if common.shared.on:
        p = guarded_to(p, ends)
        follows = part(deck.members, m, deck.of_member, "watch.follows")
        if follows[bar, gd.CLOSES] & gd.EVEN:
            p = evened_at(p, side, side * row.closes, rules=o.rules, moves=moves, at=at + 1)
        if _laddered(m, deck):
            s.back[m] = gd.back_at_close(guards_of(m, deck), bar, at, side, s.back[m] != 0)
    put_part(deck.trades, m, deck.of_trade, "playing", p)
    s.won[m] = won
    # its heat stays where nothing has filled, the stop has not moved and money is worth the same
    same = s.fills[m] + s.moves[m] + p.book.fills + p.standing.moves
    if common.shared.on or history.units.size > 0 or s.heated[m] != same:
        s.heat[m], s.heated[m] = heat_of(m, at, deck), same


@compiled
def waits(m: int, reached: bool, deck: Deck) -> None:
    """An open trade of a member without a bar now: what others bring about for it."""
    common = part(deck.members, m, deck.of_member, "common")
    o, s = held(deck.trades, m, deck.of_trade), common.progress
    p, side, at = o.playing, o.trade.side, s.row[m] - 1
    if reached:
        p = _basketed(p, m, s.lapses)
    if common.shared.on:
        bits = gd.due(guards_of(m, deck))
        p = guarded_to(p, bits & gd.CLOSE != 0)
        if bits & gd.EVEN:
            moves = part(deck.members, m, deck.of_member, "moves")[s.moves[m] :]
            last = side * _prices(m, at, side, deck).closes
            p = evened_at(p, side, last, rules=o.rules, moves=moves, at=at + 1)
        if _laddered(m, deck) and gd.latched(guards_of(m, deck)):
            s.back[m] = 1
    put_part(deck.trades, m, deck.of_trade, "playing", p)
    s.heat[m], s.heated[m] = heat_of(m, at, deck), 0


@compiled
def ends(m: int, deck: Deck) -> None:
    """A member's bars have ended: an open trade is closed at its last close."""
    s = part(deck.members, m, deck.of_member, "common.progress")
    at, trade = s.end[m] - 1, part(deck.trades, m, deck.of_trade, "trade")
    rules = part(deck.trades, m, deck.of_trade, "rules")
    p = goal_followed(part(deck.trades, m, deck.of_trade, "playing"), trade, rules)
    price = float(trade.side * _prices(m, at, trade.side, deck).closes)
    fills = part(deck.members, m, deck.of_member, "fills")[s.fills[m] :]
    p = left_at(p, trade.side, price, at, money=money_of(m, at, deck), fills=fills, why=END)
    _over(m, END, at, p, deck)
