"""Tending: what quotes and completed bars make of open trades (reckoning section 7). It only ever
tightens."""

from __future__ import annotations

import math
from typing import NamedTuple

from hawser.core.hours import last_opening
from hawser.core.indicator_values import (
    STANDARD_ATR,
    atr_key,
    best_key,
    lived_key,
    own_atr,
    trail_key,
)
from hawser.core.instrument import Instrument
from hawser.core.rig import after_words, measure_words, trail_words
from hawser.core.rules.bar_close import (
    BASKET,
    BREAK_EVEN,
    STEP_1,
    TIME,
    TRAIL,
    decided_at,
    move_name,
    moved,
)
from hawser.core.rules.ladders import common_target
from hawser.core.rules.moving import better_exit
from hawser.core.rules.trade_levels import BasketRules, Rules
from hawser.engine import events as ev
from hawser.engine.entries.anchoring import set_stop
from hawser.engine.model import reasons as rs
from hawser.engine.model.exposure import Valuation
from hawser.engine.model.reasons import Reason, words
from hawser.engine.model.rig_levels import awaited, lay, ready
from hawser.engine.model.state import EngineState, LastBar, Market, Trade, bar_key
from hawser.engine.outbox import Outbox
from hawser.engine.protection.converge import converge, leave

OUT_OF_REACH = 1 << 62


class QuietBand(NamedTuple):
    """Between these a quote of one instrument changes no best price and reaches no held line:
    nothing to look at."""

    bid_above: int  # the highest held stop of a long
    bid_below: int  # the lowest held target of a long
    ask_above: int
    ask_below: int
    high_bid: int  # the worst of the longs' best prices
    low_ask: int


NO_BAND = QuietBand(
    bid_above=OUT_OF_REACH,
    bid_below=0,
    ask_above=OUT_OF_REACH,
    ask_below=0,
    high_bid=0,
    low_ask=OUT_OF_REACH,
)


def quiet(band: QuietBand, event: ev.Quote) -> bool:
    """Whether nothing can follow from the quote but that it is remembered."""
    return (
        band.bid_above < event.bid < band.bid_below
        and band.ask_above < event.ask < band.ask_below
        and event.high_bid <= band.high_bid
        and event.low_ask >= band.low_ask
    )


def band_of(state: EngineState, symbol: str) -> QuietBand:
    """The band around what an instrument's trades are now. It holds until anything but a quote
    happens."""
    bid_above = 0
    bid_below = OUT_OF_REACH
    ask_above = 0
    ask_below = OUT_OF_REACH
    high_bid = OUT_OF_REACH
    low_ask = 0
    for trade in state.trades_in(symbol):
        if not trade.opened or trade.ended:
            continue
        if trade.side > 0:
            high_bid = min(high_bid, trade.progress.best_exit)
        else:
            low_ask = max(low_ask, trade.progress.best_exit)
        if not trade.open_steps or trade.leave or not (trade.held or watched(trade)):
            continue
        # What money or time decides cannot be told from levels: every quote is looked at then.
        if trade.cover.reached_since or watched(trade):
            return NO_BAND
        levels = [line.level for line in trade.targets]
        losses = [line.level for line in trade.losses]
        if trade.side > 0:
            bid_above, bid_below = max([bid_above, trade.stop, *losses]), min([bid_below, *levels])
        else:
            ask_below, ask_above = min([ask_below, trade.stop, *losses]), max([ask_above, *levels])
    return QuietBand(
        bid_above=bid_above,
        bid_below=bid_below,
        ask_above=ask_above,
        ask_below=ask_below,
        high_bid=high_bid,
        low_ask=low_ask,
    )


def watched_trades(state: EngineState, symbol: str) -> list[Trade]:
    """The open trades of an instrument whose lines are held here, or which a basket watches at
    every quote."""
    trades = state.trades_in(symbol)
    return [
        one
        for one in trades
        if one.opened and not one.ended and one.open_steps and (one.held or watched(one))
    ]


def bar(outbox: Outbox, event: ev.BarCompleted) -> None:
    """Take a completed bar's ATR, and tend the trades of its timeframe. Old bars change nothing."""
    state, key = outbox.state, bar_key(event.symbol, event.span)
    # At a start, and where a line is back, history may be told again: a bar counts once.
    last = state.bars.get(key)
    if last is not None and event.opened <= last.opened:
        return
    state.bars[key] = LastBar(event.opened, event.close, event.spread, event.atr)
    for trade in state.trades_in(event.symbol):
        if trade.ended or not trade.opened:
            continue
        if event.base and event.opened >= trade.opened:
            _lived_through(state, trade, event)
        if trade.plan.timeframe_ns != event.span or event.opened + event.span <= trade.opened:
            continue
        trade.progress.bars = int(
            event.values.get(lived_key(trade.opened), trade.progress.bars + 1)
        )
        if trade.open_steps and not trade.leave:
            _tend(outbox, trade, event)
    for trade in state.trades_in(event.symbol) if event.base else ():
        if trade.open_steps and not trade.leave:
            want_hours(outbox, trade)
        # what a guard or a halt had taken back, and nothing else has set out again since
        if trade.open_steps:
            converge(outbox, trade)


