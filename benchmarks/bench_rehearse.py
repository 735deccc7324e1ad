"""The rehearsal on 1,000,000 bars: risk-percent sizing, ATR stop, three targets, break-even, ATR
trail.

Nanoseconds a bar against a plain C loop compiled with -O3, and against the same rules interpreted;
and the whole process against reading the file and computing the ATR.
"""

from __future__ import annotations

import ctypes
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from figures import median
from hawser.core.account import Account, Costs, SizeRule
from hawser.core.bars import Bars
from hawser.core.clock import MINUTE
from hawser.core.indicators import atr
from hawser.core.instrument import Commission, Instrument
from hawser.core.joined_bars import Joined, joined_to
from hawser.core.levels import StopRule, TargetRule
from hawser.core.rig import After, BreakEven, Rig, Trail
from hawser.core.rules.inside_bar import PESSIMISTIC
from hawser.core.timeframes import timeframe
from hawser.rehearsal import batch, records
from hawser.rehearsal.run import Outcome, Rehearsal, SignalColumns

BARS, SIGNALS, RUNS, PLAIN, FINE = 1_000_000, 8_000, 5, 30_000, 5_000_000
HERE = Path(__file__).parent
INSTRUMENT = """
symbol = "CAD/CHF"
kind = "fx"
quote = "CHF"
base = "CAD"
tick = "0.00001"
multiplier = 100000
qty_step = "0.01"
qty_min = "0.01"
qty_max = "5000"
margin_rate = 0.0
min_stop_ticks = 3
[commission]
per_unit = 2.5
"""
ACCOUNT = """
currency = "CHF"
equity = 64000.0
[size]
method = "risk_percent"
percent = 0.05
[costs]
spread_ticks = 2
"""
RIG_TOML = """
stop = { atr = 2.5 }
target = [{ r = 1.0, share = 0.4 }, { r = 2.0, share = 0.3 }, { r = 4.0, share = 0.3 }]
break_even = { after = { r = 1.0 } }
trail = { atr = 3.0 }
"""
RIG = Rig(
    stop=StopRule(atr=2.5),
    break_even=BreakEven(After(r=1.0)),
    trail=Trail(atr=3.0),
    target=(
        TargetRule(share=0.4, r=1.0),
        TargetRule(share=0.3, r=2.0),
        TargetRule(share=0.3, r=4.0),
    ),
)


def made(count: int = BARS) -> tuple[Bars, np.ndarray]:
    draw = np.random.default_rng(5)
    opens = np.rint(300_000 + draw.normal(0, 8, count).cumsum()).clip(100_000)
    close = np.append(opens[1:], opens[-1])
    high = np.maximum(opens, close) + draw.integers(0, 12, count)
    low = np.minimum(opens, close) - draw.integers(0, 12, count)
    when = 1_577_836_800_000_000_000 + np.arange(count, dtype=np.int64) * MINUTE
    signal, many = np.zeros(count, np.int8), SIGNALS * count // BARS
    signal[draw.choice(count, many, replace=False)] = draw.choice([-1, 1], many)
    tick = 1e-5
    return Bars(
        when, opens * tick, high * tick, low * tick, close * tick, np.full(count, 2.0)
    ), signal


def rehearsal(bars: Bars, signal: np.ndarray, joined: Joined | None = None) -> Rehearsal:
    instrument = Instrument(
        symbol="CAD/CHF",
        kind="fx",
        quote="CHF",
        base="CAD",
        tick=Decimal("0.00001"),
        multiplier=100_000.0,
        qty_step=Decimal("0.01"),
        qty_min=Decimal("0.01"),
        qty_max=Decimal(5000),
        margin_rate=0.0,
        min_stop_ticks=3,
        commission=Commission(per_unit=2.5),
    )
    account = Account(
        currency="CHF", equity=64_000.0, size=SizeRule(percent=0.05), costs=Costs(2.0)
    )
    signals = SignalColumns(signal, np.zeros_like(signal))
    return Rehearsal(bars, signals, instrument, account, RIG, joined=joined)


