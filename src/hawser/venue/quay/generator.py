"""Quay's own market: seeded, the same every time, made a day at a time.

Volatility comes in clusters (a first-order autoregression of its logarithm), breathes with the
hour, and drifts with slow regimes; spreads widen at the roll-over and in passing squalls; prices
jump where a session opens. History and live ticks are cut from the same days, so a chart has no
seam.
"""

from __future__ import annotations

import heapq
import math
from typing import NamedTuple

import msgspec
import numpy as np

from hawser.core.bars import Bars
from hawser.core.clock import DAY, MINUTE
from hawser.core.hours import next_change, open_intervals
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.venue.quay import feed as fd

TICKS_A_MINUTE = 12
MINUTES = 1440


class Character(msgspec.Struct, frozen=True):
    """How a generated instrument moves. `minute_vol`: deviation of one minute's return; spread in
    ticks."""

    start_price: float
    minute_vol: float
    spread_ticks: float
    of: str = ""  # an option: the symbol it is on
    strike: float = 0.0
    life: float = 0.0  # how gently the premium bends at the strike, price units


class Day(NamedTuple):
    """One generated day: ticks of shape (open minutes, TICKS_A_MINUTE), prices in ticks, time UTC
    ns."""

    minutes: Array  # opening time of each open minute
    time: Array
    bid: Array
    ask: Array
    mid: Array  # price units, all 1440 minutes, for options on it
    last_price: float
    last_logvol: float


def _open_minutes(instrument: Instrument, day: int) -> Array:
    starts = day * DAY + np.arange(MINUTES, dtype=np.int64) * MINUTE
    mask = np.zeros(MINUTES, bool)
    for opens, closes in open_intervals(instrument.sessions, day):
        mask |= (starts >= opens) & (starts < closes)
    return mask


