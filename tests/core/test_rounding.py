"""Whole numbers despite float noise, the rounding of levels, decimals at the boundary (reckoning
section 1)."""

from decimal import Decimal
from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hawser.core.decimals import DecimalGrid, digits_of, exact_units, of_text, to_units, write_units
from hawser.core.rules.rounding import ceil_whole, floor_steps, floor_whole, level_ticks
from madeup import pair


def test_noise_counts_as_whole():
    assert 0.3 / 0.1 < 3
    assert floor_whole(0.3 / 0.1) == 3
    assert ceil_whole(0.1 * 3 / 0.1) == 3
    assert floor_whole(2.9999) == 2
    assert ceil_whole(3.0001) == 4


@pytest.mark.parametrize(
    ("x", "whole"),
    [
        (1e6 + 0.9e-6, 1_000_000),
        (1e6 - 0.9e-6, 1_000_000),  # within 1e-6, the most that is ever forgiven
        (1e6 - 2e-6, 999_999),
        (5 - 4e-9, 5),
        (5 - 6e-9, 4),
        (0.0, 0),
        (-0.5e-9, 0),
        (-1.5, -2),
    ],
)
def test_allowance_is_bounded(x, whole):
    assert floor_whole(x) == whole


@given(st.integers(1, 100), st.integers(0, 10**12))
def test_a_share_of_any_quantity_is_what_it_is_in_fractions(percent, steps):
    assert floor_steps(percent / 100 * steps) == percent * steps // 100


def test_of_steps_too_little_is_forgiven_to_make_a_whole_of_a_part():
    assert floor_steps(0.35 * 90_000_000_000) == 31_500_000_000  # in floats 4e-6 below it
    assert [floor_steps(x) for x in (2.9999, 5 - 4e-9, 5 - 6e-9, 1e6 - 2e-6, 1e9 - 1e-5)] == [
        2,
        5,
        4,
        999_999,
        999_999_999,
    ]


def test_levels_round_away_from_the_position():
    assert level_ticks(100.7, 1) == 100
    assert level_ticks(100.2, -1) == 101
    assert level_ticks(100.0, 1) == level_ticks(100.0, -1) == 100


@given(st.integers(-(10**9), 10**9), st.sampled_from([1, -1]))
def test_levels_mirror(tenths, side):
    assert level_ticks(tenths / 10, side) == -level_ticks(-tenths / 10, -side)


TICKS = ["0.00001", "0.25", "0.02", "1", "5", "0.010", "1E+1", "2.5E-7"]


@given(st.integers(-(10**9), 10**15), st.sampled_from(TICKS))
def test_a_level_is_written_and_read_back_exactly(count, tick):
    unit = Decimal(tick)
    text = write_units(count, unit, digits_of(unit))
    assert DecimalGrid.of(unit).read(text) == (count if count >= 0 else None)
    assert to_units(Decimal(text), unit) == count
    assert exact_units(Decimal(text), unit) == count
    assert Fraction(text) == Fraction(tick) * count


NUMBERS = st.one_of(
    st.from_regex(r"[0-9]{0,20}\.?[0-9]{0,12}", fullmatch=True),
    st.from_regex(r"[+-]?[0-9.eE_ \u0661\u00b2]{0,12}", fullmatch=True),
    st.text(max_size=6),
)


@given(NUMBERS, st.sampled_from(TICKS))
def test_whole_numbers_read_a_text_as_decimals_do_or_leave_it_to_them(text, tick):
    found = DecimalGrid.of(Decimal(tick)).read(text)
    if found is not None:
        assert exact_units(of_text(text), Decimal(tick)) == found


def test_digits_are_those_written():
    assert [digits_of(Decimal(text)) for text in ("0.00001", "0.25", "1", "5", "0.010")] == [
        5,
        2,
        0,
        0,
        3,
    ]
    assert pair(tick=Decimal("0.25")).price(6151) == "1537.75"
    assert pair(qty_step=Decimal("0.10"), qty_min=Decimal("0.10")).qty(7) == "0.70"


def test_off_the_grid_is_told_apart():
    assert exact_units(Decimal("0.015"), Decimal("0.01")) is None
    assert to_units(Decimal("0.015"), Decimal("0.01")) == 2
    assert to_units(Decimal("0.025"), Decimal("0.01")) == 2  # half to even
