"""Fill the compiled cache: run after installing, so that nobody waits for a compiler with a trade open."""

from __future__ import annotations

import time

from hawser.service.prime import prime_rehearsal, prime_rules, prime_trials

if __name__ == "__main__":
    started = time.perf_counter()
    prime_rules()
    prime_trials()
    prime_rehearsal()
    print(f"Rules compiled in {time.perf_counter() - started:.1f} s")
