"""A whole rehearsal: signals to entries, sizes from the core, trades from the compiled loop, one after another."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import NamedTuple

import msgspec
import numpy as np

from hawser.core.account import Account
from hawser.core.bars import Bars, span_of
from hawser.core.errors import BadInput, Refused
from hawser.core.fx import convert
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.core.ladder import laid
from hawser.core.rig import After, Rig
from hawser.core.rules.quantity import commission
from hawser.core.rules.rounding import floor_whole
from hawser.core.rules.tending import FAR, away, break_even_at
from hawser.core.sizing import SizeRequest, sized
from hawser.rehearsal import loop
from hawser.rehearsal.columns import atr_column, stop_column, trail_column

NO_COLUMN = np.empty(0)
AT_ONCE = -1e15  # an excursion that every trade has


class Signals(NamedTuple):
    """+1, -1 or 0 at each bar's close; `leave` the same for early exits."""

    signal: Array
    leave: Array


class Played(msgspec.Struct):
    """One trade: rows of fills and moves as the loop wrote them; money in the account's currency, R from `ref`."""

    number: int
    side: int
    decided: int  # the bar at whose close the entry was decided
    first: int
    last: int
    reason: str  # of its entry: signal or follow_on
    ref: int
    r_ticks: int
    stop: int
    planned_risk: float
    net: float
    best: int
    worst: int
    fills: list[tuple[int, ...]]
    moves: list[tuple[int, ...]]
    end: str
    ladder: bool

    @property
    def steps(self) -> int:
        """All that was entered."""
        return sum(int(row[5]) for row in self.fills if row[1] > 0)


class Outcome(msgspec.Struct):
    """A run under one order: its trades, equity at each close, bars with a position, bars whose order mattered."""

    trades: list[Played]
    equity: Array
    held: int
    dependent: int
    start: float
    end: float


