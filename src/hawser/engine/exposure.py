"""What the open trades stake: heat, locked profit, floating result (reckoning section 5). Pure reads of the state."""

from __future__ import annotations

import math

import msgspec

from hawser.core.errors import Refused
from hawser.core.fx import convert
from hawser.core.heat import Stake, heat, heat_by_currency, locked
from hawser.core.instrument import Instrument
from hawser.engine.state import EngineState, Order, Trade


def covering(state: EngineState, trade: Trade) -> Order | None:
    """The stop order that rests for a trade, if one does."""
    return next((o for o in state.orders_of(trade, "stop") if o.state == "resting"), None)


def covered_steps(state: EngineState, trade: Trade) -> int:
    """How much of a trade resting stops cover."""
    return sum(order.left for order in state.orders_of(trade, "stop") if order.state == "resting")


def resting_level(state: EngineState, trade: Trade) -> int:
    """The stop that rests at the venue, else the one that is wanted."""
    order = covering(state, trade)
    return order.level if order is not None and order.level is not None else trade.stop


def unit_money(state: EngineState, instrument: Instrument) -> float:
    """multiplier*fx now; NaN where there is no rate at all."""
    if state.account is None:
        return math.nan
    try:
        fx = convert(instrument.quote, state.account.currency, state.current_rates())
    except Refused:
        return math.nan
    return instrument.multiplier * fx


def stake(state: EngineState, trade: Trade) -> Stake:
    """A trade as heat sees it: its open part, or all of it while its entry is under way."""
    instrument = state.instruments[trade.symbol]
    fees = instrument.commission
    steps = trade.open_steps if trade.entered else trade.asked_steps
    tick = instrument.tick_size
    return Stake(
        side=trade.side, qty=steps * instrument.step_size, entry=trade.entry_price * tick,
        stop=resting_level(state, trade) * tick, unit_money=unit_money(state, instrument),
        fees=(fees.per_unit, fees.per_notional, fees.minimum), exposure=instrument.exposure,
    )  # fmt: skip


class Exposure(msgspec.Struct, frozen=True):
    """The sum over live trades, money."""

    heat: float
    locked: float
    by_currency: dict[str, float]


def exposure(state: EngineState) -> Exposure:
    """Heat, locked profit and heat by currency of all live trades."""
    stakes = [stake(state, trade) for trade in state.live()]
    return Exposure(sum(map(heat, stakes)), sum(map(locked, stakes)), heat_by_currency(stakes))


def floating(state: EngineState, trade: Trade) -> float:
    """Unrealised money of a trade's open part at the exit side of the quote."""
    market, instrument = state.markets.get(trade.symbol), state.instruments[trade.symbol]
    if market is None or not trade.open_steps or not market.bid:
        return 0.0
    ticks = trade.side * (market.exit_side(trade.side) - trade.entry_price)
    return ticks * instrument.tick_size * trade.open_steps * instrument.step_size * unit_money(state, instrument)


def result(state: EngineState, trade: Trade) -> float:
    """Net money of a trade so far: realised, floating, less commissions paid."""
    return trade.profit + floating(state, trade) - trade.commission
