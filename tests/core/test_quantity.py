"""The largest quantity within a budget, and the farthest stop within money, against plain
search."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hawser.core.rules.quantity import (
    BUDGET_NOISE,
    AtStop,
    Fees,
    commission,
    money_stop_distance,
    risk_of,
    steps_within,
)

BUDGETS = st.floats(1.0, 50_000.0)
FEES = st.builds(Fees, st.just(1.0), st.floats(0, 8), st.floats(0, 0.002), st.floats(0, 30))
FREE = Fees(1.0, 0.0, 0.0, 0.0)


def test_commission_is_its_minimum_or_its_rate():
    assert commission(2.0, 100.0, Fees(1.0, 2.5, 0.0, 0.0)) == 5.0
    assert commission(2.0, 100.0, Fees(1.0, 2.5, 0.0, 9.0)) == 9.0
    assert commission(2.0, 100.0, Fees(0.5, 0.0, 0.001, 0.0)) == 0.1


def test_a_hand_worked_size():
    # interface.md's own example: 363 ticks of 1 CHF and 2.50 CHF a unit each way: 368 a unit
    at = AtStop(363.0, 1.0, 0.61242, 0.60879, Fees(100_000.0, 2.5, 0.0, 0.0))
    assert steps_within(384.0, 0.01, at) == 104
    assert risk_of(1.04, at) == pytest.approx(382.72)


def test_a_minimum_commission_is_paid_twice():
    # 10 a fill: 20 of the 120 are gone before the first unit
    at = AtStop(10.0, 1.0, 50.0, 40.0, FREE._replace(minimum=10.0))
    assert steps_within(120.0, 1.0, at) == 10
    assert steps_within(19.0, 1.0, at) == 0


def test_exactly_the_budget_is_allowed():
    assert steps_within(30.0, 0.1, AtStop(10.0, 1.0, 50.0, 40.0, FREE)) == 30
    assert steps_within(0.3, 0.1, AtStop(1.0, 1.0, 50.0, 49.0, FREE)) == 3


@given(BUDGETS, st.sampled_from([0.01, 0.1, 1.0]), st.integers(5, 900), st.floats(0.05, 20), FEES)
def test_never_over_budget_and_one_step_more_would_be(budget, step, loss, tick_value, fees):
    at = AtStop(float(loss), tick_value, 1000.0, 1000.0 - loss, fees)
    steps = steps_within(budget, step, at)
    most = budget * (1 + BUDGET_NOISE)
    assert steps == 0 or risk_of(steps * step, at) <= most
    assert risk_of((steps + 1) * step, at) > most


@given(BUDGETS, BUDGETS, st.integers(5, 900), FEES)
def test_more_budget_never_means_less(first, second, loss, fees):
    low, high = sorted((first, second))
    at = AtStop(float(loss), 1.0, 1000.0, 1000.0 - loss, fees)
    assert steps_within(low, 1.0, at) <= steps_within(high, 1.0, at)


@given(BUDGETS, st.sampled_from([1, -1]), st.floats(0.5, 40), FEES)
def test_the_farthest_stop_within_money(budget, side, qty, fees):
    tick, ref = 0.5, 9000

    def risk(ticks):
        stop = (ref - side * ticks) * tick
        return risk_of(qty, AtStop(ticks + 2.0, tick, ref * tick, stop, fees))

    far = money_stop_distance(budget, qty, side, ref, tick, 2.0, fees)
    most = budget * (1 + BUDGET_NOISE)
    if far < 0:
        assert risk(0) > most
    else:
        assert risk(far) <= most < risk(far + 1)


@pytest.mark.parametrize(
    ("budget", "qty", "side", "ref", "tick", "per_unit"),
    [(15_872.0, 2e-05, 1, 9_590_199, 1e-04, 0.0), (10_840.4, 0.00019, -1, 157_285_478, 1e-05, 1.5)],
)
def test_the_farthest_stop_is_within_money_where_the_division_ends_one_beyond(
    budget, qty, side, ref, tick, per_unit
):
    def risk(ticks):
        stop = (ref - side * ticks) * tick
        return risk_of(qty, AtStop(float(ticks), tick, ref * tick, stop, fees))

    fees = FREE._replace(per_unit=per_unit)
    far = money_stop_distance(budget, qty, side, ref, tick, 0.0, fees)
    assert risk(far) <= budget * (1 + BUDGET_NOISE) < risk(far + 1)


def test_a_step_that_the_division_has_lost_is_found_again():
    at = AtStop(7.0, 1e-04, 37_348.11, 28_557.14, FREE)
    steps = steps_within(47_043.0, 1e-05, at)
    assert (
        risk_of(steps * 1e-05, at)
        <= 47_043.0 * (1 + BUDGET_NOISE)
        < risk_of((steps + 1) * 1e-05, at)
    )


@pytest.mark.parametrize(("ref", "stop"), [(100.0, 150.0), (150.0, 100.0)])
def test_a_size_where_one_fill_costs_its_least_commission_and_the_other_more(ref, stop):
    """Each of the two has a bound of its own; without it the risk would be dozens of small steps
    too much."""
    costs = AtStop(50.0, 1.0, ref, stop, Fees(1.0, 0.0, 0.001, 10.0))
    budget = risk_of(80.0, costs)
    assert steps_within(budget, 0.001, costs) == 80_000
    assert risk_of(80.001, costs) > budget * (1 + BUDGET_NOISE)
