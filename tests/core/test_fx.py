"""Conversion: direct, inverse, one bridge, ages (reckoning section 2)."""

import pytest

from hawser.core.account import Rate
from hawser.core.errors import Refused
from hawser.core.fx import convert, used, with_filed

RATES = {"USD/CHF": 0.88, "EUR/USD": 1.1, "CHF/SEK": 12.0, "EUR/CHF": Rate(0.96, age_s=90)}


def test_same_currency_needs_no_rate():
    assert convert("CHF", "CHF", {}) == 1.0


def test_direct_then_inverse():
    assert convert("USD", "CHF", RATES) == 0.88
    assert convert("SEK", "CHF", RATES) == pytest.approx(1 / 12)


def test_the_direct_pair_wins_over_the_inverse():
    assert convert("USD", "CHF", {"CHF/USD": 2.0, "USD/CHF": 0.9}) == 0.9


def test_one_bridge_the_alphabetically_first():
    rates = {"CAD/USD": 0.7, "USD/CHF": 0.9, "CAD/EUR": 0.6, "EUR/CHF": 0.95}
    assert convert("CAD", "CHF", rates) == pytest.approx(0.6 * 0.95)


def test_a_bridge_may_use_inverse_legs():
    assert convert("EUR", "SEK", {"EUR/USD": 1.1, "SEK/USD": 0.1}) == pytest.approx(11.0)


def test_two_bridges_are_too_many():
    with pytest.raises(Refused) as caught:
        convert("CAD", "SEK", {"CAD/USD": 0.7, "USD/CHF": 0.9, "CHF/SEK": 12.0})
    assert caught.value.code == "rate_missing"


def test_a_stale_rate_refuses_only_where_it_is_needed():
    assert convert("EUR", "CHF", RATES, 90) == 0.96
    assert convert("USD", "CHF", RATES, 60) == 0.88
    with pytest.raises(Refused) as caught:
        convert("EUR", "CHF", RATES, 60)
    assert caught.value.code == "rate_stale"
    assert "90 s" in caught.value.sentence


def test_a_file_s_rate_counts_only_where_no_way_goes_by_live_ones():
    live = {"USD/CHF": Rate(0.88), "EUR/USD": Rate(1.10), "CHF/SEK": Rate(12.0)}
    rates = with_filed(live, {"EUR/CHF": 0.80, "CHF/USD": 1.5, "NOK/CHF": 0.09}, 60.0)
    assert "CHF/USD" not in rates  # its inverse is told live
    assert convert("EUR", "CHF", rates) == pytest.approx(0.968)  # by the dollar, not by the file
    # no way but with the file's
    assert convert("SEK", "EUR", rates) == pytest.approx(1 / 12 / 0.80)
    assert [pair for pair, _ in used("SEK", "EUR", rates)] == ["CHF/SEK", "EUR/CHF"]
    with pytest.raises(Refused, match="of the account's file is 60 s old"):
        convert("NOK", "CHF", rates, max_age_s=30.0)
    assert convert("EUR", "CHF", rates, max_age_s=30.0) == pytest.approx(0.968)
