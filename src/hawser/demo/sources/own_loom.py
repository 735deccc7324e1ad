"""A source of one's own: +1 where the close has risen by a gap since some bars before, -1 where it
has fallen by one."""

import numpy as np


def signals(bars, settings):
    """`bars`: the columns so far; `settings`: what the source's file hands over."""
    back, gap = int(settings["bars"]), float(settings["gap"])
    close = bars.close
    found = np.zeros(len(close), dtype=int)
    if len(close) <= back:
        return found
    change = close[back:] / close[:-back] - 1.0
    found[back:][change > gap] = 1
    found[back:][change < -gap] = -1
    return found
