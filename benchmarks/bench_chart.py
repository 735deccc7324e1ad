"""A chart of 1,000,000 bars against one of 1,000: opening, and the 95th percentile of a pan's and a
zoom's frame; the same with six lines over the bars, one of them in a strip below."""

from __future__ import annotations

import os
import sys
import time

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from PyQt6.QtWidgets import QApplication

from figures import line, percentile, ratio
from hawser.core.bars import Bars
from hawser.core.clock import MINUTE
from hawser.core.sources.lines.averages import BandLower, BandUpper, Ema, Sma
from hawser.core.sources.lines.ranges import Rsi
from hawser.core.sources.lines.trends import Supertrend
from hawser.demo import world
from hawser.desk.app.start import application
from hawser.desk.chart.chart import Chart
from hawser.desk.common.appearance import Appearance
from hawser.desk.models.chart_lines import Drawing
from hawser.desk.models.pyramid import Pyramid
from hawser.desk.models.source_look import Ground

FRAMES = 240


def history(size: int) -> Bars:
    rng = np.random.default_rng(7)
    close = 0.61 * np.exp(np.cumsum(rng.normal(0, 0.00005, size)))
    open_ = np.r_[0.61, close[:-1]]
    high, low = np.maximum(open_, close) * 1.00004, np.minimum(open_, close) * 0.99996
    return Bars(
        np.arange(size, dtype=np.int64) * MINUTE, open_, high, low, close, np.full(size, 9.0)
    )


LINES = (
    Sma(length=20),
    Ema(length=50),
    BandUpper(length=20, factor=2.0),
    BandLower(length=20, factor=2.0),
    Supertrend(length=10, factor=3.0),
    Rsi(length=14),
)


def frames(size: int, lines: bool = False) -> tuple[float, float, list[float]]:
    """Seconds to make the levels, seconds to the first frame, seconds of each frame of a walk
    through the history. `lines`: with six over the bars."""
    bars = history(size)
    started = time.perf_counter()
    pyramid = Pyramid(bars)
    made = time.perf_counter() - started
    chart = Chart(Appearance("paper", "UTC"))
    chart.resize(900, 520)
    chart.show()
    started = time.perf_counter()
    chart.show_bars(world.INSTRUMENTS[0][0], MINUTE, pyramid, [MINUTE])
    if lines:
        drawing = Drawing(LINES, MINUTE, world.INSTRUMENTS[0][0].symbol)
        curves, panels = drawing.go_on(Ground(world.INSTRUMENTS[0][0], MINUTE, bars))
        chart.show_lines(list(curves), list(panels))
    QApplication.processEvents()
    chart.grab()
    opened = time.perf_counter() - started
    found = []
    for number in range(FRAMES):
        started = time.perf_counter()
        if number % 12 == 0:
            chart.zoom(3.0 if number < FRAMES / 2 else 1 / 3.0)
        else:
            chart.pan(chart.shown / 20 * (1 if number % 24 < 12 else -1))
        chart.plot.grab()
        for strip in chart.over.strips.shown:
            strip.grab()
        found.append(time.perf_counter() - started)
    chart.close()
    return made, opened, found


def main() -> int:
    app = application()
    frames(1_000)
    small, large = frames(1_000), frames(1_000_000)
    lined = frames(1_000_000, lines=True)
    app.processEvents()
    print("A chart of 1,000,000 bars against one of 1,000")
    line("levels of detail for 1,000,000 bars", large[0] * 1e3, "ms, on the engine's thread")
    line("opening, 1,000 bars", small[1] * 1e3, "ms")
    line("opening, 1,000,000 bars", large[1] * 1e3, "ms")
    line("frame, 95th percentile, 1,000 bars", percentile(small[2], 0.95) * 1e3, "ms")
    line("frame, 95th percentile, 1,000,000 bars", percentile(large[2], 0.95) * 1e3, "ms")
    kept = ratio(
        "95th percentile frame, 1,000,000 / 1,000 bars",
        percentile(large[2], 0.95),
        percentile(small[2], 0.95),
        2.0,
    )
    line("the same with six lines", percentile(lined[2], 0.95) * 1e3, "ms")
    kept &= ratio(
        "with six lines over 1,000,000 / 1,000 bare bars",
        percentile(lined[2], 0.95),
        percentile(small[2], 0.95),
        2.0,
    )
    return 0 if kept else 1


if __name__ == "__main__":
    sys.exit(main())
