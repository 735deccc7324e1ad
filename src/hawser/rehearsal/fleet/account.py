"""The account of a fleet at one moment, compiled: what all open trades are worth, risk and bind."""

from __future__ import annotations

from hawser.core.compiled import compiled, inlined
from hawser.core.rules.quantity import result_at_stop
from hawser.core.rules.trade_levels import Money, money_at
from hawser.core.shelves import part
from hawser.rehearsal.entries import AccountNow
from hawser.rehearsal.fleet.records import CASH, Deck
from hawser.rehearsal.phases import Playing, TradeAccount, floating, mirrored


@compiled
def heat_of(m: int, at: int, deck: Deck) -> float:
    """What a trade loses if its stop fills at its level, money of the row `at`, floored at 0; rungs
    that wait count as if they had filled at their levels."""
    side = part(deck.trades, m, deck.of_trade, "trade.side")
    p = part(deck.trades, m, deck.of_trade, "playing")
    levels = part(deck.members, m, deck.of_member, "levels")
    money, book = money_of(m, at, deck), p.book
    steps, value = book.left, book.value / book.entered * book.left
    for k in range(levels.rungs.size):
        waiting = levels.rung_steps[k]
        steps += waiting
        value += float(side * levels.rungs[k] * waiting)
    entry, stop = value / steps * money.tick, p.standing.stop * money.tick
    return max(0.0, -result_at_stop(side, steps * money.step, entry, stop, money.fees))


@inlined
def money_of(m: int, at: int, deck: Deck) -> Money:
    """A member's money at its row `at`."""
    money = part(deck.members, m, deck.of_member, "money")
    return money_at(money, part(deck.members, m, deck.of_member, "history.units"), at)


@inlined
def _realised(book: TradeAccount, side: int, money: Money, moving: bool) -> float:
    """What a trade's fills have come to so far, money, commissions paid. Where the rate is
    `moving`, what left is money already."""
    if moving:
        return book.net
    return book.net + (book.flow + side * book.value / book.entered * book.left) * money.tick_step


@inlined
def _row_now(m: int, t: int, deck: Deck) -> tuple[int, bool]:
    """The row of prices that a member is marked at, and whether it opens now."""
    times = part(deck.members, m, deck.of_member, "times")
    row = part(deck.members, m, deck.of_member, "common.progress.row")[m]
    opens = row < times.size and times[row] == t
    return (row, True) if opens else (row - 1, False)


@inlined
def won_at(p: Playing, side: int, m: int, row: int, opens: bool, deck: Deck) -> float:
    """A trade's result so far with what floats at the exit side of a row's open or close."""
    prices = mirrored(part(deck.members, m, deck.of_member, "history.prices")[row], side)
    price = prices.opens if opens else prices.closes
    return p.book.net + floating(p, price, money_of(m, row, deck))


@compiled
def equity_at(t: int, deck: Deck) -> float:
    """Equity with all that floats: at the open of members with a row of prices at `t`, else at
    their last close. Guards are told what each member has come to."""
    common = part(deck.members, 0, deck.of_member, "common")
    s, total = common.progress, 0.0
    for m in range(s.open.size):
        won = 0.0
        if s.open[m]:
            row, opens = _row_now(m, t, deck)
            p = part(deck.trades, m, deck.of_trade, "playing")
            side = part(deck.trades, m, deck.of_trade, "trade.side")
            won = won_at(p, side, m, row=row, opens=opens, deck=deck)
        common.shared.memory.results[m] = s.done[m] + won
        total += won
    return float(common.run.money[CASH] + total)


@compiled
def account_at(t: int, who: int, deck: Deck) -> AccountNow:
    """The account for an entry of the member `who`, with all trades that are open by then."""
    common = part(deck.members, 0, deck.of_member, "common")
    own = part(deck.members, who, deck.of_member, "sizer")
    s, exposed, cash = common.progress, common.shared.exposed, common.run.money[CASH]
    won = realised = margin = total = most = 0.0
    positions = 0
    for m in range(s.open.size):
        s.heats[m] = 0.0
        if not s.open[m]:
            continue
        positions += 1
        row, opens = _row_now(m, t, deck)
        p = part(deck.trades, m, deck.of_trade, "playing")
        trade = part(deck.trades, m, deck.of_trade, "trade")
        money = money_of(m, row, deck)
        moving = part(deck.members, m, deck.of_member, "history.units").size > 0
        won += won_at(p, trade.side, m, row=row, opens=opens, deck=deck)
        realised += _realised(p.book, trade.side, money, moving)
        worth = trade.ref * money.tick * money.fees.unit_money * money.step
        rate = part(deck.members, m, deck.of_member, "sizer.margin_rate")
        margin += worth * p.book.left * rate
        s.heats[m] = heat_of(m, row, deck)
        total += s.heats[m]
    for c in range(exposed.shape[1]):
        if exposed[who, c]:
            taken = 0.0
            for m in range(s.open.size):
                if exposed[m, c]:
                    taken += s.heats[m]
            most = max(most, taken)
    return AccountNow(
        equity=cash + won,
        balance=cash + realised + own.balance_off,
        margin_used=own.margin_used + margin,
        open_heat=total,
        currency_heat=most,
        positions=positions,
    )
