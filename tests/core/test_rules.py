"""Stops, targets and moving stops: hand-worked figures and properties (reckoning sections 4, 6,
7)."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hawser.core.rules import inside_bar, moving, stops, targets
from hawser.core.rules.kinds import Kind
from hawser.core.rules.rounding import level_ticks

SIDES = st.sampled_from([1, -1])
TICKS = st.integers(1_000, 200_000)


@pytest.mark.parametrize(
    ("kind", "value", "side", "level"),
    [
        (Kind.ATR, 2.5, 1, 61242 - 363),  # 145 ticks of ATR: 362.5 away, rounded down to 60879
        (Kind.ATR, 2.5, -1, 61242 + 363),
        (Kind.PERCENT, 1.0, 1, 60629),  # 60629.58
        (Kind.PERCENT, 1.0, -1, 61855),  # 61854.42
        (Kind.TICKS, 46, 1, 61196),
        (Kind.TICKS, 46.5, -1, 61289),
        (Kind.PRICE, 60000.4, 1, 60000),
        (Kind.PRICE, 62000.4, -1, 62001),
    ],
)
def test_initial_stops_by_hand(kind, value, side, level):
    assert stops.stop_level(int(kind), value, 61242.0, 145.0, side) == level


def test_the_order_of_a_stop_s_refusals():
    assert stops.stop_verdict(0, 100, 99, 1, 5) == stops.STOP_NOT_POSITIVE
    assert stops.stop_verdict(100, 100, 99, 1, 5) == stops.STOP_WRONG_SIDE
    assert stops.stop_verdict(95, 100, 99, 1, 5) == stops.STOP_TOO_NEAR
    assert stops.stop_verdict(94, 100, 99, 1, 5) == stops.STOP_OK
    assert stops.stop_verdict(106, 100, 101, -1, 5) == stops.STOP_OK
    assert stops.stop_verdict(99, 100, 99, 1, 0) == stops.STOP_TOO_NEAR  # at least one tick


@given(
    st.sampled_from([Kind.ATR, Kind.PERCENT, Kind.TICKS]),
    st.floats(0.1, 20),
    TICKS,
    st.floats(1, 500),
    SIDES,
)
def test_a_rounded_stop_is_never_nearer_than_asked(kind, value, ref, atr, side):
    exact = {
        Kind.ATR: value * atr,
        Kind.PERCENT: ref * value / 100,
        Kind.TICKS: value,
    }[kind]
    level = stops.stop_level(int(kind), value, float(ref), atr, side)
    assert side * (ref - level) >= exact - 1e-5
    assert side * (ref - level) < exact + 1.001


@pytest.mark.parametrize(
    ("kind", "value", "side", "level"),
    [
        (Kind.R, 1.5, 1, 1000 + 151 - 1),  # 150.0 of R 100
        (Kind.R, 0.333, 1, 1033),
        (Kind.R, 0.333, -1, 967),  # 966.7 rounded up: nearer, never farther
        (Kind.ATR, 2.0, 1, 1061),
        (Kind.PERCENT, 1.0, -1, 990),
        (Kind.TICKS, 46.0, -1, 954),
        (Kind.PRICE, 1100.6, 1, 1100),
        (Kind.PRICE, 899.4, -1, 900),
    ],
)
def test_targets_by_hand(kind, value, side, level):
    assert targets.target_level(int(kind), value, 1000.0, 100.0, 30.5, side) == level


@given(
    st.sampled_from([Kind.R, Kind.ATR, Kind.TICKS]),
    st.floats(0.1, 9),
    TICKS,
    st.integers(10, 900),
    SIDES,
)
def test_a_rounded_target_is_never_farther_than_asked(kind, value, ref, r_ticks, side):
    exact = value * {Kind.R: r_ticks, Kind.ATR: 77.7, Kind.TICKS: 1.0}[kind]
    level = targets.target_level(int(kind), value, float(ref), float(r_ticks), 77.7, side)
    assert side * (level - ref) <= exact + 1e-5


@given(st.lists(st.floats(0.01, 0.5), min_size=1, max_size=5), st.integers(1, 10_000))
def test_targets_together_never_take_more_than_there_is(shares, steps):
    total, taken = 0.0, 0
    for share in shares:
        total += share
        if total > 1:
            break
        through = targets.steps_through(total, steps)
        assert taken <= through <= steps
        taken = through


def test_shares_that_add_up_take_all():
    assert targets.steps_through(0.4 + 0.3 + 0.3, 7) == 7
    assert targets.steps_through(0.1 + 0.2, 10) == 3


def test_trail_by_hand():
    assert (
        level_ticks(61545.0 - inside_bar.trail_distance(61545.0, int(Kind.ATR), 3.0, 0.0, 145.0), 1)
        == 61110
    )
    assert (
        level_ticks(
            61545.0 + inside_bar.trail_distance(61545.0, int(Kind.ATR), 3.0, 10.0, 145.5), -1
        )
        == 61992
    )
    assert moving.counted(61110, 61100, 10, 1)
    assert not moving.counted(61109, 61100, 10, 1)
    assert not moving.counted(61100, 61100, 0, 1)


def test_a_candidate_near_the_market_is_held_back_and_one_beyond_is_not_sent():
    assert moving.sendable(95, 80, 100, 10, 1) == 90
    assert moving.sendable(90, 80, 100, 10, 1) == 90
    assert moving.sendable(100, 80, 100, 10, 1) == moving.NO_MOVE
    assert moving.sendable(101, 80, 100, 10, 1) == moving.NO_MOVE
    assert moving.sendable(95, 90, 100, 10, 1) == moving.NO_MOVE  # held back to where it is
    assert moving.sendable(105, 120, 100, 10, -1) == 110


@given(TICKS, TICKS, TICKS, st.integers(0, 60), SIDES)
def test_automation_never_loosens(candidate, stop, market, least, side):
    level = moving.sendable(candidate, stop, market, least, side)
    if level != moving.NO_MOVE:
        assert side * (level - stop) >= 1
        assert side * (market - level) >= max(1, least)
        assert side * (candidate - level) >= 0


@given(TICKS, TICKS, TICKS, st.integers(0, 60))
def test_moving_mirrors(candidate, stop, market, least):
    top = 300_000
    there = moving.sendable(top - candidate, top - stop, top - market, least, -1)
    here = moving.sendable(candidate, stop, market, least, 1)
    assert (here == moving.NO_MOVE and there == moving.NO_MOVE) or there == top - here


@given(st.lists(TICKS, min_size=1), SIDES)
def test_the_best_exit_is_the_extreme(prices, side):
    best = prices[0]
    for price in prices[1:]:
        best = moving.better_exit(best, price, side)
    assert best == (max(prices) if side > 0 else min(prices))


@pytest.mark.parametrize(
    ("side", "offset", "covers", "level"),
    [
        (1, 1.5, False, 1001),  # like any level: down for a long, up for a short
        (-1, 1.5, False, 999),
        (1, 1.5, True, 1002),  # what covers costs is the one that is rounded the other way
        (-1, 1.5, True, 998),
        (1, 3.0, False, 1003),
        (-1, 3.0, True, 997),
    ],
)
def test_break_even_is_rounded_to_the_profitable_side_only_where_it_covers_costs(
    side, offset, covers, level
):
    assert inside_bar.break_even_at(1000, side, offset, covers) == level
