"""One seeded storm: engine, ledger and Quay back to back in simulated time, a restless trader, weather that breaks
things, and a Hawser that is killed at random. What was promised is checked all the while.
"""

from __future__ import annotations

import contextlib
import os
import random
import tempfile
from collections import Counter
from decimal import Decimal
from pathlib import Path

import msgspec

from hawser.core.account import Account, Policy
from hawser.core.clock import MILLISECOND, MINUTE, SECOND
from hawser.core.errors import HawserBug, VenueRefused
from hawser.core.instrument import Commission, Instrument
from hawser.engine import events as ev
from hawser.engine import states
from hawser.engine.reasons import words
from hawser.engine.state import EngineState
from hawser.ledger.ledger import Entry, Ledger
from hawser.ledger.verify import verify
from hawser.service import stormguards as sg
from hawser.service.session import Session
from hawser.service.stormguards import GuardWatch
from hawser.service.stormtrader import Trader
from hawser.service.telling import Line, Teller
from hawser.venue.quay.book import BookOrder
from hawser.venue.quay.generator import Character, GeneratedFeed
from hawser.venue.quay.quay import Quay
from hawser.venue.quay.store import BookStore
from hawser.venue.quay.weather import SEVERITIES, Weather

START = 1_930_435_200 * SECOND + 540 * MINUTE
LOOK_EVERY = 100 * MILLISECOND
DEADLINE_S = 5.0
STUCK_AFTER = 20_000  # events while no time passes: engine and venue answer each other for ever


def _instrument(symbol: str, quote: str, base: str | None, tick: str, multiplier: float, step: str) -> Instrument:
    return Instrument(
        symbol=symbol, kind="fx" if base else "index", quote=quote, base=base, tick=Decimal(tick),
        multiplier=multiplier, qty_step=Decimal(step), qty_min=Decimal(step), qty_max=Decimal(50), margin_rate=0.05,
        min_stop_ticks=10, commission=Commission(per_unit=1.5, minimum=1.0),
    )  # fmt: skip


WORLD = [
    (_instrument("CAD/CHF", "CHF", "CAD", "0.00001", 100_000.0, "0.01"), Character(0.6124, 0.0006, 8)),
    (_instrument("Harbour 40", "CHF", None, "0.5", 5.0, "0.1"), Character(4118.0, 0.0008, 3)),
]
ACCOUNT = Account(currency="CHF", equity=64_000.0, balance=64_000.0, policy=Policy(exposed_deadline_s=DEADLINE_S))


class Findings(msgspec.Struct):
    """What one storm did, and every promise it broke, by kind. Times in ns."""

    seed: int
    trades: int = 0
    requests: int = 0
    kills: int = 0
    simulated: int = 0
    faults: dict[str, int] = {}
    exposed: list[int] = []  # for each trade that was opened, its longest time without cover
    longest_exposed: int = 0  # as the engine knows it, while the venue could be acted on
    longest_naked: int = 0  # as it is at the venue, whatever the weather
    broken: dict[str, list[str]] = {}

    def broke(self, kind: str, what: str) -> None:
        found = self.broken.setdefault(kind, [])
        if len(found) < 5:
            found.append(what)


