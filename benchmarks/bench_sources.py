"""A source of three conditions over six lines on 1,000,000 bars, against a C loop compiled with -O3
that makes the same columns; one evaluation at a completed bar, after 1,000 bars and after
1,000,000.
"""

from __future__ import annotations

import ctypes
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from figures import line, median, ratio
from hawser.core.bars import Bars
from hawser.core.sources.evaluation import Evaluation, evaluated
from hawser.core.sources.view import BarsSeen
from hawser.formats.sources import source_of

BARS, RUNS, STEPS, MOST, MOST_US = 1_000_000, 7, 400, 2.0, 100.0
HERE = Path(__file__).parent
SOURCE = source_of(
    {
        "name": "Measured",
        "enter": [
            {
                "kind": "crosses",
                "a": {"kind": "ema", "length": 12},
                "b": {"kind": "sma", "length": 48},
            }
        ],
        "only": [
            {
                "kind": "above",
                "a": "close",
                "b": {"kind": "band_upper", "length": 20, "factor": 0.5},
                "b_short": {"kind": "band_lower", "length": 20, "factor": 0.5},
            }
        ],
        "leave": [{"kind": "breaks", "length": 10}],
    },
    "here",
)


def made(count: int) -> Bars:
    draw = np.random.default_rng(8)
    opens = np.rint(300_000 + draw.normal(0, 8, count).cumsum()).clip(100_000) * 1e-5
    close = np.append(opens[1:], opens[-1])
    high = np.maximum(opens, close) + draw.integers(0, 12, count) * 1e-5
    low = np.minimum(opens, close) - draw.integers(0, 12, count) * 1e-5
    when = 1_577_836_800_000_000_000 + np.arange(count, dtype=np.int64) * 60_000_000_000
    return Bars(when, opens, high, low, close, np.full(count, 2.0))


def in_c(folder: Path) -> ctypes.CDLL:
    built = folder / "reference.so"
    source = HERE / "sources_reference.c"
    subprocess.run(["cc", "-O3", "-shared", "-fPIC", source, "-o", built, "-lm"], check=True)
    return ctypes.CDLL(str(built))


def seconds_of(work) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def live_us(bars: Bars, before: int) -> float:
    """Microseconds of one evaluation at a completed bar, behind so many."""
    running, taken = Evaluation(SOURCE, 60_000_000_000), []
    for size in range(before, before + STEPS):
        seen = BarsSeen(bars.mapped(lambda column, size=size: column[:size]))
        taken.append(seconds_of(lambda seen=seen: running.extended(seen)))
    return median(taken[2:]) * 1e6


def main() -> int:
    bars = made(BARS)
    signal, leave = np.zeros(BARS, np.int8), np.zeros(BARS, np.int8)
    with tempfile.TemporaryDirectory() as name:
        reference = in_c(Path(name))

        def plain() -> None:
            reference.columns(
                *(
                    column.ctypes.data_as(ctypes.c_void_p)
                    for column in (bars.high, bars.low, bars.close)
                ),
                ctypes.c_long(BARS),
                12,
                48,
                20,
                ctypes.c_double(0.5),
                10,
                signal.ctypes.data_as(ctypes.c_void_p),
                leave.ctypes.data_as(ctypes.c_void_p),
            )

        said = evaluated(SOURCE, BarsSeen(bars), 60_000_000_000)
        plain()
        assert (said.signal == signal).all() and (said.leave == leave).all()
        ours, theirs = [], []
        for _ in range(RUNS):
            ours.append(seconds_of(lambda: evaluated(SOURCE, BarsSeen(bars), 60_000_000_000)))
            theirs.append(seconds_of(plain))
    print("A source of three conditions over six lines")
    line("C -O3", median(theirs) * 1e3, "ms")
    line("Hawser", median(ours) * 1e3, "ms")
    kept = ratio("Hawser / C", median(ours), median(theirs), MOST)
    few, many = live_us(bars, 1_000), live_us(bars, BARS - STEPS - 1)
    line("one evaluation at a completed bar, behind 1,000", few, "us")
    kept &= ratio("the same behind 1,000,000, in us", many, 1.0, MOST_US)
    kept &= ratio("behind 1,000,000 / behind 1,000", many, few, 1.5)
    return 0 if kept else 1


if __name__ == "__main__":
    sys.exit(main())
