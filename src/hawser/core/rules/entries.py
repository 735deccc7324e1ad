"""Where a pending entry stands, and what a held line does at a quote. All prices in ticks."""

from hawser.core.compiled import compiled, inlined
from hawser.core.rules.rounding import ceil_whole

ENTRY_OK, ENTRY_NOT_POSITIVE, ENTRY_WRONG_SIDE, ENTRY_TOO_NEAR = 0, 1, 2, 3
HELD_QUIET, HELD_SPIKE, HELD_REACHED = 0, 1, 2


@inlined
def filled_at(price: float) -> float:
    """What an order fills at after slippage: never below one tick."""
    return max(1.0, float(price))


@compiled
def entry_stands(level: int, market: int, away: int, min_ticks: int) -> int:
    """Whether an entry may wait at `level`: one of the ENTRY_ codes. `market` is the entry side of
    the quote, `away` +1 where the entry must lie above it, -1 below."""
    if level <= 0:
        return ENTRY_NOT_POSITIVE
    if away * (level - market) <= 0:
        return ENTRY_WRONG_SIDE
    if away * (level - market) < max(1, min_ticks):
        return ENTRY_TOO_NEAR
    return ENTRY_OK


@compiled
def held_stop(stop: int, bid: int, ask: int, usual_spread: float, side: int) -> int:
    """What a held stop says of a quote: one of the HELD_ codes. A spike: at the usual spread,
    measured from the side that did not move out, the stop would not have been reached."""
    if side > 0:
        if bid > stop:
            return HELD_QUIET
        if ask - usual_spread > stop:
            return HELD_SPIKE
        return HELD_REACHED
    if ask < stop:
        return HELD_QUIET
    if bid + usual_spread < stop:
        return HELD_SPIKE
    return HELD_REACHED


@compiled
def backstop_behind(r_ticks: int, multiple: float) -> int:
    """How far behind a held stop the backstop rests: at `multiple` R from the entry at first, at
    least a tick."""
    return max(1, ceil_whole(multiple * r_ticks) - r_ticks)
