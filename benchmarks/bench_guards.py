"""Every guard asked about one entry, against the engine's handling of a quote, in the same run."""

from __future__ import annotations

import tempfile
import time
from importlib.resources import files
from pathlib import Path

import msgspec
import numpy as np

import bench_engine as engine
import bench_rehearse as rehearse
import figures as fg
from hawser.core.clock import MINUTE
from hawser.core.guards.declared import Guards
from hawser.core.guards.news import Calendar, NewsEvent
from hawser.core.rules.inside_bar import PESSIMISTIC
from hawser.engine import events as ev
from hawser.engine.clearance.entries import entry_verdict
from hawser.formats.declared import load
from hawser.rehearsal.run import Rehearsal, SignalColumns
from hawser.rehearsal.watch import HistoryPolicy
from hawser.verification.guards import POLICY

RUNS, EACH = 15, 2_000
STOPS = ("drawdown", "equity floor")


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        session = engine.opened(Path(folder))
        session.set_guards(POLICY, "guards")
        state = session.engine.state
        events = tuple(
            NewsEvent(state.now + n * 7 * MINUTE, "CHF", "high", "made up") for n in range(60)
        )
        session.set_calendars((Calendar("bench", events),))
        symbol = next(iter(state.instruments))
        market = state.markets[symbol]
        quotes = [
            ev.Quote(
                time=state.now + n,
                symbol=symbol,
                bid=market.bid + n % 3,
                ask=market.ask + n % 3,
                high_bid=market.bid + n % 3,
                low_ask=market.ask + n % 3,
            )
            for n in range(EACH)
        ]
        verdicts, handled = [], []
        for _ in range(RUNS):
            begun = time.perf_counter()
            for _ in range(EACH):
                entry_verdict(state, symbol, 1, "by hand", 300.0)
            verdicts.append((time.perf_counter() - begun) / EACH)
            begun = time.perf_counter()
            for quote in quotes:
                session.engine.handle(quote)
            handled.append((time.perf_counter() - begun) / EACH)
        session.close()
    one, quote = fg.median(verdicts), fg.median(handled)
    print(f"{len(POLICY.guard)} guards, {len(events)} events of news")
    print(
        f"all guards for one entry {one * 1e6:8.1f} us = {one / quote:.1f} times the handling "
        "of "
        "a quote"
    )
    print(f"handling of a quote      {quote * 1e6:8.1f} us")
    rehearsed()


def rehearsed() -> None:
    """The same bars and signals rehearsed with and without the demo's policy."""
    bars, signal = rehearse.made()
    plain = rehearse.rehearsal(bars, signal)
    begun = time.perf_counter()
    shipped = load(Guards, files("hawser") / "demo" / "guards.toml")
    # else it trades for a few weeks only
    lasting = tuple(guard for guard in shipped.guard if guard.KIND not in STOPS)
    policy = HistoryPolicy(
        msgspec.structs.replace(shipped, guard=lasting), (Calendar("bench", ()),)
    )
    guarded = Rehearsal(
        bars,
        SignalColumns(signal, np.zeros_like(signal)),
        plain.instrument,
        plain.account,
        plain.rig,
        policy,
    )
    laid = time.perf_counter() - begun
    for one in (plain, guarded):
        one.run(PESSIMISTIC)
    without, under = (
        fg.median([rehearse.timed(lambda one=one: one.run(PESSIMISTIC)) for _ in range(RUNS)])
        for one in (plain, guarded)
    )
    print(f"a policy laid over {bars.time.size} bars {laid:.2f} s")
    print(f"a run under it {under * 1e3:.1f} ms = {under / without:.2f} times one without")


if __name__ == "__main__":
    main()
