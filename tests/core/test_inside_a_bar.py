"""What one bar fills, against a walk tick by tick."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from hawser.core.rules.inside_bar import (
    LOSS_STEP,
    OPTIMISTIC,
    PATH,
    PESSIMISTIC,
    STOP,
    TARGET,
    inside,
)

LEVEL = st.integers(80, 120)
LINES = st.lists(st.tuples(LEVEL, st.integers(0, 3)), max_size=4)  # levels and steps


def walked(order, opens, high, low, stop, left, targets, losses):
    """Every price of the bar in turn, and what it reaches; `targets` and `losses` are lists of
    level and steps."""
    up_first = order == OPTIMISTIC or (order == PATH and high - opens < opens - low)
    way = (
        [*range(opens, high + 1), *range(high, low - 1, -1)]
        if up_first
        else range(opens, low - 1, -1)
    )
    way = [opens, *way] if up_first else [opens, *way, *range(low, high + 1)]
    found, losses, targets = [], list(losses), list(targets)

    def take(what, number, price, steps):
        nonlocal left
        if left and steps:
            found.append((what, number, price, min(steps, left)))
            left -= min(steps, left)

    for at, price in enumerate(way):
        down = sorted(
            (-level, number)
            for number, (level, _) in enumerate(losses)
            if price <= level and level > stop
        )
        for _, number in down:
            take(LOSS_STEP, number + 1, min(opens, losses[number][0]), losses[number][1])
            losses[number] = (losses[number][0], 0)
        if price <= stop:
            take(STOP, 0, min(opens, stop), left)
        above = sorted(
            (level, number) for number, (level, _) in enumerate(targets) if price >= level
        )
        for _, number in above:
            take(TARGET, number + 1, max(opens, targets[number][0]), targets[number][1])
            targets[number] = (targets[number][0], 0)
        assert at or price == opens
    return found


@given(
    st.sampled_from((PESSIMISTIC, PATH, OPTIMISTIC)),
    st.tuples(LEVEL, LEVEL, LEVEL),
    LEVEL,
    st.integers(1, 6),
    LINES,
    LINES,
)
def test_a_bar_fills_what_a_walk_through_it_meets(order, prices, stop, left, targets, losses):
    low, opens, high = sorted(prices)
    out = np.zeros((20, 4), np.int64)
    arrays = [
        np.array([one[part] for one in which], np.int64)
        for which in (targets, losses)
        for part in (0, 1)
    ]
    count = inside(order, opens, high, low, stop, left, *arrays, out)
    assert [tuple(row) for row in out[:count].tolist()] == walked(
        order, opens, high, low, stop, left, targets, losses
    )
