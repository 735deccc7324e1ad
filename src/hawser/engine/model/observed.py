"""What the engine sees that leads to nothing: quotes, rates and figures that only change what is
known.

They are thousands a minute, and are recorded in short. What is recorded is not what came in but
what it came to: the very values that the engine holds, as a `Seen`. Folding that decides nothing.
(A record that kept the last quote of each instrument instead was once folded through prices that
never stood side by side, and closed a protected trade.)
"""

from __future__ import annotations

from hawser.core.rules.moving import better_exit
from hawser.engine import events as ev
from hawser.engine.model.state import EngineState, Market


class Observed:
    """What has been seen since it was last recorded: which values of the state, by their names, in
    the order in which they came: what is new to the state comes to stand in the same order when the
    record is folded."""

    def __init__(self) -> None:
        self.clear()

    def clear(self) -> None:
        self.markets: dict[str, None] = {}
        self.trades: dict[str, None] = {}
        self.rates: dict[str, None] = {}
        self.highs: dict[str, None] = {}
        self.money = False

    def __bool__(self) -> bool:
        return bool(self.markets or self.trades or self.rates or self.highs or self.money)

    def told(self, state: EngineState) -> ev.Seen | None:
        """The values as an event, and forget them; None where there is nothing."""
        if not self:
            return None
        markets = ((symbol, state.markets[symbol]) for symbol in self.markets)
        event = ev.Seen(
            time=state.now,
            markets=tuple(
                ev.SeenMarket(symbol, one.bid, one.ask, one.time) for symbol, one in markets
            ),
            best={
                name: state.trades[name].progress.best_exit
                for name in self.trades
                if name in state.trades
            },
            rates={pair: state.rates[pair] for pair in self.rates},
            money=ev.SeenMoney(state.balance, state.equity, state.margin_used, state.figures_at)
            if self.money
            else None,
            highs={key: state.memory[key].high for key in self.highs if key in state.memory},
        )
        self.clear()
        return event


def fold(state: EngineState, event: ev.Seen) -> None:
    """Take the values over."""
    for one in event.markets:
        market = state.markets.setdefault(one.symbol, Market())
        market.bid, market.ask, market.time = one.bid, one.ask, one.time
    for name, level in event.best.items():
        if name in state.trades:
            state.trades[name].progress.best_exit = level
    state.rates.update(event.rates)
    if event.money is not None:
        money = event.money
        state.balance, state.equity, state.margin_used = (
            money.balance,
            money.equity,
            money.margin_used,
        )
        state.figures_at = money.time
    for key, high in event.highs.items():
        if key in state.memory:
            state.memory[key].high = high


def quote(state: EngineState, event: ev.Quote, seen: Observed) -> None:
    """Remember a quote, and the rate it is."""
    market = state.markets.get(event.symbol)
    if market is None:
        market = state.markets[event.symbol] = Market()
    market.bid, market.ask, market.time = event.bid, event.ask, event.time
    seen.markets[event.symbol] = None
    instrument = state.instruments.get(event.symbol)
    if instrument is not None and instrument.kind == "fx":
        pair = f"{instrument.base}/{instrument.quote}"
        state.rates[pair] = ((event.bid + event.ask) / 2 * instrument.tick_size, event.time)
        seen.rates[pair] = None


def best_exits(state: EngineState, event: ev.Quote, seen: Observed) -> None:
    """The best exit-side price of every open trade follows a quote."""
    for trade in state.trades_in(event.symbol):
        if trade.opened and not trade.ended:
            best = better_exit(
                trade.progress.best_exit,
                event.high_bid if trade.side > 0 else event.low_ask,
                trade.side,
            )
            if best != trade.progress.best_exit:
                trade.progress.best_exit = best
                seen.trades[trade.id] = None


def rate(state: EngineState, event: ev.RateSeen, seen: Observed) -> None:
    state.rates[event.pair] = (event.mid, event.time)
    seen.rates[event.pair] = None


def figures(state: EngineState, event: ev.Figures, seen: Observed) -> None:
    """The account's figures as they are now."""
    state.balance, state.equity, state.margin_used = event.balance, event.equity, event.margin_used
    state.figures_at = event.time
    seen.money = True


def highest(state: EngineState, key: str, seen: Observed) -> None:
    """The highest equity that a guard remembers follows the figures."""
    memory = state.memory[key]
    if state.equity > memory.high:
        memory.high = state.equity
        seen.highs[key] = None
