"""A whole rehearsal: a history, a rig and an account as columns and numbers, played in compiled
batches."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import NamedTuple

import msgspec
import numpy as np

from hawser.core.account import Account
from hawser.core.bars import Bars
from hawser.core.columns import atr_column, stop_column, trail_column
from hawser.core.errors import BadInput
from hawser.core.fx import convert
from hawser.core.hours import ever_closes, leaves_after
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.core.joined_bars import Joined, alone
from hawser.core.rig import Rig
from hawser.core.rig_numbers import money_of, setup_of
from hawser.core.rules import bar_close
from hawser.core.rules.inside_bar import LOSS_STEP, RUNG, STOP, TARGET
from hawser.core.size_terms import SizeRequest
from hawser.rehearsal import batch, records
from hawser.rehearsal import guarding as gd
from hawser.rehearsal.setup import sizer_of
from hawser.rehearsal.watch import HistoryPolicy, counted_of, uncounted, unwatched, watch_of

NO_COLUMN = np.empty(0)


class SignalColumns(NamedTuple):
    """+1, -1 or 0 at each bar's close; `leave` the same for early exits. Of finer bars those count
    that are the last of a bar that is decided on."""

    signal: Array
    leave: Array


class Played(msgspec.Struct):
    """One trade: rows of fills and moves as the loop wrote them, the rows of prices of its entry
    and its end; money in the account's currency."""

    side: int
    first: int
    last: int
    reason: str  # of its entry: signal or follow_on
    stop: int
    planned_risk: float
    net: float
    fills: list[list[float]]
    moves: list[list[int]]
    end: str


class Trades:
    """The trades of one instrument under one order: their rows, and those of their fills and moves,
    as the loop wrote them."""

    def __init__(self, rows: batch.Table, fills: Array, moves: Array) -> None:
        self.rows, self.fills, self.moves = rows, fills, moves

    @property
    def net(self) -> Array:
        """Money of each trade, commissions paid."""
        return self.rows.money[:, batch.NET]

    @property
    def planned_risk(self) -> Array:
        return self.rows.money[:, batch.RISK]

    @property
    def dependent(self) -> int:
        """Bars whose fills depend on the order inside them."""
        return int(self.rows.whole[:, batch.DEPENDENT].sum())

    @property
    def count(self) -> int:
        """How many trades."""
        return len(self.rows.whole)

    @cached_property
    def trades(self) -> list[Played]:
        """Every trade; made when they are first asked for."""
        fills, moves, found = self.fills.tolist(), self.moves.tolist(), []
        for row, (risk, net) in zip(
            self.rows.whole.tolist(), self.rows.money.tolist(), strict=True
        ):
            own = fills[row[batch.FILL_FROM] : row[batch.FILL_TO]]
            reason = "follow_on" if row[batch.FOLLOWS] else "signal"
            own_moves = moves[row[batch.MOVE_FROM] : row[batch.MOVE_TO]]
            found.append(
                Played(
                    side=row[batch.SIDE],
                    first=int(own[0][0]),
                    last=int(own[-1][0]),
                    reason=reason,
                    stop=row[batch.STOP_AT],
                    planned_risk=risk,
                    net=net,
                    fills=own,
                    moves=own_moves,
                    end=exit_name(own[-1]),
                )
            )
        return found


class Outcome(Trades):
    """A whole run: its trades, what guards did (rows as the loop wrote them), equity at each
    close."""

    def __init__(
        self,
        rows: batch.Table,
        fills: Array,
        moves: Array,
        equity: Array,
        start: float,
        end: float,
        guarded: Array,
    ) -> None:
        super().__init__(rows, fills, moves)
        self.equity, self.start, self.end, self.guarded = equity, start, end, guarded

    @property
    def as_ended(self) -> Array:
        """Money of each trade in the order in which they ended."""
        return self.net

    @property
    def held(self) -> int:
        """Bars in which a position was held after what the open did."""
        whole = self.rows.whole
        at_open = np.isin(
            whole[:, batch.HOW],
            (bar_close.SIGNAL, bar_close.BASKET, bar_close.TIME, bar_close.GUARD),
        )
        late = whole[:, batch.LATE] != 0
        return int((whole[:, batch.LAST] - whole[:, batch.FIRST] + ~at_open - late).sum())


def spreads(bars: Bars, account: Account) -> Array:
    """At each bar, whole ticks: that of the account's costs where the bar has none."""
    known = np.where(np.isnan(bars.spread), float(account.costs.spread_ticks), bars.spread)
    return np.rint(known)


