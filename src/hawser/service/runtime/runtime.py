"""The running application without its windows: one engine thread, what it is asked, what it shows.

The desk calls `ask`, `watch` and the clock's controls from its own thread, and hears through the
callbacks of `Hooks`, which are called on the engine's thread with immutable values.
"""

from __future__ import annotations

import contextlib
import gc
import queue
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import msgspec

from hawser.core.account import Account
from hawser.core.bars import Bars
from hawser.core.clock import SECOND, timeframe_name
from hawser.core.errors import BadInput, HawserError
from hawser.core.guards.declared import Guards, NewsGuard
from hawser.core.guards.news import Calendar, NewsEvent
from hawser.core.plan import Plan
from hawser.engine import events as ev
from hawser.engine.commands import AnyCommand, Tell
from hawser.engine.model.state import EntryValues
from hawser.formats.declared import load
from hawser.formats.policytext import from_anywhere
from hawser.ledger.ledger import Ledger
from hawser.service import timed_io
from hawser.service.alerts.alert import Alert
from hawser.service.alerts.channels import Alerts
from hawser.service.alerts.settings import Channel
from hawser.service.profiles.profile import Profile
from hawser.service.recording import Aside, Extent
from hawser.service.runtime.faults import Faults
from hawser.service.runtime.news_watch import NewsWatch, unknown
from hawser.service.runtime.session import Session
from hawser.service.runtime.struct_types import make_all
from hawser.service.runtime.venue_thread import Link
from hawser.service.runtime.warming import prime_rules
from hawser.service.views.guards import GuardPicture
from hawser.service.views.guards import picture as guard_picture
from hawser.service.views.logbook_lines import Line, Teller
from hawser.service.views.snapshot import Snapshot, taken
from hawser.service.watchdog.control import Sentry
from hawser.service.watchdog.heartbeat import Heart, read_pulse
from hawser.venue import port
from hawser.venue.clock import Clock, uptime
from hawser.venue.quay.simulated import Simulated

FRAME = 1 / 30
AFTER_FAULT = 1.0  # seconds until the next picture where one has failed
DRILL = "drill"  # the calendar of made-up events
# seconds: where the venue has told less than that ago, it is heard before any deadline counts as
# missed
ASLEEP = 0.5
LOOK_WAIT_S = 0.5  # seconds it is waited for then
LAST_WORDS = 600.0  # s for alerts to leave in where tending has stopped
NOT_READ = Calendar("news", state="unread")
# real seconds that a venue in a thread beside this one gets to answer, however fast its clock runs
ANSWERS = 0.5
HEAR = 20_000  # lines of the record that the Logbook takes at once


class Boot(msgspec.Struct):
    """What a profile starts with. `prepare` plays what must have happened before anybody looks
    (lockstep)."""

    account: Account
    venue: port.Connection
    ledger: Ledger
    # the same venue where it is a simulated one, whose weather can be set
    simulation: Simulated | None = None
    prepare: Callable[[Session], None] | None = None
    notes: list[str] = []
    prefix: str = ""  # of client order ids; empty: drawn at random once for a ledger
    guards: Path | None = None  # the policy that ships, where the profile has none of its own
    venue_at: str = ""  # the socket of a venue that outlives this process


@dataclass
class Hooks:
    """Who hears what; all called on the engine's thread."""

    snapshot: Callable[[Snapshot], None] = lambda snapshot: None
    lines: Callable[[list[Line]], None] = lambda lines: None
    earlier: Callable[[list[Line], bool], None] = lambda lines, more: None
    told: Callable[[Tell], None] = lambda tell: None
    bars: Callable[[str, int, Bars], None] = lambda symbol, span, bars: None
    bar: Callable[[ev.BarCompleted], None] = lambda bar: None
    marks: Callable[[dict[str, EntryValues]], None] = lambda marks: None
    guards: Callable[[GuardPicture], None] = lambda picture: None
    ready: Callable[[], None] = lambda: None
    fault: Callable[[str], None] = lambda sentence: None
    failed: Callable[[str], None] = lambda sentence: None
    alert: Callable[[Channel, Alert], None] = lambda channel, alert: None
    tried: Callable[[Channel, str], None] = lambda channel, wrong: None