class Rehearsal:
    """Everything about a history and a rig that does not depend on the order inside a bar."""

    def __init__(self, bars: Bars, signals: Signals, instrument: Instrument, account: Account, rig: Rig) -> None:
        self.instrument, self.account, self.rig = instrument, account, rig
        self.bars, self.time = bars, bars.time
        tick, simple = instrument.tick_size, rig.atr_smoothing == "simple"
        spread = np.where(np.isnan(bars.spread), float(account.costs.spread_ticks), bars.spread)
        self.atr = atr_column(bars, rig.atr_length, simple)
        span = span_of(bars.time)
        trails = [NO_COLUMN, NO_COLUMN]
        if rig.trail is not None and rig.trail.kind in ("bars", "line"):
            trails = [trail_column(rig.trail, bars, side, simple, span) / tick for side in (1, -1)]
        whole = [np.rint(column / tick).astype(np.int64) for column in (bars.open, bars.high, bars.low, bars.close)]
        self.history = loop.History(
            *whole, np.rint(spread).astype(np.int64), signals.signal, signals.leave, self.atr / tick, *trails
        )
        self.basis = {
            side: stop_column(rig.stop, bars, side, simple)
            for side in (1, -1)
            if rig.stop is not None and rig.stop.from_bars
        }
        self.signals = signals
        fx = convert(instrument.quote, account.currency, account.rates, account.policy.max_rate_age_s)
        unit = float(instrument.multiplier * fx)
        fees, costs = instrument.commission, account.costs
        self.money = loop.Money(
            tick * unit * instrument.step_size, tick, instrument.step_size, unit, float(fees.per_unit),
            float(fees.per_notional), float(fees.minimum), float(costs.entry_slippage_ticks),
            float(costs.exit_slippage_ticks),
        )  # fmt: skip
        self.first_time = -(1 << 62) if rig.from_ is None else rig.from_
        self.last_time = 1 << 62 if rig.to is None else rig.to

    def run(self, order: int, progress: Callable[[int], None] | None = None) -> Outcome:
        """Play every trade; `progress` is told the bar reached, and may raise to give up."""
        n = self.time.size
        start = self.account.equity
        written = loop.Written(np.zeros((64, 6)), np.empty((n + 2, 3), np.int64), np.full(n, np.nan), _rows())
        outcome = Outcome([], written.equity, 0, 0, start, start)
        calls = np.flatnonzero(self.signals.signal)
        cash, at, pending = start, 0, None  # pending: side, decided, why, chain
        chain = 0
        while True:
            if pending is None:
                k = int(np.searchsorted(calls, at))
                if k >= calls.size:
                    break
                decided = int(calls[k])
                side, why, chain = int(self.signals.signal[decided]), "signal", 0
            else:
                side, decided, why = pending
                pending = None
            first = decided + 1
            if first >= n:
                break
            if progress is not None:
                progress(first)
            played = self._enter(side, decided, why, order, written, cash, outcome)
            if played is None:
                at = first
                continue
            trade, end = played
            cash = outcome.end
            at = trade.last
            if end.how == loop.INSIDE:
                follow = self._follows(trade, int(end.last), int(end.stop), chain)
                if follow:
                    chain += 1
                    pending = (follow, trade.last, "follow_on")
            elif end.turns and self.rig.allows(-side):
                pending, chain = (-side, trade.last - 1, "signal"), 0
        self._fill_equity(written.equity, start, outcome)
        return outcome

    def _follows(self, trade: Played, last: int, stop: int, chain: int) -> int:
        """The side of a follow-on, 0: none."""
        rule = self.rig.follow_on
        if rule is None or chain >= rule.max_chain:
            return 0
        losing = last == loop.STOP and trade.side * (stop - trade.ref) < 0
        side = trade.side if last == loop.TARGET else (-trade.side if losing else 0)
        return side if side and self.rig.allows(side) else 0

    def _enter(
        self, side: int, decided: int, why: str, order: int, written: loop.Written, cash: float, outcome: Outcome
    ) -> tuple[Played, loop.Played] | None:
        first = decided + 1
        if not self.rig.allows(side) or not self.first_time <= int(self.time[first]) < self.last_time:
            return None
        try:
            made = self._made(side, decided, cash)
        except Refused:
            return None
        trade, levels, rules, risk, r_ticks = made
        end = loop.play(self.history, self.money, rules, trade, levels, written, order, cash)
        held = end.bar - first + (0 if end.how in (loop.SIGNAL, loop.BASKET, loop.TIME) else 1)
        rows = [tuple(row) for row in written.fills[: end.fills].tolist()]
        moves = [tuple(row) for row in written.moves[: end.moves].tolist()]
        played = Played(
            len(outcome.trades) + 1, side, decided, first, int(end.bar), why, trade.ref, r_ticks, trade.stop, risk,
            end.cash - cash, int(end.best), int(end.worst), rows, moves, exit_name(rows[-1]),
            self.rig.ladder is not None,
        )  # fmt: skip
        outcome.trades.append(played)
        outcome.held += int(held)
        outcome.dependent += int(end.dependent)
        outcome.end = float(end.cash)
        return played, end

    def _made(self, side: int, decided: int, cash: float) -> tuple[loop.Trade, loop.Levels, loop.Rules, float, int]:
        """The trade and its rules for an entry at the open after `decided`; raises Refused."""
        rig, instrument, history = self.rig, self.instrument, self.history
        bid = int(history.open[decided + 1])
        ask = bid + int(history.spread[decided + 1])
        request = SizeRequest(
            instrument=instrument, account=self._account(cash), side=side, bid=bid, ask=ask,
            atr=float(self.atr[decided]), basis=float(self.basis[side][decided]) if self.basis else math.nan,
            stop=rig.stop, targets=rig.target,
        )  # fmt: skip
        self._need_atr(request)
        rungs, rung_steps = np.empty(0, np.int64), np.empty(0, np.int64)
        if rig.ladder is not None:
            plan = laid(rig.ladder, request)
            ref, stop, steps, risk, r_ticks = request.ref, plan.stop, plan.steps[0], plan.risk_money, plan.r_ticks
            rungs, rung_steps = np.array(plan.levels[1:], np.int64), np.array(plan.steps[1:], np.int64)
            targets = parts = np.empty(0, np.int64)
        else:
            sizing = sized(request)
            ref, stop, steps, risk, r_ticks = (
                sizing.ref, sizing.stop, sizing.steps, sizing.risk_money, sizing.r_ticks,
            )  # fmt: skip
            targets = np.array([target.level for target in sizing.targets], np.int64)
            parts = np.array([target.steps for target in sizing.targets], np.int64)
        atr = request.atr / instrument.tick_size
        losses = np.array([away(ref, -one.r * r_ticks, side) for one in rig.loss_step], np.int64)
        loss_parts = np.array([floor_whole(one.share * steps) for one in rig.loss_step], np.int64)
        at = [one.at.in_ticks(float(ref), float(r_ticks), atr) for one in rig.step]
        to = [away(ref, one.to.in_ticks(float(ref), float(r_ticks), atr), side) for one in rig.step]
        trade = loop.Trade(side, decided + 1, ref, steps, stop, np.array(at, float), np.array(to, np.int64))
        spare = loop.Spare(parts.copy(), loss_parts.copy(), rung_steps.copy(), _rows())
        levels = loop.Levels(
            side * targets, parts.copy(), side * losses, loss_parts, side * rungs, rung_steps, spare
        )  # fmt: skip
        return trade, levels, self._rules(side, ref, r_ticks, steps, parts, cash), risk, r_ticks

    def _account(self, cash: float) -> Account:
        """The account at this moment: flat, so that balance moves with equity."""
        gained = cash - self.account.equity
        balance = self.account.basis_money("balance") + gained
        return msgspec.structs.replace(
            self.account, equity=max(cash, 1e-9), balance=max(0.0, balance),
        )  # fmt: skip

    def _need_atr(self, request: SizeRequest) -> None:
        """Steps by ATR need its value at entry."""
        by_atr = any(measure.atr is not None for one in self.rig.step for measure in (one.at, one.to))
        if by_atr and not request.atr > 0:
            raise Refused("indicator_not_ready", "The ATR has no value yet: more completed bars are needed.")

    def _rules(self, side: int, ref: int, r_ticks: int, steps: int, parts: Array, cash: float) -> loop.Rules:
        rig, money = self.rig, self.money
        even, even_after, even_target = FAR, 0.0, 0
        if rig.break_even is not None:
            cost = 0.0
            if rig.break_even.cover_costs:
                fee = commission(
                    steps * money.step, ref * money.tick, money.unit_money, money.per_unit, money.per_notional,
                    money.minimum,
                )  # fmt: skip
                cost = 2 * fee / (steps * money.tick_step) + money.entry_slip + money.exit_slip
            even = break_even_at(ref, side, float(rig.break_even.offset_ticks), float(cost))
            even_after, even_target = _after(rig.break_even.after, r_ticks, parts)
        kind, value, after, target = loop.NO_TRAIL, 0.0, 0.0, 0
        trail = rig.trail
        if trail is not None:
            kind = {"atr": loop.ATR_TRAIL, "ticks": loop.TICKS_TRAIL, "percent": loop.PERCENT_TRAIL}.get(
                trail.kind, loop.COLUMN_TRAIL
            )
            value = 0.0 if kind == loop.COLUMN_TRAIL else float(getattr(trail, trail.kind))
            after, target = _after(trail.after, r_ticks, parts)
        time_exit, basket = rig.time_exit, rig.basket
        stop_money = basket.stop.of(cash) if basket is not None and basket.stop is not None else math.inf
        goal_money = basket.target.of(cash) if basket is not None and basket.target is not None else math.inf
        return loop.Rules(
            self.instrument.min_stop_ticks, even, even_after, even_target, kind, value,
            float(trail.base_ticks) if trail else 0.0, trail.anchor == "close" if trail else False,
            float(trail.offset_ticks) if trail else 0.0, trail.step_ticks if trail else 1, after, target,
            (time_exit.bars or 0) if time_exit else 0, float(stop_money), float(goal_money), rig.reverse,
            float(rig.ladder.target_ticks) if rig.ladder else 0.0,
        )  # fmt: skip

    @staticmethod
    def _fill_equity(equity: Array, start: float, outcome: Outcome) -> None:
        """Where no position was held equity stands at the last trade's cash."""
        value, done = start, 0
        for trade in outcome.trades:
            equity[done : trade.first] = value
            value, done = float(equity[trade.last]), trade.last + 1
        equity[done:] = value


