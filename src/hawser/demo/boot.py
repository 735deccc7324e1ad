"""Opening the demo: on the first start its morning is traded through the real engine, in simulated time."""

from __future__ import annotations

import shutil

from hawser.core.clock import MINUTE
from hawser.demo import world
from hawser.engine import events as ev
from hawser.ledger.ledger import Ledger
from hawser.service.profile import Profile
from hawser.service.runtime import Boot
from hawser.service.session import Session
from hawser.venue.quay.quay import Quay
from hawser.venue.quay.store import BookStore
from hawser.venue.quay.weather import SEVERITIES


def boot(profile: Profile) -> Boot:
    """The demo where it was left, or at its beginning."""
    ledger = Ledger(profile.ledger)
    left_at = ledger.restore().state.now
    venue = Quay(
        world.make_feed(), world.ACCOUNT.currency, world.ACCOUNT.equity, world.ACCOUNT.rates, SEVERITIES["fair"],
        seed=world.SEED, store=BookStore(profile.venue), not_before=left_at,
    )  # fmt: skip
    prepare = play_morning if left_at < world.OPENS_AT else None
    return Boot(world.ACCOUNT, venue, ledger, prepare=prepare, prefix="demo")


def play_morning(session: Session) -> None:
    """Place what the demo's trader placed, each at its minute; what was placed before a restart is not placed again."""
    for number, (minute, plan) in enumerate(world.MORNING):
        at = world.WAKES_AT + minute * MINUTE
        if at > session.venue.now:
            session.run_until(at)
            session.ask(ev.PlaceTrade(time=session.venue.now, ask=f"morning-{number}", plan=plan))
    session.run_until(world.OPENS_AT)


def begin_anew(profile: Profile) -> None:
    """Forget the demo's past: its own folders only."""
    shutil.rmtree(profile.data, ignore_errors=True)
    profile.made()
