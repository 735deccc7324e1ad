"""True range and ATR by hand and by a second, plain reading of the reckoning's section 3; bars
joined."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from hawser.core.bars import Bars, joined, length_of, span_of, timeframes_for
from hawser.core.clock import DAY, HOUR, MINUTE, SECOND, TIMEFRAMES, timeframe_name
from hawser.core.indicators import atr, true_range, true_range_at, wilder_next

HIGH = np.array([10.0, 11.0, 12.0, 11.0, 13.0])
LOW = np.array([9.0, 9.5, 10.0, 9.0, 12.0])
CLOSE = np.array([9.5, 10.5, 11.5, 9.2, 12.5])


def test_true_range_by_hand():
    # bar 4 gaps up: from the close before (9.2) to its high
    assert true_range(HIGH, LOW, CLOSE).tolist() == [1.0, 1.5, 2.0, 2.5, pytest.approx(3.8)]


def test_wilder_by_hand():
    values = atr(HIGH, LOW, CLOSE, 3, False)
    assert np.isnan(values[:2]).all()
    assert values[2] == pytest.approx(1.5)
    assert values[3] == pytest.approx(1.5 + (2.5 - 1.5) / 3)
    assert values[4] == pytest.approx(values[3] + (3.8 - values[3]) / 3)


def test_simple_by_hand():
    values = atr(HIGH, LOW, CLOSE, 3, True)
    assert values[2:].tolist() == pytest.approx([1.5, 2.0, 8.3 / 3])


def test_too_short_a_history_has_no_value():
    assert np.isnan(atr(HIGH, LOW, CLOSE, 6, False)).all()
    assert atr(HIGH[:0], LOW[:0], CLOSE[:0], 3, False).size == 0


@given(arrays(np.float64, st.integers(2, 60), elements=st.floats(1, 100)), st.integers(1, 20))
def test_one_bar_at_a_time_gives_the_same(close, length):
    high, low = close + 1.0, close - 0.5
    whole = atr(high, low, close, length, False)
    value = math.nan
    for i in range(close.size):
        if i == length - 1:
            value = whole[i]
        elif i >= length:
            value = wilder_next(value, true_range_at(high[i], low[i], close[i - 1]), length)
        assert (math.isnan(value) and math.isnan(whole[i])) or value == whole[i]


def minute_bars(count: int, start: int = 0) -> Bars:
    time = np.arange(count, dtype=np.int64) * MINUTE + start
    rng = np.random.default_rng(5)
    open_ = 100 + rng.normal(size=count).cumsum()
    close = open_ + rng.normal(size=count)
    high, low = np.maximum(open_, close) + 0.5, np.minimum(open_, close) - 0.5
    return Bars(time, open_, high, low, close, np.full(count, 2.0))


def test_joined_bars_keep_first_extremes_and_last():
    bars = minute_bars(12, start=3 * MINUTE)
    five = joined(bars, 5 * MINUTE)
    assert five.time.tolist() == [0, 5 * MINUTE, 10 * MINUTE]
    assert five.open[1] == bars.open[2]
    assert five.close[1] == bars.close[6]
    assert five.high[1] == bars.high[2:7].max()
    assert five.low[1] == bars.low[2:7].min()


@given(st.integers(1, 200), st.sampled_from([5, 15, 60]))
def test_joining_loses_no_extreme(count, minutes):
    bars = minute_bars(count)
    coarse = joined(bars, minutes * MINUTE)
    assert coarse.high.max() == bars.high.max()
    assert coarse.low.min() == bars.low.min()
    assert coarse.close[-1] == bars.close[-1]
    assert (np.diff(coarse.time) > 0).all()


def test_empty_and_single_histories():
    assert joined(Bars.empty(), MINUTE).time.size == 0
    assert span_of(np.array([7], np.int64)) == MINUTE
    assert span_of(np.array([0, 60, 65, 120], np.int64)) == 5


def test_timeframes_that_can_be_made():
    five = [5 * MINUTE, *(TIMEFRAMES[name] for name in ("15m", "1h", "4h", "1d"))]
    assert timeframes_for(length_of(np.arange(0, 60 * MINUTE, 5 * MINUTE))) == five
    assert timeframes_for(length_of(np.arange(0, 60 * MINUTE, MINUTE))) == list(TIMEFRAMES.values())


def test_odd_bars_are_shown_as_they_are():
    """Weeks, bars by range, days of Zurich over a clock change, an hour that is a second late, two
    bars."""
    late = np.arange(48, dtype=np.int64) * HOUR
    late[20] += SECOND
    days = np.array(
        [f"2027-03-{day:02}T23:00" for day in range(20, 28)] + ["2027-03-28T22:00"],
        "datetime64[ns]",
    )
    ranged = np.cumsum([7, 7, 3, 400, 2, 19, 5]) * SECOND
    for times, span in (
        (np.arange(5) * 7 * DAY + 4 * DAY, 7 * DAY),
        (late, HOUR),
        (days.astype(np.int64), DAY),
        (ranged, 6 * SECOND),
        (np.array([0, 90 * SECOND]), 90 * SECOND),
    ):
        assert timeframes_for(length_of(times))[0] == span
        assert len(timeframes_for(length_of(times))) == 1 or (times % span == 0).all()


def test_names_of_timeframes():
    assert timeframe_name(15 * MINUTE) == "15m"
    assert timeframe_name(7_000_000_000) == "7s"


def test_last_and_views():
    bars = minute_bars(10)
    assert bars.last(3).time.tolist() == bars.time[7:].tolist()
    assert bars.last(50).time.size == 10
