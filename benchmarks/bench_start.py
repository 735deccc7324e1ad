"""Start to the first painted window with the demo, against a bare script that shows an empty window
of PyQt6 and NumPy.

Both are whole processes under the same Qt platform, in turn, each told to end at its first paint.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time

from figures import line, median, ratio

RUNS, MOST = 7, 2.5
BARE = """
import sys
import numpy
from PyQt6.QtWidgets import QApplication, QWidget
app = QApplication(sys.argv[:1])
window = QWidget()
window.resize(1280, 800)
window.show()
app.processEvents()  # shows it, and has it paint itself once
print("painted", flush=True)
import os, resource
print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, flush=True)
os._exit(0)
"""
# as `commands/desktop.py` begins
DEMO = """
import gc, sys, os
gc.disable()
from pathlib import Path
from hawser.demo.boot import boot
from hawser.desk.app.start import application, make_window
from hawser.service.profiles.profile import profile
app = application()
window = make_window(profile("demo", Path(sys.argv[1])), boot, "start")
window.resize(1280, 800)
window.show()
app.processEvents()  # shows it, and has it paint itself once
print("painted", flush=True)
os._exit(0)
"""


def seconds(script: str, *arguments: str) -> float:
    started = time.perf_counter()
    with subprocess.Popen(
        [sys.executable, "-c", script, *arguments], stdout=subprocess.PIPE, text=True
    ) as process:
        assert process.stdout is not None
        assert process.stdout.readline() == "painted\n"
        found = time.perf_counter() - started
        process.stdout.read()
    return found


def main() -> int:
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # what a person starts has been started before
    bare, demo = [], []
    with tempfile.TemporaryDirectory() as root:
        seconds(BARE)
        seconds(DEMO, root)
        for _ in range(RUNS):
            bare.append(seconds(BARE))
            demo.append(seconds(DEMO, root))
    print("Start to the first painted window")
    line("bare window, median", median(bare), "s")
    line("Hawser with the demo, median", median(demo), "s")
    return 0 if ratio("Hawser / bare", median(demo), median(bare), MOST) else 1


if __name__ == "__main__":
    sys.exit(main())
