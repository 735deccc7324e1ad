"""One account's session without threads: engine, ledger, venue and timers joined in the order that keeps promises.

An event is folded, it and its commands are written down, and only then do the commands leave. What only updates a
figure (quotes, rates, the account's figures) is recorded in short, just before the next event that leads to
something: one quote per instrument with the best of those it stands for, the last of the others. That folds to the
same state, because a quote that leads to something (a held line it reaches) is recorded by itself.
"""

from __future__ import annotations

import heapq
import math
import secrets
import sqlite3
from collections.abc import Callable

import msgspec

from hawser.core.account import Account
from hawser.core.basis import basis, lived_key, needs_values, own_atr, plan_atr, values_for
from hawser.core.clock import DAY
from hawser.core.guards.declared import Guards
from hawser.core.guards.measures import measures_for
from hawser.core.guards.news import Calendar
from hawser.core.plan import Plan
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.engine import Engine
from hawser.engine.following import following, turned_plan
from hawser.engine.together import order_counts
from hawser.ledger.ledger import Entry, Ledger
from hawser.service.barstore import BarStore
from hawser.service.boundary import Inward, as_request
from hawser.venue import port

SNAPSHOT_EVERY = 5_000  # ledger lines

Listener = Callable[[Entry], None]


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
    ) -> None:
        self._on_fault = on_fault
        self.venue, self.ledger, self._listener = venue, ledger, listener
        self.engine = ledger.restore() if ledger else Engine()
        self.stores = {
            symbol: BarStore(instrument, venue.base_span, venue.history(symbol))
            for symbol, instrument in venue.instruments.items()
        }
        self._inward = Inward(venue.instruments)
        self._timers: list[tuple[int, int, str]] = []
        self._serial = 0
        self._updates: dict[str, ev.Quote | ev.Figures | ev.RateSeen] = {}
        self._batch: list[Entry] = []
        self._snapshot_at = ledger.seq if ledger else 0
        self.counts = {"events": 0, "commands": 0, "updates": 0}
        self._open(account, prefix)

    def _open(self, account: Account, prefix: str) -> None:
        state = self.engine.state
        for order in state.orders.values():
            self._inward.note(order.id, state.trades[order.trade].symbol)
        prefix = state.prefix or prefix or f"H{secrets.token_hex(3)}"
        now = max(self.venue.now, state.now)
        instruments = tuple(self.venue.instruments.values())
        self.take(ev.Opened(time=now, prefix=prefix, account=account, instruments=instruments))
        for store in self.stores.values():
            for bar in store.seeds(now):
                self.take(self._valued(bar))
        self._take_up_timers(now)
        self.flush()

    def _take_up_timers(self, now: int) -> None:
        """Timers do not outlive a process: every trade that is under way is looked at again soon."""
        state = self.engine.state
        for trade in state.live():
            self._start(f"retry:{trade.id}:0", now)
            if trade.minute_at:
                self._start(f"minute:{trade.id}", max(now, trade.minute_at))
            if trade.exposed_since:
                self._start(f"deadline:{trade.id}:{trade.exposed_since}", now + 2_000_000_000)
        if state.guards.guard:
            self._start(f"guards:{state.guards_at}", max(now, state.guards_at))
        for name, group in state.baskets.items():
            if group.basket.basis == "minute_end":
                self._start(f"basket:{name}", max(now, group.minute_at))
        for order in state.orders.values():
            if order.pending:
                self._start(f"request:{order.id}:{order.token}", now + 500_000_000)

    # Events

    def message(self, told: port.Told, now: int) -> None:
        """Take one message of the venue that arrived at `now`."""
        if isinstance(told, port.BarTold):
            for bar in self.stores[told.symbol].take(told, now):
                self.take(self._valued(bar))
            return
        event = self._inward.event(told, now)
        if event is None:
            return
        if isinstance(event, ev.Quote):
            tick = self.venue.instruments[event.symbol].tick_size
            self.stores[event.symbol].quote(told.time, event.bid * tick, float(event.ask - event.bid))
        self.take(event)

    def take(self, event: ev.AnyEvent) -> None:
        """Fold one event; what follows waits in the batch until `flush`."""
        before = self.engine.state.peaked
        commands = self.engine.handle(event)
        peaked = self.engine.state.peaked != before  # a drawdown counts from it: a kill must not lose it
        if not commands and not peaked and isinstance(event, (ev.Quote, ev.Figures, ev.RateSeen)):
            self.counts["updates"] += 1
            self._keep(event)
            return
        self.counts["events"] += 1
        self._record_updates()
        self._batch.append((event, commands))
        if commands or peaked:
            self.counts["commands"] += len(commands)
            self.flush()

    def _keep(self, event: ev.Quote | ev.Figures | ev.RateSeen) -> None:
        """Hold an update back for the record, in short, unless its place among the others counts."""
        if order_counts(self.engine.state, event):
            self._record_updates()
            self._batch.append((event, []))
            return
        if isinstance(event, ev.Quote):
            held = self._updates.get(event.symbol)
            self._updates[event.symbol] = conflated(held, event) if isinstance(held, ev.Quote) else event
        elif isinstance(event, ev.RateSeen):
            self._updates[event.pair + "\n"] = event
        else:
            held = self._updates.get("\nfigures")
            if isinstance(held, ev.Figures) and held.time // DAY != event.time // DAY:  # a day's first figures count
                self._record_updates()
            elif isinstance(held, ev.Figures):
                event = msgspec.structs.replace(event, high=max(event.high, held.equity, held.high))
            self._updates["\nfigures"] = event

    def _record_updates(self) -> None:
        self._batch += [(update, []) for update in sorted(self._updates.values(), key=lambda event: event.time)]
        self._updates.clear()

    def flush(self) -> None:
        """Write down what was folded, then let its commands leave."""
        if not self._batch:
            return
        batch, self._batch = self._batch, []
        if self.ledger is not None:
            self.ledger.append(batch)
            if self.ledger.seq - self._snapshot_at >= SNAPSHOT_EVERY and not self._updates:
                self._snapshot_at = self.ledger.seq
                self.ledger.snapshot(self.engine.state)
        for event, commands in batch:
            for command in commands:
                self._leave(command, event.time)
            if self._listener is not None and (commands or not isinstance(event, (ev.Quote, ev.Figures, ev.RateSeen))):
                self._listener((event, commands))

    def _leave(self, command: cm.AnyCommand, now: int) -> None:
        if isinstance(command, cm.StartTimer):
            self._start(command.name, command.at)
        elif not isinstance(command, cm.Tell):
            if isinstance(command, cm.Submit):
                self._inward.note(command.order, command.symbol)
            self.venue.send(as_request(command, self.venue.instruments), now)

    # Time

    def _start(self, name: str, at: int) -> None:
        self._serial += 1
        heapq.heappush(self._timers, (at, self._serial, name))

    def next_timer(self) -> int | None:
        return self._timers[0][0] if self._timers else None

    def run_until(self, until: int) -> None:
        """Take everything that happens up to `until`, messages and timers in order of time."""
        while True:
            timer = self.next_timer()
            step = until if timer is None else min(until, timer)
            message = self.venue.next_message(max(step, self.venue.now))
            if message is not None:
                self._safely(self.message, message, self.venue.now)
            elif timer is not None and timer <= until:
                _, _, name = heapq.heappop(self._timers)
                self._safely(self.take, self._fired(name, max(timer, self.venue.now)))
            else:
                break
        if self._batch:
            self.flush()

    def ask(self, event: ev.AskEvent) -> None:
        """Take what a person asks for. A plan whose stop is taken from bars gets the level it stands on now."""
        replace = msgspec.structs.replace
        if isinstance(event, (ev.PlaceTrade, ev.Reequip, ev.Adopt)):
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
        self._safely(self.take, event)
        self.flush()

    def set_guards(self, guards: Guards, ask: str, calendars: tuple[Calendar, ...] = ()) -> None:
        """Have this policy with its news, where they are others than those there are."""
        if guards != self.engine.state.guards:
            now = max(self.engine.state.now, self.venue.now)
            self.ask(ev.ChangeGuards(time=now, ask=ask, guards=guards, calendars=calendars))
        elif calendars:
            self.set_calendars(calendars)

    def set_calendars(self, calendars: tuple[Calendar, ...]) -> None:
        """Take the news calendars as they are now, where they have changed."""
        if calendars != self.engine.state.calendars:
            now = max(self.engine.state.now, self.venue.now)
            self._safely(self.take, ev.CalendarChanged(time=now, calendars=calendars))
            self.flush()

    def _safely(self, action: Callable[..., None], *values: object) -> None:
        """Carry out `action`; after an unexpected error go back to what is written down and compare with the venue.

        A record that cannot be written is no such error: without it nothing may leave, and the caller must know.
        """
        if self._on_fault is None:
            action(*values)
            return
        try:
            action(*values)
        except sqlite3.Error:
            raise
        except Exception as error:  # whatever it is: protection goes on
            self._on_fault(error)
            self._recover()

    def _recover(self) -> None:
        """The engine anew from the ledger, in step with the venue again."""
        if self.ledger is None:
            return
        self._batch.clear()
        self._updates.clear()
        self.engine = self.ledger.restore()
        self._take_up_timers(self.engine.state.now)
        self.take(ev.VenueUp(time=max(self.engine.state.now, self.venue.now)))

    def basis(self, plan: Plan) -> float | None:
        """What the plan's stop stands on, price units; None where it is not taken from bars or has no value."""
        store = self.stores.get(plan.symbol)
        if plan.stop is None or not plan.stop.from_bars or store is None or plan.timeframe_ns not in store.series:
            return None
        simple = plan.rig is not None and plan.rig.atr_smoothing == "simple"
        found = basis(plan.stop, store.series[plan.timeframe_ns].bars(), plan.side, simple)
        return None if math.isnan(found) else found

    def own_atr(self, plan: Plan) -> float | None:
        """The ATR of the plan's rig, price units; None where it is the one bars carry, or has no value."""
        store = self.stores.get(plan.symbol)
        if plan.rig is None or not own_atr(plan) or store is None or plan.timeframe_ns not in store.series:
            return None
        found = plan_atr(plan.rig, store.series[plan.timeframe_ns].bars())
        return None if math.isnan(found) else found

    def _valued(self, bar: ev.BarCompleted) -> ev.BarCompleted:
        """The bar with what the rigs of open trades need at it."""
        trades = self.engine.state.trades_in(bar.symbol)
        tended = [trade for trade in trades if trade.open_steps and trade.plan.timeframe_ns == bar.span]
        timed = [trade for trade in tended if trade.plan.rig is not None and trade.plan.rig.time_exit is not None]
        plans = [trade.plan for trade in tended]
        series = self.stores[bar.symbol].series
        values = self._measured(self.engine.state.guards, bar.symbol, bar.span)
        if not timed and not values and not any(needs_values(plan) for plan in plans):
            return bar
        values |= values_for(plans, bar.span, lambda span: series[span].bars())
        for trade in timed:  # also those that completed while nobody was looking
            values[lived_key(trade.opened)] = series[bar.span].since(trade.opened)
        return msgspec.structs.replace(bar, values=values)

    def _measured(self, guards: Guards, symbol: str, span: int) -> dict[str, float]:
        """What filters look at, as of the last completed bar."""
        if not guards.guard:
            return {}
        store = self.stores[symbol]
        return measures_for(guards, symbol, span, store.base_span, lambda span: store.series[span].bars())

    def _measures(self, guards: Guards) -> dict[str, dict[str, float]]:
        """The same for every instrument and timeframe."""
        found: dict[str, dict[str, float]] = {}
        for symbol, store in self.stores.items():
            for span in store.series:
                found.setdefault(symbol, {}).update(self._measured(guards, symbol, span))
        return found

    def _fired(self, name: str, now: int) -> ev.TimerFired:
        """A timer; where another trade is to follow one that has ended, with what its plan stands on now."""
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
        self._record_updates()
        self.flush()

    def close(self) -> None:
        self.write_down()
        if self.ledger is not None:
            self.ledger.snapshot(self.engine.state)
            self.ledger.close()


def conflated(first: ev.Quote, second: ev.Quote) -> ev.Quote:
    """Two quotes of one instrument as one that folds to the same state."""
    return ev.Quote(
        time=second.time, symbol=second.symbol, bid=second.bid, ask=second.ask,
        high_bid=max(first.high_bid, second.high_bid), low_ask=min(first.low_ask, second.low_ask),
    )  # fmt: skip
