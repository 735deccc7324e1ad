"""The guards' decisions, exact to the nanosecond: limits, windows, periods across changes of the
clocks, loosening."""

from datetime import datetime
from random import Random
from zoneinfo import ZoneInfo

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hawser.core.clock import DAY, HOUR, MINUTE, SECOND
from hawser.core.errors import BadInput
from hawser.core.guards import declared as dc
from hawser.core.guards import limits as lm
from hawser.core.guards import news as nw
from hawser.core.guards.context import EntryContext
from hawser.core.guards.filters.base import filter_verdict
from hawser.core.guards.filters.spread import median_spread
from hawser.core.guards.filters.volatility import atr_percentile
from hawser.core.guards.looseness import loosened
from hawser.core.hours import period_around
from hawser.core.instrument import WeeklySession
from madeup import pair
from randomrigs import history

NAN = float("nan")


def at(text: str, zone: str = "UTC") -> int:
    return int(datetime.fromisoformat(text).replace(tzinfo=ZoneInfo(zone)).timestamp()) * SECOND


# Limits


@pytest.mark.parametrize(
    ("spread", "found"),
    [(30, lm.SPREAD_OK), (31, lm.SPREAD_TICKS), (25, lm.SPREAD_OK)],
)
def test_a_spread_at_its_limit_is_within_it(spread, found):
    assert lm.spread_over(spread, 12.0, 400.0, 30.0, 2.5, 10.0) == found


def test_the_first_limit_that_is_broken_is_told_and_what_is_not_known_holds_nothing_back():
    assert lm.spread_over(25.1, 10.0, 400.0, 30.0, 2.5, 10.0) == lm.SPREAD_MEDIAN
    assert lm.spread_over(25.0, 10.0, 249.0, 30.0, 2.5, 10.0) == lm.SPREAD_OF_R
    assert lm.spread_over(25.0, 10.0, 250.0, 30.0, 2.5, 10.0) == lm.SPREAD_OK
    assert lm.spread_over(1e9, NAN, NAN, NAN, 2.5, 10.0) == lm.SPREAD_OK


@given(st.integers(0, 10**18), st.integers(0, 10**13), st.integers(0, 10**13))
def test_a_window_holds_its_first_nanosecond_and_not_its_last(time, before, after):
    assert lm.in_window(time - before, time, before, after) == (before + after > 0)
    assert not lm.in_window(time - before - 1, time, before, after)
    assert not lm.in_window(time + after, time, before, after)
    if before + after:
        assert lm.in_window(time + after - 1, time, before, after)


@given(st.lists(st.integers(0, 9), min_size=2, max_size=40))
def test_a_percentile_is_the_share_of_the_others_below_equals_half(values):
    column = np.array(values, float)
    found = lm.percentile_at(column, column.size - 1, column.size)
    others = column[:-1]
    wanted = 100 * ((others < column[-1]).sum() + 0.5 * (others == column[-1]).sum()) / others.size
    assert found == pytest.approx(wanted)
    assert np.isnan(lm.percentile_at(column, column.size - 1, column.size + 1))


def test_a_percentile_among_what_is_not_known_is_not_known():
    assert np.isnan(lm.percentile_at(np.array([NAN, 1.0, 2.0]), 2, 3))
    assert lm.outside(NAN, 0.0, 100.0)
    assert not lm.outside(100.0, 0.0, 100.0)


def test_what_sums_of_floats_are_off_by_decides_nothing():
    assert lm.cools(-50.0, -0.5 + 1e-13, 0.5)
    assert not lm.cools(-1e-12, -1e-15, 0.0)
    assert lm.losses_in_a_row(2, -1e-12) == 0
    assert lm.lost(64_000.0, 64_000.0 - 499.9999999999, float("inf"), 500.0)
    assert lm.at_floor(52_000.0000001, 52_000.0)
    assert not lm.at_floor(52_000.01, 52_000.0)


def test_a_spread_beyond_a_median_of_none_is_told():
    guard = dc.SpreadGuard(name="Wide", max_of_median=2.0)
    said = filter_verdict(
        guard, EntryContext(0, pair(), 3.0, {"CAD/CHF": {guard.measure_key: 0.0}}, ())
    )
    assert said.text == "spread 3 t is beyond its 30 min median of 0 t, at most 2 times"


