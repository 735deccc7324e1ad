"""A policy over a history: what its filters say of each bar, found beforehand, and what counts, as
numbers."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from typing import NamedTuple

import numpy as np

from hawser.core.bars import Bars, joined, span_of
from hawser.core.clock import timeframe_name
from hawser.core.columns import known_at_closes
from hawser.core.errors import BadInput
from hawser.core.guards import declared as dc
from hawser.core.guards.context import EntryContext
from hawser.core.guards.news import Calendar
from hawser.core.guards.periods import period_at
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.core.joined_bars import Joined
from hawser.rehearsal import guarding as gd

DOES = {"close": gd.CLOSE, "even": gd.EVEN, "": 0}
Members = Sequence[tuple[str, str]]  # of each its symbol and its source


class HistoryPolicy(NamedTuple):
    """Guards with their news, the source that the signals are of, and bars of instruments that
    regimes refer to."""

    guards: dc.Guards
    calendars: tuple[Calendar, ...] = ()
    source: str = ""
    references: dict[str, Bars] = {}


def unwatched() -> gd.GuardColumns:
    """No guards at all."""
    whole, money = np.empty(0, np.int64), np.empty(0)
    return gd.GuardColumns(
        on=False,
        span=0,
        time=whole,
        shut=np.empty((0, 2), np.int16),
        opened=whole,
        follows=np.empty((0, 2), np.int8),
        period=np.empty((0, 4), np.int32),
        of_r=money,
        of_r_number=whole,
        back=np.empty(0, np.bool_),
        back_at_close=np.empty(0, np.bool_),
        shut_at_close=np.empty((0, 2), np.bool_),
    )


def uncounted() -> gd.CountedColumns:
    """Nothing is counted, for one member."""
    return _numbers([], [("", "")])


def _does(guard: dc.Guard) -> int:
    """What it does on closing, as bits."""
    return DOES[guard.leads_to] | (gd.ALL if "flatten" in guard.then else 0)


def acting(policy: HistoryPolicy, symbol: str, source: str) -> list[tuple[int, dc.AnyGuard]]:
    """The guards that act in a rehearsal of an instrument and a source, each with its number in the
    policy: those that watch its signals, and those that flatten whatever there is when what they
    watch closes."""

    def acts(one: dc.AnyGuard) -> bool:
        if isinstance(one, dc.Counted):
            # Without any: what a rehearsal has nothing of, such as orders that fail or hurry, feeds
            # that fall silent, slippage that is not expected.
            rehearsed, flattens = one.REHEARSED >= 0, one.on and one.BY_EQUITY
        else:
            rehearsed, flattens = True, one.covers(symbol)
        watched = one.watches(symbol, source)
        return rehearsed and (watched or ("flatten" in one.then and flattens))

    return [(n, one) for n, one in enumerate(policy.guards.guard) if acts(one)]


def watch_of(
    policy: HistoryPolicy,
    instrument: Instrument,
    fine: Bars,
    joined: Joined,
    since: int | None = None,
    rungs: bool = False,
) -> gd.GuardColumns:
    """The policy as the compiled loop reads it; `fine`: the bars that fills are made on, their
    spread in ticks; `since`: from when days and weeks are counted (UTC ns), its first bar where
    none is given; `rungs`: there are some that may be taken back. Raises BadInput where a regime
    refers to bars that are not there."""
    found, bars = acting(policy, instrument.symbol, policy.source), joined.bars
    shut = np.zeros((fine.time.size, 2), np.int16)
    follows = np.zeros((bars.time.size, 2), np.int8)
    scenes = _Scenes(policy, instrument, fine, joined)
    of_r = []
    rows, closes = (fine.time.size, bars.time.size) if rungs else (0, 0)
    back, back_at_close = np.zeros(rows, np.bool_), np.zeros(closes, np.bool_)
    shut_at_close = np.zeros((closes, 2), np.bool_)
    for number, guard in found:
        if not isinstance(guard, dc.Filter):
            continue
        _follow(follows, scenes, guard)
        if not guard.watches(instrument.symbol, policy.source):
            continue
        if isinstance(guard, dc.SpreadGuard) and guard.max_percent_of_r is not None:
            of_r.append((number, guard.max_percent_of_r))
        for column, side in enumerate((1, -1)):
            closed = scenes.at_opens(guard, side)
            shut[:, column] = np.where(closed & (shut[:, column] == 0), number + 1, shut[:, column])
            if rungs:
                shut_at_close[:, column] |= scenes.at_closes(guard, side)
        if rungs and guard.takes_back:
            back |= scenes.at_opens(guard, 0)
            back_at_close |= scenes.at_closes(guard)
    return gd.GuardColumns(
        on=bool(found),
        span=span_of(fine.time),
        time=fine.time,
        shut=shut,
        opened=bars.time,
        follows=follows,
        period=_periods(policy.guards, bars.time, joined.span, since),
        of_r=np.array([percent for _, percent in of_r], np.float64),
        of_r_number=np.array([number for number, _ in of_r], np.int64),
        back=back,
        back_at_close=back_at_close,
        shut_at_close=shut_at_close,
    )


def _periods(rules: dc.Guards, times: Array, span: int, since: int | None) -> Array:
    """By bar: its day at its open and just before its end, and its week at the same; counted from
    a moment or from the first."""
    found = np.empty((times.size, 4), np.int32)
    begins = int(times[0]) if since is None else since
    for column, week in ((0, False), (2, True)):
        ends: list[int] = []
        while not ends or ends[-1] < int(times[-1]) + span:
            ends.append(period_at(rules, ends[-1] if ends else begins, week)[1])
        found[:, column] = np.searchsorted(ends, times, side="right")
        found[:, column + 1] = np.searchsorted(ends, times + span - 1, side="right")
    return found


class _Place(NamedTuple):
    """What one guard counts together: its number in the policy, and of whom."""

    number: int
    guard: dc.Counted
    members: tuple[int, ...]


def counted_of(policy: HistoryPolicy, members: Members) -> gd.CountedColumns:
    """The guards that count, as the compiled loop reads them, over one member or several on one
    account. What counts by instrument or by source counts by member."""
    acts = [dict(acting(policy, *member)) for member in members]
    places = []
    for number, guard in enumerate(policy.guards.guard):
        if not isinstance(guard, dc.Counted) or not any(number in one for one in acts):
            continue
        watched = tuple(m for m, member in enumerate(members) if guard.watches(*member))
        apart = guard.per != "account" and len(watched) > 1
        each = [(m,) for m in watched] if apart else [watched]
        places += [_Place(number, guard, whom) for whom in each]
    return _numbers(places, members)


def _numbers(places: list[_Place], members: Members) -> gd.CountedColumns:
    guards = [place.guard for place in places]
    periods = [getattr(guard, "period", "day") for guard in guards]
    limits = [guard.rehearsed() for guard in guards]

    def whole(values: Iterable[int]) -> Array:
        return np.array(list(values), np.int64)

    watches = np.zeros((len(members), len(places)), np.int64)
    for at, place in enumerate(places):
        watches[list(place.members), at] = 1
    return gd.CountedColumns(
        kind=whole(guard.REHEARSED for guard in guards),
        number=whole(place.number for place in places),
        watches=watches,
        # what it watches is the whole account's result, where it watches all of it
        by_result=whole(
            guard.BY_RESULT and len(place.members) < len(members)
            for guard, place in zip(guards, places, strict=True)
        ),
        weekly=whole(period == "week" for period in periods),
        until_end=whole(
            guard.LATCHES and period != "none"
            for guard, period in zip(guards, periods, strict=True)
        ),
        does=whole(_does(guard) for guard in guards),
        most=whole(one.most for one in limits),
        percent=np.array([one.percent for one in limits], np.float64),
        money=np.array([one.money for one in limits], np.float64),
        pause=whole(one.pause for one in limits),
    )


def _follow(follows: Array, scenes: _Scenes, guard: dc.Filter) -> None:
    """Mark where a filter turns from open to closed: at an open, or at a close."""
    then = _does(guard)
    if not then:
        return
    opens, closes = scenes.at_opens(guard, 0)[scenes.firsts], scenes.at_closes(guard)
    before = np.concatenate([[scenes.before_all(guard)], closes[:-1]])
    follows[:, gd.OPENS] |= np.where(opens & ~before, then, 0).astype(np.int8)
    follows[:, gd.CLOSES] |= np.where(closes & ~opens, then, 0).astype(np.int8)


class _Scenes:
    """What filters say at the opens and the closes of a history."""

    def __init__(
        self, policy: HistoryPolicy, instrument: Instrument, fine: Bars, joined: Joined
    ) -> None:
        self._policy, self._instrument, self._fine = policy, instrument, fine
        self._spread = fine.spread
        self._ends, self._lasts = joined.bars.time + joined.span, joined.lasts
        self._span, self._begins = joined.span, joined.begins
        self.firsts = np.concatenate([[0], joined.ends[:-1]])  # of each bar, its first of prices
        # of each row of prices, how many bars are completed before it
        self._before = np.searchsorted(joined.lasts, np.arange(fine.time.size))
        self._known: dict[str, Array] = {}  # by guard: what it goes by at each close

    def before_all(self, guard: dc.Filter) -> bool:
        """Whether it was closed just before the first bar: a member of a fleet may begin while
        others trade, and what was closed by then does not close now."""
        if guard.BY_CLOCK:
            return bool(self._by_time(guard, self._fine.time[:1] - 1)[0])
        unknown = np.array([np.nan])
        return bool(guard.shut(unknown, unknown, 0)[0])

    def at_opens(self, guard: dc.Filter, side: int) -> Array:
        """Whether it is closed at the open of each row of prices: measured by the bars before, the
        spread by that of the open."""
        if guard.BY_CLOCK:
            return self._by_time(guard, self._fine.time)
        before = np.concatenate([[np.nan], self._known_at_closes(guard)])[self._before]
        return guard.shut(before, self._spread, side)

    def at_closes(self, guard: dc.Filter, side: int = 0) -> Array:
        """Whether it is closed at each close; 0: of whatever side."""
        if guard.BY_CLOCK:
            return self._by_time(guard, self._ends)
        return guard.shut(self._known_at_closes(guard), self._spread[self._lasts], side)

    def _known_at_closes(self, guard: dc.Filter) -> Array:
        if guard.name not in self._known:
            self._known[guard.name] = self._measured(guard)
        return self._known[guard.name]

    def _by_time(self, guard: dc.Filter, moments: Array) -> Array:
        """What the clock alone decides: asked once between each two edges."""
        closed, k, calendars = np.zeros(moments.size, np.bool_), 0, self._policy.calendars
        while k < moments.size:
            at = int(moments[k])
            context = EntryContext(at, self._instrument, math.nan, {}, calendars)
            until = min(
                (one for one in guard.edges(self._instrument, calendars, at) if one > at), default=0
            )
            end = int(np.searchsorted(moments, until)) if until else moments.size
            closed[k:end] = guard.verdict(context) is not None
            k = end
        return closed

    def _measured(self, guard: dc.Filter) -> Array:
        """What a filter goes by, at each close; NaN where it is not known yet."""
        bars = self._fine
        if isinstance(guard, dc.RegimeGuard) and guard.reference != self._instrument.symbol:
            bars = self._reference(guard)
        span = span_of(bars.time)
        wide = guard.bars_span(self._span if bars is self._fine else span)
        if wide % span:
            sentence = (
                f"guard '{guard.name}': timeframe: {timeframe_name(wide)} cannot be joined "
                "from the bars given"
            )
            raise BadInput("bad_guard", sentence)
        begins = self._begins if wide == self._span else 0
        coarse = joined(bars, wide, begins) if wide != span else bars
        return known_at_closes(guard.column(coarse, wide), coarse.time, wide, self._ends)

    def _reference(self, guard: dc.RegimeGuard) -> Bars:
        found = self._policy.references.get(guard.reference)
        if found is None:
            raise BadInput(
                "no_reference",
                f"guard '{guard.name}': reference: expected bars of {guard.reference}, as with "
                f"--reference '{guard.reference}=FILE'",
            )
        return found
