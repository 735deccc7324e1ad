"""The trades of a fleet come under its basket as they are entered (reckoning section 13)."""

from __future__ import annotations

from hawser.engine.model.state import Trade, TradeBasket
from hawser.engine.outbox import Outbox


def join(outbox: Outbox, trade: Trade) -> None:
    """A new trade under the basket of its fleet. Where none of the fleet's trades is open this is a
    new group, whose percent is of the equity on which the trade was sized."""
    state, fleet = outbox.state, trade.plan.fleet
    if fleet is None or fleet.basket is None:
        return
    group = next((one for one in state.baskets.values() if one.fleet == fleet.name), None)
    if group is None:
        name = f"basket {outbox.number()} of {fleet.name}"
        group = TradeBasket(name, fleet.basket, state.equity, fleet=fleet.name)
        state.baskets[name] = group
    trade.progress.basket = group.name
