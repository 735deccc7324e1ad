"""A record that keeps only the last of many updates, and what several of them decide together."""

from __future__ import annotations

from hawser.core.clock import SECOND
from hawser.core.rig import Amount, Basket
from hawser.demo.boot import boot
from hawser.engine import events as ev
from hawser.engine.rigs.baskets import won
from hawser.ledger.ledger import Ledger
from hawser.ledger.verify import verify
from hawser.service.profiles.profile import profile
from hawser.service.runtime.session import Session


def test_a_basket_over_two_instruments_is_recorded_price_by_price(tmp_path):
    where = profile("demo", tmp_path)
    made = boot(where)
    session = Session(made.account, made.venue, made.ledger, prefix="s")
    made.prepare(session)
    state, begun = session.engine.state, session.venue.now + SECOND
    names = {trade.symbol: trade.id for trade in state.live() if trade.open_steps}
    pair = (names["CAD/CHF"], names["Lumenfold"])
    bids = {symbol: state.markets[symbol].bid for symbol in ("CAD/CHF", "Lumenfold")}
    spreads = {symbol: state.markets[symbol].ask - bid for symbol, bid in bids.items()}
    session.ask(
        ev.FormBasket(
            time=begun,
            ask_id="B",
            trades=pair,
            basket=Basket(stop=Amount(money=60.0), basis="tick"),
        )
    )
    (group,) = state.baskets.values()

    def quote(number: int, symbol: str, away: int) -> float:
        bid = bids[symbol] + away
        session.take(
            ev.Quote(
                time=begun + number,
                symbol=symbol,
                bid=bid,
                ask=bid + spreads[symbol],
                high_bid=bid,
                low_ask=bid + spreads[symbol],
            )
        )
        return won(state, group)

    # The first falls far only while the second stands high: side by side they never lose 60.
    seen = [
        quote(1, "CAD/CHF", -30),
        quote(2, "Lumenfold", 30),
        quote(3, "CAD/CHF", -60),
        quote(4, "Lumenfold", 31),
    ]
    assert -60.0 < min(seen) < -30.0
    first = 1.32 * -60  # the last quote of each, one after another, would pass through this
    assert first < -60.0
    session.flush()
    session.close()
    assert not verify(where.ledger).line
    restored = Ledger(where.ledger).restore().state
    assert not restored.baskets[group.name].reached
    assert not restored.trades[pair[0]].leave
