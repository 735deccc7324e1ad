"""The loop over a fleet: at each opening the exits of all, then their entries, then what the prices
within fill, then the closes of all (reckoning section 13). Compiled."""

from __future__ import annotations

import numpy as np

from hawser.core.clock import DAY
from hawser.core.compiled import compiled, inlined
from hawser.core.rules.bar_close import basket_reached
from hawser.core.shelves import Bytes, fetch, kind, part, shelf
from hawser.rehearsal import guarding as gd
from hawser.rehearsal.fleet.account import equity_at
from hawser.rehearsal.fleet.entering import enters, guards_of, ranked
from hawser.rehearsal.fleet.records import (
    CASH,
    DAYS,
    FULL,
    GROUP_DONE,
    GROUP_EQUITY,
    HELD,
    MARKED,
    NEVER,
    NEXT,
    Deck,
    Member,
    OpenTrade,
    Progress,
)
from hawser.rehearsal.fleet.steps import (
    closes,
    ends,
    goes_by,
    opens,
    rolled,
    rungs_looked_at,
    waits,
    won_at_close,
)

SOON = 6  # rows ahead


@inlined
def _progress(deck: Deck) -> Progress:
    progress: Progress = part(deck.members, 0, deck.of_member, "common.progress")
    return progress


@compiled
def _judged(t: int, m: int, deck: Deck) -> None:
    """Kill switches judge the equity, in the bar of a member; it is what is known from now on."""
    equity, guards = equity_at(t, deck), guards_of(m, deck)
    gd.judge(guards, part(deck.members, m, deck.of_member, "common.progress.bar")[m], equity)
    part(deck.members, m, deck.of_member, "common.run.money")[MARKED] = equity


@compiled
def _follow_all(count: int, moment: int, deck: Deck) -> None:
    """Filters that close everything as they close: for all members."""
    common = part(deck.members, 0, deck.of_member, "common")
    s, due = common.progress, common.shared.memory.due
    for k in range(count):
        m = s.here[k]
        follows = part(deck.members, m, deck.of_member, "watch.follows")
        if follows[s.bar[m], moment] & gd.ALL:
            due[:] |= gd.CLOSE


@compiled
def _group_reached(count: int, deck: Deck) -> bool:
    """Whether the fleet's basket has lost or won what it may, by all closes; those of `count`
    members are new."""
    basket = part(deck.members, 0, deck.of_member, "common.shared.basket")
    if basket.stop == np.inf and basket.target == np.inf:
        return False
    s = _progress(deck)
    money = part(deck.members, 0, deck.of_member, "common.run.money")
    for k in range(count):
        if s.open[s.here[k]]:
            s.won[s.here[k]] = won_at_close(s.here[k], deck)
    won, some, of = money[GROUP_DONE], False, money[GROUP_EQUITY]
    for m in range(s.open.size):
        some = some or s.open[m] != 0
        won += s.won[m]
    stop = basket.stop / 100.0 * of if basket.stop_percent else basket.stop
    target = basket.target / 100.0 * of if basket.target_percent else basket.target
    return some and basket_reached(won, stop, target)


@inlined
def _is_last(m: int, bar: int, deck: Deck) -> bool:
    return bool(bar == part(deck.members, m, deck.of_member, "history.bars").size - 1)


@compiled
def _marked(j: int, day_ends: bool, deck: Deck) -> None:
    """Equity, heat and open trades after all closes; what each member has come to, where its day
    ends."""
    common = part(deck.members, 0, deck.of_member, "common")
    s, run, written = common.progress, common.run, common.written
    won = heat = 0.0
    count = 0
    for m in range(s.open.size):
        won += s.won[m]
        heat += s.heat[m]
        count += s.open[m]
    run.money[MARKED] = run.money[CASH] + won
    written.equity[j], written.heat[j], written.open[j] = run.money[MARKED], heat, count
    if day_ends:
        for m in range(s.open.size):
            written.daily[run.counts[DAYS], m] = s.done[m] + s.won[m]
        run.counts[DAYS] += 1


