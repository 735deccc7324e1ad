"""Opening the demo: on the first start its morning is traded through the real engine, in simulated
time."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from hawser.core.account import Account
from hawser.core.clock import MINUTE
from hawser.engine import events as ev
from hawser.service.profiles.profile import Profile
from hawser.service.runtime.hooks import Boot
from hawser.venue.quay.weather import SEVERITIES

if TYPE_CHECKING:
    from hawser.service.runtime.session import Session


def boot(profile: Profile) -> Boot:
    """The demo where it was left, or at its beginning."""
    from hawser.demo import world

    made = _booted(world.ACCOUNT, profile, play_morning, "demo")
    return made._replace(guards=Path(__file__).with_name("guards.toml"))


def boot_beside(account: Account, profile: Profile) -> Boot:
    """A further account in the demo's world, at a venue of its own; nobody has traded on it yet."""
    from hawser.demo import world

    return _booted(account, profile, lambda session: session.run_until(world.OPENS_AT), "")


def _booted(
    account: Account, profile: Profile, morning: Callable[[Session], None], prefix: str
) -> Boot:
    # the window imports this module before it is painted, and needs no ledger for that
    from hawser.demo import world
    from hawser.ledger.ledger import ledger_for
    from hawser.venue.quay.quay import Quay
    from hawser.venue.quay.store import BookStore

    with ledger_for(profile.ledger) as ledger:
        left_at = ledger.look().now
        rates = {**world.ACCOUNT.rates, **account.rates}
        venue = Quay(
            world.make_feed(),
            account.currency,
            account.basis_money("balance"),
            rates,
            SEVERITIES["fair"],
            seed=world.SEED,
            store=BookStore(profile.venue),
            not_before=left_at,
        )
        prepare = morning if left_at < world.OPENS_AT else None
        account = msgspec.structs.replace(account, rates=rates)
        return Boot(account, venue, ledger, venue, prepare, prefix=prefix)


def play_morning(session: Session) -> None:
    """Place what the demo's trader placed, each at its minute; what was placed before a restart is
    not placed again."""
    from hawser.demo import world

    for number, (minute, plan) in enumerate(world.MORNING):
        at = world.WAKES_AT + minute * MINUTE
        if at > session.venue.now:
            session.run_until(at)
            if session.stopping():
                return  # the next start goes on from here
            session.ask(
                ev.PlaceTrade(time=session.venue.now, ask_id=f"morning-{number}", plan=plan)
            )
    session.run_until(world.OPENS_AT)


def begin_anew(profile: Profile) -> None:
    """Forget the demo's past: its own folders only."""
    import shutil

    shutil.rmtree(profile.data, ignore_errors=True)
    profile.heartbeat.unlink(missing_ok=True)  # it says how far the record went
    profile.made()
