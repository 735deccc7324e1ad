"""What a rig would have done from a bar that somebody points at, and from many bars at once."""

from __future__ import annotations

from typing import NamedTuple

import msgspec
import numpy as np

from hawser.core.account import Account
from hawser.core.bars import Bars
from hawser.core.errors import Refused
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.core.joined_bars import joined_to
from hawser.core.rig import Rig
from hawser.core.rules.bar_close import BASKET, BREAK_EVEN, STEP_1, TIME, TRAIL
from hawser.core.rules.inside_bar import LOSS_STEP, STOP, TARGET
from hawser.core.sizing import sized
from hawser.core.timeframes import timeframe
from hawser.rehearsal import batch, records
from hawser.rehearsal.entries import alone_at, begin
from hawser.rehearsal.loop import play
from hawser.rehearsal.run import Rehearsal, SignalColumns, exit_name

FILLS = 64


class Exit(NamedTuple):
    """What left a trade at a bar, or added to it: why, and at which price (ticks)."""

    bar: int
    why: str
    price: float


class TrialResult(NamedTuple):
    """One trial: bars as indices, levels in ticks, `result` in R. `moves`: from which bar the stop
    stands where."""

    side: int
    first: int
    last: int
    ref: int
    stop: int
    targets: tuple[int, ...]
    moves: tuple[tuple[int, int, str], ...]
    exits: tuple[Exit, ...]
    rungs: tuple[Exit, ...]  # of a ladder: its further entries
    result: float
    ended: str
    open_at_end: bool


class Ended(NamedTuple):
    """Of a fan: trades that ended in one way, their share of all and their mean result in R."""

    why: str
    share: float
    mean: float


class Fan(NamedTuple):
    """Results in R of the starts whose trade ended, their mean, and a row for each way of ending.
    `none`: starts without an entry; `running`: trades that the history's end cut off."""

    results: Array
    mean: float
    ended: tuple[Ended, ...]
    none: int
    running: int


class Trial:
    """A rig over one history, ready to be tried from any bar, long or short. A rig with a timeframe
    of its own decides on bars joined to it; raises BadInput where they cannot be joined."""

    def __init__(self, bars: Bars, instrument: Instrument, account: Account, rig: Rig) -> None:
        free = msgspec.structs.replace(
            rig, direction="both", from_=None, to=None, follow_on=None, reverse=False
        )
        self.size = bars.time.size
        none = np.zeros(self.size, np.int8)
        joined = joined_to(bars, timeframe(rig.timeframe)) if rig.timeframe is not None else None
        self._of = Rehearsal(
            bars, SignalColumns(none, none), instrument, account, free, joined=joined
        )
        self._ends = self._of.history.bars["end"]
        self._account = account
        self._levels = records.levels_for(self._of.setup)
        self._written = records.play_arrays(self.size, FILLS)

    def one(self, start: int, side: int) -> TrialResult | str:
        """The trade decided at the close of bar `start`, or of the joined one that it lies in; a
        sentence where there is none."""
        decided = int(np.searchsorted(self._ends, start, side="right")) if start >= 0 else -1
        if not 0 <= decided < self._ends.size - 1:
            return "No bar follows this one: there is nothing to trade"
        of, cash = self._of, float(self._account.equity)
        begun = begin(
            of.history,
            of.money,
            sizer=of.sizer,
            setup=of.setup,
            side=side,
            first=decided + 1,
            at=int(self._ends[decided]),
            now=alone_at(of.sizer, cash),
            levels=self._levels,
        )
        if begun.trade.steps == 0:
            return self._refusal(decided, side)
        levels, parts = (side * self._levels.targets).tolist(), self._levels.target_parts.tolist()
        end = play(
            of.history,
            of.money,
            rules=begun.rules,
            trade=begun.trade,
            levels=self._levels,
            written=self._written,
            order=0,
            cash=cash,
            guarded=of.guarded(),
        )
        fills = self._written.fills[: end.fills].tolist()
        moves = self._written.moves[: end.moves].tolist()
        exits = tuple(Exit(int(row[0]), exit_name(row), row[4]) for row in fills if row[1] < 0)
        rungs = tuple(
            Exit(int(row[0]), f"rung_{int(row[3]) + 1}", row[4]) for row in fills[1:] if row[1] > 0
        )
        why = moves[-1][2] if moves else -1
        return TrialResult(
            side=side,
            first=int(begun.trade.at),
            last=int(end.at),
            ref=int(begun.trade.ref),
            stop=int(begun.trade.stop),
            targets=tuple(level for level, part in zip(levels, parts, strict=True) if part),
            moves=tuple((bar, level, _moved_by(why)) for bar, level, why in moves),
            exits=exits,
            rungs=rungs,
            result=end.net / begun.risk,
            ended=_ended(end.how, end.last, why),
            open_at_end=end.how == records.END,
        )

    def _refusal(self, start: int, side: int) -> str:
        """Why there is no entry, by the size itself."""
        try:
            sized(self._of.request(start, side))
        except Refused as refusal:
            return f"No entry from here: {refusal.sentence}"
        return "No entry from here: an indicator of the rig has no value yet."

    def fan(self, side: int, count: int, seed: int) -> Fan:
        """The same from `count` bars drawn at random (all, where there are fewer)."""
        of = self._of
        pool = np.arange(max(0, self._ends.size - 2), dtype=np.int64)
        starts = np.sort(
            np.random.default_rng(seed).choice(pool, min(count, pool.size), replace=False)
        )
        # `one` may run meanwhile
        levels, written = records.levels_for(of.setup), records.play_arrays(self.size, FILLS)
        results, ends = batch.fan(
            of.history,
            of.money,
            sizer=of.sizer,
            setup=of.setup,
            levels=levels,
            written=written,
            side=side,
            starts=starts,
            cash=float(self._account.equity),
            guarded=of.guarded(),
        )
        entered = ~np.isnan(results)
        running = entered & (ends[:, 0] == records.END)
        done = entered & ~running
        names = np.array([_ended(*row) for row in ends[done].tolist()], dtype=object)
        won = results[done]
        rows = [
            Ended(why, float((names == why).mean()), float(won[names == why].mean()))
            for why in set(names)
        ]
        rows.sort(key=lambda row: -row.share)
        mean = float(won.mean()) if won.size else float("nan")
        return Fan(won, mean, tuple(rows), int((~entered).sum()), int(running.sum()))


def _moved_by(why: int) -> str:
    if why < 0:
        return "first stop"
    return {BREAK_EVEN: "break-even", TRAIL: "trail"}.get(why, f"step {why - STEP_1 + 1}")


def _ended(how: int, last: int, why: int) -> str:
    """How a trade ended, in words; a stop is named by what brought it where it was."""
    if how == records.INSIDE:
        return {STOP: _moved_by(why), TARGET: "last target", LOSS_STEP: "loss steps"}.get(
            last, "stop"
        )
    return {BASKET: "basket", TIME: "time", records.END: "still open"}.get(how, "signal")
