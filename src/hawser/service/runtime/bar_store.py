"""Price history in memory: base bars as they complete, joined timeframes with their ATR, and the
bar being made."""

from __future__ import annotations

import math

import numpy as np

from hawser.core.bars import Bars, GrowingColumns, Length, joined, timeframes_for
from hawser.core.indicators import atr, true_range_at, wilder_next
from hawser.core.instrument import MOST_TICKS, Instrument
from hawser.engine import events as ev
from hawser.venue import port

ATR_LENGTH = 14


class Series:
    """One timeframe of one instrument: completed bars, and the ATR of the last."""

    def __init__(self, span: int, bars: Bars) -> None:
        self.span = span
        self._held = GrowingColumns(bars)
        self.atr = math.nan
        if self.size:
            self.atr = float(atr(bars.high, bars.low, bars.close, ATR_LENGTH, False)[-1])
        self.building: list[float] | None = None  # opened, open, high, low, close, spread

    @property
    def size(self) -> int:
        return self._held.size

    def bars(self) -> Bars:
        """Completed bars, read-only; another thread may keep them."""
        return Bars._make(self._held.columns())

    def since(self, time: int) -> int:
        """How many completed bars end after `time`."""
        opened = self.bars().time
        return self.size - int(np.searchsorted(opened, time - self.span, side="right"))

    def best_since(self, time: int, side: int, tick: float) -> float:
        """The best exit-side price of the completed bars that opened at `time` or later, price
        units; NaN where that is the last one's."""
        bars = self.bars()
        later = bars.last(self.size - int(np.searchsorted(bars.time, time)))
        if later.time.size < 2:
            return math.nan
        return float(later.high.max() if side > 0 else (later.low + later.spread * tick).min())

    @property
    def last_opened(self) -> int:
        """When the last completed bar opened."""
        return int(self.bars().time[-1])

    def last_prices(self) -> list[float]:
        """Open, high, low, close and spread of the last completed bar."""
        return [float(column[-1]) for column in self.bars()[1:]]

    def append(
        self, opened: int, open_: float, high: float, low: float, close: float, spread: float
    ) -> None:
        """A completed bar."""
        if self.size and opened <= self.last_opened:
            return
        previous = self.last_prices()[3] if self.size else math.nan
        self._held.append((opened, open_, high, low, close, spread))
        if math.isnan(self.atr):
            if self.size >= ATR_LENGTH:
                bars = self.bars()
                self.atr = float(atr(bars.high, bars.low, bars.close, ATR_LENGTH, False)[-1])
        else:
            self.atr = wilder_next(self.atr, true_range_at(high, low, previous), ATR_LENGTH)


class BarStore:
    """All series of one instrument, fed with its base bars."""

    def __init__(self, instrument: Instrument, base_span: int, history: Bars) -> None:
        self.instrument, self.base_span = instrument, base_span
        self.even = bool((history.time % base_span == 0).all())
        self._forming: list[float] | None = None
        # the bar that is being made
        self._begun = int(history.time[-1]) + base_span if history.time.size else 0
        self.series: dict[int, Series] = {}
        for span in timeframes_for(Length(base_span, self.even)):
            bars = history if span == base_span else joined(history, span)
            series = Series(span, bars)
            if (
                span != base_span
                and bars.time.size
                and bars.time[-1] + span > int(history.time[-1]) + base_span
            ):
                series = self._unfinished(span, bars)
            self.series[span] = series

    @staticmethod
    def _unfinished(span: int, bars: Bars) -> Series:
        """The last joined bar is still being made."""
        series = Series(span, bars.mapped(lambda column: column[:-1]))
        series.building = [float(column[-1]) for column in bars]
        series.building[0] = int(bars.time[-1])
        return series

    def quote(self, time: int, bid: float, spread: float) -> None:
        """A quote: the unfinished base bar follows it."""
        start, part = time - time % self.base_span if self.even else self._begun, self._forming
        if part is not None and start < part[0] <= time + self.base_span:
            start = int(part[0])  # one that is told late belongs to the bar that is being made
        if part is None or part[0] != start:
            self._forming = [start, bid, bid, bid, bid, spread]
        else:
            part[2], part[3], part[4], part[5] = max(part[2], bid), min(part[3], bid), bid, spread

    def forming(self, span: int) -> tuple[float, ...] | None:
        """The unfinished bar of a timeframe: opened, open, high, low, close, spread; None before
        its first quote."""
        part, series = self._forming, self.series[span]
        if part is None or (
            series.size and part[0] <= series.last_opened and span == self.base_span
        ):
            return None
        start = int(part[0]) - int(part[0]) % span if span != self.base_span else int(part[0])
        building = series.building
        if span == self.base_span or building is None or building[0] != start:
            return (start, *part[1:])
        high, low = max(building[2], part[2]), min(building[3], part[3])
        return (start, building[1], high, low, part[4], part[5])

    def seeds(self, now: int) -> list[ev.BarCompleted]:
        """The last completed bar of every timeframe, so that the engine knows each ATR."""
        return [self._event(series, now) for series in self.series.values() if series.size]

    def _check(self, message: port.BarTold, prices: list[float]) -> None:
        """A bar that cannot be would stay in every average, or keep all later ones out."""
        most = MOST_TICKS * self.instrument.tick_size
        possible = (
            all(0 < price <= most for price in prices)
            and prices[2] <= min(prices)
            and max(prices) <= prices[1]
        )
        if not (
            possible
            and (not message.low_ask or prices[2] <= float(message.low_ask) <= most)
            and 0 <= message.spread <= MOST_TICKS
            and 0 <= message.opened <= message.time
        ):
            raise ValueError("no bar can be so")

    def take(self, message: port.BarTold, now: int) -> list[ev.BarCompleted]:
        """A completed base bar: the events of every timeframe that it completes. Raises ValueError
        where no bar can be so."""
        prices = [float(text) for text in (message.open, message.high, message.low, message.close)]
        self._check(message, prices)
        found, base = [], self.series[self.base_span]
        before = base.size
        base.append(message.opened, *[*prices, message.spread])
        self._begun = max(message.time, message.opened)
        if base.size > before:
            found.append(self._event(base, now, float(message.low_ask or 0)))
        for span, series in self.series.items():
            joins = span != self.base_span and message.opened % self.base_span == 0
            if joins and self._joined_in(series, span, message.opened, prices, message.spread):
                found.append(self._event(series, now))
        return found

    def _joined_in(
        self, series: Series, span: int, opened: int, prices: list[float], spread: float
    ) -> bool:
        before = series.size
        start = opened - opened % span
        building = series.building
        if building is not None and building[0] != start:  # a gap ended the last one early
            series.append(int(building[0]), *building[1:])
            building = None
        if building is None:
            building = [start, *prices, spread]
        else:
            building[2], building[3] = max(building[2], prices[1]), min(building[3], prices[2])
            building[4], building[5] = prices[3], spread
        series.building = building
        if opened + self.base_span >= start + span:
            series.append(int(building[0]), *building[1:])
            series.building = None
        return series.size > before

    def _event(self, series: Series, now: int, low_ask: float = 0.0) -> ev.BarCompleted:
        last, opened = series.last_prices(), series.last_opened
        return ev.BarCompleted(
            time=now,
            symbol=self.instrument.symbol,
            span=series.span,
            opened=opened,
            open=last[0],
            high=last[1],
            low=last[2],
            close=last[3],
            spread=last[4],
            atr=series.atr,
            base=series.span == self.base_span,
            low_ask=low_ask,
        )
