"""One seeded storm: engine and Quay back to back, a trader who asks for things at random, weather that breaks them.

Everything runs in simulated time. `Storm.run` plays one and checks the promises after every step.
"""

from __future__ import annotations

import random
from dataclasses import dataclass, field
from decimal import Decimal

from hawser.core.account import Account, Policy, SizeRule
from hawser.core.clock import MILLISECOND, MINUTE, SECOND
from hawser.core.instrument import Commission, Instrument
from hawser.core.plan import Plan, StopRule, TargetRule, TrailRule
from hawser.engine import events as ev
from hawser.engine import states
from hawser.ledger.ledger import Ledger
from hawser.service.session import Session
from hawser.venue.quay.generator import Character, GeneratedFeed
from hawser.venue.quay.quay import Quay
from hawser.venue.quay.store import BookStore
from hawser.venue.quay.weather import SEVERITIES, Weather

START = 1_930_435_200 * SECOND + 540 * MINUTE


def instrument(symbol: str, quote: str, base: str | None, tick: str, multiplier: float, step: str) -> Instrument:
    return Instrument(
        symbol=symbol, kind="fx" if base else "index", quote=quote, base=base, tick=Decimal(tick),
        multiplier=multiplier, qty_step=Decimal(step), qty_min=Decimal(step), qty_max=Decimal(50), margin_rate=0.05,
        min_stop_ticks=10, commission=Commission(per_unit=1.5, minimum=1.0),
    )  # fmt: skip


WORLD = [
    (instrument("CAD/CHF", "CHF", "CAD", "0.00001", 100_000, "0.01"), Character(0.6124, 0.0006, 8)),
    (instrument("Harbour 40", "CHF", None, "0.5", 5, "0.1"), Character(4118.0, 0.0008, 3)),
]
ACCOUNT = Account(currency="CHF", equity=64_000.0, balance=64_000.0, policy=Policy(exposed_deadline_s=5.0))


@dataclass
class Findings:
    """What one storm did, and every promise it broke."""

    trades: int = 0
    requests: int = 0
    faults: dict[str, int] = field(default_factory=dict)
    longest_exposed: int = 0  # as the engine knows it, ns
    longest_naked: int = 0  # as it is at the venue, ns
    broken: list[str] = field(default_factory=list)


