"""A Hawser without a window, to be watched, killed and frozen: the desktop's runtime, at a venue in
another process.

Usage: watched.py SOCKET PROFILE_ROOT TRADES. It opens so many trades, one long, one short, and goes
on saying how many positions are open.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

from hawser.core.account import SizeRule
from hawser.core.clock import MINUTE
from hawser.core.levels import StopRule
from hawser.core.plan import Plan
from hawser.engine import events as ev
from hawser.service.profiles.profile import far_name, profile
from hawser.service.runtime.hooks import Hooks
from hawser.service.runtime.opening_quay import boot
from hawser.service.runtime.runtime import Runtime
from hawser.service.views.snapshot import Snapshot


def say(text: object) -> None:
    print(text, flush=True)


def live(socket: Path, root: Path, asks: int) -> None:
    seen: list[Snapshot] = []
    hooks = Hooks(snapshot=seen.append, failed=say)
    runtime = Runtime(
        profile(far_name(socket), root), lambda where: boot(socket, None, where), hooks, speed=5.0
    )
    runtime.start()
    while True:
        time.sleep(0.05)
        shot = seen[-1] if seen else None
        del seen[:-1]
        if shot is None or shot.closed:
            continue
        if asks:
            side, size, stop = 1 - 2 * (asks % 2), SizeRule(percent=0.2), StopRule(ticks=4000.0)
            plan = Plan("CAD/CHF", side, size, stop, timeframe_ns=MINUTE)
            runtime.ask(lambda now, ask, plan=plan: ev.PlaceTrade(time=now, ask_id=ask, plan=plan))
            asks -= 1
            time.sleep(1)
        say(f"held {sum(trade.open_steps > 0 for trade in shot.trades)}")


if __name__ == "__main__":
    live(Path(sys.argv[1]), Path(sys.argv[2]), int(sys.argv[3]))
