"""Tending: what quotes and completed bars make of open trades (reckoning section 7). It only ever tightens."""

from __future__ import annotations

from hawser.core.rules.moving import NO_MOVE, better_exit, counted, sendable, trail_atr
from hawser.engine import events as ev
from hawser.engine.anchoring import set_stop
from hawser.engine.protecting import converge
from hawser.engine.requests import Desk
from hawser.engine.state import EngineState, LastBar, Market, Trade, bar_key


def quote(state: EngineState, event: ev.Quote) -> list[Trade]:
    """Remember the quote; the best exit-side price of every open trade follows it. Returns the trades whose lines are
    held here, to be looked at."""
    held: list[Trade] = []
    market = state.markets.get(event.symbol)
    if market is None:
        market = state.markets[event.symbol] = Market()
    market.bid, market.ask, market.time = event.bid, event.ask, event.time
    for trade in state.trades_in(event.symbol):
        if trade.opened and not trade.ended:
            seen = event.high_bid if trade.side > 0 else event.low_ask
            trade.best_exit = better_exit(trade.best_exit, seen, trade.side)
            if trade.held and trade.open_steps:
                held.append(trade)
    instrument = state.instruments.get(event.symbol)
    if instrument is not None and instrument.kind == "fx":
        mid = (event.bid + event.ask) / 2 * instrument.tick_size
        state.rates[f"{instrument.base}/{instrument.quote}"] = (mid, event.time)
    return held


def bar(desk: Desk, event: ev.BarCompleted) -> None:
    """Take a completed bar's ATR, and move the stops that trail on its timeframe. Old bars change nothing."""
    state, key = desk.state, bar_key(event.symbol, event.span)
    last = state.bars.get(key)
    if last is not None and event.opened <= last.opened:
        return
    state.bars[key] = LastBar(event.opened, event.close, event.spread, event.atr)
    for trade in state.trades_in(event.symbol):
        if trade.ended:
            continue
        if trade.opened and event.opened >= trade.opened:
            _lived_through(state, trade, event)
        rule = trade.plan.trail
        if rule is None or trade.plan.timeframe_ns != event.span:
            continue
        if trade.open_steps and not trade.leave_why and event.atr > 0:
            _trail(desk, trade, event.atr)


def _lived_through(state: EngineState, trade: Trade, event: ev.BarCompleted) -> None:
    """A whole bar since the entry: its extreme counts, also where no quote told it (section 7, `after`)."""
    tick = state.instruments[trade.symbol].tick_size
    extreme = round(event.high / tick) if trade.side > 0 else round(event.low / tick + event.spread)
    trade.best_exit = better_exit(trade.best_exit, extreme, trade.side)


def _trail(desk: Desk, trade: Trade, atr: float) -> None:
    rule = trade.plan.trail
    assert rule is not None
    instrument, market = desk.state.instruments[trade.symbol], desk.state.markets[trade.symbol]
    atr_ticks = atr / instrument.tick_size
    candidate = trail_atr(float(trade.best_exit), rule.base_ticks, rule.atr, atr_ticks, trade.side)
    if not counted(candidate, trade.stop, rule.step_ticks, trade.side):
        return
    level = sendable(candidate, trade.stop, market.exit_side(trade.side), instrument.min_stop_ticks, trade.side)
    if level == NO_MOVE:
        return
    beside = "below" if trade.side > 0 else "above"
    nearest = ", held at the least distance" if level != candidate else ""
    why = (
        f"Stop {instrument.price(trade.stop)} \u2192 {instrument.price(level)}: trail, {rule.atr:g} ATR {beside} "
        f"{instrument.price(trade.best_exit)}{nearest}"
    )
    set_stop(desk, trade, level, why)
    converge(desk, trade)
