"""Quay as a venue: matching on the right side of the quote, its refusals, its money, its feeds, its
own memory."""

from decimal import Decimal

import numpy as np
import pytest

from hawser.core.bars import Bars
from hawser.core.clock import DAY, HOUR, MINUTE, SECOND
from hawser.core.errors import VenueRefused
from hawser.core.hours import is_open, next_change, next_close, open_intervals, weekend_close
from hawser.core.instrument import WeeklySession
from hawser.demo import world
from hawser.venue import port
from hawser.venue.quay import feed as fd
from hawser.venue.quay.book import Book, BookState, trim
from hawser.venue.quay.generator import GeneratedFeed
from hawser.venue.quay.quay import Quay
from hawser.venue.quay.replay import ReplayFeed
from hawser.venue.quay.store import BookStore
from hawser.venue.quay.weather import SEVERITIES, Sky, Weather
from madeup import pair

SYMBOL = "CAD/CHF"


@pytest.fixture
def book():
    made = Book({SYMBOL: pair()}, "CHF", {}, BookState(now=1, balance=10_000.0))
    made.tick(SYMBOL, 61230, 61242)
    return made


def order(name, side=1, kind="market", qty="1.00", level=None, closes=None):
    return port.NewOrder(
        id=name, symbol=SYMBOL, side=side, kind=kind, qty=qty, level=level, closes=closes
    )


def refused(call, *arguments):
    with pytest.raises(VenueRefused) as caught:
        call(*arguments)
    return caught.value.code


def test_long_enters_at_the_ask_and_leaves_at_the_bid(book):
    told = book.new_order(order("a"))
    assert [type(message) for message in told] == [port.Accepted, port.Filled]
    assert told[1].fill.price == "0.61242"
    out = book.new_order(order("b", side=-1, closes="a"))
    assert out[1].fill.price == "0.61230"
    assert out[1].fill.profit == pytest.approx(-12.0)
    assert book.state.balance == pytest.approx(10_000 - 12.0 - 5.0)
    assert not book.state.positions


def test_a_long_s_stop_triggers_on_the_bid_and_a_short_s_on_the_ask(book):
    book.new_order(order("a"))
    book.new_order(order("s", side=-1, kind="stop", level="0.61200", closes="a"))
    assert not book.tick(SYMBOL, 61201, 61213)
    fills = [m for m in book.tick(SYMBOL, 61190, 61202) if isinstance(m, port.Filled)]
    assert fills[0].fill.price == "0.61190"  # a gap fills where the market is
    book.new_order(order("c", side=-1))
    book.new_order(order("t", side=1, kind="stop", level="0.61230", closes="c"))
    assert not book.tick(SYMBOL, 61217, 61229)
    assert [m for m in book.tick(SYMBOL, 61218, 61230) if isinstance(m, port.Filled)]


def test_a_limit_fills_at_its_level_or_better(book):
    book.new_order(order("a"))
    book.new_order(order("t", side=-1, kind="limit", level="0.61300", closes="a"))
    fill = next(m for m in book.tick(SYMBOL, 61310, 61322) if isinstance(m, port.Filled))
    assert fill.fill.price == "0.61310"


def test_what_closes_never_fills_beyond_the_position(book):
    book.new_order(order("a", qty="1.00"))
    book.new_order(order("s", side=-1, kind="stop", qty="1.00", level="0.61200", closes="a"))
    book.new_order(order("b", side=-1, qty="0.40", closes="a"))
    told = book.tick(SYMBOL, 61200, 61212)
    assert [m.fill.qty for m in told if isinstance(m, port.Filled)] == ["0.60"]
    assert any(isinstance(m, port.Cancelled) for m in told)
    assert book.state.clipped == 1
    assert refused(book.new_order, order("c", side=-1, closes="a")) == "no_position"


@pytest.mark.parametrize(
    ("request_", "code"),
    [
        (order("x", kind="stop", side=-1, level="0.612003"), "bad_level"),  # too many digits
        (order("x", kind="stop", side=-1, level="zero"), "bad_level"),
        (order("x", kind="stop", side=-1, level="-0.61000"), "bad_level"),
        (order("x", kind="stop", side=-1, level="0.61225"), "too_near"),
        (order("x", kind="stop", side=-1, level="0.61240"), "wrong_side"),
        (order("x", qty="0.015"), "bad_qty"),
        (order("x", qty="1_0"), "bad_qty"),
        (order("x", qty="1e" + "9" * 30), "bad_qty"),
        (order("x", qty="１"), "bad_qty"),
        (order("x", qty="0.00"), "bad_qty"),
        (order("x", qty="51.00"), "bad_qty"),
        (order("x", qty="40.00"), "margin"),
        (port.NewOrder(id="x", symbol="Nothing", side=1, kind="market", qty="1"), "no_instrument"),
    ],
)
def test_refusals(book, request_, code):
    assert refused(book.new_order, request_) == code
    assert not book.state.positions


