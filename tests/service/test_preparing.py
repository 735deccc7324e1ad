"""Threads read values of the same classes. What msgspec finds out about a class is found out before
there are two."""

import subprocess
import sys

OPENED = """
import sys, tempfile, threading
from pathlib import Path
import hawser.demo
from hawser.core.account import Account
from hawser.ledger.ledger import Ledger
from hawser.service.profiles.profile import profile
from hawser.service.runtime.hooks import Boot, Hooks
from hawser.service.runtime.runtime import Runtime
from hawser.venue.quay.generator import GeneratedFeed
from hawser.venue.quay.quay import Quay
from hawser.venue.quay.store import BookStore
from hawser.venue.quay.weather import SEVERITIES
from hawser.verification.world import START, WORLD
looked, ready = set(), threading.Event()

def boot(where):
    feed = GeneratedFeed(WORLD, {}, 3, START, 1)
    venue = Quay(feed, "CHF", 64_000.0, {}, SEVERITIES["calm"], store=BookStore(where.venue))
    account = Account(currency="CHF", equity=64_000.0, balance=64_000.0)
    guards = Path(hawser.demo.__file__).parent
    return Boot(account, venue, Ledger(where.ledger), venue, guards=guards / "guards.toml")

def note(frame, event, _):
    asked = event == "call" and frame.f_code.co_name == "get_class_annotations"
    by = frame.f_back.f_code if asked else None
    if asked and "hawser" in by.co_filename and by.co_name != "<module>":
        # what only describes a class keeps nothing; modules take turns
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
    done = subprocess.run(
        [sys.executable, "-c", OPENED], capture_output=True, text=True, timeout=600, check=False
    )
    assert done.stdout.strip() == "[]", done.stderr[-2000:]
