"""Where the compiled cache is cold the window comes first, and compiling happens away from the Qt
thread."""

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from hawser.core import bars, indicators, stop_lines
from hawser.core.guards import limits
from hawser.core.rules import bar_close, moving, quantity, rounding, stops, targets, trade_levels

SOURCE = Path(bars.__file__).parents[1]
# Called by other rules only, or by `hawser lines` and rehearsed guards, which have no window.
ELSEWHERE = (
    "true_range",
    "ceil_whole",
    "level_ticks",
    "rsi",
    "_next_parabolic",
    "counted",
    "sendable",
    "trail_candidate",
    "steps_within",
    "basket_reached",
    "distance",
    "fee",
    "_begins",
    "_even",
    "_at_distance",
    "floor_whole",
    "medians",
    "percentiles",
    "each_against",
    "each_outside",
    "each_spread_over",
    "_whole_within",
    "mean_of",
    "_extremes",
    "leaves",
    "money_at",
    "even_level_of",
)
WAYS = "_on"  # how those end that a whole history is gone through by: rules call them

COLD = """
import sys, tempfile, threading, time
from pathlib import Path
begun = time.perf_counter()
from hawser.demo.boot import boot
from hawser.desk.app.start import application, make_window
from hawser.desk.app.shots import settle
from hawser.service.profiles.profile import profile
from hawser.desk.rigs import trials
trials.prime_trials = lambda: None  # on a thread of its own, for as long again
HUNG_MS = 400_000  # compiling takes as long as the machine takes for it
STOPS = (
    "3 atr", "46 t", "0.8 %", "0.6", "0.7", "900 t", "3 bars", "pivot 2 2", "sma 9", "ema 9",
    "channel 9", "supertrend 9 3", "parabolic",
)
OTHERS = (
    ("target1", "2 atr"), ("target2", "0.65"), ("target3", "1 %"),
    ("risk", "1"), ("share3", "rest"),
)
SIZES = (
    ("2 units", "150 CHF"), ("invest 20000 risk 90", ""), ("385 CHF", "3 atr"),
    ("20 % notional", "3 atr"), ("0.2 % per 2 atr", "3 atr"),
)
app = application()
from numba.core import event
compiled_on = set()
class Note(event.Listener):
    def on_start(self, found):
        compiled_on.add(threading.current_thread().name)
    def on_end(self, found):
        pass
with tempfile.TemporaryDirectory() as root, event.install_listener("numba:compile", Note()):
    window = make_window(profile("demo", Path(root)), boot, "cold", running=False)
    window.show()
    app.processEvents()
    window.grab()
    painted = time.perf_counter()
    before = set(compiled_on)
    window.runtime.start()
    plan = window.helm.plan.planning
    connected = lambda: window.latest is not None and window.latest.link_up
    settle(window, lambda: connected() and plan.sizing, HUNG_MS)
    ready = time.perf_counter()
    plan = window.helm.plan
    for side in (1, -1):
        plan.set_side(side)
        for stop in STOPS:
            for name, text in (("stop", stop), *OTHERS):
                plan.field(name).setText(text)
            plan._edited()
        for size, stop in SIZES:
            plan.field("risk").setText(size)
            plan.field("stop").setText(stop)
            plan._edited()
    window.helm.choose_instrument("Lumenfold")
    settle(window, lambda: window.helm.plan.planning.sizing, HUNG_MS)
    window.close()
print(sorted(before), sorted(compiled_on), painted < ready)
"""


@pytest.mark.timeout(900)
def test_compiling_never_holds_the_window_up(tmp_path):
    env = {
        **os.environ,
        "NUMBA_CACHE_DIR": str(tmp_path),
        "QT_QPA_PLATFORM": "offscreen",
        "NUMBA_OPT": "0",
    }
    done = subprocess.run(
        [sys.executable, "-c", COLD],
        capture_output=True,
        text=True,
        timeout=900,
        env=env,
        check=False,
    )
    assert done.stdout.split("\n")[0] == "[] ['engine'] True", done.stderr[-2000:]


def test_priming_meets_every_compiled_rule():
    from hawser.service.runtime.warming import prime_rules

    prime_rules()
    for module in (
        bars,
        indicators,
        limits,
        stop_lines,
        bar_close,
        trade_levels,
        moving,
        quantity,
        rounding,
        stops,
        targets,
    ):
        for name, rule in vars(module).items():
            if (
                hasattr(rule, "py_func")
                and hasattr(rule, "signatures")
                and rule.__module__ == module.__name__
            ):
                elsewhere = name in ELSEWHERE or name.endswith(WAYS)
                assert rule.signatures or elsewhere, f"{module.__name__}.{name}"


def test_a_rule_that_was_mended_is_not_run_from_old_machine_code_of_those_that_call_it(tmp_path):
    """Numba by itself would: it looks at the caller's file alone."""
    shutil.copytree(
        SOURCE, tmp_path / "hawser", ignore=shutil.ignore_patterns("__pycache__", "desk")
    )
    env = {**os.environ, "PYTHONPATH": str(tmp_path), "NUMBA_CACHE_DIR": str(tmp_path / "kept")}
    asked = (
        "from hawser.core.rules.stops import stop_level; print(stop_level(1, 46.5, 1000.0, 1.0, 1))"
    )

    def told() -> str:
        done = subprocess.run(
            [sys.executable, "-c", asked], capture_output=True, text=True, check=True, env=env
        )
        return done.stdout.strip()

    assert told() == "953"
    rounding = tmp_path / "hawser/core/rules/rounding.py"
    text = rounding.read_text()
    rounding.write_text(text.replace("if side > 0:", "if side < 0:"))
    assert told() == "954"
    rounding.write_text(text)
    assert told() == "953"


ASKED = "from hawser.core.rules.rounding import floor_steps; print(floor_steps(3.5))"
TOO_FULL = """
import resource, signal
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
"""
UNWRITABLE = """
import tempfile
def refused(**of):
    raise OSError(30, "Read-only file system")
tempfile.TemporaryFile = refused
"""


@pytest.mark.parametrize("before", ["", TOO_FULL, UNWRITABLE])
def test_rules_are_compiled_where_nothing_can_be_kept_or_what_is_kept_is_damaged(tmp_path, before):
    def told() -> str:
        env = {**os.environ, "NUMBA_CACHE_DIR": str(tmp_path)}
        done = subprocess.run(
            [sys.executable, "-c", before + ASKED],
            capture_output=True,
            text=True,
            env=env,
            check=False,
        )
        return done.stdout.strip() or done.stderr

    assert told() == "3"
    kept = [path for path in tmp_path.rglob("*") if path.is_file()]
    assert bool(kept) == (not before)
    for path in kept:  # as a power cut leaves them
        path.write_bytes(b"")
    assert told() == "3"
    assert all(path.stat().st_size for path in kept)  # and it is kept again
    for path in kept:
        path.write_bytes(path.read_bytes()[:-9])
    assert told() == "3"