def timed(work: Callable[[], object]) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def c_pass(folder: Path, one: Rehearsal, outcome: Outcome) -> Callable[[], object]:
    """The reference, which must find what the rehearsal found."""
    library = folder / "reference.so"
    subprocess.run(
        ["cc", "-O3", "-shared", "-fPIC", "-o", library, HERE / "rehearse_reference.c", "-lm"],
        check=True,
    )
    function = ctypes.CDLL(str(library))["pass"]
    function.restype = ctypes.c_int64
    history = one.history
    names = ("open", "high", "low", "close", "spread", "signal", "atr")
    columns = [
        (history.prices if name in records.PRICES.names else history.bars)[name].astype(
            np.float64 if name == "atr" else np.int64
        )
        for name in names
    ]
    pointers = [column.ctypes.data_as(ctypes.c_void_p) for column in columns]
    figures = [ctypes.c_double(value) for value in (one.money.tick_step, 0.025, 0.05)]

    def run() -> list[np.ndarray]:
        """Equity, trades, their money, fills, moves: made anew each time, as the rehearsal makes
        them."""
        made = [
            np.empty(BARS),
            np.empty((SIGNALS, 11), np.int64),
            np.empty((SIGNALS, 2)),
            np.empty((4 * SIGNALS, 6)),
        ]
        made += [np.empty((BARS, 3), np.int64), np.empty(2, np.int64)]
        places = [array.ctypes.data_as(ctypes.c_void_p) for array in made]
        count = function(ctypes.c_int64(BARS), *pointers, *figures, *places)
        fills, moves = made.pop()
        return [made[0], made[1][:count], made[2][:count], made[3][:fills], made[4][:moves]]

    same(outcome, run())
    return run


def same(ours: Outcome, theirs: list[np.ndarray]) -> None:
    """The reference is one only if it finds the same."""
    columns = [
        batch.SIDE,
        batch.FIRST,
        batch.LAST,
        batch.REF,
        batch.STOP_AT,
        batch.STEPS,
        batch.BEST,
        batch.WORST,
    ]
    whole = ours.rows.whole[:, [*columns, batch.FILL_FROM, batch.MOVE_FROM, batch.DEPENDENT]]
    for one, other in zip(
        [ours.equity, whole, ours.rows.money, ours.fills, ours.moves], theirs, strict=True
    ):
        np.testing.assert_allclose(one, other, rtol=0, atol=1e-6)


def interpreted() -> float:
    """Seconds a bar with the rules left as plain Python, on a part of the bars."""
    code = (
        f"import sys, time; sys.path.insert(0, {str(HERE)!r}); import bench_rehearse as b\n"
        f"bars, signal = b.made(); n = {PLAIN}\n"
        "one = b.rehearsal(bars.mapped(lambda column: column[:n]), signal[:n])\n"
        "begun = time.perf_counter(); one.run(b.PESSIMISTIC); print((time.perf_counter() - begun) "
        "/ n)"
    )
    done = subprocess.run(
        [sys.executable, "-c", code],
        capture_output=True,
        text=True,
        check=True,
        env={"NUMBA_DISABLE_JIT": "1"},
    )
    return float(done.stdout)


def files(folder: Path, bars: Bars, signal: np.ndarray) -> Path:
    """A folder of its own with everything that `hawser rehearse` reads."""
    folder.mkdir()
    columns = {
        "time": pa.array(bars.time, pa.timestamp("ns", tz="UTC")),
        "open": bars.open,
        "high": bars.high,
    }
    table = pa.table(columns | {"low": bars.low, "close": bars.close, "signal": signal})
    pq.write_table(table, folder / "bars.parquet")
    for name, text in (("i", INSTRUMENT), ("a", ACCOUNT), ("r", RIG_TOML)):
        (folder / f"{name}.toml").write_text(text)
    return folder


PEAK = """
import sys
from hawser.cli import main
sys.argv[0] = "hawser"
try:
    main()
finally:  # its own peak: who waits for a process is told that of the one it was forked from too
    status = open("/proc/self/status").read().splitlines()
    print(next(int(line.split()[1]) / 1024 for line in status if line.startswith("VmHWM")))
"""


def process(arguments: list[str | Path]) -> tuple[float, str]:
    """Median seconds of a Python process run three times, behind one run that warms, and what it
    printed last."""
    found = []
    for _ in range(4):
        begun = time.perf_counter()
        done = subprocess.run(
            [sys.executable, *arguments], check=True, capture_output=True, text=True
        )
        found.append(time.perf_counter() - begun)
    return median(found[1:]), done.stdout


def rehearsed(folder: Path) -> tuple[float, float]:
    """Seconds of the process, and its peak memory in MB."""
    command: list[str | Path] = [
        "rehearse",
        "--bars",
        folder / "bars.parquet",
        "--instrument",
        folder / "i.toml",
    ]
    command += ["--rig", folder / "r.toml", "--account", folder / "a.toml", "--out", folder / "out"]
    command += ["--replace"]
    return process(["-m", "hawser", *command])[0], float(
        process(["-c", PEAK, *command])[1].split()[-1]
    )


