"""What several prices decide together, and what that means for a record that holds updates back."""

from __future__ import annotations

from hawser.core.guards.declared import LossSwitch
from hawser.engine import events as ev
from hawser.engine.guarding import whole_account
from hawser.engine.state import EngineState
from hawser.engine.tending import rig_watched


def order_counts(state: EngineState, event: ev.Quote | ev.RateSeen | ev.Figures) -> bool:
    """Whether an update's place among the others counts: a record of only the last of each, one after another, would
    pass through prices that never stood side by side, and reach a basket's limit that nobody saw reached."""
    in_ticks = any(group.basket.basis == "tick" for group in state.baskets.values())
    if isinstance(event, ev.Quote):  # thousands a second, and mostly no basket at all
        return in_ticks and any(trade.basket_quoted for trade in state.trades_in(event.symbol))
    if isinstance(event, ev.RateSeen):
        return in_ticks or any(map(rig_watched, state.live()))
    return any(isinstance(one, LossSwitch) and not whole_account(one) for one in state.guards.guard)