def test_ids_amends_and_cancels(book):
    book.new_order(order("a"))
    assert refused(book.new_order, order("a")) == "duplicate"
    book.new_order(order("s", side=-1, kind="stop", level="0.61200", closes="a"))
    assert book.amend(port.AmendOrder(id="s", level="0.61210", qty="1.00"))[0].level == "0.61210"
    assert refused(book.amend, port.AmendOrder(id="s", level="0.61235", qty="1.00")) == "wrong_side"
    assert refused(book.amend, port.AmendOrder(id="s", level="0.61225", qty="1.00")) == "too_near"
    assert (
        refused(book.amend, port.AmendOrder(id="q", level="0.61200", qty="1.00")) == "not_resting"
    )
    assert book.resting_ids() == ("s",)
    book.cancel("s")
    assert refused(book.cancel, "s") == "not_resting"
    assert book.known("s").status == "cancelled"
    assert book.known("nobody").status == "missing"


def test_a_closed_market_takes_nothing(book):
    book.closed.add(SYMBOL)
    assert refused(book.new_order, order("a")) == "market_closed"
    assert book.known("a").status == "rejected"


def test_a_market_without_a_quote_yet_changes_nothing(book):
    """A venue that has other instruments from now on: what rests there is changed before a quote
    has come."""
    book.new_order(order("E"))
    book.new_order(order("S", side=-1, kind="stop", level="0.61000", closes="E"))
    book.quotes.clear()
    assert (
        refused(book.amend, port.AmendOrder(id="S", level="0.61010", qty="1.00")) == "market_closed"
    )
    assert book.adjust("S", 5) == 61000
    assert book.amend(port.AmendOrder(id="S", level="0.61000", qty="0.50"))


def test_figures_float_with_the_market(book):
    book.new_order(order("a"))
    book.tick(SYMBOL, 61330, 61342)
    balance, equity, margin = book.figures()
    assert equity - balance == pytest.approx(88.0)
    assert margin == pytest.approx(0.6133 * 100_000 * 0.05)


def test_old_finished_orders_are_forgotten(book):
    book.new_order(order("a"))
    book.new_order(order("b", side=-1, closes="a"))
    book.state.now = 30 * DAY
    trim(book.state)
    assert not book.state.orders


# Feeds


def demo_feed(seed=5, days=2):
    return GeneratedFeed(world.INSTRUMENTS, world.RATES, seed, world.WAKES_AT, days)


def drained(feed, until):
    items = []
    while feed.next_time() <= until:
        items.append(feed.pop())
    return items


def test_the_generated_market_is_the_same_every_time_and_in_order():
    until = world.WAKES_AT + 10 * MINUTE
    runs = []
    for _ in range(2):
        feed = demo_feed()
        feed.seek(world.WAKES_AT)
        runs.append(drained(feed, until))
    assert runs[0] == runs[1]
    times = [item.time for item in runs[0]]
    assert times == sorted(times)
    assert demo_feed(6).instruments.keys() == demo_feed(5).instruments.keys()
    ticks = [item for item in runs[0] if isinstance(item, fd.Tick)]
    assert all(0 < tick.bid < tick.ask for tick in ticks)
    assert len({tick.symbol for tick in ticks}) >= 6


def test_history_and_what_follows_have_no_seam():
    early, late = demo_feed(), demo_feed()
    early.seek(world.WAKES_AT)
    late.seek(world.WAKES_AT + 7 * MINUTE)
    done = [
        item for item in drained(early, world.WAKES_AT + 7 * MINUTE) if isinstance(item, fd.BarDone)
    ]
    lived = [item for item in done if item.symbol == SYMBOL]
    known = late.history(SYMBOL).last(len(lived))
    tick = early.instruments[SYMBOL].tick_size
    assert known.time.tolist() == [bar.opened for bar in lived]
    assert known.close.tolist() == pytest.approx([bar.close * tick for bar in lived])
    assert known.high.tolist() == pytest.approx([bar.high * tick for bar in lived])


def test_volatility_comes_in_clusters_and_spreads_widen_at_the_roll_over():
    feed = demo_feed(days=12)
    feed.seek(world.WAKES_AT)
    bars = feed.history(SYMBOL)
    moves = np.abs(np.diff(np.log(bars.close)))
    centred = moves - moves.mean()
    assert (centred[1:] * centred[:-1]).mean() / centred.var() > 0.05
    minute = bars.time // MINUTE % 1440
    roll = (minute >= 1315) & (minute < 1335)
    assert bars.spread[roll].mean() > 2.5 * bars.spread[~roll].mean()