def test_a_loss_reached_to_the_cent_trips():
    inf = float("inf")
    assert lm.lost(64_000.0, 62_400.0, 2.5, inf)
    assert not lm.lost(64_000.0, 62_400.01, 2.5, inf)
    assert lm.lost(64_000.0, 63_000.0, inf, 1_000.0)
    assert not lm.lost(64_000.0, 64_000.0, 0.0, 0.0)  # nothing lost


# Periods


@pytest.mark.parametrize(
    ("day", "hours"), [("2031-03-30T12:00", 23), ("2031-10-26T12:00", 25), ("2031-03-05T12:00", 24)]
)
def test_a_day_across_a_change_of_the_clocks(day, hours):
    starts, ends = period_around(at(day, "Europe/Zurich"), False, "00:00", 0, "Europe/Zurich")
    assert ends - starts == hours * HOUR
    assert starts == at(day[:10] + "T00:00", "Europe/Zurich")


def test_a_week_that_begins_on_a_sunday_evening_elsewhere():
    sunday = at("2031-03-02T17:00", "America/New_York")
    assert period_around(sunday, True, "17:00", 6, "America/New_York")[0] == sunday
    before, ends = period_around(sunday - 1, True, "17:00", 6, "America/New_York")
    assert ends == sunday
    assert before == sunday - 7 * DAY
    across = period_around(at("2031-03-10T00:00"), True, "17:00", 6, "America/New_York")
    assert across[0] == at("2031-03-09T17:00", "America/New_York")


@given(
    st.integers(at("2030-01-01"), at("2033-01-01")),
    st.booleans(),
    st.sampled_from(["00:00", "02:30", "17:00"]),
    st.integers(0, 6),
    st.sampled_from(["UTC", "Europe/Zurich", "America/New_York", "Australia/Lord_Howe"]),
)
def test_periods_follow_each_other_without_a_gap(moment, weeks, clock, weekday, zone):
    starts, ends = period_around(moment, weeks, clock, weekday, zone)
    assert starts <= moment < ends
    assert period_around(ends, weeks, clock, weekday, zone)[0] == ends
    assert period_around(starts - 1, weeks, clock, weekday, zone)[1] == starts


# News

EVENT = nw.NewsEvent(at("2031-03-05T14:00"), "CHF", "high", "Rate decision")


def context(moment: int, events: tuple[nw.NewsEvent, ...] = (EVENT,), **more) -> EntryContext:
    calendars = (nw.Calendar("made up", events),)
    return EntryContext(moment, pair(), 12.0, {}, calendars, **more)


def test_news_closes_from_its_first_nanosecond_to_its_last():
    guard = dc.NewsGuard(name="news", before_min=15, after_min=30)
    first, last = EVENT.time - 15 * MINUTE, EVENT.time + 30 * MINUTE
    assert filter_verdict(guard, context(first - 1)) is None
    found = filter_verdict(guard, context(first))
    assert (found.code, found.until) == ("news", last)
    assert "in 15\u00a0min (CHF, high): Rate decision" in found.text
    assert filter_verdict(guard, context(last - 1)).text.startswith("news 29\u00a0min ago")
    assert filter_verdict(guard, context(last)) is None


@pytest.mark.parametrize(
    ("currency", "impact", "closed"),
    [
        ("CAD", "high", True),
        ("ALL", "high", True),
        ("SEK", "high", False),
        ("CHF", "medium", False),
    ],
)
def test_only_news_of_the_instrument_s_currencies_and_of_enough_impact(currency, impact, closed):
    event = nw.NewsEvent(EVENT.time, currency, impact, "x")
    found = filter_verdict(dc.NewsGuard(name="n"), context(EVENT.time, (event,)))
    assert (found is not None) == closed


def test_windows_that_touch_are_told_as_one():
    second = nw.NewsEvent(EVENT.time + 45 * MINUTE, "CAD", "high", "Employment")
    found = filter_verdict(dc.NewsGuard(name="n"), context(EVENT.time, (EVENT, second)))
    assert found.until == second.time + 30 * MINUTE
    apart = nw.NewsEvent(EVENT.time + 45 * MINUTE + 1, "CAD", "high", "Employment")
    assert (
        filter_verdict(dc.NewsGuard(name="n"), context(EVENT.time, (EVENT, apart))).until
        == EVENT.time + 30 * MINUTE
    )


