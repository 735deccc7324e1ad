"""Fill the compiled cache: run after installing, so that nobody waits for a compiler with a trade
open.

Two processes compile side by side, and a last one meets every rule again, so that what one of them
lost to the other is compiled then.
"""

from __future__ import annotations

import subprocess
import sys
import time

from hawser.service.runtime.warming import (
    prime_fleet,
    prime_rehearsal,
    prime_rules,
    prime_trials,
)

PARTS = {
    "rules": prime_rules,
    "trials": prime_trials,
    "rehearsal": prime_rehearsal,
    "fleet": prime_fleet,
}
SIDE_BY_SIDE = (("trials", "rehearsal"), ("fleet", "rules"))  # about as long as each other

if __name__ == "__main__":
    if len(sys.argv) == 1:
        started = time.perf_counter()
        for beside in [
            subprocess.Popen([sys.executable, "-m", "hawser.warm", *parts])
            for parts in SIDE_BY_SIDE
        ]:
            beside.wait()
    for part in sys.argv[1:] or PARTS:
        PARTS[part]()
    if len(sys.argv) == 1:
        print(f"Rules compiled in {time.perf_counter() - started:.1f} s")