def test_a_replay_hands_the_bars_on_unchanged_and_its_quotes_touch_their_extremes():
    rng = np.random.default_rng(3)
    close = 0.61 + np.cumsum(rng.normal(0, 0.0004, 60))
    open_ = np.r_[0.61, close[:-1]]
    high, low = np.maximum(open_, close) + 0.0003, np.minimum(open_, close) - 0.0002
    time = np.arange(60, dtype=np.int64) * 5 * MINUTE + 7 * DAY
    rounded = [np.round(column, 5) for column in (open_, high, low, close)]
    bars = Bars(time, *rounded, np.full(60, np.nan))
    feed = ReplayFeed(pair(), bars, 12.0)
    feed.seek(feed.start)
    assert feed.history(SYMBOL).time.size == 20
    items = drained(feed, int(time[-1]) + 10 * MINUTE)
    done = [item for item in items if isinstance(item, fd.BarDone)]
    assert [bar.opened for bar in done] == time[20:].tolist()
    for bar, index in zip(done, range(20, 60), strict=True):
        bids = [
            i.bid
            for i in items
            if isinstance(i, fd.Tick) and bar.opened <= i.time < bar.opened + 5 * MINUTE
        ]
        assert (max(bids), min(bids), bids[-1]) == (bar.high, bar.low, bar.close)
        assert bar.high == round(rounded[1][index] / 0.00001)
    assert all(i.ask - i.bid == 12 for i in items if isinstance(i, fd.Tick))
    assert feed.next_time() == fd.NEVER
    assert isinstance(items[-1], fd.Hours)
    assert not items[-1].open


# Hours

LONDON = (WeeklySession((0, 1, 2, 3, 4), "08:00", "16:30", "Europe/London"),)
WEDNESDAY = 1_930_435_200 * SECOND  # 5 March 2031


def test_hours_follow_daylight_saving():
    summer = WEDNESDAY + 126 * DAY
    assert is_open(LONDON, WEDNESDAY + 8 * HOUR)
    assert not is_open(LONDON, WEDNESDAY + 8 * HOUR - 1)
    assert not is_open(LONDON, WEDNESDAY + 16 * HOUR + 30 * MINUTE)
    assert is_open(LONDON, summer + 7 * HOUR)
    assert not is_open(LONDON, summer + 15 * HOUR + 30 * MINUTE)


def test_the_next_change_skips_the_weekend_and_may_never_come():
    friday_close = WEDNESDAY + 2 * DAY + 16 * HOUR + 30 * MINUTE
    assert next_change(LONDON, friday_close) == WEDNESDAY + 5 * DAY + 8 * HOUR
    assert next_change((), WEDNESDAY) == 0
    assert open_intervals((), 3) == ((3 * DAY, 4 * DAY),)


def test_a_week_ends_where_an_instrument_closes_for_a_day_or_more_else_on_saturday():
    """One that pauses for an hour each day never closes for a day: the search for its weekend ran
    to the year 9999."""
    daily = (WeeklySession(tuple(range(7)), "00:00", "21:00", "America/New_York"),)
    saturday = WEDNESDAY + 3 * DAY
    for sessions in (daily, (WeeklySession(tuple(range(7)), "00:00", "24:00"),), ()):
        assert weekend_close(sessions, WEDNESDAY) == 0
        assert next_close(sessions, WEDNESDAY, weekend=True) == saturday
        assert next_close(sessions, saturday, weekend=True) == saturday + 7 * DAY
    # 21:00 there
    assert next_close(daily, WEDNESDAY + 3 * HOUR, weekend=False) == WEDNESDAY + DAY + 2 * HOUR
    assert next_close(daily, WEDNESDAY + 26 * HOUR, weekend=False) == WEDNESDAY + 2 * DAY + 2 * HOUR
    friday_close = WEDNESDAY + 2 * DAY + 16 * HOUR + 30 * MINUTE
    assert next_close(LONDON, friday_close - 1, weekend=True) == friday_close
    assert next_close(LONDON, friday_close, weekend=True) == friday_close + 7 * DAY
    assert next_close(LONDON, WEDNESDAY, weekend=False) == WEDNESDAY + 16 * HOUR + 30 * MINUTE
    assert next_close((), WEDNESDAY, weekend=False) == 0