class Storm:
    """A venue, a session and a trader, all drawn from one seed. `kills`: chance at each act that Hawser is killed
    (needs a ledger)."""

    def __init__(
        self,
        seed: int,
        weather: Weather | str = "gale",
        ledger: Ledger | None = None,
        store: BookStore | None = None,
        kills: float = 0.0,
        guards: bool = False,
    ) -> None:
        self.random = random.Random(seed)
        chosen = SEVERITIES[weather] if isinstance(weather, str) else weather
        left_at = ledger.look().now if ledger else 0
        feed = GeneratedFeed(WORLD, {}, seed, START, 1)
        self.venue = Quay(feed, "CHF", 64_000.0, {}, chosen, seed=seed, store=store, not_before=left_at)
        self.ledger, self._kills = ledger, kills
        self.found = Findings(seed)
        self.lines: list[Line] | None = None  # a list: everything is told
        self._teller = Teller()
        self._heard_at, self._heard_now = 0, 0
        self._trader = Trader(self.random, f"{seed}-{left_at % 1_000_000_007}")
        self._naked: dict[str, int] = {}
        self._asked = 0
        self._guards = GuardWatch(sg.news(self.random, START)) if guards else None
        self._blocked: dict[str, int] = {}  # symbol -> when the venue could last not be acted on
        self.session = self._opened()
        self.session.run_until(self.venue.now + 30 * SECOND)
        if self._guards is not None:
            self.session.set_guards(sg.POLICY, "guards", self._guards.calendars)

    def _opened(self) -> Session:
        return Session(ACCOUNT, self.venue, self.ledger, self.heard, prefix="S")

    def heard(self, entry: Entry) -> None:
        """Every recorded event with its commands."""
        self._heard_now = self._heard_now + 1 if entry[0].time == self._heard_at else 0
        self._heard_at = entry[0].time
        if self._heard_now > STUCK_AFTER:
            raise HawserBug("storm_stuck", f"{STUCK_AFTER} events in one moment, the last {entry!r}")
        if self._guards is not None and hasattr(
            self, "session"
        ):  # what is heard of its opening comes before it is there
            for text in self._guards.heard(entry, self.state):
                self._broke("passed", text)
        self.found.requests += sum(hasattr(command, "order") for command in entry[1])
        if self.lines is not None:
            self.lines += self._teller.lines(*entry)

    @property
    def state(self) -> EngineState:
        return self.session.engine.state

    def run(self, minutes: float = 12) -> Findings:
        """Play, then let the air clear and see that all is in order."""
        begun = self.venue.now
        end = begun + int(minutes * MINUTE)
        while self.venue.now < end:
            self._act()
            self.watch(self.venue.now + int(self.random.uniform(0.05, 25) * SECOND))
        self.settle()
        self.found.trades = len(self.state.trades)
        self.found.exposed = [trade.longest_exposed for trade in self.state.trades.values() if trade.opened]
        self.found.faults = dict(self.venue.sky.counts)
        self.found.simulated = self.venue.now - begun
        return self.found

    def _act(self) -> None:
        if self._kills and self.random.random() < self._kills:
            self._kill()
        elif self.random.random() < 0.02:
            self._stray()
        elif self._guards is not None and self.random.random() < 0.15:
            self._asked += 1
            ask = sg.an_ask(self.random, self.state, self.venue.now, f"G{self._asked}")
            if ask is not None:
                self.session.ask(ask)
        else:
            self._trader.act(self.session, self.venue.now)

    def _stray(self) -> None:
        """Somebody else opens a position in the account."""
        symbol = self.random.choice(list(self.venue.instruments))
        with contextlib.suppress(VenueRefused):
            self.venue.stray(symbol, self.random.choice((1, -1)), self.random.randint(1, 30))

    def watch(self, until: int) -> None:
        """Let time pass, checking what was promised."""
        while self.venue.now < until:
            self.session.run_until(min(until, self.venue.now + LOOK_EVERY))
            self._promises()

    def settle(self) -> None:
        """Good weather until all is settled: then the two sides agree."""
        self.venue.sky.weather = SEVERITIES["calm"]
        self.watch(self.venue.now + 60 * SECOND)
        self._entries()
        self._agree()
        self._fills()
        self._record()

    def _kill(self) -> None:
        """Hawser dies with what it had not written; the venue lives on; another Hawser opens the same ledger."""
        if self.ledger is None:
            return
        path = self.ledger.path
        self.ledger.close()
        self.venue.hang_up()
        self.watch_without_hawser(int(self.random.uniform(0.05, 8) * SECOND))
        self.ledger = Ledger(path)
        self.found.kills += 1
        self.session = self._opened()
        for symbol in self.venue.instruments:
            self._blocked[symbol] = self.venue.now

    def watch_without_hawser(self, span: int) -> None:
        """The venue goes on; nobody hears it."""
        until = self.venue.now + span
        while self.venue.next_message(until) is not None:
            pass
        self.venue.pick_up()

    # What was promised

    def _broke(self, kind: str, what: str) -> None:
        self.found.broke(kind, f"{(self.venue.now - START) / SECOND:.1f} s: {what}")

    def _promises(self) -> None:
        state = self.state
        if self._guards is not None and state.guards.guard and state.link_up:
            for text in self._guards.untripped(state):
                self._broke("untripped", text)
        for symbol, market in state.markets.items():
            if not state.link_up or not state.reconciled or not market.open:  # nobody could cover anything
                self._blocked[symbol] = self.venue.now
        for trade in state.live():
            if trade.exposed_since and trade.open_steps:
                exposed = state.now - max(trade.exposed_since, self._blocked.get(trade.symbol, 0))
                self.found.longest_exposed = max(self.found.longest_exposed, exposed)
                if exposed > DEADLINE_S * SECOND:
                    self._broke("naked", f"{trade.id} exposed for {exposed / SECOND:.1f} s ({words(trade.leave)})")
        ours = {trade.entry for trade in state.live()}
        for position in self.venue.book.state.positions.values():
            if position.id not in ours and position.id.startswith("other-"):
                continue  # not ours, and nobody has adopted it
            resting = self.venue.book.resting(position.symbol)
            stops = [order for order in resting if order.closes == position.id and order.kind == "stop"]
            twice = [what for what, count in Counter(map(self._purpose, stops)).items() if count > 1]
            if twice:
                self._broke("overcovered", f"{', '.join(twice)} rests more than once for {position.id}")
            stops = [order for order in stops if self._purpose(order) == "stop"]
            since = self._naked.setdefault(position.id, self.venue.now)
            if stops:
                self._naked[position.id] = self.venue.now
            self.found.longest_naked = max(self.found.longest_naked, self.venue.now - since)

    def _purpose(self, order: BookOrder) -> str:
        """What a resting order is to its trade: the stop, one of its loss steps, or a target."""
        if order.kind != "stop":
            return order.kind
        known = self.state.orders.get(order.id)
        return f"loss step {known.number}" if known is not None and known.role == "loss" else "stop"

    def _entries(self) -> None:
        """One ask, one entry."""
        state = self.state
        asks = Counter(state.trades[order.trade].ask for order in state.orders.values() if order.role == "entry")
        for ask, count in asks.items():
            if count > 1:
                self._broke("doubled", f"{count} entries for {ask}")
        for trade in state.trades.values():
            for rung in trade.rungs:
                orders = [state.orders[name] for name in trade.order_ids]
                sent = [one for one in orders if (one.role, one.number) == ("rung", rung.number)]
                filled = sum(one.filled for one in sent)
                if filled != rung.filled or (sent and filled > sent[0].steps):  # the first was for all of it
                    self._broke("doubled", f"{trade.id}: rung {rung.number} filled {filled}, known {rung.filled}")

    def _agree(self) -> None:
        """Every position has exactly its cover, and nothing rests without one."""
        book, state = self.venue.book, self.state
        held = {trade.entry: trade for trade in state.live() if trade.open_steps}
        theirs = {name for name in book.state.positions if name in held or not name.startswith("other-")}
        if set(held) != theirs:
            self._broke("lost_fills", f"positions: ours {sorted(held)}, venue {sorted(theirs)}")
        for position in book.state.positions.values():
            trade = held.get(position.id)
            if trade is None:
                continue
            resting = [order for order in book.resting(position.symbol) if order.closes == position.id]
            cover = sum(order.steps - order.filled for order in resting if self._purpose(order) == "stop")
            gives = sum(order.steps - order.filled for order in resting if order.kind == "stop") - cover
            aims = sum(order.steps - order.filled for order in resting if order.kind == "limit")
            if trade.open_steps != position.steps:
                self._broke("lost_fills", f"{trade.id}: open {trade.open_steps}, venue {position.steps}")
            if cover < position.steps or trade.state != states.PROTECTED:
                self._broke("naked", f"{trade.id}: {cover} of {position.steps} covered, {trade.state}")
            if max(cover, gives, aims) > position.steps:
                text = f"stop {cover}, loss steps {gives}, targets {aims} of {position.steps}"
                self._broke("overcovered", f"{trade.id}: {text}")
        for symbol in book.instruments:
            for order in book.resting(symbol):
                of = order.closes or order.adds
                if of is not None and of not in book.state.positions:
                    self._broke("overcovered", f"{order.id} rests without a position")
        for trade in state.trades.values():
            if trade.closed > trade.entered:
                self._broke("overcovered", f"{trade.id}: {trade.closed} closed of {trade.entered}")

    def _fills(self) -> None:
        """Every fill of the venue is known here."""
        for order in self.state.orders.values():
            theirs = self.venue.book.state.orders.get(order.id)
            missing = {fill.id for fill in theirs.fills} - set(order.fills) if theirs is not None else set()
            if missing:
                self._broke("lost_fills", f"{order.role} {order.id}: {sorted(missing)}")

    def _record(self) -> None:
        """The record folds to the state, and a replay gives its commands."""
        if self.ledger is None:
            return
        self.session.write_down()
        decode = msgspec.msgpack.Decoder(EngineState).decode
        mine = msgspec.msgpack.encode(decode(msgspec.msgpack.encode(self.state)))
        if msgspec.msgpack.encode(self.ledger.restore().state) != mine:
            self._broke("ledger", "the fold of the record is not the state")
        verdict = verify(self.ledger.path)
        if verdict.line:
            self._broke("ledger", f"line {verdict.line}: {verdict.recorded} replayed as {verdict.replayed}")


