"""What happens on the engine's thread: the account is opened, tended, shown, and closed."""

from __future__ import annotations

import gc
import threading
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

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
from hawser.service.recording import Aside, Extent
from hawser.service.runtime.hooks import Boot
from hawser.service.runtime.news_watch import unknown
from hawser.service.runtime.session import Session
from hawser.service.runtime.venue_thread import Link
from hawser.service.runtime.warming import prime_rules
from hawser.service.views.guard_picture import picture as guard_picture
from hawser.service.views.logbook_lines import Teller
from hawser.service.views.snapshot import Snapshot
from hawser.service.views.taking import taken
from hawser.service.watchdog.heartbeat import Heart, read_pulse

if TYPE_CHECKING:
    from hawser.service.runtime.runtime import Runtime

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


def settle_memory() -> None:
    """What is loaded by now stays: leave it out of later collections, which would hold every thread
    up."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(20_000, 20, 50)


class EngineThread:
    """One account at work. What it is asked to do comes through `Runtime.do`, and is done with this
    as its argument."""

    session: Session  # from when the account is open, and nothing is asked before

    def __init__(self, runtime: Runtime) -> None:
        self._runtime, self.profile, self.hooks = runtime, runtime.profile, runtime.hooks
        self.teller = Teller()
        self._followed: Guards | None = None  # whose news is watched
        self._first = 0  # the first line of the record that was told

    def now(self) -> int:
        """The engine's time, UTC ns: never before what it has heard."""
        return max(self.session.engine.state.now, self._runtime.clock.now())

    def run(self) -> None:
        """Open, tend until the end is wanted, and close."""
        try:
            boot = self._open()
        except HawserError as error:
            self._fail(error.sentence)
            return
        except Exception as error:  # anything else is ours; the window says so
            self._fail(self._runtime.faults.record(error))
            return
        heart = Heart(self.profile.heartbeat, self.profile.name, boot.venue_at, Aside("heart"))
        self._beside(heart.speak)
        try:
            self._serve(heart)
        # nobody knows what it has left undone: nothing may leave any more
        except Exception as error:
            self._runtime.over = True
            sentence = self._runtime.faults.record(error)
            told = f"Tending has stopped; resting stops still protect at the venue. {sentence}"
            self._beside(partial(self.hooks.failed, told))
            # nobody may be at the screen
            self._beside(partial(self._runtime.alerts.tell_fault, told))
        finally:
            self._beside(heart.end)
            self._close(boot)

    def _fail(self, sentence: str) -> None:
        self._runtime.over = True
        self.hooks.failed(sentence)

    # Opening

    def _open(self) -> Boot:
        prime_rules()
        boot = self._runtime.boot(self.profile)
        self._runtime.simulation = boot.simulation
        self._runtime.columns = boot.columns
        self._beside(partial(self._hear_past, boot.ledger))
        try:
            self.session = self._session(boot)
        except BaseException:  # who tries again must not meet our own lock
            boot.ledger.close()
            boot.venue.close()
            raise
        try:
            self._begin(boot)
        except BaseException:
            self._close(boot)
            raise
        return boot

    def _session(self, boot: Boot) -> Session:
        pulse = read_pulse(self.profile.heartbeat)
        return Session(
            account=boot.account,
            venue=boot.venue,
            ledger=boot.ledger,
            listener=self.heard,
            prefix=boot.prefix,
            on_fault=self._runtime.tell_fault,
            way=Aside("writer"),
            last=pulse.extent if pulse is not None else Extent(),
        )

    def _begin(self, boot: Boot) -> None:
        runtime, session = self._runtime, self.session
        session.stopping = runtime.ends.is_set
        self._set_up_guards(boot)
        if boot.prepare is not None:
            boot.prepare(session)
        clock = runtime.begin_clock(session.now)
        runtime.link = Link(boot.venue, clock, runtime.tell_fault)
        session.driven_by(runtime.link)
        settle_memory()
        for note in boot.notes:
            self.hooks.fault(note)
        self.hooks.ready()
        runtime.link.start()
        look = threading.Thread(
            target=partial(self._look_at_the_record, boot.ledger.path), name="record", daemon=True
        )
        for begin in (
            runtime.news.start,
            runtime.alerts.begin,
            partial(runtime.sentry.begin, boot.venue_at),
            look.start,
        ):
            self._beside(begin)

    def _look_at_the_record(self, path: Path) -> None:
        """Whether the file is what was written: all of it, which takes its time, so that nobody
        waits for it. What the session stands on was checked line by line as it was folded.
        """
        from hawser.ledger.verify import damage

        try:
            found = damage(path)
        except HawserError as error:
            found = error.sentence
        if found and not self._runtime.ends.is_set():
            sentence = (
                f"The record is damaged ({found}). What is open was compared with the venue; keep "
                f"a copy of {path}"
            )
            self.hooks.fault(sentence)
            self._runtime.alerts.tell_fault(sentence)

    def _set_up_guards(self, boot: Boot) -> None:
        """The policy of the person's file, or the one that ships. A file that is wrong changes
        nothing. What the record knows of news may be days old, and reading it may take its time:
        until it is read, entries are closed."""
        path = self._runtime.guards_path = (
            self.profile.guards if self.profile.guards.is_file() else boot.guards
        )
        if path is None:
            return
        state = self.session.engine.state
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
        self.session.set_guards(guards, f"{self._runtime.asked_prefix}-guards", calendars)

    # Tending

    def _serve(self, heart: Heart) -> None:
        runtime, session, link = self._runtime, self.session, self._runtime.link
        assert link is not None
        next_frame = 0.0
        while not runtime.ends.is_set():
            self._do_what_was_asked()
            until = runtime.clock.now()
            if until - link.told_to > ASLEEP * runtime.clock.speed * SECOND:
                until = link.catch_up(until, LOOK_WAIT_S)
            session.patience = round(ANSWERS * runtime.clock.speed * SECOND)
            session.run_until(until)
            now = time.monotonic()
            if now >= next_frame:
                next_frame = now + FRAME
                heart.beat(now, *self._held(), extent=session.extent)
                if not self._look_around(now):
                    next_frame = now + AFTER_FAULT
            link.inbox.wait(min(FRAME, max(0.001, next_frame - now)))
        heart.beat(0.0, *self._held(), ended=True, extent=session.extent)

    def _do_what_was_asked(self) -> None:
        while not self._runtime.asks.empty():
            work = self._runtime.asks.get()
            try:
                work(self)
            except HawserError as error:
                self.hooks.fault(error.sentence)
            except Exception as error:  # what a window asks for never ends tending
                self._runtime.tell_fault(error)

    def _held(self) -> tuple[int, int]:
        """How many trades are open, and how many wait to be."""
        live = self.session.engine.state.live()
        held = sum(trade.open_steps > 0 for trade in live)
        return held, len(live) - held

    def _look_around(self, now: float) -> bool:
        """News, the picture for the window, and whether somebody watches over Hawser. Whether all
        went well."""
        looks = (self._follow_news, self._show, partial(self._runtime.sentry.look, now))
        went = [self._beside(look) for look in looks]
        return all(went)

    def _follow_news(self) -> None:
        """Watch the news of the policy that holds: what makes it looser may wait, whatever its file
        says by now."""
        runtime, guards = self._runtime, self.session.engine.state.guards
        if guards is not self._followed:
            self._followed = guards
            news = from_anywhere(guards, (runtime.guards_path or self.profile.guards).parent).news
            if news != runtime.news.sources:
                runtime.news.watch(news)
        if runtime.news.hangs():
            self.session.set_calendars(unknown("reading the files does not end"))

    def _beside(self, work: Callable[[], object]) -> bool:
        """Do what is not tending: an error in it is told, and tending goes on. Whether all went
        well."""
        try:
            work()
        except Exception as error:
            self._runtime.tell_fault(error)
            return False
        return True

    # What a window is shown

    def _show(self) -> None:
        self.hooks.snapshot(self.picture())

    def picture(self) -> Snapshot:
        """The present snapshot, with the watched timeframe's unfinished bar."""
        shown, session = self._runtime.shown, self.session
        there = self._can_show(shown.symbol, shown.span)
        forming = session.stores[shown.symbol].forming(shown.span) if there else None
        return taken(session.engine.state, forming, self._runtime.faults.count, shown.symbol)

    def show_guards(self) -> None:
        """Have told what the guards are now."""
        self.hooks.guards(guard_picture(self.session.engine.state, self._runtime.shown.symbol))

    def policy(self) -> tuple[Guards, tuple[Calendar, ...]]:
        """The guards in force, with their news."""
        state = self.session.engine.state
        return state.guards, state.calendars

    def bars_of_all(self) -> dict[str, tuple[int, Bars]]:
        """The shortest completed bars of every instrument, with their length, ns."""
        return {
            symbol: (store.base_span, store.series[store.base_span].bars())
            for symbol, store in self.session.stores.items()
        }

    def watch(self, symbol: str, span: int) -> None:
        """Show the bars of an instrument and timeframe from now on."""
        if not self._can_show(symbol, span):
            self.hooks.fault(f"{symbol}: there are no bars of {timeframe_name(span)} to show")
            return
        self._runtime.shown.symbol, self._runtime.shown.span = symbol, span
        self._send_bars()

    def _can_show(self, symbol: str, span: int) -> bool:
        stores = self.session.stores
        return symbol in stores and span in stores[symbol].series

    def _send_bars(self) -> None:
        """The bars that are watched, where they are still there."""
        shown = self._runtime.shown
        if self._can_show(shown.symbol, shown.span):
            bars = self.session.stores[shown.symbol].series[shown.span].bars()
            shown.sent = int(bars.time[-1]) if bars.time.size else 0
            self.hooks.bars(shown.symbol, shown.span, bars)

    def _send_bar(self, event: ev.BarCompleted, after: int) -> None:
        """A bar that does not follow at once on the last one that was sent: those between them
        completed while the line was cut, or there are none."""
        if not self._can_show(event.symbol, event.span):
            return
        times = self.session.stores[event.symbol].series[event.span].bars().time
        if ((after < times) & (times < event.opened)).any():
            self._send_bars()
        else:
            self.hooks.bar(event)

    def measure(self, plan: Plan) -> None:
        """Tell what the plan would stand on in every instrument."""
        session, found = self.session, {}
        for symbol in session.stores:
            one = msgspec.structs.replace(plan, symbol=symbol)
            found[symbol] = EntryValues(session.basis(one), session.own_atr(one))
        self.hooks.marks(found)

    def drill_news(self, symbol: str) -> None:
        """A made-up event of the instrument, whose first window begins in 10 s."""
        session, state = self.session, self.session.engine.state
        guards = [g for g in state.guards.guard if isinstance(g, NewsGuard) and g.covers(symbol)]
        if not guards:
            self.hooks.fault(f"No news guard watches {symbol}: there is nothing to drill")
            return
        first = max(guards, key=lambda guard: guard.before_min)
        at = self.now() + 10 * SECOND + round(first.before_min * 60) * SECOND
        currency = session.stores[symbol].instrument.news_currencies[0]
        event = NewsEvent(at, currency, first.impact, "Drill, made up")
        self.end_drills(Calendar(DRILL, (event,)))

    def end_drills(self, *instead: Calendar) -> None:
        """Take the made-up events away; `instead`: others in their place."""
        kept = (one for one in self.session.engine.state.calendars if one.name != DRILL)
        self.session.set_calendars((*kept, *instead))

    # What the Logbook is told

    def _hear_past(self, ledger: Ledger) -> None:
        """The Logbook's last lines of what was recorded before; earlier ones when they are asked
        for."""
        self._first = max(0, ledger.seq - HEAR)
        if ledger.seq:
            self.teller.begin(ledger.look())
        lines = self.teller.told(ledger.rows(after=self._first))
        if lines:
            self.hooks.lines(lines)
        self.hooks.earlier([], self._first > 0)

    def earlier(self) -> None:
        """Tell lines that were recorded before those told so far."""
        session = self.session
        if session.ledger is None:
            return
        if session.recording.hangs:
            self.hooks.fault("The disk does not answer: earlier lines cannot be read just now")
            return
        first, self._first = self._first, max(0, self._first - HEAR)
        teller = Teller()
        teller.begin(session.engine.state)
        self.hooks.earlier(teller.told(session.ledger.rows(self._first, first)), self._first > 0)

    def heard(self, entry: tuple[ev.AnyEvent, list[AnyCommand]]) -> None:
        """What the engine has taken in, and what it wants because of it."""
        event, commands = entry
        lines = self.teller.lines(event, commands)
        if lines:
            self.hooks.lines(lines)
        for command in commands:
            if isinstance(command, Tell):
                self.hooks.told(command)
                self._runtime.alerts.tell(command)
        shown = self._runtime.shown
        if isinstance(event, ev.BarCompleted) and (event.symbol, event.span) == (
            shown.symbol,
            shown.span,
        ):
            last, shown.sent = shown.sent, max(shown.sent, event.opened)
            if event.opened - last <= event.span:
                self.hooks.bar(event)
            else:
                self._runtime.do(lambda engine: engine._send_bar(event, last))

    # Closing

    def _close(self, boot: Boot) -> None:
        runtime = self._runtime
        self._beside(runtime.news.stop)
        if not runtime.over:
            self._beside(runtime.alerts.stop)
        if runtime.link is not None:
            self._beside(runtime.link.stop)
        self._beside(self.session.close)
        self._beside(boot.venue.close)
        if runtime.over:
            self._beside(self._last_words)

    def _last_words(self) -> None:
        """What is to be said by mail or webhook still goes out, where nobody closes Hawser
        before."""
        alerts, end = self._runtime.alerts, time.monotonic() + LAST_WORDS
        while time.monotonic() < end and (alerts.held("email") or alerts.held("webhook")):
            if self._runtime.ends.wait(0.1):
                break
        alerts.stop()
