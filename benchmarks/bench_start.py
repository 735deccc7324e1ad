"""Start to the first painted window with the demo, against a bare script that shows an empty plot window.

Both are whole processes under the same Qt platform, in turn, each told to end at its first paint.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time

from figures import line, median, ratio

RUNS = 7
BARE = """
import sys
import numpy, pyqtgraph
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication
app = QApplication(sys.argv[:1])
window = pyqtgraph.PlotWidget()
window.resize(1280, 800)
window.show()
app.processEvents()
window.grab()
print("painted", flush=True)
import os, resource
print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, flush=True)
os._exit(0)
"""
DEMO = """
import sys, os
from pathlib import Path
from hawser.demo.boot import boot
from hawser.desk.app.start import application, make_window
from hawser.service.profiles.profile import profile
app = application()
window = make_window(profile("demo", Path(sys.argv[1])), boot, "start")
window.resize(1280, 800)
window.show()
app.processEvents()
window.grab()
print("painted", flush=True)
os._exit(0)
"""


def seconds(script: str, *arguments: str) -> float:
    started = time.perf_counter()
    with subprocess.Popen([sys.executable, "-c", script, *arguments], stdout=subprocess.PIPE, text=True) as process:
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
    line("bare plot window, median", median(bare), "s")
    line("Hawser with the demo, median", median(demo), "s")
    return 0 if ratio("Hawser / bare", median(demo), median(bare), 3.0) else 1


if __name__ == "__main__":
    sys.exit(main())
