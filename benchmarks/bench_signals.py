"""The Signals station over 1,000,000 bars, of which 20,000 are shown: a blank that changes, and the
reasons at a bar under the pointer."""

from __future__ import annotations

import os
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtWidgets import QApplication

from bench_chart import history
from figures import line, median, percentile, ratio
from hawser.core.clock import MINUTE
from hawser.demo import world
from hawser.desk.app.start import application
from hawser.desk.common.appearance import Appearance
from hawser.desk.models.settings import Kept
from hawser.desk.signals.station import Signals
from hawser.service.profiles.sources import SourceShelf

BARS, TIMES = 1_000_000, 60
MOST_TYPED, MOST_POINTED = 16.0, 8.0  # ms
BLANKS = {
    "Ebb and flow": ("enter", 0, "a.length"),
    "Between the buoys": ("enter", 0, "b.length"),
    "Quiet channel": ("enter", 0, "length"),
}


def opened(folder: Path) -> Signals:
    bars, instrument = history(BARS), world.INSTRUMENTS[0][0]
    station = Signals(
        Appearance("paper", "UTC"),
        SourceShelf(folder / "sources"),
        Kept(),
        lambda then: then({instrument.symbol: (MINUTE, bars)}),
    )
    station.resize(1200, 700)
    station.show()
    station.show_history(instrument, MINUTE, bars)
    QApplication.processEvents()
    return station


def wait(station: Signals) -> float:
    """Until all bars have been evaluated; seconds."""
    started = time.perf_counter()
    while station._whole is None:
        QApplication.processEvents()
    return time.perf_counter() - started


def main() -> int:
    app = application()
    kept = True
    with tempfile.TemporaryDirectory() as name:
        station = opened(Path(name))
        print("The Signals station over 1,000,000 bars, 20,000 of them shown")
        for source, place in BLANKS.items():
            station.show_one(source)
            app.processEvents()
            wait(station)
            typed, pointed = [], []
            for number in range(TIMES):
                started = time.perf_counter()
                station.editor._typed(place, str(10 + number % 7))
                station._at_once.stop()
                station.look()
                typed.append(1e3 * (time.perf_counter() - started))
            everything = wait(station)
            for number in range(TIMES):
                started = time.perf_counter()
                station.chart._hovered = station.chart.size - 5 - number
                station.chart._show_asked()
                pointed.append(1e3 * (time.perf_counter() - started))
            line(f"{source}: a blank changes, median", median(typed), "ms")
            line(f"{source}: all bars, behind it", everything, "s")
            kept &= ratio(
                "a blank changes, 95th percentile / a frame",
                percentile(typed, 0.95),
                MOST_TYPED,
                1.0,
            )
            kept &= ratio(
                "reasons under the pointer, 95th percentile / 8 ms",
                percentile(pointed, 0.95),
                MOST_POINTED,
                1.0,
            )
        station.close()
        station._work.stop()
    return 0 if kept else 1


if __name__ == "__main__":
    sys.exit(main())
