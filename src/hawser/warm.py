"""Fill the compiled cache: run after installing, so that nobody waits for a compiler with a trade open."""

from __future__ import annotations

import time

from hawser.core.clock import MINUTE
from hawser.demo import world
from hawser.demo.boot import play_morning
from hawser.service.session import Session
from hawser.venue.quay.quay import Quay
from hawser.venue.quay.weather import SEVERITIES


def warm() -> None:
    """Trade the demo's morning once: every compiled rule is met with the types it is used with."""
    feed = world.make_feed()
    venue = Quay(feed, world.ACCOUNT.currency, world.ACCOUNT.equity, {}, SEVERITIES["fair"], seed=world.SEED)
    session = Session(world.ACCOUNT, venue, ledger=None)
    play_morning(session)
    session.run_until(world.OPENS_AT + 5 * MINUTE)


if __name__ == "__main__":
    started = time.perf_counter()
    warm()
    print(f"Rules compiled in {time.perf_counter() - started:.1f} s")