class Storm:
    """A venue, a session and a restless trader, all drawn from one seed."""

    def __init__(self, seed: int, weather: Weather | str = "gale", ledger: Ledger | None = None,
                 store: BookStore | None = None) -> None:  # fmt: skip
        self.random = random.Random(seed)
        chosen = SEVERITIES[weather] if isinstance(weather, str) else weather
        feed = GeneratedFeed(WORLD, {}, seed, START, 1)
        left_at = ledger.restore().state.now if ledger else 0
        self.venue = Quay(feed, "CHF", 64_000.0, {}, chosen, seed=seed, store=store, not_before=left_at)
        self.ledger = ledger
        self.found = Findings()
        self.asks = 0
        self.name = f"{seed}-{left_at % 1_000_000_007}"
        self._naked: dict[str, int] = {}
        self.session = Session(ACCOUNT, self.venue, ledger, self._heard, prefix="S")
        self.session.run_until(self.venue.now + 30 * SECOND)

    def _heard(self, entry) -> None:  # type: ignore[no-untyped-def]
        self.found.requests += sum(hasattr(command, "order") for command in entry[1])

    @property
    def state(self):  # type: ignore[no-untyped-def]
        return self.session.engine.state

    def run(self, minutes: float = 12) -> Findings:
        """Play, then let the air clear and see that all is in order."""
        end = self.venue.now + int(minutes * MINUTE)
        while self.venue.now < end:
            self._act()
            self._watch(self.venue.now + int(self.random.uniform(0.05, 25) * SECOND))
        self.venue.sky.weather = SEVERITIES["calm"]
        self._watch(self.venue.now + 20 * SECOND)
        self._settled()
        self.found.trades = len(self.state.trades)
        self.found.faults = dict(self.venue.sky.counts)
        return self.found

    def _watch(self, until: int) -> None:
        while self.venue.now < until:
            self.session.run_until(min(until, self.venue.now + 100 * MILLISECOND))
            self._promises()

    # The trader

    def _act(self) -> None:
        now, draw = self.venue.now, self.random
        live = self.state.live()
        choice = draw.random()
        self.asks += 1
        ask = f"{self.name}-{self.asks}"
        if self.state.halt is not None and choice < 0.4:
            self.session.ask(ev.Rearm(time=now, ask=ask, reason="the storm goes on"))
        elif choice < 0.45 and len(live) < 4:
            event = ev.PlaceTrade(time=now, ask=ask, plan=self._plan())
            self.session.ask(event)
            if draw.random() < 0.2:  # a double click
                self.session.ask(event)
        elif choice < 0.6 and live:
            trade = draw.choice(live)
            level = trade.stop + draw.randint(-40, 60) * trade.side
            self.session.ask(
                ev.MoveStop(time=now, ask=ask, trade=trade.id, level=max(1, level), widen=draw.random() < 0.5)
            )
        elif choice < 0.7 and live:
            trade = draw.choice(live)
            if trade.targets:
                line = draw.choice(trade.targets)
                level = line.level + draw.randint(-50, 50)
                self.session.ask(ev.MoveTarget(time=now, ask=ask, trade=trade.id, number=line.number, level=level))
        elif choice < 0.85 and live:
            self.session.ask(ev.CloseTrade(time=now, ask=ask, trade=draw.choice(live).id))
        elif choice < 0.88:
            self.session.ask(ev.CloseAll(time=now, ask=ask))
        elif choice < 0.91:
            self.session.ask(ev.Halt(time=now, ask=ask, why="storm"))

    def _plan(self) -> Plan:
        draw = self.random
        shares = [(1.0, 0.4), (2.0, 0.3), (3.0, 0.3)][: draw.randint(0, 3)]
        return Plan(
            symbol=draw.choice([one.symbol for one, _ in WORLD]), side=draw.choice((1, -1)),
            size=SizeRule(percent=draw.uniform(0.1, 0.8)), stop=StopRule(atr=draw.uniform(0.5, 3.0)),
            targets=tuple(TargetRule(r=r * draw.uniform(0.2, 1), share=share) for r, share in shares),
            trail=TrailRule(draw.uniform(0.5, 3.0)) if draw.random() < 0.6 else None, timeframe_ns=MINUTE,
        )  # fmt: skip

    # The promises

    def _broke(self, what: str) -> None:
        if len(self.found.broken) < 20:
            self.found.broken.append(f"{(self.venue.now - START) / SECOND:.1f} s: {what}")

    def _promises(self) -> None:
        book, state = self.venue.book.state, self.state
        deadline = int(ACCOUNT.policy.exposed_deadline_s * SECOND)
        for trade in state.live():
            if trade.exposed_since:
                exposed = state.now - trade.exposed_since
                self.found.longest_exposed = max(self.found.longest_exposed, exposed)
                if exposed > deadline and trade.open_steps:
                    self._broke(f"{trade.id} exposed for {exposed / SECOND:.1f} s ({trade.leave_why})")
        entries: dict[str, int] = {}
        for order in state.orders.values():
            if order.role == "entry":
                ask = state.trades[order.trade].ask
                entries[ask] = entries.get(ask, 0) + 1
        for ask, count in entries.items():
            if count > 1:
                self._broke(f"{count} entries for {ask}")
        for position in book.positions.values():
            stops = [
                o for o in self.venue.book.resting(position.symbol) if o.closes == position.id and o.kind == "stop"
            ]
            if len(stops) > 1:
                self._broke(f"{len(stops)} stops rest for {position.id}")
            if stops:
                self._naked.pop(position.id, None)
            else:
                since = self._naked.setdefault(position.id, self.venue.now)
                self.found.longest_naked = max(self.found.longest_naked, self.venue.now - since)

    def _settled(self) -> None:
        """After a calm while the two sides agree, and every position has exactly its cover."""
        book, state = self.venue.book, self.state
        held = {trade.entry: trade for trade in state.live() if trade.open_steps}
        if set(held) != set(book.state.positions):
            self._broke(f"positions differ: ours {sorted(held)}, venue {sorted(book.state.positions)}")
        for position in book.state.positions.values():
            trade = held.get(position.id)
            if trade is None:
                continue
            resting = [order for order in book.resting(position.symbol) if order.closes == position.id]
            cover = sum(order.steps - order.filled for order in resting if order.kind == "stop")
            aims = sum(order.steps - order.filled for order in resting if order.kind == "limit")
            if trade.open_steps != position.steps or cover != position.steps:
                self._broke(f"{trade.id}: open {trade.open_steps}, venue {position.steps}, covered {cover}")
            if aims > position.steps:
                self._broke(f"{trade.id}: targets for {aims} of {position.steps}")
            if trade.state != states.PROTECTED:
                self._broke(f"{trade.id} is {trade.state} after the calm")
        orphans = [
            o.id for symbol in book.instruments for o in book.resting(symbol) if o.closes not in book.state.positions
        ]
        if orphans:
            self._broke(f"orders rest without a position: {orphans}")
        for trade in state.trades.values():
            if trade.closed > trade.entered:
                self._broke(f"{trade.id}: {trade.closed} closed of {trade.entered}")
