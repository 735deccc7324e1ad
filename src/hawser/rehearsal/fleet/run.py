"""A whole rehearsal of several members on one account: each a history with its rig, played together
in compiled stretches."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cached_property
from typing import Any, NamedTuple, TypeVar, cast

import numpy as np

from hawser.core.clock import DAY
from hawser.core.indicators import Array
from hawser.core.rig import Basket
from hawser.core.rig import basket as basket_rule
from hawser.core.rules.trade_levels import (
    BasketRules,
    Begins,
    Even,
    Rules,
    Trailing,
)
from hawser.core.shelves import put_aside, shelf_for, shelf_of
from hawser.rehearsal import batch, phases
from hawser.rehearsal import guarding as gd
from hawser.rehearsal.batch import ROWS, TRADES
from hawser.rehearsal.fleet import records
from hawser.rehearsal.fleet.loop import play_fleet
from hawser.rehearsal.records import TradeStart, levels_for
from hawser.rehearsal.run import Outcome, Rehearsal, Trades, grown
from hawser.rehearsal.watch import HistoryPolicy, counted_of, uncounted

Record = TypeVar("Record", records.Member, records.Common)
STRETCH = 1 << 16  # openings that are played at once, where somebody looks on


class FleetMember(NamedTuple):
    """One member: its name, what a rehearsal of it alone would be, and by bar what its entries are
    ranked by (None: the fleet has no rank)."""

    name: str
    rehearsal: Rehearsal
    rank: Array | None = None


class MemberOutcome(NamedTuple):
    """One member's part of a run: its trades, their places among all trades, when each ended, and
    when its rows of prices open (UTC ns)."""

    trades: Trades
    places: Array
    ended: Array
    times: Array


class FleetOutcome:
    """A run under one order. `rows`: trades by their numbers, with their members; `of`: what came
    of each member."""

    def __init__(
        self,
        rows: batch.Table,
        of: list[MemberOutcome],
        written: records.RunArrays,
        refused: Array,
        acted: Array,
        start: float,
        run: records.Run,
    ) -> None:
        self.rows, self.of, self.refused, self.guarded = rows, of, refused, acted
        self.equity, self.heat, self.open = written.equity, written.heat, written.open
        self.daily, self.start = written.daily, start
        self.end, self.held = float(run.money[records.CASH]), int(run.counts[records.HELD])

    def alone(self) -> Outcome:
        """The run of the only member there is, as a rehearsal of it."""
        (only,) = self.of
        return Outcome(
            rows=only.trades.rows,
            fills=only.trades.fills,
            moves=only.trades.moves,
            equity=self.equity,
            start=self.start,
            end=self.end,
            guarded=self.guarded,
        )

    @property
    def net(self) -> Array:
        """Money of each trade, commissions paid."""
        return self.rows.money[:, batch.NET]

    @property
    def planned_risk(self) -> Array:
        return self.rows.money[:, batch.RISK]

    @cached_property
    def as_ended(self) -> Array:
        """Results in the order in which the trades ended; at one time by their numbers."""
        ended = np.empty(self.count, np.int64)
        for member in self.of:
            ended[member.places] = member.ended
        return self.net[np.argsort(ended, kind="stable")]

    @property
    def dependent(self) -> int:
        """Bars whose fills depend on the order inside them, over all members."""
        return int(self.rows.whole[:, batch.DEPENDENT].sum())

    @property
    def count(self) -> int:
        return len(self.rows.whole)


class FleetRehearsal:
    """Members with what they share: the account, the fleet's basket, guards."""

    def __init__(
        self,
        members: Sequence[FleetMember],
        basket: Basket | None = None,
        policy: HistoryPolicy | None = None,
        sources: Sequence[str] = (),
    ) -> None:
        """`sources`: of each member the name of its source, for guards."""
        self.members, self.policy, self.basket = list(members), policy, basket
        self.sources = list(sources) or [""] * len(members)
        each = [member.rehearsal for member in members]
        self.account, self.instruments = each[0].account, [one.instrument for one in each]
        self.time = _all_times([one.time for one in each])
        self.fine_bars = _all_times([one.fine_time for one in each]).size
        self._counted = uncounted()
        if policy is not None:
            of = [(one.instrument.symbol, name) for one, name in zip(each, sources, strict=True)]
            self._counted = counted_of(policy, of)
        # Also where each bar has one row of prices, that may open later than the bar.
        self._finer = not all(np.array_equal(one.fine_time, one.time) for one in each)

    def run(self, order: int, progress: Callable[[int], None] | None = None) -> FleetOutcome:
        """Play every trade; `progress` is told the opening reached, and may raise to give up."""
        start, openings = float(self.account.equity), self.time.size
        common = self._common(order, start)
        held = [self._member(one, common) for one in self.members]
        members, trades = shelf_of(held), shelf_for(len(held), EXAMPLE)
        counts = common.run.counts
        while counts[records.NEXT] < openings:
            until = openings
            if progress is not None:
                progress(int(counts[records.NEXT]))
                until = min(openings, int(counts[records.NEXT]) + STRETCH)
            play_fleet(members, trades, held[0], EXAMPLE, until)
            if counts[records.FULL]:
                held = self._larger(held)
                for m, member in enumerate(held):
                    put_aside(members, m, member)
        return self._outcome(held, start)

    def _member(self, one: FleetMember, common: records.Common) -> records.Member:
        of = one.rehearsal
        rank = np.empty(0) if one.rank is None else one.rank
        least = ROWS * records.trades_needed(of.history, of.setup)
        return writable(
            records.Member(
                history=of.history,
                money=of.money,
                sizer=of.sizer,
                setup=of.setup,
                levels=levels_for(of.setup),
                watch=of.watch,
                times=of.fine_time,
                rank=rank,
                fills=np.empty((max(TRADES // 4 * ROWS, least), 6)),
                moves=np.empty((3 * of.time.size, 3), np.int64),
                common=common,
            )
        )

    def _common(self, order: int, start: float) -> records.Common:
        each = [one.rehearsal for one in self.members]
        names = sorted({name for one in self.instruments for name in one.exposure})
        exposed = [[int(name in one.exposure) for name in names] for one in self.instruments]
        on = self.policy is not None
        most = [records.trades_needed(one.history, one.setup) for one in each]
        # Each entry may be refused, each trade that ends begin a cool-down at each place; and at
        # each opening each place may trip at its open and at its close. Compiled code does not look
        # whether there is room.
        tried = sum(
            min(one.fine_time.size, one.time.size * trades)
            for one, trades in zip(each, most, strict=True)
        )
        acts = (tried + 4 * self.time.size) * (1 + self._counted.kind.size) if on else 0
        shared = records.Shared(
            openings=self.time,
            exposed=np.array(exposed, np.int64),
            needs=ROWS * np.array(most, np.int64),
            most=sum(most),
            basket=basket_rule.numbers(self.basket),
            counted=self._counted,
            memory=gd.memory_for(self._counted, self.account.equity),
            acted=np.empty((acts, 5), np.int64),
            on=on,
            finer=self._finer,
            order=order,
        )
        return writable(
            records.Common(
                progress=records.progress_for([one.history for one in each]),
                shared=shared,
                run=records.first_run(start),
                written=self._written(shared),
            )
        )

    def _written(self, shared: records.Shared) -> records.RunArrays:
        n, openings = len(self.members), self.time.size
        most = TRADES + shared.most
        days = 1 + np.count_nonzero(np.diff(self.time // DAY))
        return records.RunArrays(
            trades=batch.Table(np.empty((most, records.COLUMNS), np.int64), np.empty((most, 2))),
            refused=np.empty((most, 4), np.int64),
            equity=np.empty(openings),
            heat=np.empty(openings),
            open=np.empty(openings, np.int64),
            daily=np.empty((days, n)),
            out=np.empty((40, 4), np.int64),
        )

    def _larger(self, held: Sequence[records.Member]) -> list[records.Member]:
        """The members with larger arrays where the next opening could need more than there is."""
        common = held[0].common
        counts, needs, written = common.run.counts, common.shared.needs, common.written
        more = common.shared.most
        counts[records.FULL] = 0
        trades, refused = int(counts[records.TRADES]), int(counts[records.REFUSED])
        written = written._replace(
            trades=batch.Table(*(grown(one, trades, more) for one in written.trades)),
            refused=grown(written.refused, refused, more),
        )
        common = common._replace(written=written)
        used = common.progress.fills.tolist()
        return [
            one._replace(fills=grown(one.fills, used[m], int(needs[m])), common=common)
            for m, one in enumerate(held)
        ]

    def _outcome(self, held: Sequence[records.Member], start: float) -> FleetOutcome:
        progress, shared, run, written = held[0].common
        rows = batch.Table(*(one[: run.counts[records.TRADES]] for one in written.trades))
        who = rows.whole[:, records.MEMBER]
        entered = np.empty(len(who), np.int64)
        for m, member in enumerate(held):
            own = who == m
            first = member.fills[rows.whole[own, batch.FILL_FROM], 0].astype(np.int64)
            entered[own] = member.times[first]
        by_number = np.lexsort((who, entered))
        rows = batch.Table(*(one[by_number] for one in rows))
        who, found = who[by_number], []
        for m, member in enumerate(held):
            places = np.flatnonzero(who == m)
            own_rows = batch.Table(*(one[places] for one in rows))
            trades = Trades(
                rows=own_rows,
                fills=member.fills[: progress.fills[m]],
                moves=member.moves[: progress.moves[m]],
            )
            last = trades.fills[own_rows.whole[:, batch.FILL_TO] - 1, 0].astype(np.int64)
            found.append(MemberOutcome(trades, places, member.times[last], member.times))
        refused = written.refused[: run.counts[records.REFUSED]]
        acted = shared.acted[: shared.memory.place[0]]
        return FleetOutcome(
            rows, found, written, refused=refused, acted=acted, start=start, run=run
        )


def fleet_of_one(rehearsal: Rehearsal) -> FleetRehearsal:
    """A rehearsal of one instrument as a fleet, which gives the same and more figures."""
    policy = rehearsal.policy
    sources = [policy.source] if policy is not None else []
    member = FleetMember(rehearsal.instrument.symbol, rehearsal)
    return FleetRehearsal([member], None, policy, sources)


def _all_times(each: Sequence[Array]) -> Array:
    """The distinct times of all, in order; often they are the same."""
    found = each[0]
    for times in each[1:]:
        if not np.array_equal(found, times):
            found = np.union1d(found, times)
    return found


def writable(value: Record) -> Record:
    """A tuple of compiled code with arrays that are all of one kind for it: whole, and such as may
    be written to."""

    def one(value: Any) -> Any:
        if isinstance(value, np.ndarray):
            return np.require(value, requirements=["C", "W"])
        return type(value)(*map(one, value)) if isinstance(value, tuple) else value

    return cast(Record, one(value))


# what an open trade is made of, for compiled code that is to know its kind
EXAMPLE = records.OpenTrade(
    trade=TradeStart(0, 0, 0, ref=0, steps=0, stop=0),
    rules=Rules(
        min_stop=0,
        even=Even(0, 0.0, False, Begins(0, 0)),
        trail=Trailing(0, 0.0, 0.0, by_close=False, offset=0.0, step=0),
        trail_begins=Begins(0, 0),
        time_bars=0,
        basket=BasketRules(0.0, 0.0),
        reverse=False,
        ladder_target=0.0,
    ),
    playing=phases.Playing(
        book=phases.TradeAccount(0.0, 0.0, 0.0, entered=0, left=0, fills=0, last=0, ready=0),
        standing=phases.StandingStop(0, 0),
        near=phases.Near(0, 0, 0, 0),
        gone=phases.Gone(0, 0, 0),
        decided=phases.Decided(0, False),
    ),
    risk=0.0,
)