@pytest.mark.parametrize(
    ("calendars", "word"),
    [
        ((), "no news calendar"),
        (
            (nw.Calendar("a", state="missing", why="there is no such file"),),
            "a is missing: there is no such file",
        ),
        ((nw.Calendar("a", reaches=EVENT.time + 23 * HOUR),), "a ends within 24 h"),
        ((nw.Calendar("a", reaches=EVENT.time + 24 * HOUR),), ""),
        ((nw.Calendar("a"),), ""),
    ],
)
def test_a_calendar_that_cannot_be_relied_on_closes_or_warns(calendars, word):
    wrong = nw.trouble(calendars, EVENT.time, 24.0)
    assert (wrong is not None) == bool(word)
    assert wrong is None or word in wrong.text
    where = context(EVENT.time)._replace(calendars=calendars)
    closed = filter_verdict(dc.NewsGuard(name="n"), where)
    assert (closed is not None) == bool(word)
    assert filter_verdict(dc.NewsGuard(name="n", missing="warn"), where) is None


# Sessions, volatility, regime


WEEK = (WeeklySession((0, 1, 2, 3, 4), "08:00", "16:30", "Europe/London"),)
HALVES = tuple(
    WeeklySession((0, 1, 2, 3, 4), *hours, "Europe/London")
    for hours in (("08:00", "12:00"), ("13:00", "16:30"))
)


@pytest.mark.parametrize(
    ("changes", "moment", "word"),
    [
        ({"hours": WEEK}, "2031-03-28T16:29", ""),  # London is on winter time until the 30th
        ({"hours": WEEK}, "2031-03-28T16:30", "outside the hours"),
        # and an hour earlier in UTC from then on
        ({"hours": WEEK}, "2031-03-31T15:30", "outside the hours"),
        ({"closed_hours": WEEK}, "2031-03-28T08:00", "in hours without entries"),
        ({"after_open_min": 10}, "2031-03-28T08:09", "9\u00a0min after the open"),
        ({"after_open_min": 10}, "2031-03-28T08:10", ""),
        ({"before_close_min": 10}, "2031-03-28T16:20", "10\u00a0min before the close"),
        ({"before_close_min": 10}, "2031-03-28T16:19", ""),
        ({"before_weekend_min": 60}, "2031-03-28T15:30", "before the weekend"),
        ({"before_weekend_min": 60}, "2031-03-27T15:30", ""),  # the night is no weekend
        # A pause comes before the weekend, and does not hide it.
        ({"before_weekend_min": 300, "sessions": HALVES}, "2031-03-28T11:30", "before the weekend"),
        ({"before_weekend_min": 300, "sessions": HALVES}, "2031-03-28T11:29", ""),
    ],
)
def test_sessions_in_their_own_zone(changes, moment, word):
    changes = {**changes}
    instrument = msgspec.structs.replace(pair(), sessions=changes.pop("sessions", WEEK))
    found = filter_verdict(
        dc.SessionGuard(name="s", **changes), context(at(moment))._replace(instrument=instrument)
    )
    assert (word in found.text) if word else found is None


def test_volatility_within_its_band_and_not_before_it_is_known():
    guard = dc.VolatilityGuard(name="v", bars=50, low=10, high=90)
    bars = history(Random(3), 400)[0]
    value = atr_percentile(bars, 14, 50)
    assert 0 <= value <= 100
    assert np.isnan(atr_percentile(bars.last(60), 14, 50))
    key = "guard: atr percentile 15m 14 50"
    for value, closed in ((9.9, True), (10.0, False), (90.0, False), (90.1, True), (NAN, True)):
        found = filter_verdict(guard, context(0)._replace(measures={pair().symbol: {key: value}}))
        assert (found is not None) == closed


@pytest.mark.parametrize(
    ("entries", "side", "above", "closed"),
    [
        ("with", 1, 0.1, False),
        ("with", 1, -0.1, True),
        ("with", -1, 0.1, True),
        ("with", -1, 0.0, True),
        ("with", 0, -5.0, False),
        ("above", -1, 0.1, False),
        ("above", -1, 0.0, True),
        ("below", 1, -0.1, False),
    ],
)
def test_a_regime_lets_one_side_pass(entries, side, above, closed):
    guard = dc.RegimeGuard(name="r", reference="Harbour 40", entries=entries)
    measures = {"Harbour 40": {"guard: sma 200 1h": above}}
    assert (
        filter_verdict(guard, context(0, side=side)._replace(measures=measures)) is not None
    ) == closed
    assert filter_verdict(guard, context(0, side=side)) is not None  # not known yet


