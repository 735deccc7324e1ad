"""One seeded storm: engine, ledger and Quay back to back in simulated time, a restless trader, a
careless hand, weather that breaks things, a disk that is full for a while, and a Hawser that is
killed at random, after which an instrument may be another. What was promised is checked all the
while (`judge.py`).
"""

from __future__ import annotations

import contextlib
import heapq
import os
import random
import sqlite3
import tempfile
from collections import deque
from collections.abc import Iterator
from functools import reduce
from pathlib import Path

import msgspec

from hawser.core.account import Rate
from hawser.core.clock import MILLISECOND, MINUTE, SECOND
from hawser.core.errors import HawserBug, VenueRefused
from hawser.engine import events as ev
from hawser.engine.commands import AnyCommand
from hawser.engine.engine import Engine
from hawser.engine.guards.next_look import must_watch, next_turn
from hawser.engine.model.state import EngineState
from hawser.ledger.ledger import Entry, Ledger
from hawser.ledger.standing import beside
from hawser.ledger.verify import verify
from hawser.service.recording import Extent
from hawser.service.runtime.session import Session
from hawser.service.views.logbook_lines import LogLine, Teller
from hawser.venue import port
from hawser.venue.quay.quay import Quay
from hawser.venue.quay.store import Store
from hawser.venue.quay.weather import SEVERITIES, Weather
from hawser.verification import filters, limits
from hawser.verification import guards as sg
from hawser.verification import world as storm_world
from hawser.verification.filters import FiltersWatch
from hawser.verification.guards import GuardWatch
from hawser.verification.judge import Findings, Judge
from hawser.verification.limits import LimitsWatch
from hawser.verification.places import StormPlace, place_of
from hawser.verification.sizes import SizesWatch
from hawser.verification.trader import Trader
from hawser.verification.world import BooksInMemory, Disk

LOOK_EVERY = 100 * MILLISECOND
# every tenth storm is of three accounts; the seeds of the others begin there
SEVERAL, BESIDE = 10, 1_000_000_007
# Each of these is harmless alone. Together they broke promises that the plain gale broke once in
# 10,000 storms.
WILFUL = {"adjust": 0.3, "late": 0.2, "duplicate": 0.2, "smaller": 1.0, "hands": 0.5}
STUCK_AFTER = 20_000  # events while no time passes: engine and venue answer each other for ever


class Overheard(Quay):
    """A Quay whose requests are counted, and whose messages wait while the machine sleeps that they
    are meant for."""

    judge: Judge | None = None
    _drowsy_until = 0
    _slept: deque[port.VenueMessage]  # from the first sleep on

    def hang_up(self) -> None:
        super().hang_up()
        self._drowsy_until, self._slept = 0, deque()

    def sleep(self, span: int, drowsy: int) -> None:
        """Go on alone; what is told is heard some `drowsy` ns after the machine has woken, all at
        once."""
        self._slept = deque()
        self._sleep_to(self.now + span)
        self._drowsy_until = self.now + drowsy

    def answers_instead(self, of: Quay) -> None:
        """The line was cut, and who answers on it now trades other instruments."""
        down = port.LinkTold(time=of.now, up=False, why="the venue's process is gone")
        traded = tuple(self.instruments.values())
        bars = {symbol: self.history(symbol) for symbol in self.instruments}
        told = port.InstrumentsTold(
            time=self.now, instruments=traded, base_span=self.base_span, histories=bars
        )
        self._drowsy_until, self._slept = self.now, deque((down, told))

    def _sleep_to(self, until: int) -> None:
        while (told := super().next_message(until)) is not None:
            self._slept.append(told)

    def next_message(self, until: int) -> port.VenueMessage | None:
        if self.now < self._drowsy_until:
            self._sleep_to(min(until, self._drowsy_until))
            if until < self._drowsy_until:
                return None
        told = (
            self._slept.popleft()
            if self._drowsy_until and self._slept
            else super().next_message(until)
        )
        if self.judge is not None and told is not None:
            self.judge.told(told)
        return told

    def send(self, request: port.Request, at: int) -> None:
        if self.judge is not None:
            self.judge.sent(request)
        super().send(request, at)


class Stumbled(Exception):
    """A fault of the engine that a storm makes."""