def _path(
    rng: np.random.Generator, character: Character, price: float, logvol: float
) -> tuple[Array, float]:
    """Mid prices (MINUTES, TICKS_A_MINUTE) and the log-volatility at the day's end."""
    shocks = rng.standard_normal(MINUTES)
    log_vols = np.empty(MINUTES)
    for i in range(MINUTES):
        logvol = 0.985 * logvol + 0.09 * shocks[i]
        log_vols[i] = logvol
    hour = np.arange(MINUTES) / 60.0
    breath = (
        0.55
        + 0.75 * np.exp(-(((hour - 8.5) / 2.2) ** 2))
        + 0.85 * np.exp(-(((hour - 14.2) / 2.0) ** 2))
    )
    vol = character.minute_vol * np.exp(log_vols) * breath
    swing = np.repeat(rng.standard_normal(MINUTES // 90), 90) * 0.03 * vol
    draws = rng.standard_normal((MINUTES, TICKS_A_MINUTE))
    steps = draws * (vol / math.sqrt(TICKS_A_MINUTE))[:, None] + (swing / TICKS_A_MINUTE)[:, None]
    jumps = rng.standard_normal(MINUTES) * (rng.random(MINUTES) < 0.0008) * vol * 7.0
    steps[:, 0] += jumps
    return price * np.exp(np.cumsum(steps.ravel())).reshape(MINUTES, TICKS_A_MINUTE), logvol


def _spreads(rng: np.random.Generator, character: Character) -> Array:
    """Spread in ticks, (MINUTES, TICKS_A_MINUTE), at least 1."""
    minute = np.arange(MINUTES)
    wide = np.where((minute >= 1315) & (minute < 1335), 4.0, 1.0)
    for at in np.flatnonzero(rng.random(MINUTES) < 0.002):
        wide[at : at + int(rng.integers(2, 6))] *= 2.6
    noise = 1.0 + 0.22 * np.abs(rng.standard_normal((MINUTES, TICKS_A_MINUTE)))
    return np.maximum(1, np.round(character.spread_ticks * wide[:, None] * noise)).astype(np.int64)


class Stream:
    """One instrument's days, made on demand and in order."""

    def __init__(
        self, instrument: Instrument, character: Character, seed: int, index: int, first_day: int
    ) -> None:
        self.instrument, self.character, self._seed, self._index = (
            instrument,
            character,
            seed,
            index,
        )
        self._day = first_day
        self._price, self._logvol = character.start_price, 0.0
        self.base: Stream | None = None
        self.days: dict[int, Day] = {}

    def day(self, number: int) -> Day:
        while self._day <= number:
            made = self._make(self._day)
            self._price, self._logvol = made.last_price, made.last_logvol
            self.days[self._day] = made
            self._day += 1
        return self.days[number]

    def _make(self, number: int) -> Day:
        rng = np.random.Generator(
            np.random.Philox(key=[self._seed, self._index * 1_000_000 + number])
        )
        mask = _open_minutes(self.instrument, number)
        if self.base is not None:
            under = self.base.day(number).mid
            life, strike = self.character.life, self.character.strike
            mid = np.logaddexp(0.0, (under - strike) / life) * life
            last, logvol = self.character.start_price, 0.0
        elif mask.any():
            price = self._price * math.exp(rng.standard_normal() * self.character.minute_vol * 9.0)
            mid, logvol = _path(rng, self.character, price, self._logvol)
            last = float(mid[-1, -1])
        else:
            mid = np.full((MINUTES, TICKS_A_MINUTE), self._price)
            last = self._price
            logvol = self._logvol
        spread = _spreads(rng, self.character)
        bid = np.maximum(1, np.round(mid / self.instrument.tick_size - spread / 2)).astype(np.int64)
        starts = number * DAY + np.arange(MINUTES, dtype=np.int64) * MINUTE
        within = (np.arange(TICKS_A_MINUTE) + rng.random((MINUTES, TICKS_A_MINUTE)) * 0.9) * (
            MINUTE / TICKS_A_MINUTE
        )
        time = starts[:, None] + within.astype(np.int64)
        return Day(
            minutes=starts[mask],
            time=time[mask],
            bid=bid[mask],
            ask=(bid + spread)[mask],
            mid=mid,
            last_price=last,
            last_logvol=logvol,
        )

    def bars(self, first: int, now: int) -> Bars:
        """Completed minute bars from day `first` up to `now`."""
        parts = [self.day(number) for number in range(first, now // DAY + 1)]
        minutes = np.concatenate([part.minutes for part in parts])
        done = minutes + MINUTE <= now
        bid = np.concatenate([part.bid for part in parts])[done] * self.instrument.tick_size
        ask = np.concatenate([part.ask for part in parts])[done] * self.instrument.tick_size
        spread = np.round((ask - bid)[:, -1] / self.instrument.tick_size)
        digits = self.instrument.price_digits
        open_, high, low, close = (
            np.round(column, digits)
            for column in (bid[:, 0], bid.max(axis=1), bid.min(axis=1), bid[:, -1])
        )
        return Bars(time=minutes[done], open=open_, high=high, low=low, close=close, spread=spread)


class GeneratedFeed:
    """Implements `feed.Feed` for a list of generated instruments and side rates that wander a
    little."""

    base_span = MINUTE

    def __init__(
        self,
        characters: list[tuple[Instrument, Character]],
        rates: dict[str, float],
        seed: int,
        start: int,
        history_days: int,
    ) -> None:
        self.start, self._seed, self._rates = start, seed, rates
        self._first_day = start // DAY - history_days
        self.instruments = {instrument.symbol: instrument for instrument, _ in characters}
        self._streams = {
            instrument.symbol: Stream(instrument, character, seed, index, self._first_day)
            for index, (instrument, character) in enumerate(characters)
        }
        for stream in self._streams.values():
            if stream.character.of:
                stream.base = self._streams[stream.character.of]
        self._heap: list[tuple[int, int, fd.FeedItem]] = []
        self._serial = 0
        self._minute = 0

    def history(self, symbol: str) -> Bars:
        return self._streams[symbol].bars(self._first_day, self._now)

    def seek(self, now: int) -> None:
        self._now = now
        self._heap.clear()
        for symbol, instrument in self.instruments.items():
            intervals = open_intervals(instrument.sessions, now // DAY)
            is_open = any(opens <= now < closes for opens, closes in intervals)
            self._push(fd.Hours(now, symbol, is_open, next_change(instrument.sessions, now)))
            self._last_tick(symbol, now)
        self._minute = now - now % MINUTE
        for pair, mid in self._rates.items():
            self._push(fd.FeedRate(now, pair, self._rate(pair, mid, self._minute)))
        self._fill_minute(after=now)

    def next_time(self) -> int:
        while not self._heap:
            self._fill_minute(after=-1)
        return self._heap[0][0]

    def pop(self) -> fd.FeedItem:
        self.next_time()
        time, _, item = heapq.heappop(self._heap)
        self._now = time
        return item

    def _push(self, item: fd.FeedItem) -> None:
        self._serial += 1
        heapq.heappush(self._heap, (item.time, self._serial, item))

    def _last_tick(self, symbol: str, now: int) -> None:
        """The quote that stands at `now`, from the last open minute before it."""
        stream = self._streams[symbol]
        for number in range(now // DAY, self._first_day - 1, -1):
            day = stream.day(number)
            before = np.flatnonzero(day.time.ravel() <= now)
            if before.size:
                at = before[-1]
                self._push(fd.Tick(now, symbol, int(day.bid.ravel()[at]), int(day.ask.ravel()[at])))
                return

    def _rate(self, pair: str, mid: float, minute: int) -> float:
        """A side rate: its mean with two slow waves; a function of time alone."""
        phase = sum(map(ord, pair))
        hours = minute / (60 * MINUTE)
        return mid * (
            1 + 0.0012 * math.sin(hours / 3.1 + phase) + 0.0006 * math.sin(hours * 1.7 + phase)
        )

    def _fill_minute(self, after: int) -> None:
        """Queue everything of the present minute, then step to the next."""
        start, end = self._minute, self._minute + MINUTE
        for symbol, stream in self._streams.items():
            sessions = self.instruments[symbol].sessions
            day = stream.day(start // DAY)
            self._drop_old_days(stream, start // DAY)
            at = int(np.searchsorted(day.minutes, start))
            if at < day.minutes.size and day.minutes[at] == start:
                self._queue_ticks(symbol, day, at, after)
            changes = sessions and next_change(sessions, start - 1)
            if changes and start <= changes < end and changes > after:
                now_open = any(
                    a <= changes < b for a, b in open_intervals(sessions, changes // DAY)
                )
                self._push(fd.Hours(changes, symbol, now_open, next_change(sessions, changes)))
        for pair, mid in self._rates.items():
            if start > after:
                self._push(fd.FeedRate(start, pair, self._rate(pair, mid, start)))
        self._minute = end

    def _queue_ticks(self, symbol: str, day: Day, at: int, after: int) -> None:
        start = int(day.minutes[at])
        bids, asks = day.bid[at].tolist(), day.ask[at].tolist()
        for time, bid, ask in zip(day.time[at].tolist(), bids, asks, strict=True):
            if time > after:
                self._push(fd.Tick(time, symbol, bid, ask))
        spread = float(asks[-1] - bids[-1])
        self._push(
            fd.BarDone(
                time=start + MINUTE,
                symbol=symbol,
                opened=start,
                open=bids[0],
                high=max(bids),
                low=min(bids),
                close=bids[-1],
                spread=spread,
            )
        )

    @staticmethod
    def _drop_old_days(stream: Stream, today: int) -> None:
        """The past has been handed out as history: keep two days."""
        for number in [number for number in stream.days if number < today - 1]:
            if len(stream.days) > 40:
                del stream.days[number]
