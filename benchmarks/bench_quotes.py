"""A quote's way from the venue's message to the engine's commands: 20 instruments at 200 quotes a
second each, 50 open trailed trades, with the window open. Nothing may be conflated, and the Qt
thread may not stand still.

The references are a bare hand-over between two threads of the same process at the same rate, and,
for the gaps, a process beside it that does nothing but wake every millisecond: what it misses, the
machine took from everybody.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import threading
import time
from collections import deque
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from PyQt6.QtCore import QEventLoop, QTimer

from figures import line, median, percentile, ratio
from hawser.core.account import Account, Policy, SizeRule
from hawser.core.bars import Bars
from hawser.core.clock import MINUTE, SECOND
from hawser.core.instrument import Commission, Instrument
from hawser.core.levels import StopRule
from hawser.core.plan import Plan
from hawser.core.rig import Trail
from hawser.desk.app.start import application, make_window
from hawser.desk.app.window import Window
from hawser.engine import events as ev
from hawser.ledger.ledger import Ledger
from hawser.service.profiles.profile import Profile, profile
from hawser.service.runtime import venue_thread
from hawser.service.runtime.hooks import Boot
from hawser.service.runtime.session import Session
from hawser.venue import port
from hawser.venue.quay import feed as fd
from hawser.venue.quay.quay import Quay
from hawser.venue.quay.weather import SEVERITIES

INSTRUMENTS, RATE, TRADES = 20, 200, 50
SECONDS = 20
START = 1_930_435_200 * SECOND


class Busy:
    """A feed of `INSTRUMENTS` wandering quotes, `RATE` a second each, after a short history."""

    base_span = MINUTE
    start = START

    def __init__(self) -> None:
        self.instruments = {
            f"Busy {n}": Instrument(
                symbol=f"Busy {n}",
                kind="index",
                quote="CHF",
                tick=Decimal("0.1"),
                multiplier=1.0,
                qty_step=Decimal(1),
                qty_min=Decimal(1),
                qty_max=Decimal(1_000_000),
                margin_rate=0.001,
                min_stop_ticks=2,
                commission=Commission(),
            )
            for n in range(INSTRUMENTS)
        }
        self._rng = np.random.default_rng(1)
        self._bids = dict.fromkeys(self.instruments, 50_000)
        self._names = list(self.instruments)
        self._number = 0
        self._gap = SECOND // (RATE * INSTRUMENTS)
        self._queue: deque[fd.FeedItem] = deque()

    def seek(self, now: int) -> None:
        self._at = now
        for name, bid in self._bids.items():
            self._queue.append(fd.Hours(now, name, True, 0))
            self._queue.append(fd.Tick(now, name, bid, bid + 3))

    def history(self, symbol: str) -> Bars:
        count = 60
        time_ = START - np.arange(count, 0, -1, dtype=np.int64) * MINUTE
        flat = np.full(count, 5000.0)
        return Bars(time_, flat, flat + 20, flat - 20, flat, np.full(count, 3.0))

    def next_time(self) -> int:
        return self._queue[0].time if self._queue else self._at + self._gap

    def pop(self) -> fd.FeedItem:
        if self._queue:
            return self._queue.popleft()
        self._at += self._gap
        name = self._names[self._number % INSTRUMENTS]
        self._number += 1
        bid = self._bids[name] = self._bids[name] + int(self._rng.integers(-2, 3))
        return fd.Tick(self._at, name, bid, bid + 3)


def prepare(session: Session) -> None:
    """Open the trades before the clock runs."""
    session.run_until(session.venue.now + SECOND)
    names = list(session.venue.instruments)
    for number in range(TRADES):
        plan = Plan(
            symbol=names[number % INSTRUMENTS],
            side=1 if number % 2 else -1,
            size=SizeRule(percent=0.1),
            stop=StopRule(atr=9.0),
            trail=Trail(atr=9.0),
            timeframe_ns=MINUTE,
        )
        session.ask(ev.PlaceTrade(time=session.venue.now, ask_id=f"b{number}", plan=plan))
        session.run_until(session.venue.now + SECOND)


def boot(where: Profile) -> Boot:
    account = Account(
        currency="CHF", equity=1e6, balance=1e6, policy=Policy(exposed_deadline_s=5.0)
    )
    venue = Quay(Busy(), "CHF", 1e6, {}, SEVERITIES["calm"])
    return Boot(account, venue, Ledger(where.ledger), prepare=prepare, prefix="B")


def hand_over(count: int, gap: float) -> list[float]:
    """Seconds from one thread's append to another's pop, through a lock and a condition."""
    inbox, found = venue_thread.Inbox(), []
    message = port.Accepted(time=0, id="x")

    def read() -> None:
        while len(found) < count:
            item = inbox.take()
            if item is None:
                inbox.wait(0.01)
            else:
                found.append(time.perf_counter_ns() - item[0])

    reader = threading.Thread(target=read)
    reader.start()
    for _ in range(count):
        inbox.put(time.perf_counter_ns(), message)
        time.sleep(gap)
    reader.join()
    return [value / 1e9 for value in found]


SLEEPER = """
import sys, time
last, worst, end = time.perf_counter(), 0.0, time.perf_counter() + float(sys.argv[1])
while last < end:
    time.sleep(0.001)
    now = time.perf_counter()
    worst, last = max(worst, now - last), now
