"""How trades are entered: levels, waits, bounds; and everything a person may type about it."""

import math
from decimal import Decimal

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hawser.core import field_parser as fp
from hawser.core.clock import DAY, HOUR, MINUTE
from hawser.core.entry import EntryRule, GoodUntil, HeldRule
from hawser.core.errors import BadInput, Refused
from hawser.core.rules.entries import ENTRY_OK, ENTRY_TOO_NEAR, ENTRY_WRONG_SIDE, entry_stands
from hawser.core.rules.inside_bar import (
    ADVERSE,
    FAVOURABLE,
    PESSIMISTIC,
    STOP,
    TARGET,
    inside,
    nearest,
    touched,
)
from hawser.core.rules.ladders import ladder_base, ladder_most, ladder_worst, lay_rungs, rung_steps
from hawser.core.rules.quantity import AtStop, Fees
from hawser.core.rules.sizes import ALL, Limits, cap_steps
from hawser.core.rules.trade_levels import Money
from madeup import pair

NOON = 20_000 * DAY + 12 * HOUR


@pytest.mark.parametrize(
    ("good", "until"),
    [
        (GoodUntil(), 0),
        (GoodUntil(minutes=30), NOON + 30 * MINUTE),
        (GoodUntil(clock="12:30"), NOON + 30 * MINUTE),
        (GoodUntil(clock="12:00"), NOON + DAY),
        (GoodUntil(clock="7:05"), NOON + 19 * HOUR + 5 * MINUTE),
        (GoodUntil(session_end=True), NOON + HOUR),
    ],
)
def test_how_long_an_entry_waits(good, until):
    assert good.until(NOON, NOON + HOUR) == until


def test_an_unknown_session_end_is_refused():
    with pytest.raises(Refused, match="does not say"):
        GoodUntil(session_end=True).until(NOON, 0)


@pytest.mark.parametrize(
    "make",
    [
        lambda: EntryRule("limit"),
        lambda: EntryRule("market", price=Decimal(1)),
        lambda: EntryRule("stop", price=Decimal(1), atr=1.0),
        lambda: EntryRule("limit", atr=1.0, within_ticks=3),
        lambda: EntryRule("stop", atr=-1.0),
        lambda: EntryRule(within_ticks=-1),
        lambda: EntryRule(good=GoodUntil(minutes=3)),
        lambda: EntryRule("stop", price=Decimal("NaN")),
        lambda: GoodUntil(minutes=3, clock="12:00"),
        lambda: GoodUntil(clock="25:00"),
        lambda: GoodUntil(clock="noon"),
        lambda: GoodUntil(minutes=0),
        lambda: HeldRule(1.0),
        lambda: HeldRule(settle_ms=-1),
        lambda: HeldRule(math.inf),
    ],
)
def test_what_is_no_entry_is_refused_when_it_is_made(make):
    with pytest.raises(BadInput):
        make()


@pytest.mark.parametrize(
    ("rule", "side", "level"),
    [
        (EntryRule("limit", atr=1.0), 1, 61097),
        (EntryRule("limit", atr=1.0), -1, 61375),
        (EntryRule("stop", atr=1.0), 1, 61387),
        (EntryRule("stop", atr=1.0), -1, 61085),
        (EntryRule("stop", price=Decimal("0.613005")), 1, 61300),
        (EntryRule("limit", price=Decimal("0.613005")), -1, 61301),
    ],
)
def test_a_level_is_on_the_grid_rounded_for_its_side(rule, side, level):
    assert rule.level(pair(), 61230, 61242, 0.00145, side) == level


@pytest.mark.parametrize(
    "text",
    [
        "market",
        "market within 5 t",
        "limit 0.61100",
        "stop 0.61500 within 8 t",
        "limit 0.5 atr",
        "stop 1 atr within 0 t",
    ],
)
def test_an_entry_is_written_as_it_is_typed(text):
    assert fp.entry_text(fp.read_entry(text)) == text


@pytest.mark.parametrize("text", ["cancelled", "30 min", "2 h", "14:30", "session end"])
def test_a_wait_is_written_as_it_is_typed(text):
    assert fp.good_text(fp.read_good(text)) == text


@given(st.floats(1.001, 50).map(lambda value: float(f"{value:.3g}")), st.integers(0, 60_000))
def test_held_lines_are_written_as_they_are_typed(backstop, settle):
    if backstop > 1:
        rule = HeldRule(backstop, settle)
        assert fp.read_held(fp.held_text(rule)) == rule


@pytest.mark.parametrize(
    ("read", "text", "told"),
    [
        (fp.read_entry, "limit", "expected market, limit"),
        (fp.read_entry, "stop now", "expected market, limit"),
        (fp.read_entry, "limit 0.6 within 3 t", "never fills worse"),
        (fp.read_entry, "market within 1.5 t", "whole"),
        (fp.read_good, "tomorrow", "30 min"),
        (fp.read_good, "3 days", "30 min"),
        (fp.read_held, "twice", "2 R"),
        (fp.read_straddle, "straddle", "straddle 1 atr"),
    ],
)
def test_what_is_typed_wrong_is_told_with_an_example(read, text, told):
    with pytest.raises(BadInput, match=told):
        read(text)