class Rehearsal:
    """Everything about a history and a rig that does not depend on the order inside a bar."""

    def __init__(
        self,
        bars: Bars,
        signals: SignalColumns,
        instrument: Instrument,
        account: Account,
        rig: Rig,
        policy: HistoryPolicy | None = None,
        joined: Joined | None = None,
        rates: Array | None = None,
        since: int | None = None,
    ) -> None:
        """`rates`: what one unit of the quote currency is worth in the account's, at each row of
        prices; None: as the account says, all the time. `since`: from when the guards' days and
        weeks are counted (UTC ns); None: from the first bar."""
        self.instrument, self.account, self.rig, self.policy = instrument, account, rig, policy
        self.joined, self.signals = joined, signals
        fine, joined = bars, joined or alone(bars)
        bars, span, lasts = joined.bars, joined.span, joined.lasts
        self.time, self.fine_time = bars.time, fine.time
        tick, simple = instrument.tick_size, rig.atr_smoothing == "simple"
        spread = spreads(fine, account)
        trails = stops = [NO_COLUMN, NO_COLUMN]
        if rig.trail is not None and rig.trail.kind in ("bars", "line"):
            trails = [
                trail_column(rig.trail, bars, fine, side=side, simple=simple, span=span) / tick
                for side in (1, -1)
            ]
        if rig.stop is not None and rig.stop.from_bars:
            stops = [stop_column(rig.stop, bars, side, simple) / tick for side in (1, -1)]
        prices = np.empty(fine.time.size, records.PRICES)
        for name in ("open", "high", "low", "close"):
            prices[name] = np.rint(getattr(fine, name) / tick)
        prices["spread"] = spread
        signal = signals.signal[lasts].astype(np.int8)
        rows = np.empty(bars.time.size, records.BAR)
        rows["opens"], rows["end"] = bars.time, joined.ends
        rows["atr"] = atr_column(bars, rig.atr_length, simple) / tick
        rows["signal"], rows["leave"] = signal, signals.leave[lasts]
        rows["last_next"] = left_by_hours(rig, instrument, bars.time, span)
        self.watch = (
            unwatched()
            if policy is None
            else watch_of(
                policy,
                instrument,
                fine._replace(spread=spread),
                joined,
                since,
                rungs=rig.ladder is not None,
            )
        )
        self.counted = (
            uncounted()
            if policy is None
            else counted_of(policy, [(instrument.symbol, policy.source)])
        )
        fx, self.rates = 0.0, rates
        if rates is not None:
            fx = float(rates[0])
        else:
            fx = convert(
                instrument.quote, account.currency, account.rates, account.policy.max_rate_age_s
            )
        units = NO_COLUMN if rates is None else float(instrument.multiplier) * rates
        self.money = money_of(account, instrument, fx)
        self.sizer = sizer_of(account, instrument)
        self.setup = setup_of(rig, account.size, instrument)
        entry = self.setup.entry
        begin, end = np.searchsorted(fine.time, [entry.first_time, entry.last_time]).tolist()
        self.history = records.BarRows(
            begin=begin,
            end=end,
            prices=prices,
            bars=rows,
            signal=signal,
            trail_long=trails[0],
            trail_short=trails[1],
            stop_long=stops[0],
            stop_short=stops[1],
            units=units,
        )

    def run(
        self, order: int, progress: Callable[[int], None] | None = None, at_once: int = batch.TRADES
    ) -> Outcome:
        """Play every trade, so many at once; `progress` is told the bar reached, and may raise to
        give up."""
        n, start = self.time.size, float(self.account.equity)
        rows = batch.table(at_once)
        written = records.play_arrays(n, at_once * batch.ROWS)
        levels = records.levels_for(self.setup)
        guarded = self.guarded()
        place = batch.first_state(start)
        while place.at >= 0:
            rows = batch.Table(*(grown(table, place.trades, at_once) for table in rows))
            written = written._replace(
                fills=grown(written.fills, place.fills, at_once * batch.ROWS)
            )
            place = batch.run_batch(
                self.history,
                self.money,
                sizer=self.sizer,
                setup=self.setup,
                levels=levels,
                written=written,
                rows=rows,
                order=order,
                place=place,
                most=at_once,
                guarded=guarded,
            )
            if progress is not None:
                progress(n if place.at < 0 else int(place.at))
        rows = batch.Table(*(table[: place.trades] for table in rows))
        fills, moves = written.fills[: place.fills], written.moves[: place.moves]
        acted = guarded.written[: guarded.memory.place[0]]
        return Outcome(
            rows=rows,
            fills=fills,
            moves=moves,
            equity=written.equity,
            start=start,
            end=float(place.cash),
            guarded=acted,
        )

    def alone(self) -> Rehearsal:
        """The same on the bars that are decided on, without the finer ones inside them."""
        assert self.joined is not None
        lasts = self.joined.lasts
        signals = SignalColumns(self.signals.signal[lasts], self.signals.leave[lasts])
        return Rehearsal(
            bars=self.joined.bars,
            signals=signals,
            instrument=self.instrument,
            account=self.account,
            rig=self.rig,
            policy=self.policy,
            rates=None if self.rates is None else self.rates[self.joined.ends - 1],
        )

    def request(self, bar: int, side: int) -> SizeRequest:
        """An entry at the open that follows a bar, with the account as it begins."""
        history, rig, tick = self.history, self.rig, self.instrument.tick_size
        entered, basis = history.prices[history.bars[bar]["end"]], np.nan
        if rig.stop is not None and rig.stop.from_bars:
            basis = float((history.stop_long if side > 0 else history.stop_short)[bar]) * tick
        return SizeRequest(
            instrument=self.instrument,
            account=self.account,
            side=side,
            bid=int(entered["open"]),
            ask=int(entered["open"] + entered["spread"]),
            atr=float(history.bars[bar]["atr"]) * tick,
            basis=basis,
            stop=rig.stop,
            targets=rig.target,
            ladder=rig.ladder,
        )

    def guarded(self) -> gd.Guarded:
        """The guards before the first bar. Each may write a row at a bar's open and at its close,
        and entries are refused at most once there."""
        counted = self.counted
        most = self.time.size * (1 + 2 * counted.kind.size) if self.watch.on else 0
        return gd.Guarded(
            watch=self.watch,
            counted=counted,
            memory=gd.memory_for(counted, self.account.equity),
            written=np.empty((most, 5), np.int64),
            member=0,
        )


