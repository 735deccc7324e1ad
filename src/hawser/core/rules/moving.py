"""Reckoning section 7: how automation moves a stop. It only ever tightens. All levels are in ticks."""

from hawser.core.compiled import compiled, inlined

NO_MOVE = -1


@compiled
def better_exit(best: int, price: int, side: int) -> int:
    """The best exit-side price so far: the highest bid for a long, the lowest ask for a short."""
    if side * (price - best) > 0:
        return price
    return best


@inlined
def counted(candidate: int, stop: int, step: int, side: int) -> bool:
    """Whether a trail's candidate is better than the present stop by its `step` (at least one tick)."""
    return side * (candidate - stop) >= max(1, step)


@inlined
def sendable(candidate: int, stop: int, exit_side: int, min_ticks: int, side: int) -> int:
    """The level to send for `candidate`, or NO_MOVE.

    At or beyond the market nothing is sent; nearer than the minimum it is held back to that distance; what does
    not tighten the present stop by a whole tick is not sent.
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
