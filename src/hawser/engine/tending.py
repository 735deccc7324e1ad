"""Tending: what quotes and completed bars make of open trades (reckoning section 7). It only ever tightens."""

from __future__ import annotations

from typing import NamedTuple

from hawser.core.rules.moving import NO_MOVE, better_exit, counted, sendable, trail_atr
from hawser.engine import events as ev
from hawser.engine.anchoring import set_stop
from hawser.engine.protecting import converge
from hawser.engine.requests import Desk
from hawser.engine.state import EngineState, LastBar, Market, Trade, bar_key

FAR = 1 << 62


class Band(NamedTuple):
    """Between these a quote of one instrument changes no best price and reaches no held line: nothing to look at."""

    bid_above: int  # the highest held stop of a long
    bid_below: int  # the lowest held target of a long
    ask_above: int
    ask_below: int
    high_bid: int  # the worst of the longs' best prices
    low_ask: int


NO_BAND = Band(FAR, 0, FAR, 0, 0, FAR)


def quiet(band: Band, event: ev.Quote) -> bool:
    """Whether nothing can follow from the quote but that it is remembered."""
    return (
        band.bid_above < event.bid < band.bid_below
        and band.ask_above < event.ask < band.ask_below
        and event.high_bid <= band.high_bid
        and event.low_ask >= band.low_ask
    )


def band_of(state: EngineState, symbol: str) -> Band:
    """The band around what an instrument's trades are now. It holds until anything but a quote happens."""
    bid_above, bid_below, ask_above, ask_below, high_bid, low_ask = 0, FAR, 0, FAR, FAR, 0
    for trade in state.trades_in(symbol):
        if not trade.opened or trade.ended:
            continue
        if trade.side > 0:
            high_bid = min(high_bid, trade.best_exit)
        else:
            low_ask = max(low_ask, trade.best_exit)
        if not trade.held or not trade.open_steps or trade.leave_why:
            continue
        if trade.reached_since:
            return NO_BAND
        levels = [line.level for line in trade.targets]
        if trade.side > 0:
            bid_above, bid_below = max(bid_above, trade.stop), min([bid_below, *levels])
        else:
            ask_below, ask_above = min(ask_below, trade.stop), max([ask_above, *levels])
    return Band(bid_above, bid_below, ask_above, ask_below, high_bid, low_ask)


def seen(state: EngineState, event: ev.Quote) -> None:
    """Remember the quote, and the rate it is."""
    market = state.markets.get(event.symbol)
    if market is None:
        market = state.markets[event.symbol] = Market()
    market.bid, market.ask, market.time = event.bid, event.ask, event.time
    instrument = state.instruments.get(event.symbol)
    if instrument is not None and instrument.kind == "fx":
        mid = (event.bid + event.ask) / 2 * instrument.tick_size
        state.rates[f"{instrument.base}/{instrument.quote}"] = (mid, event.time)


def quote(state: EngineState, event: ev.Quote) -> list[Trade]:
    """The best exit-side price of every open trade follows a quote. Returns the trades whose lines are held here, to be
    looked at."""
    held: list[Trade] = []
    for trade in state.trades_in(event.symbol):
        if trade.opened and not trade.ended:
            best = event.high_bid if trade.side > 0 else event.low_ask
            trade.best_exit = better_exit(trade.best_exit, best, trade.side)
            if trade.held and trade.open_steps:
                held.append(trade)
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
