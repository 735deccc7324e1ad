"""A session at a calm venue in simulated time, for tests that make one fault by hand."""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from hawser.core.account import SizeRule
from hawser.core.clock import MINUTE, SECOND
from hawser.core.levels import StopRule, TargetRule
from hawser.core.plan import Plan
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.ledger.ledger import Entry, Ledger
from hawser.service.recording import Extent, Way
from hawser.service.runtime.session import Session
from hawser.venue import port
from hawser.venue.quay.book import BookState
from hawser.venue.quay.quay import Quay
from hawser.venue.quay.weather import SEVERITIES, Weather
from hawser.verification import world as storm_world
from hawser.verification.world import ACCOUNT, BooksInMemory

SYMBOL = "CAD/CHF"
PLAN = Plan(
    symbol=SYMBOL,
    side=1,
    size=SizeRule(percent=0.5),
    stop=StopRule(ticks=120),
    targets=(TargetRule(share=0.5, r=2.0),),
    timeframe_ns=MINUTE,
)


class Own(Quay):
    """A Quay that a test may have carry out requests otherwise."""

    otherwise: Callable[[Quay, port.Request], list[port.VenueMessage] | None] | None = None

    def _carried_out(self, request: port.Request) -> list[port.VenueMessage]:
        found = self.otherwise(self, request) if self.otherwise is not None else None
        return super()._carried_out(request) if found is None else found


class World:
    """A session at such a venue, and all it gave as commands."""

    def __init__(
        self,
        ledger: Ledger | None = None,
        weather: Weather = SEVERITIES["calm"],
        seed: int = 3,
        way: Way | None = None,
    ) -> None:
        self.seed, self.ledger, self.way = seed, ledger, way
        self.venue = self._quay(storm_world.WORLD, weather, None, 0)
        self.entries: list[Entry] = []
        self.faults: list[Exception] = []
        self.open()

    def _quay(
        self, world: storm_world.World, weather: Weather, store: BooksInMemory | None, since: int
    ) -> Own:
        feed, rates = storm_world.feed_of(world, self.seed), dict(storm_world.RATES)
        return Own(feed, "CHF", 64_000.0, rates, weather, self.seed, store, since)

    def open(self, last: Extent | None = None) -> None:
        self.session = Session(
            ACCOUNT,
            self.venue,
            self.ledger,
            self.entries.append,
            "S",
            self.faults.append,
            self.way,
            last,
        )
        self.run(30)

    def another_answers(self, traded: storm_world.World, state: BookState) -> None:
        """The line is cut, and who answers on it then trades others; the session lives on."""
        old, now = self.venue, self.session.now
        old.hang_up()
        self.venue = self.session.venue = self._quay(
            traded, SEVERITIES["calm"], BooksInMemory(state), old.now
        )
        instruments = tuple(one for one, _ in traded)
        down = port.LinkTold(time=old.now, up=False, why="it was cut")
        bars = {one.symbol: self.venue.history(one.symbol) for one in instruments}
        told = port.InstrumentsTold(
            time=old.now, instruments=instruments, base_span=self.venue.base_span, histories=bars
        )
        for message in (down, told):
            self.session._safely(self.session.message, message, now)
        self.run(30)

    def run(self, seconds: float) -> None:
        self.session.run_until(self.venue.now + int(seconds * SECOND))

    @property
    def state(self):  # type: ignore[no-untyped-def]
        return self.session.engine.state

    @property
    def trade(self):  # type: ignore[no-untyped-def]
        return next(reversed(self.state.trades.values()))

    def place(self, **changes: object) -> None:
        plan = msgspec.structs.replace(PLAN, **changes)
        self.session.ask(
            ev.PlaceTrade(time=self.venue.now, ask_id=f"a{len(self.entries)}", plan=plan)
        )
        self.run(3)

    def stops(self) -> int:
        """Steps of the trade that stops at the venue close."""
        rests = self.venue.book.resting(SYMBOL)
        return sum(
            one.steps - one.filled
            for one in rests
            if one.kind == "stop" and one.closes == self.trade.entry.order_id
        )

    def told(self, since: int = 0) -> set[str]:
        return {
            one.code
            for _, commands in self.entries[since:]
            for one in commands
            if isinstance(one, cm.Tell)
        }

    def sent(self, kind: type, since: int = 0) -> int:
        return sum(
            isinstance(one, kind) for _, commands in self.entries[since:] for one in commands
        )
