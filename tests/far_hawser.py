"""A Hawser to be killed that trades at a Quay in another process, in real time, and says what it
wrote down.

Usage: far_hawser.py FOLDER SOCKET SEED [settle]. With `settle` it only tends, lets the air clear,
and at the end prints what is not in order: nothing, where all is well.
"""

from __future__ import annotations

import random
import sys
import time
from pathlib import Path

from hawser.core.account import Account, Policy
from hawser.core.clock import SECOND
from hawser.engine.model import transitions as states
from hawser.engine.model.exposure import covered_steps
from hawser.ledger.ledger import Entry, Ledger
from hawser.service.runtime.session import Session
from hawser.venue.clock import Clock
from hawser.venue.quay.client import FarQuay
from hawser.venue.quay.weather import SEVERITIES
from hawser.verification.trader import Trader

ACCOUNT = Account(
    currency="CHF", equity=64_000.0, balance=64_000.0, policy=Policy(exposed_deadline_s=60.0)
)

HUNG_S = 120  # only one that never comes to order tends so long
TURNS = 100
HALT = 600 * SECOND  # at the venue's speed far longer than the turns take


class FarHawser:
    """A session in step with a venue's own clock."""

    def __init__(self, folder: Path, socket: Path, seed: int, speed: float) -> None:
        self.ledger = Ledger(folder / "ledger.sqlite")
        left = self.ledger.restore().state.now
        self.venue = FarQuay(socket, not_before=left)
        self.venue.pace(speed, True)
        self.session = Session(ACCOUNT, self.venue, self.ledger, self.heard, prefix="F")
        self.clock = Clock(max(self.venue.now, left), speed)
        self.trader = Trader(random.Random(seed), f"{seed}-{left % 1_000_000_007}", most=12)

    def heard(self, entry: Entry) -> None:
        """Say which line of the record was written, once its commands have left."""
        print(self.ledger.seq, flush=True)

    def turn(self) -> None:
        self.session.run_until(self.clock.now())
        time.sleep(0.01)

    def trade(self) -> None:
        while True:
            self.trader.act(self.session, max(self.clock.now(), self.session.engine.state.now))
            self.turn()

    def settle(self) -> list[str]:
        """Tend in calm air until all has been in order for some turns; what is not, where it does
        not come to that.

        The venue lives on, and would fill orders that nobody tends any more: all markets stop, and
        once what was under way has been told, so does its clock."""
        self.venue.set_weather(SEVERITIES["calm"], 1)
        end, halted = time.monotonic() + HUNG_S, 0
        while time.monotonic() < end:
            in_order = self.in_order(end)
            if in_order and self.clock.now() < halted:
                self.venue.pace(None, False)
                break
            halted = self.clock.now() + HALT
            for symbol in self.session.engine.state.instruments:
                self.venue.gust("halt", symbol, HALT)
        found = self.wrong()
        self.session.close()
        self.venue.close()
        return found

    def in_order(self, end: float) -> bool:
        """Tend until nothing was wrong for some turns one after the other; whether it came to
        that."""
        turns = 0
        while turns < TURNS and time.monotonic() < end:
            self.turn()
            turns = 0 if self.wrong() else turns + 1
        return turns == TURNS

    def wrong(self) -> list[str]:
        state = self.session.engine.state
        found = [] if state.reconciled else ["not in step with the venue"]
        for trade in state.live():
            covered = covered_steps(state, trade)
            if trade.open_steps and (
                trade.state != states.PROTECTED or covered != trade.open_steps
            ):
                found.append(
                    f"{trade.id} is {trade.state}: {trade.open_steps} open, {covered} covered"
                )
        asks = [
            state.trades[order.trade].ask
            for order in state.orders.values()
            if order.role == "entry"
        ]
        found += [f"two entries for {ask}" for ask in set(asks) if asks.count(ask) > 1]
        return found + [
            f"{trade.id} closed more than was open"
            for trade in state.trades.values()
            if trade.closed > trade.entered
        ]


if __name__ == "__main__":
    one = FarHawser(Path(sys.argv[1]), Path(sys.argv[2]), int(sys.argv[3]), 20.0)
    if len(sys.argv) > 4:
        print("found", one.settle(), flush=True)
    else:
        one.trade()
