"""One account's session without threads: engine, ledger, venue and timers joined in the order that
keeps promises.

An event is folded, it and its commands are written down, and only then do the commands leave. What
only changes what is known (quotes, rates, the account's figures) is recorded in short, as the
values the engine holds, just before the next event that may lead to something.

Where the record cannot be written, what protects comes first: stops, closes and questions leave all
the same and are kept in memory until they can be written; entries do not leave.

Time is our own: `run_until` moves it and nothing else does. A venue's times are data; the session
only remembers how far its clock is from ours, for orders that it is to give up at a moment.
"""

from __future__ import annotations

import heapq
import math
import secrets
from collections.abc import Callable

import msgspec

from hawser.core.account import Account
from hawser.core.bars import Bars
from hawser.core.clock import MILLISECOND, SECOND
from hawser.core.errors import BadInput
from hawser.core.guards.declared import Guards
from hawser.core.guards.measures import measures_for
from hawser.core.guards.news import Calendar
from hawser.core.indicator_values import (
    basis,
    best_key,
    lived_key,
    needs_values,
    own_atr,
    plan_atr,
    values_for,
)
from hawser.core.instrument import Instrument
from hawser.core.plan import Plan
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.engine import Engine
from hawser.engine.entries.follow_on import following, turned_plan
from hawser.engine.guards.next_look import must_watch
from hawser.ledger.ledger import Entry, Ledger, Restored
from hawser.service.recording import Extent, Here, Recording, Way, Written, recordable
from hawser.service.runtime.bar_store import BarStore
from hawser.service.runtime.venue_checks import Checking
from hawser.service.runtime.venue_messages import FromVenue, Odd, as_request
from hawser.venue import port

FAULTS_WITHIN, MOST_PAUSE = 120 * SECOND, 30  # s of pause
SERIALS_SINCE = 1_735_689_600 * SECOND  # 2025
WAITS = {"request", "holdings", "deadline", "until"}  # timers that give the venue time to answer
UPDATES = (ev.Quote, ev.Figures, ev.RateSeen)

Listener = Callable[[Entry], None]


def _check_currency(known: Account | None, account: Account) -> None:
    """All money of a record is in one currency: what guards count from, and what trades have won.
    Raises BadInput."""
    if known is not None and known.currency != account.currency:
        sentence = (
            f"currency: this account's record is in {known.currency}; expected the same, not "
            f"{account.currency}: give"
            " an account in another currency a name of its own"
        )
        raise BadInput("bad_account", sentence)


