"""Reckoning section 7: how automation moves a stop. It only ever tightens. All levels are in
ticks."""

from hawser.core.compiled import compiled, inlined
from hawser.core.rules.rounding import ceil_whole

NO_MOVE = -1


@compiled
def better_exit(best: int, price: int, side: int) -> int:
    """The best exit-side price so far: the highest bid for a long, the lowest ask for a short."""
    if side * (price - best) > 0:
        return price
    return best


@compiled
def even_level(side: int, price: float) -> int:
    """The entry as a stop: its average price, rounded to the profitable side."""
    return side * ceil_whole(side * price)


@compiled
def evened(level: int, stop: int, exit_side: int, min_ticks: int, side: int) -> int:
    """`level` where a stop may rest there now and that tightens it, else NO_MOVE: who asks for the
    entry itself is not given a level beside it."""
    if level > 0 and side * (level - stop) > 0 and side * (exit_side - level) >= max(1, min_ticks):
        return level
    return NO_MOVE


@inlined
def counted(candidate: int, stop: int, step: int, side: int) -> bool:
    """Whether a trail's candidate is better than the present stop by its `step` (at least one
    tick)."""
    return side * (candidate - stop) >= max(1, step)


@inlined
def sendable(candidate: int, stop: int, exit_side: int, min_ticks: int, side: int) -> int:
    """The level to send for `candidate`, or NO_MOVE.

    At or beyond the market nothing is sent; nearer than the minimum it is held back to that
    distance; what does not tighten the present stop by a whole tick is not sent.
    """
    if side * (exit_side - candidate) <= 0:
        return NO_MOVE
    nearest = exit_side - side * max(1, min_ticks)
    level = candidate
    if side * (candidate - nearest) > 0:
        level = nearest
    if side * (level - stop) < 1:
        return NO_MOVE
    return level
