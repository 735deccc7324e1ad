"""Memory: the demo against the bare window script, and after eight simulated hours at speed 60
against after one.

Takes eight minutes of real time. `--speed N` runs the clock faster where only a look is wanted.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import psutil
from PyQt6.QtCore import QEventLoop, QTimer

from bench_start import BARE
from figures import line, ratio
from hawser.core.clock import HOUR
from hawser.demo.boot import boot
from hawser.desk.app.start import application, make_window
from hawser.service.profiles.profile import profile


def bare_peak() -> float:
    """The bare window's peak, MB."""
    done = subprocess.run([sys.executable, "-c", BARE], capture_output=True, text=True, check=True)
    return int(done.stdout.split()[1]) / 1024


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--speed", type=float, default=60.0)
    speed = parser.parse_args().speed
    bare, marks = bare_peak(), {}
    app, process = application(), psutil.Process()
    with tempfile.TemporaryDirectory() as root:
        window = make_window(profile("demo", Path(root)), boot, "memory", speed)
        window.resize(1280, 800)
        window.show()
        window.runtime.start()
        loop, start = QEventLoop(), [0]

        def look() -> None:
            if window.latest is None or not window.latest.link_up:
                return
            start[0] = start[0] or window.latest.time
            hours = (window.latest.time - start[0]) // HOUR
            if hours not in marks:
                marks[hours] = process.memory_info().rss / 1e6
            if hours >= 8:
                loop.quit()

        timer = QTimer()
        timer.timeout.connect(look)
        timer.start(200)
        loop.exec()
        timer.stop()
        lines = len(window.logbook.model.lines)
        window.close()
    app.processEvents()
    print(f"Memory, clock at \u00d7{speed:g}, {lines} lines in the Logbook at the end")
    line("bare plot window, peak", bare, "MB")
    for hours in sorted(marks):
        line(f"the demo after {hours} h", marks[hours], "MB")
    kept = ratio("the demo / the bare window", marks[0], bare, 3.0)
    kept &= ratio("after 8 h / after 1 h", marks[8], marks[1], 1.1)
    return 0 if kept else 1


if __name__ == "__main__":
    sys.exit(main())
