"""The running application without its windows, as a window has it: what it asks of the engine's
thread, and the clock it shows.

Everything here is called on the window's thread, and hears through the callbacks of `Hooks`, which
are called on the engine's thread with immutable values. What that thread does is
`engine_thread.py`; it is loaded when the thread begins, after the window has been painted.
"""

from __future__ import annotations

import contextlib
import queue
import threading
import time
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from hawser.core.bars import Bars
from hawser.core.errors import HawserError
from hawser.core.guards.declared import Guards
from hawser.core.guards.news import Calendar
from hawser.core.plan import Plan
from hawser.engine import events as ev
from hawser.formats.policytext import from_anywhere
from hawser.service import timed_io
from hawser.service.alerts.channels import Alerts
from hawser.service.profiles.profile import Profile
from hawser.service.runtime.faults import Faults
from hawser.service.runtime.hooks import Boot, Hooks
from hawser.service.runtime.news_watch import NewsWatch
from hawser.service.runtime.preparing import prepared
from hawser.service.watchdog.control import Sentry
from hawser.venue.clock import Clock, uptime

if TYPE_CHECKING:
    from hawser.service.own_columns import OwnColumns
    from hawser.service.runtime.engine_thread import EngineThread
    from hawser.service.runtime.venue_thread import Link
    from hawser.venue.quay.simulated import Simulated


PolicyTold = Callable[[Guards, tuple[Calendar, ...], Mapping[str, tuple[int, Bars]]], None]


