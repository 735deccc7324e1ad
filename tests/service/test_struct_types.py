"""Threads read values of the same classes. What msgspec finds out about a class is found out before there are two."""

import subprocess
import sys

OPENED = """
import sys, tempfile, threading
from pathlib import Path
from hawser.demo.boot import boot
from hawser.service.profiles.profile import profile
from hawser.service.runtime.runtime import Hooks, Runtime
looked, ready = set(), threading.Event()
def note(frame, event, _):
    asked = event == "call" and frame.f_code.co_name == "get_class_annotations"
    ours = asked and "hawser" in frame.f_back.f_code.co_filename and frame.f_back.f_code.co_name != "<module>"
    if ours:  # asked by what reads a value; what only describes a class keeps nothing, and modules load one at a time
        looked.add(threading.current_thread().name)
threading.setprofile(note)  # of every thread that begins from here on
with tempfile.TemporaryDirectory() as root:
    runtime = Runtime(profile("demo", Path(root)), boot, Hooks(ready=ready.set))
    runtime.start()
    assert ready.wait(300)
    threading.setprofile(None)
    runtime.stop()
print(sorted(looked))
"""


def test_no_thread_beside_the_first_looks_at_a_class():
    """Two at once ended the process in a fault of memory, as the demo began."""
    done = subprocess.run([sys.executable, "-c", OPENED], capture_output=True, text=True, timeout=600, check=False)
    assert done.stdout.strip() == "[]", done.stderr[-2000:]