def _lived_through(state: EngineState, trade: Trade, event: ev.BarCompleted) -> None:
    """A whole bar since the entry: its extreme counts, also where no quote told it (section 7,
    `after`), and so does that of bars before it which nobody looked at."""
    tick = state.instruments[trade.symbol].tick_size
    low_ask = event.low_ask / tick if event.low_ask else event.low / tick + event.spread
    extreme = round(event.high / tick if trade.side > 0 else low_ask)
    trade.progress.best_exit = better_exit(trade.progress.best_exit, extreme, trade.side)
    missed = event.values.get(best_key(trade.opened, trade.side))
    if missed is not None:
        trade.progress.best_exit = better_exit(
            trade.progress.best_exit, round(missed / tick), trade.side
        )


def _tend(outbox: Outbox, trade: Trade, event: ev.BarCompleted) -> None:
    """What the trade's rig makes of a completed bar: its stop's next level, and whether it is
    left."""
    state, plan, side = outbox.state, trade.plan, trade.side
    rig = plan.rig
    if plan.trail is None and rig is None:
        return
    instrument, market = state.instruments[trade.symbol], state.markets[trade.symbol]
    tick, spread = instrument.tick_size, event.spread if side < 0 else 0.0
    laid, close = lay(state, trade), round(event.close / tick + spread)
    # At a start, and where a line is back, the quote is older than the bar.
    # The worse of both keeps a stop from being sent beyond a market that has moved on meanwhile.
    worse = min(market.exit_side(side), close, key=lambda price: side * price)
    atr = (
        event.values.get(atr_key(rig), math.nan) if rig is not None and own_atr(plan) else event.atr
    )
    line = math.nan
    if plan.trail is not None and plan.trail.kind in ("bars", "line"):
        smoothing = rig.atr_smoothing if rig is not None else STANDARD_ATR[1]
        line = event.values.get(trail_key(plan.trail, side, smoothing), math.nan) / tick + spread
    level, why = moved(
        laid.rules,
        side,
        ref=trade.ref,
        step_at=laid.step_at,
        step_to=laid.step_to,
        atr=atr / tick,
        line=line,
        stop=trade.stop,
        best=trade.progress.best_exit,
        close=close,
        exit_side=worse,
        ready=ready(trade),
    )
    aimed = _aim(outbox, trade, laid.rules.ladder_target)
    level, why = int(level), int(why)  # interpreted rules give NumPy's own numbers
    # The stop moves also where the trade is left: the close may be refused, and the stop is what
    # protects until then.
    if why >= 0:
        set_stop(
            outbox,
            trade,
            level,
            _told(state, trade, rules=laid.rules, level=level, why=why, close=close),
            move_name(why),
        )
    won = _won_at(state, trade, close) if rig is not None and rig.basket is not None else 0.0
    rules = (
        laid.rules
        if rig is not None and rig.basket and rig.basket.basis == "bar_close"
        else _no_basket(laid.rules)
    )
    last = _by_hours(trade, instrument, event.opened, event.opened + event.span)
    decided, _ = decided_at(
        rules, 0, leave=0, lived=trade.progress.bars, side=side, won=won, last=last
    )
    if decided:
        _leave(outbox, trade, decided, won, last)
    if why >= 0 or decided or aimed:
        converge(outbox, trade)


def _aim(outbox: Outbox, trade: Trade, beyond: float) -> bool:
    """Where rungs of a ladder have filled since the last bar: one target for all that is held, from
    the average."""
    if not trade.ladder.steps_this_bar:
        return False
    trade.ladder.steps_this_bar = 0
    level = int(common_target(trade.entry_value, trade.entered, beyond, trade.side))
    for line in trade.targets[:1]:  # none where a person took it away
        price = outbox.state.instruments[trade.symbol].price
        was, will = (price(one) if one > 0 else "none above zero" for one in (line.level, level))
        text = f"Common target {was} \u2192 {will}: {beyond:g} t from the average of all entries"
        outbox.tell("info", "ladder_target", text, trade)
        line.level, line.retry_at = level, 0
    return True


def _no_basket(rules: Rules) -> Rules:
    return rules._replace(basket=BasketRules(math.inf, math.inf))


def _won_at(state: EngineState, trade: Trade, close: int) -> float:
    """The trade's money so far, commissions paid, with what is open at `close`."""
    ticks = trade.side * (close - trade.entry_price)
    return (
        trade.profit
        - trade.commission
        + Valuation(state).money(trade.symbol, ticks, trade.open_steps)
    )


def _by_hours(trade: Trade, instrument: Instrument, opened: int, now: int) -> bool:
    """Whether a time exit by the hours leaves a trade at `now`, of which the bar that opened at
    `opened` is the last completed, or its first: the last bar of the session opens by the clock, or
    has opened."""
    at = leaves_by_hours(trade, instrument, opened)
    return 0 < at <= now