def test_a_session_over_midnight_is_open_on_both_sides():
    whole = (WeeklySession((0, 1, 2, 3, 4), "00:00", "24:00"),)
    assert is_open(whole, WEDNESDAY + DAY)
    assert next_change(whole, WEDNESDAY) == WEDNESDAY + 3 * DAY


# Weather and memory


def test_weather_is_drawn_as_often_as_it_is_told_and_repeats():
    sky = Sky(Weather("test", reject=0.2, lost=0.1, mute=0.1), 9)
    fates = [sky.fate() for _ in range(4000)]
    assert fates.count("reject") == pytest.approx(800, abs=90)
    assert fates.count("lost") == pytest.approx(400, abs=70)
    again = Sky(Weather("test", reject=0.2, lost=0.1, mute=0.1), 9)
    assert fates == [again.fate() for _ in range(4000)]
    assert Sky(SEVERITIES["calm"], 1).latency() == 0


def test_requests_of_one_connection_never_overtake_each_other():
    venue = Quay(
        demo_feed(),
        "CHF",
        64_000.0,
        {},
        Weather("long", latency_ms=200.0, latency_tail=1.5),
        seed=4,
    )
    for number in range(40):
        venue.send(port.AskOrder(id=f"q{number}"), venue.now + number)
    answers = []
    while (message := venue.next_message(world.WAKES_AT + 30 * SECOND)) is not None:
        if isinstance(message, port.StatusTold):
            answers.append(message.order.id)
    assert answers == [f"q{number}" for number in range(40)]


def test_the_venue_remembers_its_own_state(tmp_path):
    store = BookStore(tmp_path / "quay.sqlite")
    venue = Quay(demo_feed(), "CHF", 64_000.0, {}, SEVERITIES["calm"], store=store)
    while venue.next_message(world.WAKES_AT + 5 * SECOND) is not None:
        pass
    venue.send(port.NewOrder(id="a", symbol=SYMBOL, side=1, kind="market", qty="1.00"), venue.now)
    while venue.next_message(world.WAKES_AT + 6 * SECOND) is not None:
        pass
    venue._store = None  # killed here: nothing is saved on the way out
    store.close()
    again = Quay(
        demo_feed(), "CHF", 1.0, {}, SEVERITIES["calm"], store=BookStore(tmp_path / "quay.sqlite")
    )
    assert list(again.book.state.positions) == ["a"]
    assert again.book.state.balance == pytest.approx(64_000 - 2.5)
    assert again.now >= world.WAKES_AT + 5 * SECOND
    again.close()


def test_a_price_with_too_many_digits_is_rejected_and_never_leaves_hawser():
    from hawser.core.errors import HawserBug
    from hawser.engine import commands as cm
    from hawser.service.runtime.venue_messages import as_request

    def submit(level, steps=5):
        command = cm.Submit(
            order="o",
            trade="t",
            symbol=SYMBOL,
            role="stop",
            side=-1,
            kind="stop",
            steps=steps,
            level=level,
            closes="a",
            why="",
        )
        return as_request(command, {SYMBOL: pair()})

    assert submit(61234).level == "0.61234"
    assert submit(61230).level == "0.61230"
    assert submit(61230).qty == "0.05"
    assert Decimal(submit(1).level) == pair().tick
    for level, steps in ((0, 5), (-4, 5), (61230, 0)):
        with pytest.raises(HawserBug):
            submit(level, steps)


def adding(name, qty="1.00", level="0.61150", adds="a", side=1):
    return port.NewOrder(
        id=name, symbol=SYMBOL, side=side, kind="limit", qty=qty, level=level, adds=adds
    )


def test_what_adds_makes_its_position_larger_and_goes_with_it(book):
    book.new_order(order("a"))
    book.new_order(adding("r1"))
    book.new_order(adding("r2", level="0.61050"))
    book.tick(SYMBOL, 61138, 61150)
    (held,) = book.state.positions.values()
    assert (held.id, held.steps, held.entry) == ("a", 200, (61242 + 61150) / 2)
    told = book.new_order(order("c", side=-1, qty="2.00", closes="a"))
    assert [(m.id, m.why) for m in told if isinstance(m, port.Cancelled)] == [
        ("r2", "no position to add to")
    ]
    assert not book.resting(SYMBOL)
    assert refused(book.new_order, adding("r3", level="0.61000")) == "no_position"


def test_a_stop_and_what_adds_reached_at_once_leave_nothing_open(book):
    book.new_order(order("a"))
    book.new_order(order("s", side=-1, kind="stop", level="0.61200", closes="a"))
    book.new_order(adding("r1"))
    book.tick(SYMBOL, 61100, 61112)
    assert not book.state.positions
    assert not book.state.orders["r1"].filled
