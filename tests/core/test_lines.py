"""Indicators against plain, slow readings of the reckoning's section 3, and by hand where a figure
says more."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hawser.core import indicators as ind
from hawser.core.stop_lines import parabolic, pivots, supertrend


@st.composite
def histories(draw):
    """High, low, close of 1 to 60 bars on a coarse grid, so that ties are common."""
    closes = draw(st.lists(st.integers(80, 120), min_size=1, max_size=60))
    above = draw(st.lists(st.integers(0, 6), min_size=len(closes), max_size=len(closes)))
    below = draw(st.lists(st.integers(0, 6), min_size=len(closes), max_size=len(closes)))
    close = np.array(closes, float) / 4
    return close + np.array(above) / 4, close - np.array(below) / 4, close


def same(found, expected):
    assert len(found) == len(expected)
    for mine, right in zip(found.tolist(), expected, strict=True):
        assert (math.isnan(mine) and right is None) or mine == pytest.approx(
            right, rel=1e-12, abs=1e-12
        )


@given(histories(), st.integers(1, 9))
def test_averages_and_channels(history, n):
    high, low, close = history
    c = close.tolist()
    same(
        ind.sma(close, n),
        [sum(c[i - n + 1 : i + 1]) / n if i >= n - 1 else None for i in range(len(c))],
    )
    same(
        ind.highest(high, n),
        [max(high[i - n + 1 : i + 1]) if i >= n - 1 else None for i in range(len(c))],
    )
    same(
        ind.lowest(low, n),
        [min(low[i - n + 1 : i + 1]) if i >= n - 1 else None for i in range(len(c))],
    )
    right, value = [], None
    for i, price in enumerate(c):
        if i == n - 1:
            value = sum(c[:n]) / n
        elif value is not None:
            value = price * 2 / (n + 1) + value * (1 - 2 / (n + 1))
        right.append(value)
    same(ind.ema(close, n), right)


@given(histories(), st.integers(1, 9))
def test_relative_strength(history, n):
    close = history[2]
    moves = np.diff(close).tolist()
    right = [None] * len(close)
    if len(moves) >= n:
        gain = sum(max(move, 0) for move in moves[:n]) / n
        loss = sum(max(-move, 0) for move in moves[:n]) / n
        for i in range(n, len(close)):
            if i > n:
                gain += (max(moves[i - 1], 0) - gain) / n
                loss += (max(-moves[i - 1], 0) - loss) / n
            right[i] = (
                50
                if gain == loss == 0
                else 100
                if loss == 0
                else 0
                if gain == 0
                else 100 - 100 / (1 + gain / loss)
            )
    for mine, want in zip(ind.rsi(close, n).tolist(), right, strict=True):
        assert (math.isnan(mine) and want is None) or mine == pytest.approx(want, abs=1e-9)


def test_relative_strength_at_its_ends():
    assert ind.rsi(np.array([1.0, 2.0, 3.0]), 2)[-1] == 100
    assert ind.rsi(np.array([3.0, 2.0, 1.0]), 2)[-1] == 0
    assert ind.rsi(np.array([2.0, 2.0, 2.0]), 2)[-1] == 50


@given(histories(), st.integers(1, 6), st.sampled_from([0.5, 1.0, 3.0]), st.booleans())
def test_supertrend(history, n, k, simple):
    high, low, close = history
    ranges = ind.atr(high, low, close, n, simple).tolist()
    right, before = [], None
    for i in range(len(close)):
        if math.isnan(ranges[i]):
            right.append(None)
            continue
        mid = (high[i] + low[i]) / 2
        up, down, way = mid + k * ranges[i], mid - k * ranges[i], -1
        if before is not None:
            last_up, last_down, way = before
            up = up if up < last_up or close[i - 1] > last_up else last_up
            down = down if down > last_down or close[i - 1] < last_down else last_down
            way = 1 if close[i] > up else -1 if close[i] < down else way
        before = (up, down, way)
        right.append(down if way > 0 else up)
    same(supertrend(high, low, close, n, k, simple), right)


@given(histories(), st.sampled_from([(0.02, 0.2), (0.1, 0.1), (0.05, 0.3)]))
def test_parabolic_stop(history, rates):
    """Properties rather than a copy: it stands on one side, never inside the two bars before, and
    turns on a touch."""
    high, low, close = history
    stop, following = parabolic(high, low, close, *rates)
    assert math.isnan(stop[0])
    for i in range(2, len(close)):
        below = stop[i] <= low[i]
        assert below or stop[i] >= high[i]
        was_long = following[i - 1] <= min(low[i - 1], low[i - 2])
        touched = low[i] <= following[i - 1] if was_long else high[i] >= following[i - 1]
        if not touched:
            assert stop[i] == following[i - 1]
        else:
            assert below != was_long or stop[i] in (low[i], high[i])


def test_parabolic_by_hand():
    high = np.array([10.0, 11.0, 12.0, 12.5, 12.2])
    low = np.array([9.0, 10.0, 11.0, 11.5, 8.5])
    close = np.array([9.5, 10.8, 11.8, 12.0, 8.6])
    stop, following = parabolic(high, low, close, 0.02, 0.2)
    assert stop[1] == 9.0  # long from the start: the first low
    assert stop[2] == pytest.approx(9.0)  # 9.0 + 0.02*(11-9), held to the lows 9 and 10
    assert stop[3] == pytest.approx(9.0 + 0.04 * 3.0)
    assert stop[4] == 12.5  # touched: the old extreme, above the highs of bars 3 and 4
    assert following[4] == 12.5  # 12.42 would lie inside bar 3


def test_long_and_short_parabolic_mirror():
    rng = np.random.default_rng(4)
    close = 100 + rng.normal(size=300).cumsum()
    high, low = close + 0.7, close - 0.4
    up = parabolic(high, low, close, 0.02, 0.2)[0]
    down = parabolic(200 - low, 200 - high, 200 - close, 0.02, 0.2)[0]
    assert np.allclose(200 - down[1:], up[1:])


def test_pivots_are_known_only_when_they_are():
    low = np.array([5.0, 4.0, 3.0, 4.0, 5.0, 5.0, 2.0, 2.0, 6.0, 7.0])
    found = pivots(low, 2, 2, 1)
    assert np.isnan(found[:4]).all()
    assert found[4:].tolist() == [3.0] * 6  # bars 6 and 7 are equal: neither is strictly below
    assert pivots(-low, 2, 2, -1)[4] == -3.0
    assert pivots(low, 1, 0, 1)[1:].tolist() == [4.0, 3.0, 3.0, 3.0, 3.0, 2.0, 2.0, 2.0, 2.0]