@compiled
def _done(count: int, reached: bool, deck: Deck) -> None:
    """The bars of `count` members are done with. What a close signals is due at the next open,
    where there is no trade and no entry that is due already."""
    s = _progress(deck)
    on = part(deck.members, 0, deck.of_member, "common.shared.on")
    for k in range(count):
        m = s.here[k]
        bars, bar = part(deck.members, m, deck.of_member, "history.bars"), s.bar[m]
        if reached and s.side[m]:
            s.lapses[m] = 1
        flat = not s.open[m] and not s.side[m]
        if flat and bar + 1 < bars.size:
            side = bars[bar]["signal"]
            if side:
                s.side[m], s.decided[m], s.follows[m], s.chain[m] = side, bar, 0, 0
                s.lapses[m] = int(reached)
            elif not on:
                # Nothing can happen before its next signal: its bars up to there are passed over.
                # Guards that look at every bar do it by the bars of whoever has one.
                signals = part(deck.members, m, deck.of_member, "history.signal")
                while bar + 1 < bars.size and not signals[bar + 1]:
                    bar += 1
                s.row[m] = bars[bar]["end"]
        s.bar[m] = bar + 1
        if bar + 1 == bars.size:
            s.next[m] = NEVER
        else:
            s.next[m], s.end[m] = bars[bar + 1]["opens"], bars[bar + 1]["end"]
            fetch(bars, bar + SOON)
            fetch(part(deck.members, m, deck.of_member, "history.prices"), s.row[m] + SOON)


@compiled
def _who_is_next(count: int, deck: Deck) -> tuple[int, int]:
    """When the next row of prices opens within the bars of `count` members, and how many have one
    then; they are in `now`."""
    s = _progress(deck)
    t, now = NEVER, 0
    for k in range(count):
        m = s.here[k]
        if s.row[m] < s.end[m]:
            t = min(t, part(deck.members, m, deck.of_member, "times")[s.row[m]])
    for k in range(count):
        m = s.here[k]
        rows = part(deck.members, m, deck.of_member, "times")
        if s.row[m] < s.end[m] and rows[s.row[m]] == t:
            s.now[now] = m
            now += 1
    return t, now


@compiled
def _exits_follow(t: int, now: int, deck: Deck) -> int:
    """What guards make of exits at an open: where they close what is open, it is done at this open
    too, by whomever it comes in the file; and again, where that makes others close. Returns how
    many entries are due then."""
    s = _progress(deck)
    due = part(deck.members, 0, deck.of_member, "common.shared.memory.due")
    again = True
    while again:
        again = False
        _judged(t, s.now[0], deck)
        for k in range(now):
            m = s.now[k]
            if s.open[m] and s.opens[m] and due[m]:
                gone = opens(m, deck)
                again = again or gone
    count = 0
    for k in range(now):
        m = s.now[k]
        if s.side[m] and not s.open[m]:
            s.due[count] = m
            count += 1
    return count


@compiled
def _rungs_looked_at(now: int, deck: Deck) -> None:
    """What guards take back of ladders as they stand at an open, whatever ends within."""
    s = _progress(deck)
    for k in range(now):
        if s.open[s.now[k]]:
            rungs_looked_at(s.now[k], deck)


@compiled
def _at_rows(t: int, now: int, deck: Deck) -> bool:
    """The rows of prices that open at `t`: exits, entries, and what the prices fill. Whether a
    member whose bar opens there holds a position after what its open did."""
    s, in_market, due, ended = _progress(deck), False, 0, False
    on = part(deck.members, 0, deck.of_member, "common.shared.on")
    for k in range(now):
        m = s.now[k]
        if s.open[m] and s.opens[m]:
            gone = opens(m, deck)
            ended = ended or gone
        if s.side[m] and not s.open[m]:
            s.due[due] = m
            due += 1
    if on and ended:
        due = _exits_follow(t, now, deck)
    if due > 1:
        ranked(due, deck)
    for k in range(due):
        enters(t, s.due[k], deck)
    ended = False
    if on:
        _rungs_looked_at(now, deck)
    for k in range(now):
        m = s.now[k]
        if s.open[m]:
            in_market = in_market or s.opens[m] != 0
            gone = goes_by(m, deck)
            ended = ended or gone
        s.opens[m] = 0
        s.row[m] += 1
    if on and ended:
        _judged(t, s.now[0], deck)
    return in_market