def _rows() -> Array:
    """Room for what one bar fills."""
    return np.empty((40, 4), np.int64)


def _after(after: After, r_ticks: int, parts: Array) -> tuple[float, int]:
    """An activation as an excursion in ticks and a target's number; a merged target waits for the one it went into."""
    if after.target is None:
        return (AT_ONCE if after.r is None else after.r * r_ticks), 0
    number = after.target
    while number <= parts.size and parts[number - 1] == 0:
        number += 1
    return 0.0, number if number <= parts.size else 40


def exit_name(row: tuple[int, ...]) -> str:
    """Why a fill was made, as it is written."""
    what, number = int(row[2]), int(row[3])
    if what >= 10:
        return {loop.SIGNAL: "signal", loop.BASKET: "basket", loop.TIME: "time", loop.END: "end"}[what - 10]
    return {loop.STOP: "stop", loop.TARGET: f"target_{number}"}.get(what) or (
        f"rung_{number}" if what == loop.RUNG else f"loss_step_{number}"
    )


def check(rig: Rig, account: Account) -> None:
    """What a rehearsal cannot carry out is refused before it begins; raises BadInput."""
    if rig.time_exit is not None and (rig.time_exit.session_end or rig.time_exit.before_weekend):
        raise BadInput("bad_rig", "time_exit: session_end and before_weekend are not rehearsed yet; expected bars")
    if rig.ladder is not None and account.size.method not in ("risk_percent", "risk_money"):
        raise BadInput("bad_rig", f"ladder: only a risk sizes it; the account's method is {account.size.method}")