class Session:
    """Drives an Engine against a venue. `listener` hears every recorded event with its commands."""

    def __init__(
        self,
        account: Account,
        venue: port.Venue,
        ledger: Ledger | None,
        listener: Listener | None = None,
        prefix: str = "",
        on_fault: Callable[[Exception], None] | None = None,
        way: Way | None = None,
        last: Extent | None = None,
    ) -> None:
        """`last`: how far the record went when Hawser last ran with it, kept apart from it."""
        self._on_fault = on_fault
        self.venue, self.ledger, self._listener = venue, ledger, listener
        self.recording = Recording(ledger, way or Here())
        restored = ledger.restored() if ledger else Restored(Engine(), "")
        self.engine = restored.engine
        traded = tuple(venue.instruments.values())
        self._set_up(
            traded, venue.base_span, {one.symbol: venue.history(one.symbol) for one in traded}
        )
        self._checking = Checking()
        self._odd: dict[tuple[str, str], int] = {}
        self._timers: list[tuple[int, int, str]] = []
        self._due: set[tuple[int, str]] = set()  # the same, without their order
        self._serial = 0
        self._batch: list[Entry] = []
        # how far our clock is ahead of who drives us
        self._ahead = max(0, self.engine.state.now - venue.now)
        # The least time that an answer is given, ns of our clock: a simulated venue at a multiple
        # of real time still needs real time to answer.
        self.patience = 0
        # asked before each event: whether we are to end
        self.stopping: Callable[[], bool] = lambda: False
        self._followed: set[str] = set()  # trades of which every bar is looked at
        self._linked = False  # whether the venue has said that the link stands
        self._skew = 0  # how far the venue's clock is ahead of ours, as it told last
        # how many came soon after another, and when the last did
        self._faults = (0, -FAULTS_WITHIN)
        self.counts = {"events": 0, "commands": 0, "updates": 0}
        self._open(account, prefix, restored.trouble, last or Extent())

    def _set_up(
        self, instruments: tuple[Instrument, ...], base_span: int, histories: dict[str, Bars]
    ) -> None:
        """The bars of these instruments, and what reads the messages about them."""
        self.stores = {
            one.symbol: BarStore(one, base_span, histories[one.symbol]) for one in instruments
        }
        self._from_venue = FromVenue({one.symbol: one for one in instruments})
        state = self.engine.state
        for order in state.orders.values():
            self._from_venue.note(order.id, state.trades[order.trade].symbol, state.orders)

    def _spans(self) -> dict[str, tuple[int, ...]]:
        return {symbol: tuple(store.series) for symbol, store in self.stores.items()}

    def _traded_now(self, now: int) -> ev.InstrumentsChanged:
        instruments = tuple(store.instrument for store in self.stores.values())
        return ev.InstrumentsChanged(time=now, instruments=instruments, spans=self._spans())

    def _open(self, account: Account, prefix: str, trouble: str, last: Extent) -> None:
        state = self.engine.state
        _check_currency(state.account, account)
        lines = self.ledger.seq if self.ledger else 0
        lost = (
            last.lines - lines if last.record and (last.record == state.prefix or not lines) else 0
        )
        self.recording.open(state, trouble)
        prefix = state.prefix or prefix or f"H{secrets.token_hex(3)}"
        # Of the time: where an older copy of the record is put back, no order id may come a second
        # time.
        serial = max(state.serial + 1, (self.now - SERIALS_SINCE) // MILLISECOND)
        instruments = tuple(store.instrument for store in self.stores.values())
        self._begin_with(
            ev.Opened(
                time=self.now,
                prefix=prefix,
                account=account,
                instruments=instruments,
                serial=serial,
                suspect=trouble,
                spans=self._spans(),
                lost=max(0, lost),
            ),
            self.now,
        )

    def _begin_with(self, event: ev.Opened | ev.InstrumentsChanged, now: int) -> None:
        """What is traded from here on, with the last bars of it."""
        self.take(event)
        self._begin_at(now)

    def _begin_at(self, now: int) -> None:
        """Go on from the last bars there are."""
        self._followed.clear()
        for store in self.stores.values():
            for bar in store.seeds(now):
                self.take(self._valued(bar))
        self._take_up_timers(now)
        self.flush()

    def _take_up_timers(self, now: int) -> None:
        """Timers do not outlive a process: every trade that is under way is looked at again soon.
        Those that there are stay as they are."""
        state, there = self.engine.state, {name for _, _, name in self._timers}

        def start(name: str, at: int) -> None:
            if name not in there:
                self._start(name, at)

        for trade in state.under_way():
            start(f"retry:{trade.id}:0", now)
            if trade.progress.minute_at:
                start(f"minute:{trade.id}", max(now, trade.progress.minute_at))
            if trade.progress.hours_at:
                start(
                    f"hours:{trade.id}:{trade.progress.hours_at}", max(now, trade.progress.hours_at)
                )
            if trade.cover.exposed_since:
                start(f"deadline:{trade.id}:{trade.cover.exposed_since}", now + 2 * SECOND)
        if must_watch(state):
            start(f"guards:{state.guards_at}", max(now, state.guards_at))
        for name, group in state.baskets.items():
            if group.basket.basis == "minute_end":
                start(f"basket:{name}", max(now, group.minute_at))
        for order in state.orders.values():
            if order.pending:
                start(f"request:{order.id}:{order.token}", now + SECOND // 2)
            if order.until and not order.over:
                start(f"until:{order.id}", max(now, order.until + 2 * SECOND))

    @property
    def extent(self) -> Extent:
        """How far the record goes now, with what the disk has not taken yet: whoever opens it
        without that knows."""
        return Extent(self.engine.state.prefix, self.recording.lines)

    # Events

    def driven_by(self, venue: port.Venue) -> None:
        """Go on with this in the venue's place, whose clock stands at ours."""
        self.venue, self._ahead = venue, 0

    @property
    def now(self) -> int:
        """Our own clock, UTC ns."""
        return self.venue.now + self._ahead

    def message(self, told: port.VenueMessage, now: int) -> None:
        """Take one message of the venue that arrived at `now` of our clock."""
        self._skew = told.time - now
        self._checking.heard(now)
        if isinstance(told, port.BarTold):
            self._bar(told, now)
            return
        if isinstance(told, port.InstrumentsTold):
            self._anew(told, now)
            return
        if isinstance(told, port.HoldingsTold) and self._checking.answers(told.token):
            self._check(told, now)
            return
        event = self._from_venue.event(told, now)
        if isinstance(event, Odd):
            self._set_aside(event, now)
            return
        if isinstance(event, ev.Quote):
            store = self.stores[event.symbol]
            store.quote(
                told.time, event.bid * store.instrument.tick_size, float(event.ask - event.bid)
            )
        elif isinstance(event, (ev.VenueUp, ev.VenueDown)):
            self._linked = isinstance(event, ev.VenueUp)
            self._checking.reset(now)
        self.take(event)

    def _anew(self, told: port.InstrumentsTold, now: int) -> None:
        """A line is back: what completed meanwhile is among the bars now, and what is traded may be
        another."""
        before = [(store.instrument, tuple(store.series)) for store in self.stores.values()]
        self._set_up(told.instruments, told.base_span, told.histories)
        if [(store.instrument, tuple(store.series)) for store in self.stores.values()] == before:
            self._begin_at(now)
        else:
            self._begin_with(self._traded_now(now), now)

    def _bar(self, told: port.BarTold, now: int) -> None:
        try:
            bars = self.stores[told.symbol].take(told, now)
        except (KeyError, ValueError, OverflowError):
            self._set_aside(Odd("unreadable", told.symbol), now)
            return
        for bar in bars:
            self.take(self._valued(bar))

    def _set_aside(self, odd: Odd, now: int) -> None:
        """What cannot be so is left out and counted: told at first, and each time the count has
        grown tenfold. What is about an order or a position of another's may have changed ours: the
        venue is asked."""
        count = self._odd[odd] = self._odd.get(odd, 0) + 1
        if count in (1, 10, 100, 1_000, 10_000, 100_000, 1_000_000):
            self.take(ev.SetAside(time=now, what=odd.what, symbol=odd.symbol, count=count))
        if odd.what == "foreign":
            self._checking.soon(now)

    def _check(self, told: port.HoldingsTold, now: int) -> None:
        """What the venue holds, where it differs from what we know; nothing is recorded where it
        does not."""
        event = self._from_venue.event(told, now)
        if not isinstance(event, ev.Holdings):
            self._set_aside(event if isinstance(event, Odd) else Odd("unreadable", ""), now)
            return
        found = self._checking.difference(self.engine.state, event, now)
        if found is not None:
            self.take(found)

    def take(self, event: ev.AnyEvent) -> None:
        """Fold one event; what follows waits in the batch until `flush`."""
        commands = self.engine.handle(event)
        if not self.engine.decided:
            self.counts["updates"] += 1
            if self.engine.seen.highs:  # a drawdown counts from it: a kill must not lose it
                self._record_seen()
                self.flush()
            return
        self.counts["events"] += 1
        self._keep(event, commands)
        if commands:
            self.counts["commands"] += len(commands)
            self.flush()

    def _keep(self, event: ev.AnyEvent, commands: list[cm.AnyCommand]) -> None:
        """For the record: what was seen when it was decided, the event, and what follows from
        it."""
        if self.engine.before is not None:
            self._batch.append((self.engine.before, []))
        self._batch.append((event, commands))

    def _record_seen(self) -> None:
        seen = self.engine.seen.told(self.engine.state)
        if seen is not None:
            self._batch.append((seen, []))

    def flush(self) -> None:
        """Write down what was folded, then let its commands leave."""
        if not self._batch:
            return
        batch, self._batch = self._batch, []
        done = self.recording.write(batch, self.now)
        for event, commands in batch:
            for command in commands:
                if done.whole or protects(command):
                    self._leave(command, event.time)
            if commands or not isinstance(event, (*UPDATES, ev.Seen)):
                self._let_hear((event, commands))
        self._about_writing(done)
        if not done.whole:
            self._refuse_unwritten(batch)

    def _let_hear(self, entry: Entry) -> None:
        """Who only listens, a window say, keeps nothing from leaving, whatever goes wrong there."""
        try:
            if self._listener is not None:
                self._listener(entry)
        except Exception as error:
            if self._on_fault is None:
                raise
            self._on_fault(error)

    def _leave(self, command: cm.AnyCommand, now: int) -> None:
        if isinstance(command, cm.StartTimer):
            self._start(command.name, command.at)
        elif not isinstance(command, cm.Tell):
            if isinstance(command, cm.Submit):
                self._from_venue.note(command.order, command.symbol, self.engine.state.orders)
            request = as_request(command, self.engine.state.instruments, self._skew)
            self.venue.send(request, now - self._ahead)

    # The record

    def _about_writing(self, done: Written) -> None:
        """What follows from how the writing went; the commands have left by now, whatever becomes
        of it."""
        if done.why and not self.engine.state.record_down:  # entries are closed from here on
            self._about_the_record(ev.RecordFailed(time=self.now, why=done.why))
        if done.whole and self.engine.state.record_down:
            self._about_the_record(ev.RecordHealed(time=self.now, kept=done.healed))
        if done.whole and not self._batch and not self.engine.seen:
            self.recording.keep_snapshot(self.engine.state)

    def _about_the_record(self, event: ev.AnyEvent) -> None:
        """Fold an event about the record itself; its commands wait for the next flush like any
        other's."""
        self._keep(event, self.engine.handle(event))

    def _refuse_unwritten(self, batch: list[Entry]) -> None:
        """What may not leave without a record is answered as if the venue had refused it."""
        why = {"code": "not_recorded", "text": "the record cannot be written"}
        for _, commands in batch:
            for command in commands:
                if protects(command):
                    continue
                if isinstance(command, cm.Submit):
                    self.take(ev.OrderRejected(time=self.now, order=command.order, **why))
                elif isinstance(command, cm.Amend):
                    told = ev.AmendRejected(
                        time=self.now, order=command.order, token=command.token, **why
                    )
                    self.take(told)
        if self._batch:
            self.flush()

    # Time

    def _start(self, name: str, at: int) -> None:
        self._serial += 1
        if name.partition(":")[0] in WAITS:
            at = max(at, self.now + self.patience)
        # what waits for one moment and is asked for again and again fires once
        if (at, name) in self._due:
            return
        self._due.add((at, name))
        heapq.heappush(self._timers, (at, self._serial, name))

    def next_timer(self) -> int | None:
        """When the next timer is due, of our clock."""
        return self._timers[0][0] if self._timers else None

    def run_until(self, until: int) -> None:
        """Take everything that happens up to `until` of the clock that drives us, messages and
        timers in order of time; or less, where we are to end.
        """
        while not self.stopping():
            timer = self.next_timer()
            step = until if timer is None else min(until, timer - self._ahead)
            message = self.venue.next_message(max(step, self.venue.now))
            if message is not None:
                self._safely(self.message, message, self.now)
            elif timer is not None and timer - self._ahead <= until:
                at, _, name = heapq.heappop(self._timers)
                self._due.discard((at, name))
                self._safely(self.take, self._fired(name, max(timer, self.now)))
            else:
                break
        if self._batch or self.recording.due(self.now):
            self._safely(self._write_down_now)
        self._ask_the_venue()

    def take_timers(self, kind: str) -> list[str]:
        """Take the timers of one kind out of their order, so that who asked decides when and in
        which order they `fire`; the earliest first."""
        taken = sorted(one for one in self._timers if one[2].partition(":")[0] == kind)
        for one in taken:
            self._timers.remove(one)
            self._due.discard((one[0], one[2]))
        heapq.heapify(self._timers)
        return [name for _, _, name in taken]

    def fire(self, name: str) -> None:
        """A timer that was taken comes now."""
        self._safely(self.take, self._fired(name, self.now))
        self._safely(self.flush)

    def put_back(self, name: str) -> None:
        """A timer that was taken is due all the same."""
        self._start(name, self.now)

    def _write_down_now(self) -> None:
        if not self._batch:
            self._about_writing(self.recording.write([], self.now))
        self.flush()

    def _ask_the_venue(self) -> None:
        """From time to time, and after a silence, ask what the venue holds."""
        asks = self._checking.due(self.engine.state, self.now, self.patience)
        if asks is not None:
            self.venue.send(asks, self.venue.now)

    def ask(self, event: ev.AskEvent) -> None:
        """Take what a person asks for. A plan whose stop is taken from bars gets the level it
        stands on now. Raises BadInput where it cannot be written down: nothing after it could be
        written either."""
        replace = msgspec.structs.replace
        if isinstance(event, (ev.PlaceTrade, ev.ChangeRules, ev.Adopt)):
            event = replace(event, basis=self.basis(event.plan), atr=self.own_atr(event.plan))
        elif isinstance(event, ev.PlaceStraddle):
            sides = [replace(event.plan, side=side) for side in (1, -1)]
            bases = (self.basis(sides[0]), self.basis(sides[1]))
            event = replace(event, bases=bases, own_atr=self.own_atr(event.plan))
        elif isinstance(event, ev.ChangeGuards):
            event = replace(event, measures=self._measures(event.guards))
        elif isinstance(event, ev.MoveEntry) and event.trade in self.engine.state.trades:
            plan = self.engine.state.trades[event.trade].plan
            event = replace(event, basis=self.basis(plan), atr=self.own_atr(plan))
        self._safely(self.take, recordable(event))
        self._safely(self.flush)

    def set_guards(self, guards: Guards, ask_id: str, calendars: tuple[Calendar, ...] = ()) -> None:
        """Have this policy with its news, where they are others than those there are."""
        if guards != self.engine.state.guards:
            self.ask(
                ev.ChangeGuards(
                    time=self._later(), ask_id=ask_id, guards=guards, calendars=calendars
                )
            )
        elif calendars:
            self.set_calendars(calendars)

    def set_calendars(self, calendars: tuple[Calendar, ...]) -> None:
        """Take the news calendars as they are now, where they have changed."""
        if calendars != self.engine.state.calendars:
            self._safely(
                self.take, recordable(ev.CalendarChanged(time=self._later(), calendars=calendars))
            )
            self._safely(self.flush)

    def _later(self) -> int:
        return max(self.engine.state.now, self.now)

    def _safely(self, action: Callable[..., None], *values: object) -> None:
        """Carry out `action`; after an unexpected error go back to what is written down and compare
        with the venue."""
        if self._on_fault is None:
            action(*values)
            return
        try:
            action(*values)
        except Exception as error:  # whatever it is: protection goes on
            self._on_fault(error)
            self._recover(values[0] if values else None)

    def _recover(self, failed: object) -> None:
        """The engine anew from what was recorded, in step with the venue again."""
        if self.ledger is None:
            return
        self._batch.clear()
        self._followed.clear()
        self.engine = self.recording.engine()
        pause = self._pause_after_fault() if isinstance(failed, ev.TimerFired) else 0
        self._take_up_timers(self._later() + pause)
        try:
            state = self.engine.state
            known = {
                symbol: one for symbol, one in state.instruments.items() if symbol not in state.gone
            }
            # it failed by this
            if known != {symbol: store.instrument for symbol, store in self.stores.items()}:
                self._begin_with(self._traded_now(self._later()), self._later())
            if self._linked:
                self.take(ev.VenueUp(time=self._later()))
            elif self.engine.state.link_up:
                self.take(ev.VenueDown(time=self._later(), why="it was cut"))
        except Exception as error:  # the check that is due soon asks once more
            if self._on_fault is not None:
                self._on_fault(error)

    def _pause_after_fault(self) -> int:
        """How long timers wait after one has failed, ns: not at all the first time, longer with
        each that follows soon. What fails each time would otherwise leave no time for anything
        else."""
        count, last = self._faults
        self._faults = (count + 1 if self.now - last < FAULTS_WITHIN else 0, self.now)
        return min((1 << min(self._faults[0], 8)) - 1, MOST_PAUSE) * SECOND

    def basis(self, plan: Plan) -> float | None:
        """What the plan's stop stands on, price units; None where it is not taken from bars or has
        no value."""
        store = self.stores.get(plan.symbol)
        if (
            plan.stop is None
            or not plan.stop.from_bars
            or store is None
            or plan.timeframe_ns not in store.series
        ):
            return None
        simple = plan.rig is not None and plan.rig.atr_smoothing == "simple"
        found = basis(plan.stop, store.series[plan.timeframe_ns].bars(), plan.side, simple)
        return None if math.isnan(found) else found

    def own_atr(self, plan: Plan) -> float | None:
        """The ATR of the plan's rig, price units; None where it is the one bars carry, or has no
        value."""
        store = self.stores.get(plan.symbol)
        if (
            plan.rig is None
            or not own_atr(plan)
            or store is None
            or plan.timeframe_ns not in store.series
        ):
            return None
        found = plan_atr(plan.rig, store.series[plan.timeframe_ns].bars())
        return None if math.isnan(found) else found

    def _valued(self, bar: ev.BarCompleted) -> ev.BarCompleted:
        """The bar with what the rigs of open trades need at it."""
        trades = self.engine.state.trades_in(bar.symbol)
        tended = [
            trade for trade in trades if trade.open_steps and trade.plan.timeframe_ns == bar.span
        ]
        timed = [
            trade
            for trade in tended
            if trade.plan.rig is not None and trade.plan.rig.time_exit is not None
        ]
        plans = [trade.plan for trade in tended]
        series = self.stores[bar.symbol].series
        values = self._measured(self.engine.state.guards, bar.symbol, bar.span)
        if bar.base:
            values |= self._missed(bar.symbol)
        if not timed and not values and not any(needs_values(plan) for plan in plans):
            return bar
        values |= values_for(
            plans, bar.span, lambda span: series[span].bars() if span in series else Bars.empty()
        )
        for trade in timed:  # also those that completed while nobody was looking
            values[lived_key(trade.opened)] = series[bar.span].since(trade.opened)
        return msgspec.structs.replace(bar, values=values)

    def _missed(self, symbol: str) -> dict[str, float]:
        """The best prices of whole bars since an entry, of each open trade once: nobody looked at
        those that completed while the line was cut, or before the venue told that it had filled."""
        store, found = self.stores[symbol], {}
        for trade in self.engine.state.trades_in(symbol):
            if trade.open_steps and trade.id not in self._followed:
                self._followed.add(trade.id)
                best = store.series[store.base_span].best_since(
                    trade.opened, trade.side, store.instrument.tick_size
                )
                if not math.isnan(best):
                    found[best_key(trade.opened, trade.side)] = best
        return found

    def _measured(self, guards: Guards, symbol: str, span: int) -> dict[str, float]:
        """What filters look at, as of the last completed bar."""
        if not guards.guard:
            return {}
        store = self.stores[symbol]
        return measures_for(
            guards, symbol, span, store.base_span, lambda span: store.series[span].bars()
        )

    def _measures(self, guards: Guards) -> dict[str, dict[str, float]]:
        """The same for every instrument and timeframe."""
        found: dict[str, dict[str, float]] = {}
        for symbol, store in self.stores.items():
            for span in store.series:
                found.setdefault(symbol, {}).update(self._measured(guards, symbol, span))
        return found

    def _fired(self, name: str, now: int) -> ev.TimerFired:
        """A timer; where another trade is to follow one that has ended, with what its plan stands
        on now."""
        kind, _, rest = name.partition(":")
        trade = self.engine.state.trades.get(rest)
        if kind not in ("turn", "follow") or trade is None:
            return ev.TimerFired(time=now, name=name)
        plan = following(self.engine.state, trade) if kind == "follow" else turned_plan(trade)
        basis = self.basis(plan) if plan is not None else None
        atr = self.own_atr(plan) if plan is not None else None
        return ev.TimerFired(time=now, name=name, basis=basis, atr=atr)

    def write_down(self) -> None:
        """Record what was held back, so that the record is the state."""
        self._record_seen()
        self.flush()

    def close(self) -> None:
        self.write_down()
        self.recording.close(self.engine.state)


def protects(command: cm.AnyCommand) -> bool:
    """Whether a command may leave though it cannot be written down: all but what opens, enlarges or
    moves an entry."""
    return not (isinstance(command, (cm.Submit, cm.Amend)) and command.role in ("entry", "rung"))