@compiled
def _within(opening: int, count: int, deck: Deck) -> bool:
    """Each row of prices within the bars of `count` members; without finer bars there is one.
    Whether one of them held a position after what its open did."""
    s = _progress(deck)
    if not part(deck.members, 0, deck.of_member, "common.shared.finer"):
        s.now[:count] = s.here[:count]
        return _at_rows(opening, count, deck)
    in_market = False
    while True:
        t, now = _who_is_next(count, deck)
        if now == 0:
            break
        held = _at_rows(t, now, deck)
        in_market = in_market or held
    return in_market


@compiled
def _all_close(opening: int, count: int, final: bool, deck: Deck) -> None:
    """The closes of `count` members, and what they bring about for the others."""
    s = _progress(deck)
    on = part(deck.members, 0, deck.of_member, "common.shared.on")
    reached = _group_reached(count, deck)
    if on and not final:
        _guards_close(count, deck)
    for k in range(count):
        if s.open[s.here[k]] and not _is_last(s.here[k], s.bar[s.here[k]], deck):
            closes(s.here[k], reached, deck)
    if on or reached:
        for m in range(s.open.size):
            if s.next[m] != opening and s.open[m]:
                waits(m, reached, deck)
            elif s.next[m] != opening and reached and s.side[m]:
                s.lapses[m] = 1
    ended = False
    for k in range(count):
        if s.open[s.here[k]] and _is_last(s.here[k], s.bar[s.here[k]], deck):
            ends(s.here[k], deck)
            ended = True
    if on and final:
        _guards_end(ended, deck)
    _done(count, reached, deck)


@compiled
def _guards_close(count: int, deck: Deck) -> None:
    """What guards make of the closes of `count` members, before these decide anything."""
    s = _progress(deck)
    for k in range(count):
        if s.open[s.here[k]]:
            s.won[s.here[k]] = won_at_close(s.here[k], deck)
    rolled(s.here[0], gd.CLOSES, deck)
    _judged(NEVER, s.here[0], deck)
    _follow_all(count, gd.CLOSES, deck)


@compiled
def _guards_end(ended: bool, deck: Deck) -> None:
    """The last closes: nothing can follow any more; trades that `ended` there are judged as such
    that end at an open."""
    one = part(deck.members, 0, deck.of_member, "common.progress.here")[0]
    if ended:
        _judged(NEVER, one, deck)
    rolled(one, gd.CLOSES, deck)
    _judged(NEVER, one, deck)


@compiled
def _who_opens(opening: int, deck: Deck) -> tuple[int, bool]:
    """How many members have a bar that opens now, they are in `here`; whether another holds a
    position."""
    s = _progress(deck)
    count, in_market = 0, False
    for m in range(s.open.size):
        if s.next[m] == opening:
            s.here[count], s.opens[m] = m, 1
            count += 1
        elif s.open[m]:
            in_market = True
    return count, in_market


@compiled
def play_fleet(
    members: Bytes, trades: Bytes, like_m: Member, like_t: OpenTrade, until: int
) -> None:
    """Go on to the opening of this number, or to one before which room has run out."""
    deck = Deck(shelf(members), shelf(trades), kind(like_m), kind(like_t))
    counts = part(deck.members, 0, deck.of_member, "common.run.counts")
    here = part(deck.members, 0, deck.of_member, "common.progress.here")
    openings = part(deck.members, 0, deck.of_member, "common.shared.openings")
    on = part(deck.members, 0, deck.of_member, "common.shared.on")
    while counts[NEXT] < until and not counts[FULL]:
        j = counts[NEXT]
        opening, final = openings[j], j == openings.size - 1
        count, waiting = _who_opens(opening, deck)
        if on:  # all have the same times, which is what guards ask of one
            rolled(here[0], gd.OPENS, deck)
            _follow_all(count, gd.OPENS, deck)
        held = count > 0 and _within(opening, count, deck)
        if count > 0:
            _all_close(opening, count, final, deck)
        _marked(j, final or openings[j + 1] // DAY != opening // DAY, deck)
        counts[HELD] += int(waiting or held)
        counts[NEXT] += 1