READ = """
import sys, pyarrow.parquet as pq
table = pq.read_table(sys.argv[1])
columns = [table.column(name).to_numpy() for name in table.column_names]
"""
READ_ATR = """
import sys, pyarrow.parquet as pq
from hawser.core.indicators import atr
table = pq.read_table(sys.argv[1])
atr(*(table.column(name).to_numpy() for name in ("high", "low", "close")), 14, False)
"""


def whole(folder: Path, bars: Bars, signal: np.ndarray) -> None:
    """The whole process: its time against reading the file and the ATR, its memory against the
    arrays."""
    # with its modules compiled, as those of the libraries are
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    long = files(folder / "long", bars, signal)
    seconds, peak = rehearsed(long)
    least, bare = rehearsed(
        files(folder / "short", bars.mapped(lambda column: column[:200]), signal[:200])
    )
    file = long / "bars.parquet"
    beside, alone = process(["-c", READ_ATR, file])[0], process(["-c", READ, file])[0]

    def read() -> None:
        read_in = pq.read_table(file)
        atr(*(read_in.column(name).to_numpy() for name in ("high", "low", "close")), 14, False)

    read()
    reading = median([timed(read) for _ in range(3)])
    arrays = BARS * 6 * 8 / 1e6  # time, four prices, signals
    print(f"whole process: {seconds:.2f} s, of 200 bars {least:.2f} s")
    print(
        f"a process that only reads the file: {alone:.2f} s, ratio {seconds / alone:.1f} "
        "(wanted: 6)"
    )
    print(
        f"a process that reads it and computes the ATR: {beside:.2f} s, ratio "
        f"{seconds / beside:.1f} (wanted: 6)"
    )
    print(
        f"reading and ATR inside a process that has begun: {reading:.3f} s, ratio "
        f"{seconds / reading:.0f}"
    )
    print(f"peak {peak:.0f} MB, of 200 bars {bare:.0f}, arrays {arrays:.0f}")
    print(f"ratio {(peak - bare) / arrays:.1f} (wanted: 3)")


def finer() -> None:
    """Bars of a minute inside those of an hour, against a plain run over the minutes; each hour has
    a signal, so that a position is nearly always held."""
    bars, signal = made(FINE)
    joined = joined_to(bars, timeframe("1h"))
    signal[joined.lasts] = np.random.default_rng(3).choice([-1, 1], joined.lasts.size)
    inside, plain = rehearsal(bars, signal, joined), rehearsal(bars, signal)
    held = inside.run(PESSIMISTIC).held / joined.bars.time.size
    plain.run(PESSIMISTIC)
    seconds = [
        (timed(lambda: inside.run(PESSIMISTIC)), timed(lambda: plain.run(PESSIMISTIC)))
        for _ in range(RUNS)
    ]
    ours, theirs = (median(list(one)) / FINE * 1e9 for one in zip(*seconds, strict=True))
    print(f"1m inside 1h: {ours:.1f} ns a minute, in the market {held:.0%} of the hours")
    print(f"plain over the minutes: {theirs:.1f} ns a bar")
    print(f"ratio {ours / theirs:.2f} (wanted: 1.3)")


def main() -> None:
    bars, signal = made()
    one = rehearsal(bars, signal)
    outcome = one.run(PESSIMISTIC)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        reference = c_pass(folder, one, outcome)
        # in turn: this machine may be half as fast a second later
        pairs = [
            (timed(lambda: one.run(PESSIMISTIC)), timed(reference)) for _ in range(4 * RUNS + 1)
        ]
        ours, theirs = (median(list(times)) for times in zip(*pairs, strict=True))
        each, c_each = ours / BARS * 1e9, theirs / BARS * 1e9
        print(f"rehearsal: {each:.1f} ns a bar, {len(outcome.trades)} trades")
        print(f"C: {c_each:.1f} ns a bar, and the same trades, fills, moves and equity")
        print(f"ratio to C: {ours / theirs:.2f} (wanted: 1.5)")
        slow = interpreted() * 1e9
        print(f"interpreted: {slow:.0f} ns a bar, {slow / each:.0f} times slower (wanted: 100)")
        whole(folder, bars, signal)
    finer()


if __name__ == "__main__":
    main()
