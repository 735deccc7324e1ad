"""A fleet of 20 members with 500,000 bars each: nanoseconds a bar against the same members
rehearsed one after the other, and the memory of the run against its arrays."""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np

from bench_rehearse import ACCOUNT, INSTRUMENT, RIG, made
from figures import line, median, ratio
from hawser.core.account import Account
from hawser.core.bars import Bars
from hawser.core.instrument import Instrument
from hawser.core.rules.inside_bar import PESSIMISTIC
from hawser.formats.declared import record, toml
from hawser.rehearsal.fleet.run import FleetMember, FleetRehearsal
from hawser.rehearsal.run import Rehearsal, SignalColumns

MEMBERS, BARS, RUNS = 20, 500_000, 5


def members(count: int, size: int) -> list[FleetMember]:
    """Members with a history of their own each, signals as in `bench_rehearse.py`."""
    account = record(Account, toml(ACCOUNT, "account"), "account")
    plain = record(Instrument, toml(INSTRUMENT, "instrument"), "instrument")
    bars, signal = made(size + count)
    found = []
    for number in range(count):
        part = Bars(*(column[number : number + size] for column in bars))
        part = part._replace(time=bars.time[:size])
        own = np.roll(signal[:size], 977 * number)
        signals = SignalColumns(own, np.zeros_like(own))
        one = Rehearsal(part, signals, plain, account, RIG)
        found.append(FleetMember(f"member {number}", one))
    return found


def resident(key: str) -> float:
    """This process's memory now (VmRSS) or at its highest (VmHWM), MB."""
    lines = Path("/proc/self/status").read_text().splitlines()
    return next(int(text.split()[1]) / 1024 for text in lines if text.startswith(key))


def main() -> None:
    warm = members(2, 3_000)
    FleetRehearsal(warm).run(PESSIMISTIC)
    for one in warm:
        one.rehearsal.run(PESSIMISTIC)
    before = resident("VmRSS")
    each = members(MEMBERS, BARS)
    fleet = FleetRehearsal(each)
    fleet.run(PESSIMISTIC)
    grown = resident("VmHWM") - before
    seconds: dict[str, list[float]] = {"fleet": [], "alone": []}
    trades = 0
    for _ in range(RUNS):
        begun = time.perf_counter()
        trades = fleet.run(PESSIMISTIC).count
        seconds["fleet"].append(time.perf_counter() - begun)
        begun = time.perf_counter()
        for one in each:
            one.rehearsal.run(PESSIMISTIC)
        seconds["alone"].append(time.perf_counter() - begun)
    bars = MEMBERS * BARS
    ours, theirs = (median(one) / bars * 1e9 for one in seconds.values())
    arrays = MEMBERS * BARS * 8 * 6 / 1e6
    line(f"{MEMBERS} members together, {trades} trades", ours, "ns a bar")
    line("one after the other", theirs, "ns a bar")
    ratio("together against alone", ours, theirs, 3.0)
    line("memory, with what it reads", grown, "MB")
    ratio("that against the arrays of time, prices and signals", grown, arrays, 3.0)


if __name__ == "__main__":
    main()
