"""1,000 open trades, half of them with held lines, at 20,000 quotes a second through engine and
ledger.

Prints the share of one core, the time from a quote to the command it leads to, and the whole as a
ratio to only reading the quotes' prices in the same run.
"""

from __future__ import annotations

import random
import statistics
import tempfile
import time
from decimal import Decimal
from pathlib import Path

from hawser.core.account import Account, SizeRule
from hawser.core.clock import MINUTE, SECOND
from hawser.core.entry import HeldRule
from hawser.core.instrument import Commission, Instrument
from hawser.core.levels import StopRule, TargetRule
from hawser.core.plan import Plan
from hawser.core.rig import Trail
from hawser.engine import events as ev
from hawser.engine.model import transitions as states
from hawser.ledger.ledger import Ledger
from hawser.service.runtime.session import Session
from hawser.venue import port
from hawser.venue.quay.generator import Character, GeneratedFeed
from hawser.venue.quay.quay import Quay
from hawser.venue.quay.weather import SEVERITIES

INSTRUMENTS, TRADES_EACH = 50, 20
RATE, SECONDS = 20_000, 10
START = 1_930_435_200 * SECOND + 540 * MINUTE


def instrument(number: int) -> Instrument:
    return Instrument(
        symbol=f"Pier {number}",
        kind="index",
        quote="CHF",
        tick=Decimal("0.5"),
        multiplier=1.0,
        qty_step=Decimal("0.1"),
        qty_min=Decimal("0.1"),
        qty_max=Decimal(500),
        margin_rate=0.01,
        min_stop_ticks=2,
        commission=Commission(per_unit=0.01),
    )


def plan(symbol: str, number: int) -> Plan:
    return Plan(
        symbol=symbol,
        side=1 if number % 2 else -1,
        size=SizeRule("fixed", qty=Decimal("0.5")),
        stop=StopRule(ticks=60.0 + number),
        targets=(TargetRule(share=0.5, r=2.0),),
        trail=Trail(atr=3.0),
        timeframe_ns=MINUTE,
        held=HeldRule() if number % 4 < 2 else None,
    )


def opened(folder: Path) -> Session:
    """A session with all trades open and protected."""
    world = [(instrument(n), Character(4000.0 + n, 0.0002, 2)) for n in range(INSTRUMENTS)]
    venue = Quay(GeneratedFeed(world, {}, 3, START, 1), "CHF", 5e7, {}, SEVERITIES["calm"])
    account = Account(currency="CHF", equity=5e7, balance=5e7)
    session = Session(account, venue, Ledger(folder / "ledger.sqlite"), prefix="B")
    session.run_until(venue.now + 30 * SECOND)
    for number in range(INSTRUMENTS * TRADES_EACH):
        symbol = f"Pier {number % INSTRUMENTS}"
        session.ask(
            ev.PlaceTrade(
                time=venue.now, ask_id=f"b{number}", plan=plan(symbol, number // INSTRUMENTS)
            )
        )
        session.run_until(venue.now)
    session.run_until(venue.now + 2 * SECOND)
    return session


class Watched:
    """Notes when a command leaves."""

    def __init__(self, venue: Quay) -> None:
        self.venue, self.instruments, self.left = venue, venue.instruments, 0.0

    @property
    def now(self) -> int:
        return self.venue.now

    def send(self, request: port.Request, at: int) -> None:
        self.left = time.perf_counter()
        self.venue.send(request, at)

    def next_message(self, until: int) -> port.VenueMessage | None:
        return self.venue.next_message(until)


def quotes(session: Session) -> list[port.QuoteTold]:
    """A walk of every instrument from where it stands."""
    draw = random.Random(5)
    at = {s: (m.bid, m.ask) for s, m in session.engine.state.markets.items()}
    found, names = [], list(at)
    for number in range(RATE * SECONDS):
        symbol = names[number % len(names)]
        step = draw.choice((-1, 0, 0, 0, 1))
        bid, ask = at[symbol] = (at[symbol][0] + step, at[symbol][1] + step)
        price = session.venue.instruments[symbol].price
        now = session.venue.now + number * SECOND // RATE
        found.append(port.QuoteTold(time=now, symbol=symbol, bid=price(bid), ask=price(ask)))
    return found


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        session = opened(Path(folder))
        live = [trade for trade in session.engine.state.live() if trade.state == states.PROTECTED]
        print(
            f"{len(live)} open trades protected, {sum(trade.held for trade in live)} with held "
            "lines"
        )
        told = quotes(session)
        begun = time.process_time()
        for message in told:
            of = session.venue.instruments[message.symbol]
            of.ticks_written(message.bid), of.ticks_written(message.ask)
        reading = time.process_time() - begun
        watched = Watched(session.venue)  # type: ignore[arg-type]  # it is a Quay
        session.venue = watched  # type: ignore[assignment]  # stands in for it
        waits = []
        begun = time.process_time()
        for message in told:
            watched.left, start = 0.0, time.perf_counter()
            session.message(message, message.time)
            if watched.left:
                waits.append((watched.left - start) * 1e3)
        session.write_down()
        used = time.process_time() - begun
        commands = session.counts["commands"]
        print(
            f"{len(told)} quotes at {RATE}/s: {used / SECONDS:.0%} of one core, "
            f"{used / len(told) * 1e6:.1f} us each"
        )
        print(f"ratio to reading their prices: {used / reading:.1f}")
        if waits:
            cut = statistics.quantiles(waits, n=100)
            print(
                f"quote to command ({len(waits)}): median {statistics.median(waits):.2f} ms, "
                "p99 "
                f"{cut[98]:.2f} ms"
            )
        print(
            f"commands {commands}, updates {session.counts['updates']}: no quote was dropped "
            "in "
            "the engine"
        )
        session.close()


if __name__ == "__main__":
    main()