class ShownInstrument(msgspec.Struct):
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
        self.profile, self.boot, self.hooks = profile, boot, hooks
        self._pace, self._real = (speed, running), real
        self.clock = Clock(0, speed, running=False)
        self.faults = Faults(profile.state)
        self.asks: queue.SimpleQueue[Callable[[EngineThread], None]] = queue.SimpleQueue()
        self.ends, self.over = threading.Event(), False  # whether nobody tends any more
        self.shown = ShownInstrument()
        self.link: Link | None = None
        self.simulation: Simulated | None = None  # from when the account is open
        self.columns: OwnColumns | None = None  # the same
        self._thread = threading.Thread(target=self._run, name="engine", daemon=True)
        self._serial = 0
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
        self.news = NewsWatch(self.clock_now, self._take_calendars, self.tell_fault)
        self.asked_prefix = f"{time.time_ns():x}"

    def start(self) -> None:
        """Begin to tend. What the engine needs is loaded first, where `prepared` has not done so
        in pieces."""
        if not self.ends.is_set():  # a window may be closed before it was ever painted
            for _ in prepared():
                pass
            self._thread.start()

    def _run(self) -> None:
        from hawser.service.runtime.engine_thread import EngineThread

        EngineThread(self).run()

    def stop(self) -> None:
        """Write everything down and end; the trades stay protected at the venue."""
        self.ends.set()
        self._wake()
        if self._thread.is_alive():
            self._thread.join(timed_io.ENDING)

    def ask_id(self) -> str:
        self._serial += 1
        return f"{self.asked_prefix}-{self._serial}"

    def ask(self, make: Callable[[int, str], ev.AskEvent]) -> str:
        """Ask for something: `make` gets the time and the ask's id. Returns the id."""
        ask_id = self.ask_id()
        if not self._nobody_hears():
            self.do(lambda engine: engine.session.ask(make(engine.now(), ask_id)))
        return ask_id

    def _nobody_hears(self) -> bool:
        """Whether what is asked for would wait for ever; told."""
        if self.over:
            self.hooks.fault(
                "Nothing was sent: tending has stopped. Act at the venue, or start Hawser again"
            )
        return self.over

    def watch(self, symbol: str, span: int) -> None:
        """Have the bars of one instrument and timeframe sent, and its unfinished bar with every
        snapshot."""
        self.do(lambda engine: engine.watch(symbol, span))

    @property
    def watched(self) -> str:
        """The instrument that is shown."""
        return self.shown.symbol

    def policy(self, then: PolicyTold) -> None:
        """Have the guards in force told on the engine's thread, with their news and the bars of
        `bars_of_all`, that their regimes look at."""
        self.do(lambda engine: then(*engine.policy(), engine.bars_of_all()))

    def columns_of(self, symbol: str) -> OwnColumns | None:
        """The further columns of an instrument whose market a file plays; None: there are none."""
        return self.columns if self.columns is not None and self.columns.symbol == symbol else None

    def bars_of_all(self, then: Callable[[Mapping[str, tuple[int, Bars]]], None]) -> None:
        """Have the shortest completed bars of every instrument told on the engine's thread, each
        with their length, ns."""
        if self.over:  # what is shown can still be looked at
            then({})
        else:
            self.do(lambda engine: then(engine.bars_of_all()))

    def measure(self, plan: Plan) -> None:
        """Have told what the plan would stand on in every instrument: the level under a stop taken
        from bars, and the ATR of its rig where that is its own."""
        self.do(lambda engine: engine.measure(plan))

    def look_at_guards(self) -> None:
        """Have told what the guards are now."""
        self.do(lambda engine: engine.show_guards())

    def earlier(self) -> None:
        """Have lines told that were recorded before those told so far."""
        self.do(lambda engine: engine.earlier())

    def change_guards(self, guards: Guards) -> str:
        """Have another policy, written down as the profile's own. Returns the ask's id."""
        self.guards_path, ask_id = self.profile.guards, self.ask_id()
        if self._nobody_hears():
            return ask_id
        guards = from_anywhere(guards, self.profile.guards.parent)

        def read(calendars: tuple[Calendar, ...]) -> None:
            self.do(
                lambda engine: engine.session.ask(
                    ev.ChangeGuards(
                        time=engine.now(), ask_id=ask_id, guards=guards, calendars=calendars
                    )
                )
            )

        self.news.read(guards.news, read)
        return ask_id

    def drill_news(self, symbol: str) -> None:
        """A made-up event of the instrument, whose first window begins in 10 s."""
        self.do(lambda engine: engine.drill_news(symbol))

    def end_drills(self) -> None:
        """Take the made-up events away again."""
        self.do(lambda engine: engine.end_drills())

    def pace(self, speed: float | None = None, running: bool | None = None) -> None:
        """Change the venue's clock: how many times as fast, and whether it runs."""
        self.clock.set(speed, running)
        self.simulate(lambda venue: venue.pace(speed, running))

    def begin_clock(self, now: int) -> Clock:
        """The venue's clock from `now` (UTC ns) on, as fast as was asked for at the start."""
        speed, running = self._pace
        self.clock = Clock(now, speed, running, self._real)
        return self.clock

    def simulate(self, work: Callable[[Simulated], None]) -> None:
        """Have something done at the simulated venue, on its own thread: its weather, a gust.
        Nothing where the venue is none."""
        link, venue = self.link, self.simulation
        if link is not None and venue is not None:
            link.do(lambda: self._worked(work, venue))

    def _worked(self, work: Callable[[Simulated], None], venue: Simulated) -> None:
        """What a venue refuses is an answer, and no fault."""
        try:
            work(venue)
        except HawserError as error:
            self.hooks.fault(error.sentence)

    def do(self, work: Callable[[EngineThread], None]) -> None:
        """Have something done on the engine's thread, between two of its looks at the venue."""
        if not self.over:
            self.asks.put(work)
            self._wake()

    def _wake(self) -> None:
        if self.link is not None:
            self.link.inbox.wake()

    def clock_now(self) -> int:
        """The venue's time, UTC ns."""
        return self.clock.now()

    def _take_calendars(self, calendars: tuple[Calendar, ...]) -> None:
        self.do(lambda engine: engine.session.set_calendars(calendars))

    def tell_fault(self, error: Exception) -> None:
        """Tell an unexpected error, by every way that works; one that fails as well must not end
        tending."""
        sentence = self.faults.record(error)
        for tell in (self.hooks.fault, self.alerts.tell_fault):
            with contextlib.suppress(Exception):
                tell(sentence)
