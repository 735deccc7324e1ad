"""One live evaluation of a rig with every rule on; 1,000 trades at one completed bar; the trial and
the fan of 500.

Ratios against the ATR of the same bars, in the same run.
"""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np

import bench_engine as engine
import figures as fg
from hawser.core.account import Account, SizeRule
from hawser.core.bars import Bars
from hawser.core.indicators import atr
from hawser.core.levels import LineRule, StopRule, TargetRule
from hawser.core.rig import (
    After,
    Amount,
    Basket,
    BreakEven,
    FollowOn,
    LossStep,
    Measure,
    Rig,
    Step,
    TimeExit,
    Trail,
)
from hawser.engine import events as ev
from hawser.rehearsal.trial import Trial

BARS, RUNS = 20_000, 15
RIG = Rig(
    name="all",
    stop=StopRule(ticks=60.0),
    target=(TargetRule(share=0.3, r=5.0), TargetRule(share=0.3, r=8.0)),
    break_even=BreakEven(After(r=1.0), 1.0, cover_costs=True),
    step=(Step(Measure(r=2.0), Measure(r=0.5)), Step(Measure(r=3.0), Measure(atr=1.0))),
    trail=Trail(atr=3.0, after=After(r=0.5)),
    loss_step=(LossStep(0.5, 0.25), LossStep(0.8, 0.25)),
    time_exit=TimeExit(bars=500),
    follow_on=FollowOn(1),
    basket=Basket(stop=Amount(percent=50.0)),
)


def timed(work: Callable[[], object], runs: int = RUNS) -> float:
    found = []
    for _ in range(runs):
        begun = time.perf_counter()
        work()
        found.append(time.perf_counter() - begun)
    return fg.median(found)


def live() -> float:
    """Seconds of one trade's evaluation: a completed bar of every instrument, over the trades that
    it tends."""
    with tempfile.TemporaryDirectory() as folder:
        session = engine.opened(Path(folder))
        state, each = session.engine.state, []
        for trade in state.live():
            trade.plan = msgspec.structs.replace(
                trade.plan, rig=RIG, trail=RIG.trail, targets=RIG.target, held=None
            )
        count = len(state.live())
        for turn in range(1, RUNS):
            begun = time.perf_counter()
            for symbol, market in state.markets.items():
                price = market.bid * 0.5
                opened = state.now - state.now % engine.MINUTE + turn * engine.MINUTE
                session.engine.handle(
                    ev.BarCompleted(
                        time=state.now,
                        symbol=symbol,
                        span=engine.MINUTE,
                        opened=opened,
                        open=price,
                        high=price,
                        low=price,
                        close=price,
                        spread=2.0,
                        atr=4.0,
                    )
                )
            each.append((time.perf_counter() - begun) / count)
        session.ledger.close()  # type: ignore[union-attr]  # it has one
        fg.line("open trades", count, "")
        fg.line("one evaluation, every rule on", fg.median(each) * 1e6, "us")
        fg.line("all of them at one completed bar", fg.median(each) * count * 1e3, "ms")
        return fg.median(each)


def bars() -> Bars:
    dice = np.random.default_rng(3)
    close = 4000.0 + 0.5 * dice.integers(-6, 7, BARS).cumsum()
    opens = np.concatenate([[4000.0], close[:-1]])
    high, low = np.maximum(opens, close) + 1.0, np.minimum(opens, close) - 1.0
    times = (32_000_000 + np.arange(BARS, dtype=np.int64)) * engine.MINUTE
    return Bars(times, opens, np.abs(high), low, close, np.full(BARS, 2.0))


def trials() -> None:
    history, of = bars(), engine.instrument(1)
    account = Account(currency="CHF", equity=64_000.0, size=SizeRule(percent=0.6))
    rig = msgspec.structs.replace(
        RIG, stop=StopRule(atr=2.5), trail=Trail(line=LineRule("supertrend", 10, 3.0)), basket=None
    )
    trial = Trial(history, of, account, rig)
    trial.one(BARS // 2, 1), trial.fan(1, 500, 1)
    reference = timed(lambda: atr(history.high, history.low, history.close, 14, False))
    redraw = timed(lambda: Trial(history, of, account, rig).one(BARS // 2, 1))
    fan = timed(lambda: trial.fan(1, 500, 2))
    fg.line(f"a changed rig tried anew on {BARS} bars", redraw * 1e3, "ms")
    fg.line("the fan of 500", fan * 1e3, "ms")
    fg.ratio("tried anew, to the ATR of the bars", redraw, reference, 200)
    fg.ratio("both within a frame of 33 ms", redraw + fan, 0.033, 1.0)


def main() -> None:
    live()
    trials()


if __name__ == "__main__":
    main()