class Storm:
    """A venue, a session and a trader, all drawn from one seed. `kills`: chance at each act that
    Hawser is killed (needs a ledger). `guards`: with a policy of every kind, whose limits are
    watched; else a careless hand edits one. `place`: where it goes on, with a ledger or a venue
    that another seed began.
    """

    def __init__(
        self,
        seed: int,
        weather: Weather | str = "gale",
        ledger: Ledger | None = None,
        store: Store | None = None,
        kills: float = 0.0,
        guards: bool = False,
        place: StormPlace | None = None,
    ) -> None:
        self.random = random.Random(seed)
        self.place = place or place_of(seed)
        self.account = self.place.account
        self._seed, self._chosen = (
            seed,
            SEVERITIES[weather] if isinstance(weather, str) else weather,
        )
        left_at = ledger.look().now if ledger else 0
        self._hostile = self._chosen.hands > 0
        if self._hostile:
            far = self._chosen.latency_ms * self.place.far
            self._chosen = msgspec.structs.replace(
                self._chosen, latency_ms=far, **WILFUL if self.place.wilful else {}
            )
        self._world, self._store, self._careless = (
            self.place.world,
            store,
            self._hostile and not guards,
        )
        self.venue = self._quay(store, left_at)
        self.ledger, self._kills, self._disk = ledger, kills, Disk()
        self.found = Findings(seed)
        self.lines: list[LogLine] | None = None  # a list: everything is told
        self._teller = Teller()
        self._heard_at, self._heard_now = 0, 0
        self._trader = Trader(
            self.random,
            f"{seed}-{left_at % 1_000_000_007}",
            8 if self._careless else 5,
            self._careless,
        )
        self._asked = self._asleep = 0
        self._changes = random.Random(f"changes {seed}")  # of instruments while Hawser lives
        self._extent = Extent()  # how far the record went, kept apart from it
        self._guards = GuardWatch(sg.news(self.random, self.place.start)) if guards else None
        drawn = filters.drawn(seed, self.place) if guards else ()
        self._filters = FiltersWatch(self.place, drawn)
        self._limits: LimitsWatch | None = None
        self.judge = Judge(self.found, lambda: self.state, lambda: self.venue)
        self._sizes = SizesWatch(lambda: self.venue, self.judge.stop_levels)
        self.session = self._opened()
        self.session.run_until(self.venue.now + 30 * SECOND)
        self._policy = msgspec.structs.replace(
            sg.POLICY, zone=self.place.zone, guard=(*sg.POLICY.guard, *drawn)
        )
        if self._guards is not None:
            self.session.set_guards(self._policy, "guards", self._guards.calendars)
        elif self._careless:
            self._begin_careless()

    def _quay(self, store: Store | None, not_before: int) -> Overheard:
        feed = storm_world.feed_of(self._world, self._seed, self.place.start, self.place.rates)
        rates: dict[str, float | Rate] = dict(self.place.rates)
        return Overheard(
            feed=feed,
            currency=self.account.currency,
            balance=self.account.equity,
            rates=rates,
            weather=self._chosen,
            seed=self._seed,
            store=store,
            not_before=not_before,
        )

    def _begin_careless(self) -> None:
        self.session.set_guards(limits.policy_of(self.place), "careless")
        account = msgspec.structs.replace(self.account, policy=limits.LIMITS)
        self.session.ask(
            ev.ChangeAccount(time=self.venue.now, ask_id="careless-limits", account=account)
        )
        self._limits = LimitsWatch(self.state)

    def _opened(self) -> Session:
        self.venue.judge = None
        session = Session(
            account=self.account,
            venue=self.venue,
            ledger=self.ledger,
            listener=self.heard,
            prefix="S",
            on_fault=self._failed,
            way=self._disk,
            last=self._extent,
        )
        self.venue.judge = self.judge
        return session

    def heard(self, entry: Entry) -> None:
        """Every recorded event with its commands."""
        self._heard_now = self._heard_now + 1 if entry[0].time == self._heard_at else 0
        self._heard_at = entry[0].time
        if self._heard_now > STUCK_AFTER:
            raise HawserBug(
                "storm_stuck", f"{STUCK_AFTER} events in one moment, the last {entry!r}"
            )
        if hasattr(self, "session"):  # what is heard of its opening comes before it
            for text in self._guards.heard(entry, self.state) if self._guards is not None else ():
                self.judge.broke("passed", text)
            for text in self._filters.heard(entry, self.state):
                self.judge.broke("passed", text)
            for text in self._sizes.heard(entry, self.state):
                self.judge.broke("oversized", text)
            for text in self.judge.widened(entry):
                self.judge.broke("widened", text)
            self.judge.checked(entry)
            for text in self.judge.entered(entry):
                self.judge.broke("passed", text)
        self.found.requests += sum(hasattr(command, "order") for command in entry[1])
        if self.lines is not None:
            self.lines += self._teller.lines(*entry)

    @property
    def state(self) -> EngineState:
        return self.session.engine.state

    def run(self, minutes: float = 12) -> Findings:
        """Play, then let the air clear and see that all is in order."""
        for _ in self.turns(minutes):
            pass
        return self.found

    def turns(self, minutes: float = 12) -> Iterator[int]:
        """The same in turns, that others may have theirs between them: yields the venue's time
        after each."""
        begun = self.venue.now
        while self.venue.now < begun + int(minutes * MINUTE) + self._asleep:
            if self._hostile and self._changes.random() < 0.01:
                self._change_under_way()
            self._act()
            self.watch(self.venue.now + int(self.random.uniform(0.05, 25) * SECOND))
            yield self.venue.now
        self.settle()
        self.found.trades = len(self.state.trades)
        self.found.exposed = [
            trade.cover.longest_exposed for trade in self.state.trades.values() if trade.opened
        ]
        for kind, count in self.venue.sky.counts.items():
            self.found.faults[kind] = self.found.faults.get(kind, 0) + count
        self.found.simulated = self.venue.now - begun

    def _act(self) -> None:
        choice = self.random.random()
        self._asked += 1
        if self._kills and self.random.random() < self._kills:
            self._kill()
        elif choice < 0.02:
            self._stray()
        elif choice < 0.03 and self.ledger is not None and self._hostile:
            self._trouble_disk()
        elif choice < 0.04:
            self._record()
        elif choice < 0.05 and self._hostile:
            self._sleep()
        elif choice < 0.06 and self._hostile:
            self._copy()
        elif choice < 0.07 and self._hostile and self.ledger is not None:
            self.random.choice((self._steal, self._stumble))()
        elif self._guards is not None and self.random.random() < 0.15:
            ask = sg.an_ask(self.random, self.state, self.venue.now, f"G{self._asked}")
            if ask is not None:
                self.session.ask(ask)
        elif self._careless and self.random.random() < 0.15:
            edit = limits.an_edit(
                self.random, self.state, self.session.now, f"E{self._asked}", self.place
            )
            if edit is not None:
                self.session.ask(edit)
        else:
            self._trader.act(self.session, self.session.now)

    def _stray(self) -> None:
        """Somebody else opens a position in the account."""
        symbol = self.random.choice(list(self.venue.instruments))
        with contextlib.suppress(VenueRefused):
            self.venue.stray(symbol, self.random.choice((1, -1)), self.random.randint(1, 30))

    def _trouble_disk(self) -> None:
        """Nothing more is written for a while."""
        assert self.ledger is not None
        if self._disk.until:
            return
        kind = self.random.choice(Disk.KINDS)
        self._disk.trouble(
            self.ledger, self.venue.now + int(self.random.uniform(1, 60) * SECOND), kind
        )
        self._count(kind)

    def _steal(self) -> None:
        """Another hand takes files of the record away while it is in use, or puts an older copy in
        their place."""
        assert self.ledger is not None
        files = (self.ledger.path, *beside(self.ledger.path))
        for path in self.random.choice((files, files[:1], files[1:2])):
            path.unlink(missing_ok=True)
        if self.random.random() < 0.3 and self._copy_of(files[0]).exists():
            self._copy_of(files[0]).replace(files[0])
        self._count("record taken away")

    def _stumble(self) -> None:
        """The engine fails at one of the next events, before it has folded it or half-way: it
        begins anew from the record."""
        engine, after, half = (
            self.session.engine,
            self.random.randrange(60),
            self.random.random() < 0.5,
        )

        def handle(event: ev.AnyEvent) -> list[AnyCommand]:
            nonlocal after
            after -= 1
            if after >= 0:
                return Engine.handle(engine, event)
            if half:
                Engine.handle(engine, event)
            raise Stumbled

        engine.handle = handle  # type: ignore[method-assign]
        self._count("engine fails")

    @staticmethod
    def _failed(error: Exception) -> None:
        """Only what a storm does on purpose: any other fault is one of Hawser's."""
        if not isinstance(error, Stumbled):
            raise error

    def _sleep(self) -> None:
        """The machine sleeps, for a second or for many minutes."""
        span = int(SECOND * 10 ** self.random.uniform(0, 2.7))
        self._asleep += span
        self.venue.sleep(span, int(self.random.uniform(0, 1) * SECOND))
        self.judge.slept()
        self._count("sleep")

    def _count(self, kind: str) -> None:
        self.found.faults[kind] = self.found.faults.get(kind, 0) + 1

    def watch(self, until: int) -> None:
        """Let time pass, checking what was promised."""
        while self.venue.now < until:
            self.session.run_until(min(until, self.venue.now + LOOK_EVERY))
            if self.ledger is not None and self._disk.until and self.venue.now >= self._disk.until:
                self._disk.recover(self.ledger, self.venue.now)
            self._look()

    def _look(self) -> None:
        state = self.state
        if self._guards is not None and state.guards.guard and state.link_up:
            for text in self._guards.untripped(state):
                self.judge.broke("untripped", text)
        for text in self._limits.look(state) if self._limits is not None else ():
            self.judge.broke("loosened", text)
        self.judge.look()

    def settle(self) -> None:
        """Good weather until all is settled: then the two sides agree."""
        self._chosen = SEVERITIES["calm"]
        self.venue.set_air_clear()
        self.watch(self.venue.now + 90 * SECOND)
        self.judge.settled()
        self._record()

    def _kill(self) -> None:
        """Hawser dies with what it had not written; the venue lives on, and may have other
        instruments when another Hawser opens the same ledger."""
        if self.ledger is None:
            return
        path = self.ledger.path
        self._extent = self.session.extent
        self._disk.killed(self.ledger, self.random)
        older = self._hostile and self._copy_of(path).exists() and self.random.random() < 0.3
        taken = bool(self.ledger.astray())
        self.ledger.close()
        if older:
            self._put_back(path)
        self.venue.hang_up()
        self.watch_without_hawser(int(self.random.uniform(0.05, 8) * SECOND))
        self.ledger = Ledger(path)
        self._opens_with(older or taken, self.ledger.seq < self._extent.lines)
        if self._hostile and self.random.random() < 0.1:
            self._change_instruments(self.random)
        self.found.kills += 1
        self.session = self._opened()
        if self._guards is not None and not self.state.guards.guard:  # none of the record is left
            self.session.set_guards(self._policy, "guards", self._guards.calendars)
        self.judge.away()
        if self._limits is not None:
            self._limits = LimitsWatch(self.state)

    @staticmethod
    def _copy_of(path: Path) -> Path:
        return path.with_suffix(".copy")

    def _copy(self) -> None:
        """Somebody keeps a copy of the record."""
        if self.ledger is None or self._disk.until:
            return
        copy = self._copy_of(self.ledger.path)
        copy.unlink(missing_ok=True)
        with contextlib.closing(sqlite3.connect(self.ledger.path)) as own:
            try:
                own.execute("VACUUM INTO ?", (str(copy),))
            # parts of it have been taken away: there is nothing to keep
            except sqlite3.OperationalError:
                copy.unlink(missing_ok=True)

    def _put_back(self, path: Path) -> None:
        """Between a kill and the next start the record gives place to an older copy: what came
        since is not in it."""
        for old in (path, *beside(path)):
            old.unlink(missing_ok=True)
        self._copy_of(path).rename(path)
        self._count("older record")

    def _opens_with(self, older: bool, lacks: bool) -> None:
        """A record is opened, an older copy of it perhaps. `lacks`: something that was done is not
        in it."""
        if older:
            self.judge.put_back()
        self.judge.lacks(lacks)
        if lacks and self._guards is not None:
            self._guards.put_back(self.ledger.look() if self.ledger else self.state)

    def _change_under_way(self) -> None:
        """The same while Hawser lives: the line is cut, and who answers on it then trades
        others."""
        old = self.venue
        self._change_instruments(self._changes)
        if self.venue is not old:
            self.judge.away()
            self.venue.judge = self.judge
            self.session.venue = self.venue
            self.venue.answers_instead(old)
            self.session.run_until(self.venue.now)  # nothing is asked on a line that is cut

    def _change_instruments(self, draw: random.Random) -> None:
        """The venue has another grid for an instrument, or gives it up; or what it gave up is
        back."""
        old = self.venue
        whole = self.place.world
        if len(self._world) < len(whole):
            world, state, symbol = whole, old.book.state, "all"
        elif self._world is whole:
            world, state, symbol = storm_world.changed(whole, old.book.state, draw)
        else:
            return  # one change at a time
        if not symbol:
            return
        self._world = world
        self.judge.gone.add(symbol)
        self.venue = self._quay(BooksInMemory(state), old.now)
        self.venue.meddled = old.meddled
        # it knows what money is worth, whatever is traded
        self.venue.book.rates.update(old.book.rates)
        for kind, count in old.sky.counts.items():
            self.found.faults[kind] = self.found.faults.get(kind, 0) + count
        self._count("instrument")

    def watch_without_hawser(self, span: int) -> None:
        """The venue goes on; nobody hears it."""
        until = self.venue.now + span
        while self.venue.next_message(until) is not None:
            pass
        self.venue.pick_up()

    def _record(self) -> None:
        """The record folds to the state, and a replay gives its commands; all is in it soon after
        the disk is well."""
        if (
            self.ledger is None
            or self._disk.until
            or self.venue.now - self._disk.well_at < 2 * SECOND
        ):
            return
        self.session.write_down()
        if self.ledger.astray():  # another hand has it, and nothing has been written since
            return
        for trade in self.state.trades.values():
            live = {name for name in trade.order_ids if not self.state.orders[name].over}
            if len(trade.live_ids) != len(live) or set(trade.live_ids) != live:
                self.judge.broke("ledger", f"{trade.id} lists {trade.live_ids} as live, {live} are")
        if must_watch(self.state) and self.state.guards_at > next_turn(self.state):
            self.judge.broke("ledger", "what ends by its time is not looked at then")
        decode = msgspec.msgpack.Decoder(EngineState).decode
        mine = msgspec.msgpack.encode(decode(msgspec.msgpack.encode(self.state)))
        if msgspec.msgpack.encode(self.ledger.restore().state) != mine:
            self.judge.broke("ledger", "the fold of the record is not the state")
        verdict = verify(self.ledger.path)
        if verdict.line:
            self.judge.broke(
                "ledger",
                f"line {verdict.line}: {verdict.recorded} replayed as {verdict.replayed}",
            )