def test_a_median_spread_is_that_of_the_last_minutes():
    bars = history(Random(5), 200)[0]
    bars = bars._replace(
        time=np.arange(200) * 5 * MINUTE, spread=np.random.default_rng(1).integers(5, 50, 200) * 1.0
    )
    assert median_spread(bars, 5 * MINUTE, 30.0) == np.median(bars.spread[-6:])
    assert median_spread(bars, 5 * MINUTE, 1.0) == bars.spread[-1]
    bars.spread[-2] = NAN
    assert median_spread(bars, 5 * MINUTE, 15.0) == np.median(bars.spread[[-3, -1]])
    assert np.isnan(median_spread(bars.last(0), 5 * MINUTE, 10.0))


# What is declared


@pytest.mark.parametrize(
    ("kind", "changes", "word"),
    [
        (dc.SpreadGuard, {}, "one of max_ticks, max_of_median, max_percent_of_r"),
        (dc.LossSwitch, {"percent": 2.0, "period": "none"}, "day or week"),
        (dc.VolatilityGuard, {"low": 50, "high": 50}, "more than low"),
        (dc.RegimeGuard, {"reference": "x", "timeframe": "7m"}, "one of 1m"),
        (dc.DrawdownSwitch, {"percent": 5.0, "per": "instrument"}, "account"),
        (dc.SilenceSwitch, {"seconds": 0.5}, "1 or more"),
        (dc.LossSwitch, {"percent": -1.0}, "0 or more"),
        (dc.StreakSwitch, {"losses": 0}, "losses: expected more than 0"),
        (dc.RejectSwitch, {"most": 0}, "most: expected more than 0"),
        (dc.RejectSwitch, {"most": 3, "window_min": 0.0}, "window_min: expected more than 0"),
        (dc.RateSwitch, {"most": 9, "window_s": 0.0}, "window_s: expected more than 0"),
        (dc.CoolDownGuard, {"minutes": 0.0}, "minutes: expected more than 0"),
    ],
)
def test_what_cannot_be_meant_is_refused_with_the_guard_and_the_key(kind, changes, word):
    with pytest.raises(BadInput) as caught:
        kind(name="mine", **changes)
    assert "guard 'mine'" in caught.value.sentence
    assert word in caught.value.sentence


def test_names_zones_and_clocks_are_looked_at():
    twice = (dc.SpreadGuard(name="a", max_ticks=3), dc.SpreadGuard(name="a", max_ticks=4))
    for changes in (
        {"zone": "Nowhere/Town"},
        {"day_starts": "7"},
        {"day_starts": "24:00"},
        {"guard": twice},
    ):
        with pytest.raises(BadInput):
            dc.Guards(**changes)


@pytest.mark.parametrize(
    ("old", "new", "keys"),
    [
        (dc.LossSwitch(name="x", percent=2.0), dc.LossSwitch(name="x", percent=2.5), ["percent"]),
        (dc.LossSwitch(name="x", percent=2.0), dc.LossSwitch(name="x", percent=1.5), []),
        (
            dc.LossSwitch(name="x", percent=2.0),
            dc.LossSwitch(name="x", percent=2.0, money=100.0),
            [],
        ),
        (
            dc.LossSwitch(name="x", percent=2.0, money=9.0),
            dc.LossSwitch(name="x", percent=2.0),
            ["money"],
        ),
        (
            dc.LossSwitch(name="x", percent=2.0),
            dc.LossSwitch(name="x", percent=2.0, period="week"),
            ["period"],
        ),
        (dc.LossSwitch(name="x", percent=2.0), None, ["on"]),
        (dc.LossSwitch(name="x", percent=2.0, on=False), None, []),
        (dc.FloorSwitch(name="x", money=5.0), dc.FloorSwitch(name="x", money=4.0), ["money"]),
        (dc.NewsGuard(name="x"), dc.NewsGuard(name="x", impact="low"), ["impact"]),
        (dc.NewsGuard(name="x"), dc.NewsGuard(name="x", before_min=20), []),
        (dc.NewsGuard(name="x"), dc.NewsGuard(name="x", instruments=("A",)), ["instruments"]),
        (
            dc.NewsGuard(name="x", instruments=("A",)),
            dc.NewsGuard(name="x", instruments=("A", "B")),
            [],
        ),
        (dc.NewsGuard(name="x", instruments=("A",)), dc.NewsGuard(name="x"), []),
        (dc.NewsGuard(name="x", then=("close",)), dc.NewsGuard(name="x"), ["then"]),
        (dc.NewsGuard(name="x"), dc.SpreadGuard(name="x", max_ticks=3), ["on"]),
    ],
)
def test_what_loosens_a_guard(old, new, keys):
    assert loosened(old, new) == keys
