"""Entries of a fleet, compiled: in which order they come, which of them are let in."""

from __future__ import annotations

import math

from hawser.core.compiled import compiled, inlined
from hawser.core.rules.refusals import Refusal
from hawser.core.rules.trade_levels import money_at
from hawser.core.shelves import part, put
from hawser.core.sources.compare import ranks_before
from hawser.rehearsal import guarding as gd
from hawser.rehearsal.entries import begin
from hawser.rehearsal.fleet.account import account_at
from hawser.rehearsal.fleet.records import (
    FULL,
    GROUP_DONE,
    GROUP_EQUITY,
    REFUSED,
    SIDE,
    TIME,
    WHO,
    WHY,
    Deck,
    OpenTrade,
)
from hawser.rehearsal.phases import bar_opened, entered, mirrored

NONE, GUARD, LAPSED = int(Refusal.NONE), int(Refusal.GUARD), int(Refusal.BASKET)


@inlined
def guards_of(m: int, deck: Deck) -> gd.Guarded:
    """The guards as a member has them."""
    shared = part(deck.members, m, deck.of_member, "common.shared")
    watch = part(deck.members, m, deck.of_member, "watch")
    return gd.Guarded(watch, shared.counted, shared.memory, shared.acted, m)


@inlined
def _rank(m: int, deck: Deck) -> float:
    """What a member is ranked by, as of its last completed bar; NaN where that is not known."""
    rank = part(deck.members, m, deck.of_member, "rank")
    decided = part(deck.members, m, deck.of_member, "common.progress.bar")[m] - 1
    return rank[decided] if 0 <= decided < rank.size else math.nan


@compiled
def ranked(count: int, deck: Deck) -> None:
    """Put the entries that are due in order: the highest rank first, what is not known last, ties
    as they stand in the file."""
    due = part(deck.members, 0, deck.of_member, "common.progress.due")
    for k in range(1, count):
        who = due[k]
        own, at = _rank(who, deck), k
        while at > 0:
            other = _rank(due[at - 1], deck)
            if not ranks_before(own, other):
                break
            due[at] = due[at - 1]
            at -= 1
        due[at] = who


@compiled
def _listed(t: int, who: int, side: int, why: int, deck: Deck) -> None:
    """Write down an entry that was refused."""
    counts = part(deck.members, 0, deck.of_member, "common.run.counts")
    row = part(deck.members, 0, deck.of_member, "common.written.refused")[counts[REFUSED]]
    row[TIME], row[WHO], row[SIDE], row[WHY] = t, who, side, why
    counts[REFUSED] += 1
    rooms = part(deck.members, 0, deck.of_member, "common.written.refused").shape[0]
    if counts[REFUSED] + part(deck.members, 0, deck.of_member, "common.shared.most") > rooms:
        counts[FULL] = 1


@inlined
def _allowed(m: int, side: int, at: int, deck: Deck) -> bool:
    """Whether the rig allows an entry of this side at a row of prices at all."""
    entry = part(deck.members, m, deck.of_member, "setup.entry")
    if not (entry.long if side > 0 else entry.short):
        return False
    first = part(deck.members, m, deck.of_member, "history.begin")
    return bool(first <= at < part(deck.members, m, deck.of_member, "history.end"))


@compiled
def enters(t: int, m: int, deck: Deck) -> None:
    """An entry that is due: it is let in, or lapses, or is refused and listed."""
    s = part(deck.members, m, deck.of_member, "common.progress")
    on = part(deck.members, m, deck.of_member, "common.shared.on")
    at, side, lapses = s.row[m], s.side[m], s.lapses[m]
    s.side[m] = s.lapses[m] = 0
    if not _allowed(m, side, at, deck):
        return
    if lapses:
        _listed(t, m, side, LAPSED, deck)
        return
    guards = guards_of(m, deck)
    if on and gd.refused(guards, at, side, gd.closed_for(guards, at, side)):
        _listed(t, m, side, GUARD, deck)
        return
    history = part(deck.members, m, deck.of_member, "history")
    money = part(deck.members, m, deck.of_member, "money")
    levels = part(deck.members, m, deck.of_member, "levels")
    now = account_at(t, m, deck)
    begun = begin(
        history,
        money,
        sizer=part(deck.members, m, deck.of_member, "sizer"),
        setup=part(deck.members, m, deck.of_member, "setup"),
        side=side,
        first=s.bar[m],
        at=at,
        now=now,
        levels=levels,
    )
    if begun.refusal != NONE:
        _listed(t, m, side, begun.refusal, deck)
        return
    trade = begun.trade
    if on:
        wide = gd.too_wide(guards, history.prices[at]["spread"], abs(trade.ref - trade.stop))
        if gd.refused(guards, at, side, wide):
            _listed(t, m, side, GUARD, deck)
            return
        gd.entered(guards)
        gd.due(guards)  # what was due before it is not for this trade
    if now.positions == 0:
        group = part(deck.members, m, deck.of_member, "common.run.money")
        group[GROUP_EQUITY], group[GROUP_DONE] = now.equity, 0.0
    fills = part(deck.members, m, deck.of_member, "fills")[s.fills[m] :]
    p = entered(trade, begun.rules, money_at(money, history.units, at), levels, fills)
    p = bar_opened(p, mirrored(history.prices[at], side).opens, True)
    put(deck.trades, m, OpenTrade(trade, begun.rules, begun.risk, p))
    s.open[m], s.lived[m], s.heated[m], s.back[m] = 1, 0, 0, 0