def grown(table: Array, used: int, more: int) -> Array:
    """`table`, or one twice its length with the same first rows, so that `more` rows beyond the
    `used` fit."""
    if used + more <= len(table):
        return table
    larger = np.empty((2 * len(table) + more, *table.shape[1:]), table.dtype)
    larger[:used] = table[:used]
    return larger


DECIDED = {
    bar_close.SIGNAL: "signal",
    bar_close.BASKET: "basket",
    bar_close.TIME: "time",
    bar_close.GUARD: "guard",
    records.END: "end",
}
FILLED = {STOP: "stop", TARGET: "target_", RUNG: "rung_", LOSS_STEP: "loss_step_"}


def exit_name(row: list[float]) -> str:
    """Why a fill was made, as it is written."""
    what = int(row[2])
    if what >= 10:
        return DECIDED[what - 10]
    return FILLED[what] if what == STOP else f"{FILLED[what]}{int(row[3])}"


def left_by_hours(rig: Rig, instrument: Instrument, times: Array, span: int) -> Array:
    """Whether the rig's time exit by the hours leaves at the open of the bar that follows each."""
    timed = rig.time_exit
    if timed is None or not (timed.session_end or timed.before_weekend):
        return np.zeros(times.size, np.bool_)
    return leaves_after(instrument.sessions, times, span, not timed.session_end)


def check(rig: Rig, account: Account, instrument: Instrument) -> None:
    """What a rehearsal cannot carry out is refused before it begins; raises BadInput."""
    if rig.stop is not None and rig.stop.money is not None:
        method = account.size.method
        if method not in ("fixed", "invest"):  # of an investment the stop is the account's
            raise BadInput(
                "bad_rig",
                f"stop.money: needs a fixed quantity; the account's method is {method}",
            )
    timed = rig.time_exit
    if timed is not None and timed.session_end and not ever_closes(instrument.sessions):
        raise BadInput(
            "bad_rig",
            f"time_exit: {instrument.symbol} has no sessions, so none can end; expected bars",
        )
    if rig.ladder is not None and account.size.method not in ("risk_percent", "risk_money"):
        raise BadInput(
            "bad_rig",
            f"ladder: only a risk sizes it; the account's method is {account.size.method}",
        )