def _folder() -> tempfile.TemporaryDirectory[str]:
    """Where a storm's ledger lies: in memory where the system has such a place. What the disk does
    is tested apart."""
    place = "/dev/shm" if os.access("/dev/shm", os.W_OK) else None
    return tempfile.TemporaryDirectory(prefix="storm-", dir=place)


def together(storms: list[Storm], minutes: float) -> Findings:
    """Storms of several accounts in one process, each a turn at a time, always the one that is
    behind: what all have found. What they share, as Hawser's accounts do, is the interpreter."""
    playing = [
        (storm.venue.now, number, storm.turns(minutes)) for number, storm in enumerate(storms)
    ]
    heapq.heapify(playing)
    while playing:
        now, number, turns = playing[0]
        now = next(turns, 0)
        heapq.heapreplace(playing, (now, number, turns)) if now else heapq.heappop(playing)
    for storm in storms:
        storm.session.close()
    return reduce(Findings.joined, (storm.found for storm in storms))


def weathered(
    seed: int, severity: str, minutes: float = 12, kills: float = 0.04, guards: bool = False
) -> Findings:
    """A whole storm on a ledger of its own, with kills; what it found. One that fails is a finding
    too, so that the others of its run are not lost with it. Some are of several accounts at once,
    each with its storm.
    """
    with _folder() as folder:
        try:
            seeds = (
                [seed, *(BESIDE + seed * 2 + other for other in range(2))]
                if seed % SEVERAL == 0
                else [seed]
            )
            ledgers = [Ledger(Path(folder) / f"{one}.sqlite") for one in seeds]
            storms = [
                Storm(one, severity, ledger, kills=kills, guards=guards)
                for one, ledger in zip(seeds, ledgers, strict=True)
            ]
            found = together(storms, minutes)
        except Exception as error:
            found = Findings(seed)
            found.broke("unfinished", repr(error))
        return found


def traced(
    seed: int, severity: str, minutes: float = 12, kills: float = 0.04, guards: bool = False
) -> tuple[Findings, list[LogLine]]:
    """The same storm with every line of its Logbook."""
    with _folder() as folder:
        storm = Storm(
            seed, severity, Ledger(Path(folder) / "ledger.sqlite"), kills=kills, guards=guards
        )
        storm.lines = []
        instruments = tuple(one for one, _ in storm.place.world)
        opened = ev.Opened(time=0, prefix="S", account=storm.account, instruments=instruments)
        storm.heard((opened, []))
        found = storm.run(minutes)
        storm.session.close()
        return found, storm.lines
