"""Fill the compiled cache: run after installing, so that nobody waits for a compiler with a trade open."""

from __future__ import annotations

import time

import numpy as np


def warm() -> None:
    """Call every compiled rule once with the types it is used with."""
    from hawser.core import bars, indicators
    from hawser.core.rules import moving, quantity, rounding, stops, targets

    columns = [np.arange(1.0, 40.0) for _ in range(5)]
    times = np.arange(39, dtype=np.int64) * 60
    bars.joined(bars.Bars(times, *columns), 300)
    indicators.atr(columns[0], columns[1], columns[2], 14, False)
    indicators.true_range_at(2.0, 1.0, 1.5)
    indicators.wilder_next(1.0, 2.0, 14)
    rounding.floor_whole(1.5)
    stops.stop_level(stops.ATR, 2.5, 100.0, 4.0, 1)
    stops.stop_verdict(90, 100, 99, 1, 2)
    targets.target_level(targets.R, 2.0, 100.0, 10.0, 4.0, 1)
    targets.steps_through(0.5, 10)
    fees = (1.0, 0.0, 0.0, 0.0)
    quantity.commission(1.0, 1.0, *fees)
    quantity.risk_of(1.0, 10.0, 1.0, 1.0, 1.0, *fees)
    quantity.steps_within(100.0, 1.0, 10.0, 1.0, 1.0, 1.0, *fees)
    quantity.money_stop_distance(100.0, 1.0, 1, 100, 1.0, 0.0, 1.0, *fees)
    moving.trail_atr(100.0, 0.0, 3.0, 4.0, 1)
    moving.better_exit(100, 101, 1)
    moving.counted(100, 90, 1, 1)
    moving.sendable(95, 90, 100, 2, 1)


if __name__ == "__main__":
    started = time.perf_counter()
    warm()
    print(f"Rules compiled in {time.perf_counter() - started:.1f} s")