def _folder() -> tempfile.TemporaryDirectory[str]:
    """Where a storm's ledger lies: in memory where the system has such a place. What the disk does is tested apart."""
    place = "/dev/shm" if os.access("/dev/shm", os.W_OK) else None
    return tempfile.TemporaryDirectory(prefix="storm-", dir=place)


def weathered(
    seed: int, severity: str, minutes: float = 12, kills: float = 0.04, guards: bool = False
) -> Findings:  # fmt: skip
    """A whole storm on a ledger of its own, with kills; what it found. One that fails is a finding too, so that the
    others of its run are not lost with it.
    """
    with _folder() as folder:
        try:
            storm = Storm(seed, severity, Ledger(Path(folder) / "ledger.sqlite"), kills=kills, guards=guards)
            found = storm.run(minutes)
            storm.session.close()
        except Exception as error:
            found = Findings(seed)
            found.broke("unfinished", repr(error))
        return found


def traced(
    seed: int, severity: str, minutes: float = 12, kills: float = 0.04, guards: bool = False
) -> tuple[Findings, list[Line]]:
    """The same storm with every line of its Logbook."""
    with _folder() as folder:
        storm = Storm(seed, severity, Ledger(Path(folder) / "ledger.sqlite"), kills=kills, guards=guards)
        storm.lines = []
        opened = ev.Opened(time=0, prefix="S", account=ACCOUNT, instruments=tuple(one for one, _ in WORLD))
        storm.heard((opened, []))
        found = storm.run(minutes)
        storm.session.close()
        return found, storm.lines