def test_a_straddle_and_what_is_none():
    assert fp.read_straddle("straddle 1.5 atr within 8 t") == (1.5, 8)
    assert fp.read_straddle("market") is None
    assert fp.read_held("") is None


# Rules in numbers


def at_stop(loss=20.0, tick_value=1.0):
    return AtStop(loss, tick_value, 1000.0, 980.0, Fees(1.0, 0.0, 0.0, 0.0))


NOT_SET = Limits(
    10_000.0, 10_000.0, 0.0, math.nan, math.nan, math.nan, math.nan, math.nan, 0.0, 0.0
)


def test_a_cap_that_is_not_set_allows_all_and_one_that_is_used_up_nothing():
    assert cap_steps(NOT_SET, 1.0, at_stop()) == (ALL,) * 6
    heat = NOT_SET._replace(max_heat_percent=2.0, open_heat=200.0, day_loss_room=-5.0)
    assert cap_steps(heat, 1.0, at_stop()) == (ALL, ALL, ALL, 0, ALL, 0)
    notional = NOT_SET._replace(margin_rate=0.5, max_notional_percent=50.0, max_margin_percent=10.0)
    assert cap_steps(notional, 1.0, at_stop())[:3] == (20, 5, 2)


@given(st.integers(1, 400), st.floats(0.5, 2.0), st.integers(2, 6), st.sampled_from([1, -1]))
def test_the_largest_ladder_is_within_its_risk_and_one_step_more_is_not(risk, factor, rungs, side):
    levels, stop = lay_rungs(1000, rungs, 10.0, 10.0, side)
    assert stop == levels[-1] - side * 10
    money = Money(1.0, 1.0, 1.0, Fees(1.0, 0.01, 0.0, 0.5), 1.0, 0.0)
    base = ladder_most(float(risk), math.inf, 10_000, levels, stop, factor, side, money)
    worst = [ladder_worst(one, levels, stop, factor, side, money) for one in (base, base + 1)]
    assert worst[1] > risk
    assert base == 0 or worst[0] <= risk
    assert rung_steps(base, rungs, factor)[0] == base


def test_a_ladder_without_budget_or_room_is_none():
    levels, stop = lay_rungs(1000, 3, 10.0, 10.0, 1)
    money = Money(1.0, 1.0, 1.0, Fees(1.0, 0.01, 0.0, 0.5), 1.0, 0.0)
    assert ladder_base(NOT_SET, 500.0, 10_000, levels, stop, 1.0, 1, money) > 0
    for limits, budget in (
        (NOT_SET, 0.0),
        (NOT_SET, -1.0),
        (NOT_SET._replace(equity=0.0, max_notional_percent=50.0), 500.0),
        (NOT_SET._replace(day_loss_room=0.0), 500.0),
    ):
        assert ladder_base(limits, budget, 10_000, levels, stop, 1.0, 1, money) == 0
    free = Money(0.0, 1.0, 0.001, Fees(1.0, 0.0, 0.0, 0.0), 0.0, 0.0)
    # less than one unit of money is money too
    assert ladder_base(NOT_SET, 0.9, 10_000, levels, stop, 1.0, 1, free) > 0


@pytest.mark.parametrize(
    ("level", "away", "least", "found"),
    [
        (101, 1, 0, ENTRY_OK),
        (101, 1, 1, ENTRY_OK),
        (99, -1, 1, ENTRY_OK),
        (101, 1, 2, ENTRY_TOO_NEAR),
        (102, 1, 2, ENTRY_OK),
        (100, 1, 0, ENTRY_WRONG_SIDE),
        (100, -1, 0, ENTRY_WRONG_SIDE),
    ],
)
def test_an_entry_may_wait_one_tick_away_where_the_venue_asks_for_no_more(
    level, away, least, found
):
    assert entry_stands(level, 100, away, least) == found


def test_a_bar_that_touches_nothing_fills_nothing():
    targets, parts, none = np.array([120]), np.array([5]), np.empty(0, np.int64)
    out = np.empty((40, 4), np.int64)
    for high, low in ((119, 101), (120, 101), (119, 100), (125, 95)):
        count = inside(PESSIMISTIC, 110, high, low, 100, 10, targets, parts.copy(), none, none, out)
        sides = touched(high, low, 100, *nearest(targets, parts, none, none))
        assert bool(count) == bool(sides)
        assert sides == (ADVERSE if low <= 100 else 0) + (FAVOURABLE if high >= 120 else 0)
        assert {int(row[0]) for row in out[:count]} <= {STOP, TARGET}
