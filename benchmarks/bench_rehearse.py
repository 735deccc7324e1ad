"""The rehearsal on 1,000,000 bars: risk-percent sizing, ATR stop, three targets, break-even, ATR trail.

Nanoseconds a bar against a plain C loop compiled with -O3, and against the same rules interpreted; and the whole
process against reading the file and computing the ATR.
"""

from __future__ import annotations

import ctypes
import resource
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
from hawser.core.indicators import atr
from hawser.core.instrument import Commission, Instrument
from hawser.core.levels import StopRule, TargetRule
from hawser.core.rig import After, BreakEven, Rig, Trail
from hawser.core.rules.tending import PESSIMISTIC
from hawser.rehearsal.run import Rehearsal, Signals

BARS, SIGNALS, RUNS, PLAIN = 1_000_000, 8_000, 5, 30_000
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
    stop=StopRule(atr=2.5), break_even=BreakEven(After(r=1.0)), trail=Trail(atr=3.0),
    target=(TargetRule(share=0.4, r=1.0), TargetRule(share=0.3, r=2.0), TargetRule(share=0.3, r=4.0)),
)  # fmt: skip


def made() -> tuple[Bars, np.ndarray]:
    draw = np.random.default_rng(5)
    opens = np.rint(300_000 + draw.normal(0, 8, BARS).cumsum()).clip(100_000)
    close = np.append(opens[1:], opens[-1])
    high = np.maximum(opens, close) + draw.integers(0, 12, BARS)
    low = np.minimum(opens, close) - draw.integers(0, 12, BARS)
    when = 1_577_836_800_000_000_000 + np.arange(BARS, dtype=np.int64) * 60_000_000_000
    signal = np.zeros(BARS, np.int8)
    signal[draw.choice(BARS, SIGNALS, replace=False)] = draw.choice([-1, 1], SIGNALS)
    tick = 1e-5
    return Bars(when, opens * tick, high * tick, low * tick, close * tick, np.full(BARS, 2.0)), signal


def rehearsal(bars: Bars, signal: np.ndarray) -> Rehearsal:
    instrument = Instrument(
        symbol="CAD/CHF", kind="fx", quote="CHF", base="CAD", tick=Decimal("0.00001"), multiplier=100_000.0,
        qty_step=Decimal("0.01"), qty_min=Decimal("0.01"), qty_max=Decimal(5000), margin_rate=0.0, min_stop_ticks=3,
        commission=Commission(per_unit=2.5),
    )  # fmt: skip
    account = Account(currency="CHF", equity=64_000.0, size=SizeRule(percent=0.05), costs=Costs(2.0))
    return Rehearsal(bars, Signals(signal, np.zeros_like(signal)), instrument, account, RIG)


def timed(work: Callable[[], object]) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def c_pass(folder: Path, one: Rehearsal) -> tuple[float, int]:
    library = folder / "reference.so"
    subprocess.run(["cc", "-O3", "-shared", "-fPIC", "-o", library, HERE / "rehearse_reference.c", "-lm"], check=True)
    function = ctypes.CDLL(str(library))["pass"]
    function.restype = ctypes.c_int64
    history, equity = one.history, np.empty(BARS)
    signal = history.signal.astype(np.int64)
    columns = (history.open, history.high, history.low, history.close, history.spread, signal, history.atr)
    pointers = [column.ctypes.data_as(ctypes.c_void_p) for column in columns]
    figures = [ctypes.c_double(value) for value in (one.money.tick_step, 0.025, 0.05)]
    trades = 0

    def run() -> None:
        nonlocal trades
        trades = function(ctypes.c_int64(BARS), *pointers, *figures, equity.ctypes.data_as(ctypes.c_void_p))

    run()
    return median([timed(run) for _ in range(RUNS)]), trades


def interpreted() -> float:
    """Seconds a bar with the rules left as plain Python, on a part of the bars."""
    code = (
        f"import sys, time; sys.path.insert(0, {str(HERE)!r}); import bench_rehearse as b\n"
        f"bars, signal = b.made(); n = {PLAIN}\n"
        "one = b.rehearsal(bars.mapped(lambda column: column[:n]), signal[:n])\n"
        "begun = time.perf_counter(); one.run(b.PESSIMISTIC); print((time.perf_counter() - begun) / n)"
    )
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=True, env={"NUMBA_DISABLE_JIT": "1"}
    )
    return float(done.stdout)


def whole(folder: Path, bars: Bars, signal: np.ndarray) -> tuple[float, float, float]:
    """Seconds of the process, of reading and the ATR, and the process's peak memory in MB."""
    columns = {"time": pa.array(bars.time, pa.timestamp("ns", tz="UTC")), "open": bars.open, "high": bars.high}
    table = pa.table(columns | {"low": bars.low, "close": bars.close, "signal": signal})
    path = folder / "bars.parquet"
    pq.write_table(table, path)
    for name, text in (("i", INSTRUMENT), ("a", ACCOUNT), ("r", RIG_TOML)):
        (folder / f"{name}.toml").write_text(text)
    command = [sys.executable, "-m", "hawser", "rehearse", "--bars", path, "--instrument", folder / "i.toml", "--rig"]
    command += [folder / "r.toml", "--account", folder / "a.toml", "--out", folder / "out"]
    subprocess.run(command, check=True)
    process = timed(lambda: subprocess.run(command, check=True))
    peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024

    def read() -> None:
        read_in = pq.read_table(path)
        atr(*(read_in.column(name).to_numpy() for name in ("high", "low", "close")), 14, False)

    read()
    return process, median([timed(read) for _ in range(3)]), peak


def main() -> None:
    bars, signal = made()
    one = rehearsal(bars, signal)
    outcome = one.run(PESSIMISTIC)
    ours = median([timed(lambda: one.run(PESSIMISTIC)) for _ in range(RUNS)])
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        theirs, trades = c_pass(folder, one)
        each, c_each = ours / BARS * 1e9, theirs / BARS * 1e9
        print(f"rehearsal: {each:.0f} ns a bar, {len(outcome.trades)} trades; C: {c_each:.0f} ns, {trades} trades")
        print(f"ratio to C: {ours / theirs:.2f} (wanted: 1.5)")
        slow = interpreted() * 1e9
        print(f"interpreted: {slow:.0f} ns a bar, {slow / each:.0f} times slower (wanted: 100)")
        process, reading, peak = whole(folder, bars, signal)
        print(f"whole process: {process:.2f} s, peak {peak:.0f} MB; reading and ATR {reading:.2f} s")
        print(f"ratio {process / reading:.1f} (wanted: 6)")


if __name__ == "__main__":
    main()