def leaves_by_hours(trade: Trade, instrument: Instrument, opened: int) -> int:
    """When a time exit by the hours leaves a trade that lived the bar which opened at `opened`, UTC
    ns; 0: never. The open of the session's last bar by the clock, whether or not anybody trades in
    it; after that bar where it is the trade's first."""
    timed = trade.plan.rig.time_exit if trade.plan.rig is not None else None
    if timed is None or not (timed.session_end or timed.before_weekend):
        return 0
    span = trade.plan.timeframe_ns
    at = last_opening(instrument.sessions, opened, span, not timed.session_end)
    return max(at, opened + span) if at else 0


def want_hours(outbox: Outbox, trade: Trade) -> None:
    """A timer for the exit by the hours: no bar may come before it."""
    span, instrument = trade.plan.timeframe_ns, outbox.state.instruments[trade.symbol]
    last = outbox.state.bars.get(bar_key(trade.symbol, span))
    # No bar is known on a new grid.
    known = last.opened if last is not None else outbox.state.now - outbox.state.now % span
    at = leaves_by_hours(trade, instrument, max(trade.opened - trade.opened % span, known))
    if at != trade.progress.hours_at:
        trade.progress.hours_at = at
        if at:
            outbox.later(f"hours:{trade.id}:{at}", max(0, at - outbox.state.now))


def hours_ended(outbox: Outbox, trade: Trade, at: int) -> None:
    """The timer: out, where no bar has said so."""
    if trade.progress.hours_at == at and trade.open_steps and not trade.leave:
        _leave(outbox, trade, TIME, 0.0, True)
        converge(outbox, trade)


def _leave(outbox: Outbox, trade: Trade, decided: int, won: float, last: bool) -> None:
    if decided == TIME:
        why = Reason(rs.TIME_HOURS) if last else Reason(rs.TIME_BARS, trade.progress.bars)
    else:
        why = Reason(rs.BASKET_STOP if won < 0 else rs.BASKET_TARGET, money=won)
    outbox.tell("info", "rig_leaves", f"Closing: {words(why, outbox.currency)}", trade)
    leave(outbox, trade, why)


def _told(state: EngineState, trade: Trade, rules: Rules, level: int, why: int, close: int) -> str:
    """A move in words, with its rule and figures."""
    instrument, rig, side = state.instruments[trade.symbol], trade.plan.tended, trade.side
    price, market = instrument.price, state.markets[trade.symbol]
    if why == BREAK_EVEN:
        assert rig.break_even is not None
        target = rules.even.begins.target
        line = awaited(trade, target) if target else None
        rule = "break-even" + (
            f" after target {line.number}" if line else after_words(rig.break_even.after)
        )
    elif why == TRAIL:
        assert rig.trail is not None
        rule = f"trail, {trail_words(rig.trail, side)}"
        if rig.trail.kind in ("atr", "ticks", "percent"):
            rule += f" {price(close if rig.trail.anchor == 'close' else trade.progress.best_exit)}"
    else:
        rule = f"step {why - STEP_1 + 1} at +{measure_words(rig.step[why - STEP_1].at)}"
    nearest = ", held at the least distance" if _least(instrument, market, level, side) else ""
    return f"Stop {price(trade.stop)} \u2192 {price(level)}: {rule}{nearest}"


def _least(instrument: Instrument, market: Market, level: int, side: int) -> bool:
    return (
        instrument.min_stop_ticks > 0
        and abs(market.exit_side(side) - level) == instrument.min_stop_ticks
    )


def watched(trade: Trade) -> bool:
    """Whether every quote is looked at, and not bars alone."""
    return trade.progress.basket_quoted or rig_watched(trade)


def rig_watched(trade: Trade) -> bool:
    """Whether its rig looks at every quote."""
    rig = trade.plan.rig
    return rig is not None and rig.basket is not None and rig.basket.basis == "tick"


def basket_acts(state: EngineState, trade: Trade) -> bool:
    """Whether a trade's own basket, where it counts every quote, is reached."""
    return rig_watched(trade) and _basket_reached(state, trade) is not None


def watch_basket(outbox: Outbox, trade: Trade) -> None:
    """A basket that counts every quote, or each minute's end by its timer."""
    won = _basket_reached(outbox.state, trade)
    if won is not None:
        _leave(outbox, trade, BASKET, won, False)
        converge(outbox, trade)


def _basket_reached(state: EngineState, trade: Trade) -> float | None:
    """What the trade has come to, money, where its basket is reached by it between bars; None where
    it is not."""
    rig = trade.plan.rig
    if (
        rig is None
        or rig.basket is None
        or rig.basket.basis == "bar_close"
        or trade.leave
        or not trade.open_steps
    ):
        return None
    won = Valuation(state).result(trade)
    decided, _ = decided_at(
        _no_time(lay(state, trade).rules),
        0,
        leave=0,
        lived=trade.progress.bars,
        side=trade.side,
        won=won,
        last=False,
    )
    return won if decided else None


def _no_time(rules: Rules) -> Rules:
    return rules._replace(time_bars=0)
