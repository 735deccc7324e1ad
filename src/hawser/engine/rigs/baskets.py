"""Baskets over several trades (reckoning section 8): one stop and one target on what a named group
wins or loses from the moment it was formed. Reached, every trade of it is closed.
"""

from __future__ import annotations

import math

from hawser.core import figures as fg
from hawser.core.clock import next_minute_end
from hawser.core.rules.bar_close import basket_reached
from hawser.engine import events as ev
from hawser.engine.model import reasons as rs
from hawser.engine.model import transitions as states
from hawser.engine.model.exposure import Valuation
from hawser.engine.model.reasons import Reason, words
from hawser.engine.model.state import EngineState, Trade, TradeBasket, bar_key
from hawser.engine.outbox import Outbox
from hawser.engine.protection.converge import converge, leave


def members(state: EngineState, name: str) -> list[Trade]:
    """The trades of a group, those that have ended among them."""
    return [trade for trade in state.trades.values() if trade.progress.basket == name]


def won(state: EngineState, group: TradeBasket) -> float:
    """Money since the group was formed: realised and floating, commissions paid."""
    values = Valuation(state)
    return sum(
        values.result(trade) - trade.progress.basket_before for trade in members(state, group.name)
    )


def limits(group: TradeBasket) -> tuple[float, float]:
    """What the group may lose and is to win, money; infinite where there is no such."""
    lost, gained = group.basket.stop, group.basket.target
    return (
        lost.of(group.equity) if lost is not None else math.inf,
        gained.of(group.equity) if gained is not None else math.inf,
    )


def form(outbox: Outbox, ask: ev.FormBasket) -> None:
    """Lay a basket over open trades; one that has a basket already leaves it for this."""
    state = outbox.state
    trades = [state.trades[name] for name in dict.fromkeys(ask.trades) if name in state.trades]
    trades = [trade for trade in trades if trade.open_steps and not trade.leave]
    if not trades:
        outbox.tell("refused", "nothing_meant", "None of these trades is open", ask_id=ask.ask_id)
        return
    name = f"basket {outbox.number()}"
    values = Valuation(state)
    for trade in trades:
        trade.progress.basket, trade.progress.basket_before = name, values.result(trade)
        trade.progress.basket_quoted = ask.basket.basis == "tick"
    group = state.baskets[name] = TradeBasket(name, ask.basket, state.equity)
    end_empty(state)
    lost, gained = limits(group)
    currency = state.account.currency if state.account else ""
    what = [f"stop at {fg.money(-lost, currency, sign=True)}"] if lost < math.inf else []
    what += [f"target at {fg.money(gained, currency, sign=True)}"] if gained < math.inf else []
    names = ", ".join(trade.id for trade in trades)
    outbox.tell(
        "info",
        "basket_formed",
        f"{name.capitalize()} over {names}: {', '.join(what)}, from now",
        ask_id=ask.ask_id,
    )
    _want_minute(outbox, group)


def dissolve(outbox: Outbox, ask: ev.DissolveBasket) -> None:
    """Take a basket off; its trades stay as they are."""
    state = outbox.state
    if state.baskets.pop(ask.name, None) is None:
        outbox.tell("refused", "no_basket", f"There is no {ask.name} any more", ask_id=ask.ask_id)
        return
    for trade in members(state, ask.name):
        trade.progress.basket, trade.progress.basket_quoted = "", False
    outbox.tell(
        "info",
        "basket_gone",
        f"{ask.name.capitalize()} is taken off; its trades stay as they are",
        ask_id=ask.ask_id,
    )


def acts(state: EngineState, trade: Trade) -> bool:
    """Whether a basket over the trade, where it counts every quote, is reached."""
    group = state.baskets.get(trade.progress.basket)
    if group is None or not trade.progress.basket_quoted or group.reached:
        return False
    return bool(basket_reached(won(state, group), *limits(group)))


def quoted(outbox: Outbox, trade: Trade) -> None:
    """A quote of one of its trades."""
    group = outbox.state.baskets.get(trade.progress.basket)
    if group is not None and trade.progress.basket_quoted:
        _look(outbox, group)


def bar(outbox: Outbox, event: ev.BarCompleted) -> None:
    """A completed bar of one of its trades' timeframes."""
    state = outbox.state
    last = state.bars.get(bar_key(event.symbol, event.span))
    if last is None or last.opened != event.opened:  # an old one
        return
    for trade in state.trades_in(event.symbol):
        group = state.baskets.get(trade.progress.basket)
        whose = trade.plan.timeframe_ns == event.span and trade.open_steps
        by_bars = group is not None and group.basket.basis == "bar_close" and not group.fleet
        if group is not None and whose and by_bars:
            _look(outbox, group)


def closes_known(outbox: Outbox, event: ev.ClosesKnown) -> None:
    """All closes of one time are known to a fleet. Its basket counts at each of them anew: a member
    whose next open is hours away may have come back by then, and who entered meanwhile stays."""
    state = outbox.state
    group = next((one for one in state.baskets.values() if one.fleet == event.fleet), None)
    if group is None:
        return
    group.reached = False
    _look(outbox, group)
    if group.reached:
        _nothing_follows(outbox, event.fleet)


def _nothing_follows(outbox: Outbox, fleet: str) -> None:
    """What was to follow trades of the fleet lapses with its basket."""
    for trade in outbox.state.trades.values():
        of = trade.plan.fleet
        if of is not None and of.name == fleet and trade.progress.due:
            trade.progress.due = ""
            outbox.tell("caution", "lapsed", "What was to follow lapses with the basket", trade)


def minute(outbox: Outbox, name: str) -> None:
    """Its timer, at the end of a minute."""
    group = outbox.state.baskets.get(name)
    if group is not None and not group.fleet:
        _look(outbox, group)
        _want_minute(outbox, group)


def _want_minute(outbox: Outbox, group: TradeBasket) -> None:
    now = outbox.state.now
    if group.basket.basis == "minute_end" and group.minute_at <= now and not group.reached:
        group.minute_at = next_minute_end(now)
        outbox.later(f"basket:{group.name}", group.minute_at - now)


def _look(outbox: Outbox, group: TradeBasket) -> None:
    money = won(outbox.state, group)
    if group.reached or not basket_reached(money, *limits(group)):
        return
    group.reached = True
    why = Reason(rs.BASKET_STOP if money < 0 else rs.BASKET_TARGET, name=group.name, money=money)
    outbox.tell("caution", "basket_reached", f"Closing all of it: {words(why, outbox.currency)}")
    for trade in members(outbox.state, group.name):
        if trade.state != states.ENDED:
            leave(outbox, trade, why)
            converge(outbox, trade)


def end_empty(state: EngineState) -> None:
    """Groups without a live trade are over."""
    for name in list(state.baskets):
        if all(trade.state == states.ENDED for trade in members(state, name)):
            del state.baskets[name]