print(worst)
"""


class Stopwatch:
    """Notes when a quote is put into the inbox and when the engine has taken it."""

    def __init__(self) -> None:
        self.delays: list[float] = []
        self.sleeper: subprocess.Popen[str] | None = None
        self._sent: dict[int, int] = {}
        put, take, watch = venue_thread.Inbox.put, Session.message, self

        def noted(inbox: venue_thread.Inbox, at: int, message: port.VenueMessage) -> None:
            watch._sent[id(message)] = time.perf_counter_ns()
            put(inbox, at, message)

        def taken(session: Session, told: port.VenueMessage, now: int) -> None:
            take(session, told, now)
            if isinstance(told, port.QuoteTold) and (at := watch._sent.pop(id(told), 0)):
                watch.delays.append((time.perf_counter_ns() - at) / 1e9)

        venue_thread.Inbox.put, Session.message = noted, taken  # type: ignore[method-assign]


def turn_until(done: Callable[[], bool], every_ms: int) -> None:
    """Run the event loop, asking `done` every so often."""
    loop, timer = QEventLoop(), QTimer()
    timer.timeout.connect(lambda: loop.quit() if done() else None)
    timer.start(every_ms)
    loop.exec()
    timer.stop()


def measured(window: Window, watch: Stopwatch) -> tuple[float, list[float]]:
    """Seconds measured, and the gaps between turns of the Qt thread, seconds."""
    turn_until(
        lambda: window.latest is not None and window.latest.link_up and not window.latest.closed,
        100,
    )
    settled = time.perf_counter() + 2.0
    turn_until(lambda: time.perf_counter() > settled, 100)
    watch.delays.clear()
    gaps: list[float] = []
    watch.sleeper = subprocess.Popen(
        [sys.executable, "-c", SLEEPER, str(SECONDS)], stdout=subprocess.PIPE, text=True
    )
    begun = last = time.perf_counter()

    def beat() -> bool:
        nonlocal last
        now = time.perf_counter()
        gaps.append(now - last)
        last = now
        return now - begun > SECONDS

    turn_until(beat, 1)
    return time.perf_counter() - begun, gaps


def main() -> int:
    reference = hand_over(8_000, 1 / (RATE * INSTRUMENTS))
    app, watch = application(), Stopwatch()
    with tempfile.TemporaryDirectory() as root:
        window = make_window(profile("busy", Path(root)), boot, "busy", 1.0)
        window.resize(1280, 800)
        window.show()
        window.runtime.start()
        elapsed, gaps = measured(window, watch)
        joined, delays = window.runtime.link.inbox.joined, list(watch.delays)
        held = sum(trade.open_steps > 0 for trade in window.latest.trades)
        window.close()
    app.processEvents()
    print(
        f"A quote's way, {INSTRUMENTS} instruments at {RATE} quotes a second, {held} open "
        "trailed trades"
    )
    line("quotes a second taken", len(delays) / elapsed, "1/s")
    line("quotes conflated", float(joined), "")
    line("bare hand-over between threads, median", median(reference) * 1e6, "us")
    line("message to commands, median", median(delays) * 1e6, "us")
    line("message to commands, 99th percentile", percentile(delays, 0.99) * 1e6, "us")
    line("Qt thread: 99th percentile gap", percentile(gaps, 0.99) * 1e3, "ms")
    line("Qt thread: longest gap", max(gaps) * 1e3, "ms")
    assert watch.sleeper is not None
    line(
        "a process that only sleeps: longest gap",
        float(watch.sleeper.communicate()[0]) * 1e3,
        "ms",
    )
    kept = ratio("longest gap of the Qt thread / 50 ms", max(gaps), 0.05, 1.0)
    kept &= ratio(
        "quotes due / quotes taken", RATE * INSTRUMENTS * elapsed, float(len(delays)), 1.05
    )
    ratio(
        "message to commands / bare hand-over, median",
        median(delays),
        median(reference),
        float("inf"),
    )
    return 0 if kept and not joined and held >= TRADES else 1


if __name__ == "__main__":
    sys.exit(main())
