"""Opening a session at a simulated venue that runs as a process of its own, and running one."""

from __future__ import annotations

import signal
import sys
from pathlib import Path

from hawser.core.account import Account, Policy, SizeRule
from hawser.core.errors import BadInput
from hawser.ledger.ledger import ledger_for
from hawser.service.profiles.profile import Profile
from hawser.service.runtime.hooks import Boot
from hawser.venue.quay.client import FarQuay
from hawser.venue.quay.quay import Quay
from hawser.venue.quay.server import Server


def boot(path: Path, account: Account | None, profile: Profile) -> Boot:
    """The session where it was left, at the venue that listens at `path`. Raises BadInput where the
    account is in another currency there: every figure that the venue tells would be taken for one
    of `account`'s."""
    with ledger_for(profile.ledger) as ledger:
        venue = FarQuay(path, not_before=ledger.look().now)
        if account is not None and account.currency != venue.welcome.currency:
            venue.close()
            sentence = (
                f"currency: the account at {path} is in {venue.welcome.currency}, not in "
                f"{account.currency}"
            )
            raise BadInput("bad_account", sentence)
        if account is None:
            balance = max(venue.welcome.balance, 0.01)
            account = Account(
                currency=venue.welcome.currency,
                equity=balance,
                balance=balance,
                size=SizeRule(percent=0.5),
                policy=Policy(max_heat_percent=3.0),
            )
        return Boot(account, venue, ledger, venue, venue_at=str(path))


def serve(venue: Quay, path: Path, speed: float) -> None:
    """Run the venue until the process is asked to end."""
    asked: list[int] = []
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: asked.append(1))
    server = Server(venue, path, speed)
    print(f"Quay listens at {path}; stop it with Ctrl+C", file=sys.stderr, flush=True)
    server.run(lambda: bool(asked))
