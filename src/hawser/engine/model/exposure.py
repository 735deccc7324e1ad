"""What the open trades stake: heat, locked profit, floating result (reckoning section 5). Pure
reads of the state."""

from __future__ import annotations

import math
from collections.abc import Sequence

import msgspec

from hawser.core.errors import Refused
from hawser.core.fx import convert
from hawser.core.guards.memory import SoFar
from hawser.core.heat import Stake, heat, heat_by_currency, locked
from hawser.core.instrument import Instrument
from hawser.engine.model.state import EngineState, Order, Rung, Trade


def covering(state: EngineState, trade: Trade) -> Order | None:
    """The stop order that rests for a trade, if one does."""
    return next((o for o in state.orders_of(trade, "stop") if o.state == "resting"), None)


def covered_steps(state: EngineState, trade: Trade) -> int:
    """How much of a trade resting stops cover."""
    return sum(order.left for order in state.orders_of(trade, "stop") if order.state == "resting")


def resting_level(state: EngineState, trade: Trade) -> int:
    """The stop that protects now: the one that rests at the venue, else the one that is wanted; a
    held one while the link stands."""
    if trade.held and state.link_up:
        return trade.stop
    order = covering(state, trade)
    return order.level if order is not None and order.level is not None else trade.stop


def farthest_stop(state: EngineState, trade: Trade) -> int:
    """The stop that a trade may have to leave at: of those that rest and the one that is wanted,
    the farthest from the market. One that is being widened may have its new level at the venue
    already, one that follows not yet."""
    if trade.held and state.link_up:
        return trade.stop
    resting = [
        o.level
        for o in state.orders_of(trade, "stop")
        if o.state == "resting" and o.level is not None
    ]
    return min([trade.stop, *resting], key=lambda level: level * trade.side)


def unknown_money(state: EngineState) -> str:
    """An instrument with an open or waiting trade whose conversion rate is missing; empty where
    there is none."""
    currency = state.account.currency if state.account is not None else ""
    quotes = {state.instruments[trade.symbol].quote: trade.symbol for trade in state.live()}
    quotes.pop(currency, None)
    rates = state.current_rates() if quotes else {}
    for quote, symbol in quotes.items():
        try:
            convert(quote, currency, rates)
        except Refused:
            return symbol
    return ""


class Exposure(msgspec.Struct, frozen=True):
    """The sum over live trades, money."""

    heat: float
    locked: float
    by_currency: dict[str, float]


class Valuation:
    """Trades in the account's money, at the rates of one moment. Money is NaN where a rate is
    missing."""

    def __init__(self, state: EngineState) -> None:
        self._state, self._rates = state, state.current_rates()

    @property
    def currency(self) -> str:
        return self._state.account.currency if self._state.account is not None else ""

    def _unit_money(self, instrument: Instrument) -> float:
        """multiplier*fx now."""
        if self._state.account is None:
            return math.nan
        try:
            fx = convert(instrument.quote, self._state.account.currency, self._rates)
        except Refused:
            return math.nan
        return instrument.multiplier * fx

    def money(self, symbol: str, ticks: float, steps: int) -> float:
        """What so many ticks are worth for so many steps."""
        instrument = self._state.instruments[symbol]
        return (
            ticks
            * instrument.tick_size
            * steps
            * instrument.step_size
            * self._unit_money(instrument)
        )

    def stake(self, trade: Trade) -> Stake:
        """A trade as heat sees it: its open part and what its entry, and the rungs of a ladder, may
        still fill. Where a change of them is under way the venue may have either: the one that
        risks more."""
        order, entered = self._state.orders.get(trade.entry.order_id), trade.entered
        waits = order.left if order is not None and not order.over else 0
        stakes = [
            self._stake(
                trade,
                waits,
                trade.entry_price,
                trade.ladder.rungs,
                farthest_stop(self._state, trade),
            )
        ]
        for terms in (trade.entry.moving, trade.entry.then) if waits else ():
            if terms is not None:
                rest = max(0, terms.steps - entered)
                price = (trade.open_steps * trade.entry_price + rest * terms.ref) / max(
                    1, trade.open_steps + rest
                )
                stakes.append(self._stake(trade, rest, price, terms.rungs, terms.stop))
        return max(stakes, key=heat)

    def _stake(
        self, trade: Trade, waits: int, price: float, rungs: Sequence[Rung], stop: int
    ) -> Stake:
        """What is open and `waits`, steps at `price` ticks, with the rungs that would follow."""
        instrument = self._state.instruments[trade.symbol]
        tick = instrument.tick_size
        steps = trade.open_steps + waits
        value = steps * price
        for rung in rungs if steps and not trade.leave else ():
            steps += max(0, rung.steps - rung.filled)
            value += max(0, rung.steps - rung.filled) * rung.level
        return Stake(
            side=trade.side,
            qty=steps * instrument.step_size,
            entry=value / max(1, steps) * tick,
            stop=stop * tick,
            fees=instrument.fees(self._unit_money(instrument)),
            exposure=instrument.exposure,
        )

    def exposure(self, without: Trade | None = None) -> Exposure:
        """Heat, locked profit and heat by currency of all live trades but one."""
        stakes = [self.stake(trade) for trade in self._state.live() if trade is not without]
        return Exposure(sum(map(heat, stakes)), sum(map(locked, stakes)), heat_by_currency(stakes))

    def so_far(self, trade: Trade) -> SoFar:
        """What a trade has come to now."""
        ticks = self._floating_ticks(trade) * trade.open_steps
        return SoFar(trade.profit - trade.commission, self.floating(trade), ticks)

    def earlier(self, before: SoFar | None, symbol: str) -> float:
        """What a trade had come to at a moment, money; what floated without a known rate at the
        rate of now."""
        if before is None:
            return 0.0
        floating = before.floating
        if math.isnan(floating):
            floating = self.money(symbol, before.ticks, 1)
        return before.realised + floating

    def floating(self, trade: Trade) -> float:
        """Unrealised money of a trade's open part at the exit side of the quote."""
        ticks = self._floating_ticks(trade)
        return self.money(trade.symbol, ticks, trade.open_steps) if ticks else 0.0

    def _floating_ticks(self, trade: Trade) -> float:
        market = self._state.markets.get(trade.symbol)
        if market is None or not trade.open_steps or not market.bid:
            return 0.0
        return trade.side * (market.exit_side(trade.side) - trade.entry_price)

    def result(self, trade: Trade) -> float:
        """Net money of a trade so far: realised, floating, less commissions paid."""
        return trade.profit + self.floating(trade) - trade.commission
