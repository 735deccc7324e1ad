"""What may be risked in a storm: the size of each entry, the heat of all and the number of trades,
reckoned anew by the judge when an entry is sent.

What is held, at which price, and where its stops rest is taken from the venue's books; the equity
and the rates are those that Hawser has been told. Where the two sides know different things, what
is on its way counts for Hawser: what is told here is beyond a limit by either.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from hawser.core.account import Rate
from hawser.core.instrument import Instrument
from hawser.engine.commands import Amend, Submit
from hawser.engine.events import AskEvent
from hawser.engine.model.state import EngineState, EntryTerms, Trade
from hawser.ledger.ledger import Entry
from hawser.venue.quay.quay import Quay

NOISE = 1 + 1e-6
BRIDGES = ("CAD", "CHF", "EUR", "USD")


class SizesWatch:
    """Hears every recorded event with its commands. `stops` gives where stops rest for a
    position."""

    def __init__(self, venue: Callable[[], Quay], stops: Callable[[str, str], list[int]]) -> None:
        self._venue, self._stops = venue, stops

    def heard(self, entry: Entry, state: EngineState) -> Iterator[str]:
        """What an entry of this event breaks."""
        for command in entry[1]:
            if not isinstance(command, (Submit, Amend)) or command.role != "entry":
                continue
            trade = state.trades[command.trade]
            if isinstance(command, Submit):
                yield from self._sized(state, trade, command.steps, command.level, trade)
                yield from self._limits(state, trade)
            # A move that is tried again is that of the moment when it was asked for.
            elif trade.entry.moving is not None and isinstance(entry[0], AskEvent):
                yield from self._sized(
                    state, trade, command.steps, command.level, trade.entry.moving
                )

    def _sized(
        self,
        state: EngineState,
        trade: Trade,
        steps: int,
        level: int | None,
        terms: Trade | EntryTerms,
    ) -> Iterator[str]:
        """One trade risks no more of the equity than was asked for, costs included."""
        market, instrument = state.markets[trade.symbol], state.instruments[trade.symbol]
        unit, percent = _unit(state, instrument), trade.plan.size.percent
        entry = level if level is not None else market.ask if trade.side > 0 else market.bid
        if unit is None or percent is None:
            yield f"{trade.id} was sized though its money is not known"
            return
        rungs = terms.rungs if isinstance(terms, EntryTerms) else terms.ladder.rungs
        parts = [(steps, entry), *((rung.steps, rung.level) for rung in rungs)]
        risk = _loss(instrument, unit, trade.side, parts, terms.stop)
        if risk > percent / 100 * state.equity * NOISE:
            yield f"{trade.id} risks {risk:.2f}: more than {percent:.3f} % of {state.equity:.2f}"

    def _limits(self, state: EngineState, new: Trade) -> Iterator[str]:
        """All together stake no more than the policy allows."""
        assert state.account is not None
        policy, live = state.account.policy, state.live()
        if policy.max_positions is not None and len(live) > policy.max_positions:
            yield f"{new.id} is the {len(live)}th trade of {policy.max_positions}"
        total = 0.0
        exposure = dict.fromkeys(state.instruments[new.symbol].exposure, 0.0)
        for trade in live:
            heat = self._heat(state, trade)
            total += heat
            for name in exposure.keys() & set(state.instruments[trade.symbol].exposure):
                exposure[name] += heat
        shared = max(exposure.values(), default=0.0)
        for what, staked, most in (
            ("heat", total, policy.max_heat_percent),
            ("currency heat", shared, policy.max_currency_heat_percent),
        ):
            if most is not None and staked > most / 100 * state.equity * NOISE:
                yield (
                    f"with {new.id} the {what} is {staked:.2f}: more than {most:.3f} % of "
                    f"{state.equity:.2f}"
                )

    def _heat(self, state: EngineState, trade: Trade) -> float:
        """What a trade loses at its stop, what may still be entered included. A change that is
        under way counts as made: the wanted stop where it lies farther than those that rest, and
        what an entry is being moved to."""
        instrument = state.instruments[trade.symbol]
        unit, order = _unit(state, instrument), state.orders.get(trade.entry.order_id)
        if unit is None:
            return 0.0
        parts, stops = list[tuple[float, float]](), list[int]()
        held = self._venue().book.state.positions.get(trade.entry.order_id)
        if held is not None and held.side == trade.side:
            # The venue averages what is held now, Hawser all that entered; where a part has left
            # they differ.
            entered = min(held.entry, trade.entry_price, key=lambda price: price * trade.side)
            parts.append((min(held.steps, trade.open_steps), entered))
            stops += self._stops(held.id, held.symbol)
        if order is not None and not order.over:
            # It may fill as the first of it did; and a late answer may tell where it was to fill
            # before it was moved.
            rest = [order.level or trade.ref, trade.ref, *(price for _, price in parts)]
            parts.append((order.left, min(rest, key=lambda price: price * trade.side)))
        if any(steps for steps, _ in parts) and not trade.leave:
            parts += [(max(0, rung.steps - rung.filled), rung.level) for rung in trade.ladder.rungs]
        tightest = max(stops, key=lambda level: level * trade.side, default=trade.stop)
        # what rests then is only the backstop
        held_here = trade.held and trade.side * (trade.stop - tightest) > 0
        stop = (
            trade.stop
            if held_here
            else min(tightest, trade.stop, key=lambda level: level * trade.side)
        )
        lost = [0.0, _loss(instrument, unit, trade.side, parts, stop)]
        pending = order is not None and not order.over and not trade.entered and not trade.leave
        for terms in (trade.entry.moving, trade.entry.then) if pending else ():
            if terms is not None:
                parts = [
                    (terms.steps, terms.ref),
                    *((rung.steps, rung.level) for rung in terms.rungs),
                ]
                lost.append(_loss(instrument, unit, trade.side, parts, terms.stop))
        return max(lost)


def _unit(state: EngineState, instrument: Instrument) -> float | None:
    """What one unit of quantity gains in the account's money when the price rises by 1; None where
    no rate is known."""
    assert state.account is not None
    rates = {
        pair: one.mid if isinstance(one, Rate) else one
        for pair, one in state.current_rates().items()
    }
    rate = _rate(rates, instrument.quote, state.account.currency)
    return None if rate is None else rate * instrument.multiplier


def _rate(rates: dict[str, float], of: str, into: str) -> float | None:
    if of == into:
        return 1.0

    def pair(one: str, other: str) -> float | None:
        if f"{one}/{other}" in rates:
            return rates[f"{one}/{other}"]
        return 1 / rates[f"{other}/{one}"] if rates.get(f"{other}/{one}") else None

    if (found := pair(of, into)) is not None:
        return found
    for bridge in BRIDGES:
        first, second = pair(of, bridge), pair(bridge, into)
        if first is not None and second is not None:
            return first * second
    return None


def _loss(
    instrument: Instrument,
    unit: float,
    side: int,
    parts: list[tuple[float, float]] | list[tuple[int, int]],
    stop: int,
) -> float:
    """What so many steps at such levels lose at a stop, with a commission for all that enters and
    one for the exit."""
    tick, step, fees = float(instrument.tick), float(instrument.qty_step), instrument.commission
    steps = sum(part for part, _ in parts)
    if not steps:
        return 0.0
    lost = sum(part * (level - stop) for part, level in parts) * side * tick * step * unit
    return lost + 2 * max(fees.minimum, fees.per_unit * steps * step)