def settle_memory() -> None:
    """What is loaded by now stays: leave it out of later collections, which would hold every thread
    up."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(20_000, 20, 50)


def _held(session: Session) -> tuple[int, int]:
    """How many trades are open, and how many wait to be."""
    live = session.engine.state.live()
    held = sum(trade.open_steps > 0 for trade in live)
    return held, len(live) - held


@dataclass
class ShownInstrument:
    symbol: str = ""
    span: int = 0
    sent: int = 0  # when the last bar opened that was sent


class Runtime:
    """Owns the threads. `boot` is called on the engine's thread, because it loads what is heavy."""

    def __init__(
        self,
        profile: Profile,
        boot: Callable[[Profile], Boot],
        hooks: Hooks,
        speed: float = 1.0,
        running: bool = True,
        real: Callable[[], int] = uptime,
    ) -> None:
        self.profile, self._boot, self.hooks = profile, boot, hooks
        self._speed, self._running, self._real = speed, running, real
        self.clock = Clock(0, speed, running=False)
        self.faults = Faults(profile.state)
        self._asks: queue.SimpleQueue[Callable[[Session], None]] = queue.SimpleQueue()
        self._stop, self._over = threading.Event(), False  # whether nobody tends any more
        self._watch = ShownInstrument()
        self._teller = Teller()
        self._link: Link | None = None
        self.simulation: Simulated | None = None  # from when the account is open
        self._venue: port.Connection | None = None
        self._thread = threading.Thread(target=self._run, name="engine", daemon=True)
        self._serial = self._first = 0
        self._venue_at = ""
        self.alerts = Alerts(
            path=profile.alerts,
            waiting=profile.alerts_waiting,
            account=profile.name,
            local=hooks.alert,
            fault=hooks.fault,
            tried=hooks.tried,
        )
        self.sentry = Sentry(profile, hooks.fault)
        self.guards_path: Path | None = None  # where the policy lies that holds now
        self._followed: Guards | None = None  # whose news is watched
        self._news = NewsWatch(self.clock_now, self._take_calendars, self._fault)
        self._asked_prefix = f"{time.time_ns():x}"

    # Called from the desk's thread

    def start(self) -> None:
        if not self._stop.is_set():  # a window may be closed before it was ever painted
            make_all()
            self._thread.start()

    def stop(self) -> None:
        """Write everything down and end; the trades stay protected at the venue."""
        self._stop.set()
        self._wake()
        if self._thread.is_alive():
            self._thread.join(timed_io.ENDING)

    def ask_id(self) -> str:
        self._serial += 1
        return f"{self._asked_prefix}-{self._serial}"

    def ask(self, make: Callable[[int, str], ev.AskEvent]) -> str:
        """Ask for something: `make` gets the time and the ask's id. Returns the id."""
        ask_id = self.ask_id()
        if self._nobody_hears():
            return ask_id
        self._do(lambda session: session.ask(make(self._now(session), ask_id)))
        return ask_id

    def _nobody_hears(self) -> bool:
        """Whether what is asked for would wait for ever; told."""
        if self._over:
            self.hooks.fault(
                "Nothing was sent: tending has stopped. Act at the venue, or start Hawser again"
            )
        return self._over

    def watch(self, symbol: str, span: int) -> None:
        """Have the bars of one instrument and timeframe sent, and its unfinished bar with every
        snapshot."""

        def change(session: Session) -> None:
            if not self._can_show(session, symbol, span):
                self.hooks.fault(f"{symbol}: there are no bars of {timeframe_name(span)} to show")
                return
            self._watch = ShownInstrument(symbol, span)
            self._send_bars(session)

        self._do(change)

    def _send_bars(self, session: Session) -> None:
        """The bars that are watched, where they are still there."""
        symbol, span = self._watch.symbol, self._watch.span
        if self._can_show(session, symbol, span):
            bars = session.stores[symbol].series[span].bars()
            self._watch.sent = int(bars.time[-1]) if bars.time.size else 0
            self.hooks.bars(symbol, span, bars)

    def _send_bar(self, event: ev.BarCompleted, after: int, session: Session) -> None:
        """A bar that does not follow at once on the last one that was sent: those between them
        completed while the line was cut, or there are none."""
        if not self._can_show(session, event.symbol, event.span):
            return
        times = session.stores[event.symbol].series[event.span].bars().time
        if ((after < times) & (times < event.opened)).any():
            self._send_bars(session)
        else:
            self.hooks.bar(event)

    @staticmethod
    def _can_show(session: Session, symbol: str, span: int) -> bool:
        return symbol in session.stores and span in session.stores[symbol].series

    def measure(self, plan: Plan) -> None:
        """Have told what the plan would stand on in every instrument: the level under a stop taken
        from bars, and the ATR of its rig where that is its own."""

        def tell(session: Session) -> None:
            plans = {
                symbol: msgspec.structs.replace(plan, symbol=symbol) for symbol in session.stores
            }
            self.hooks.marks(
                {
                    symbol: EntryValues(session.basis(one), session.own_atr(one))
                    for symbol, one in plans.items()
                }
            )

        self._do(tell)

    def look_at_guards(self) -> None:
        """Have told what the guards are now."""
        self._do(
            lambda session: self.hooks.guards(
                guard_picture(session.engine.state, self._watch.symbol)
            )
        )

    @property
    def watched(self) -> str:
        """The instrument that is shown."""
        return self._watch.symbol

    def change_guards(self, guards: Guards) -> str:
        """Have another policy, written down as the profile's own. Returns the ask's id."""
        self.guards_path, ask_id = self.profile.guards, self.ask_id()
        if self._nobody_hears():
            return ask_id
        guards = from_anywhere(guards, self.profile.guards.parent)

        def read(calendars: tuple[Calendar, ...]) -> None:
            self._do(
                lambda session: session.ask(
                    ev.ChangeGuards(
                        time=self._now(session), ask_id=ask_id, guards=guards, calendars=calendars
                    )
                )
            )

        self._news.read(guards.news, read)
        return ask_id

    def drill_news(self, symbol: str) -> None:
        """A made-up event of the instrument, whose first window begins in 10 s."""

        def add(session: Session) -> None:
            state = session.engine.state
            guards = [
                g for g in state.guards.guard if isinstance(g, NewsGuard) and g.covers(symbol)
            ]
            if not guards:
                self.hooks.fault(f"No news guard watches {symbol}: there is nothing to drill")
                return
            first = max(guards, key=lambda guard: guard.before_min)
            at = self._now(session) + 10 * SECOND + round(first.before_min * 60) * SECOND
            currency = session.stores[symbol].instrument.news_currencies[0]
            event = NewsEvent(at, currency, first.impact, "Drill, made up")
            others = tuple(one for one in state.calendars if one.name != DRILL)
            session.set_calendars((*others, Calendar(DRILL, (event,))))

        self._do(add)

    def end_drills(self) -> None:
        """Take the made-up events away again."""
        self._do(
            lambda session: session.set_calendars(
                tuple(one for one in session.engine.state.calendars if one.name != DRILL)
            )
        )

    def pace(self, speed: float | None = None, running: bool | None = None) -> None:
        """Change the venue's clock: how many times as fast, and whether it runs."""
        self.clock.set(speed, running)
        self.simulate(lambda venue: venue.pace(speed, running))

    def simulate(self, work: Callable[[Simulated], None]) -> None:
        """Have something done at the simulated venue, on its own thread: its weather, a gust.
        Nothing where the venue is none."""
        link, venue = self._link, self.simulation
        if link is not None and venue is not None:
            link.do(lambda: self._worked(work, venue))

    def _worked(self, work: Callable[[Simulated], None], venue: Simulated) -> None:
        """What a venue refuses is an answer, and no fault."""
        try:
            work(venue)
        except HawserError as error:
            self.hooks.fault(error.sentence)

    def _do(self, work: Callable[[Session], None]) -> None:
        if not self._over:
            self._asks.put(work)
            self._wake()

    def _wake(self) -> None:
        if self._link is not None:
            self._link.inbox.wake()

    def clock_now(self) -> int:
        """The venue's time, UTC ns."""
        return self.clock.now()

    def _take_calendars(self, calendars: tuple[Calendar, ...]) -> None:
        self._do(lambda session: session.set_calendars(calendars))

    # On the engine's thread

    def _now(self, session: Session) -> int:
        return max(session.engine.state.now, self.clock.now())

    def _run(self) -> None:
        try:
            session = self._open()
        except HawserError as error:
            self._over = True
            self.hooks.failed(error.sentence)
            return
        except Exception as error:  # anything else is ours; the window says so
            self._over = True
            self.hooks.failed(self.faults.record(error))
            return
        heart = Heart(self.profile.heartbeat, self.profile.name, self._venue_at, Aside("heart"))
        self._beside(heart.speak)
        try:
            self._serve(session, heart)
        # nobody knows what it has left undone: nothing may leave any more
        except Exception as error:
            self._over = True
            sentence = self.faults.record(error)
            told = f"Tending has stopped; resting stops still protect at the venue. {sentence}"
            self._beside(partial(self.hooks.failed, told))
            self._beside(partial(self.alerts.tell_fault, told))  # nobody may be at the screen
        finally:
            self._beside(heart.end)
            self._close(session)

    def _open(self) -> Session:
        prime_rules()
        boot = self._boot(self.profile)
        self._venue, self.simulation, self._venue_at = boot.venue, boot.simulation, boot.venue_at
        self._beside(partial(self._hear_past, boot.ledger))
        try:
            session = self._session(boot)
        except BaseException:  # who tries again must not meet our own lock
            boot.ledger.close()
            boot.venue.close()
            raise
        try:
            self._begin(session, boot)
        except BaseException:
            self._close(session)
            raise
        return session

    def _begin(self, session: Session, boot: Boot) -> None:
        session.stopping = self._stop.is_set
        self._set_up_guards(session, boot)
        if boot.prepare is not None:
            boot.prepare(session)
        self.clock = Clock(session.now, self._speed, self._running, self._real)
        self._link = Link(boot.venue, self.clock, self._fault)
        session.driven_by(self._link)
        settle_memory()
        for note in boot.notes:
            self.hooks.fault(note)
        self.hooks.ready()
        self._link.start()
        look = threading.Thread(
            target=partial(self._look_at_the_record, boot.ledger.path), name="record", daemon=True
        )
        for begin in (
            self._news.start,
            self.alerts.begin,
            partial(self.sentry.begin, self._venue_at),
            look.start,
        ):
            self._beside(begin)

    def _beside(self, work: Callable[[], object]) -> bool:
        """Do what is not tending: an error in it is told, and tending goes on. Whether all went
        well."""
        try:
            work()
        except Exception as error:
            self._fault(error)
            return False
        return True

    def _session(self, boot: Boot) -> Session:
        pulse = read_pulse(self.profile.heartbeat)
        return Session(
            account=boot.account,
            venue=boot.venue,
            ledger=boot.ledger,
            listener=self._heard,
            prefix=boot.prefix,
            on_fault=self._fault,
            way=Aside("writer"),
            last=pulse.extent if pulse is not None else Extent(),
        )

    def _look_at_the_record(self, path: Path) -> None:
        """Whether the file is what was written: all of it, which takes its time, so that nobody
        waits for it. What the session stands on was checked line by line as it was folded.
        """
        from hawser.ledger.verify import damage

        try:
            found = damage(path)
        except HawserError as error:
            found = error.sentence
        if found and not self._stop.is_set():
            sentence = (
                f"The record is damaged ({found}). What is open was compared with the venue; keep "
                f"a copy of {path}"
            )
            self.hooks.fault(sentence)
            self.alerts.tell_fault(sentence)

    def _set_up_guards(self, session: Session, boot: Boot) -> None:
        """The policy of the person's file, or the one that ships. A file that is wrong changes
        nothing. What the record knows of news may be days old, and reading it may take its time:
        until it is read, entries are closed."""
        path = self.guards_path = (
            self.profile.guards if self.profile.guards.is_file() else boot.guards
        )
        if path is None:
            return
        state = session.engine.state
        try:
            guards = from_anywhere(load(Guards, path), path.parent)
        except BadInput as error:
            self.hooks.fault(f"{error.sentence}; the guards stay as they were")
            guards = state.guards
        calendars: tuple[Calendar, ...] = ()
        # what it plays meets the news that ships
        if guards.news.files and boot.prepare is not None:
            from hawser.formats.news import read_calendars

            calendars = read_calendars(guards.news, path.parent, max(state.now, boot.venue.now))
        elif guards.news.files:
            calendars = (*(one for one in state.calendars if one.state == "good"), NOT_READ)
        session.set_guards(guards, f"{self._asked_prefix}-guards", calendars)

    def _follow_news(self, session: Session) -> None:
        """Watch the news of the policy that holds: what makes it looser may wait, whatever its file
        says by now."""
        guards = session.engine.state.guards
        if guards is not self._followed:
            self._followed = guards
            news = from_anywhere(guards, (self.guards_path or self.profile.guards).parent).news
            if news != self._news.sources:
                self._news.watch(news)
        if self._news.hangs():
            session.set_calendars(unknown("reading the files does not end"))

    def _hear_past(self, ledger: Ledger) -> None:
        """The Logbook's last lines of what was recorded before; earlier ones when they are asked
        for."""
        self._first = max(0, ledger.seq - HEAR)
        if ledger.seq:
            self._teller.begin(ledger.look())
        lines = self._teller.told(ledger.rows(after=self._first))
        if lines:
            self.hooks.lines(lines)
        self.hooks.earlier([], self._first > 0)

    def earlier(self) -> None:
        """Have lines told that were recorded before those told so far."""

        def tell(session: Session) -> None:
            if session.ledger is None:
                return
            if session.recording.hangs:
                self.hooks.fault("The disk does not answer: earlier lines cannot be read just now")
                return
            first, self._first = self._first, max(0, self._first - HEAR)
            teller = Teller()
            teller.begin(session.engine.state)
            self.hooks.earlier(
                teller.told(session.ledger.rows(self._first, first)), self._first > 0
            )

        self._do(tell)

    def _heard(self, entry: tuple[ev.AnyEvent, list[AnyCommand]]) -> None:
        event, commands = entry
        lines = self._teller.lines(event, commands)
        if lines:
            self.hooks.lines(lines)
        for command in commands:
            if isinstance(command, Tell):
                self.hooks.told(command)
                self.alerts.tell(command)
        if isinstance(event, ev.BarCompleted) and (event.symbol, event.span) == (
            self._watch.symbol,
            self._watch.span,
        ):
            last, self._watch.sent = self._watch.sent, max(self._watch.sent, event.opened)
            if event.opened - last <= event.span:
                self.hooks.bar(event)
            else:
                self._do(partial(self._send_bar, event, last))

    def _fault(self, error: Exception) -> None:
        """Tell an unexpected error, by every way that works; one that fails as well must not end
        tending."""
        sentence = self.faults.record(error)
        for tell in (self.hooks.fault, self.alerts.tell_fault):
            with contextlib.suppress(Exception):
                tell(sentence)

    def _serve(self, session: Session, heart: Heart) -> None:
        assert self._link is not None
        next_frame = 0.0
        while not self._stop.is_set():
            while not self._asks.empty():
                work = self._asks.get()
                try:
                    work(session)
                except HawserError as error:
                    self.hooks.fault(error.sentence)
                except Exception as error:  # what a window asks for never ends tending
                    self._fault(error)
            until = self.clock.now()
            if until - self._link.told_to > ASLEEP * self.clock.speed * SECOND:
                until = self._link.catch_up(until, LOOK_WAIT_S)
            session.patience = round(ANSWERS * self.clock.speed * SECOND)
            session.run_until(until)
            now = time.monotonic()
            if now >= next_frame:
                next_frame = now + FRAME
                heart.beat(now, *_held(session), extent=session.extent)
                if not self._look_around(session, now):
                    next_frame = now + AFTER_FAULT
            self._link.inbox.wait(min(FRAME, max(0.001, next_frame - now)))
        heart.beat(0.0, *_held(session), ended=True, extent=session.extent)

    def _look_around(self, session: Session, now: float) -> bool:
        """News, the picture for the window, and whether somebody watches over Hawser. Whether all
        went well."""
        looks = (
            partial(self._follow_news, session),
            partial(self._show, session),
            partial(self.sentry.look, now),
        )
        went = [self._beside(look) for look in looks]
        return all(went)

    def _show(self, session: Session) -> None:
        self.hooks.snapshot(self.picture(session))

    def picture(self, session: Session) -> Snapshot:
        """The present snapshot, with the watched timeframe's unfinished bar."""
        watch = self._watch
        there = self._can_show(session, watch.symbol, watch.span)
        forming = session.stores[watch.symbol].forming(watch.span) if there else None
        return taken(session.engine.state, forming, self.faults.count, watch.symbol)

    def _close(self, session: Session) -> None:
        self._beside(self._news.stop)
        if not self._over:
            self._beside(self.alerts.stop)
        if self._link is not None:
            self._beside(self._link.stop)
        self._beside(session.close)
        if self._venue is not None:
            self._beside(self._venue.close)
        if self._over:
            self._beside(self._last_words)

    def _last_words(self) -> None:
        """What is to be said by mail or webhook still goes out, where nobody closes Hawser
        before."""
        end = time.monotonic() + LAST_WORDS
        while time.monotonic() < end and (self.alerts.held("email") or self.alerts.held("webhook")):
            if self._stop.wait(0.1):
                break
        self.alerts.stop()
