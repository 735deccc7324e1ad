"""Quay's weather and its pending orders: every fault does what its name says, and the books stay in
order."""

import pytest

from hawser.core.clock import MINUTE, SECOND
from hawser.core.errors import BadInput, VenueRefused
from hawser.venue import port
from hawser.venue.quay import feed as fd
from hawser.venue.quay.book import Book, BookState
from hawser.venue.quay.generator import GeneratedFeed
from hawser.venue.quay.gusts import Gusts, Jump
from hawser.venue.quay.quay import Quay
from hawser.venue.quay.store import BookStore
from hawser.venue.quay.weather import CHANCES, FAULTS, SEVERITIES, Weather
from hawser.verification.world import START, WORLD
from madeup import pair

SYMBOL = "CAD/CHF"


@pytest.fixture
def book():
    made = Book({SYMBOL: pair()}, "CHF", {}, BookState(now=1, balance=10_000.0))
    made.tick(SYMBOL, 61230, 61242)
    return made


def order(name, side=1, kind="market", level=None, bound=None, until=0, closes=None, qty="1.00"):
    return port.NewOrder(
        id=name,
        symbol=SYMBOL,
        side=side,
        kind=kind,
        qty=qty,
        level=level,
        bound=bound,
        until=until,
        closes=closes,
    )


def fills(told):
    return [(one.id, one.fill.price) for one in told if isinstance(one, port.Filled)]


def test_a_buy_stop_fills_at_the_market_it_reached(book):
    book.new_order(order("a", kind="stop", level="0.61300"))
    assert fills(book.tick(SYMBOL, 61280, 61292)) == []
    assert fills(book.tick(SYMBOL, 61300, 61312)) == [("a", "0.61312")]


def test_a_stop_limit_waits_at_its_bound_and_never_fills_worse(book):
    book.slippage = lambda: 5
    book.new_order(order("a", kind="stop", level="0.61300", bound="0.61305"))
    assert fills(book.tick(SYMBOL, 61310, 61322)) == []  # reached, but beyond the bound
    assert fills(book.tick(SYMBOL, 61290, 61302)) == [("a", "0.61305")]


def test_a_market_order_beyond_its_bound_is_given_up(book):
    book.slippage = lambda: 9
    told = book.new_order(order("a", bound="0.61246"))
    assert [type(one).__name__ for one in told] == ["Accepted", "Cancelled"]
    assert "slippage" in told[1].why
    assert not book.positions()


def test_an_entry_expires_when_its_time_has_come_and_not_before(book):
    book.new_order(order("a", kind="limit", level="0.61000", until=50))
    assert book.expire("a") == []
    book.state.now = 50
    assert [one.why for one in book.expire("a")] == ["expired"]
    assert book.expire("a") == []
    assert book.known("a").status == "cancelled"


def test_resting_orders_fill_in_parts_and_say_what_they_had_filled(book):
    book.part = lambda: 0.4
    book.new_order(order("a", kind="limit", level="0.61200"))
    assert len(fills(book.tick(SYMBOL, 61180, 61192))) == 1
    told = book.cancel("a")
    assert told[0].filled == "0.40"
    with pytest.raises(VenueRefused) as caught:
        book.new_order(order("b", kind="stop", level="0.61400"))
        book.tick(SYMBOL, 61400, 61412)
        book.amend(port.AmendOrder(id="b", level="0.61500", qty="1.00"))
    assert caught.value.code == "filling"


def quay(weather="calm", store=None, **changes):
    chosen = (
        SEVERITIES[weather]
        if not changes
        else Weather(**{"latency_ms": 0.0, "latency_tail": 0.0} | changes)
    )
    return Quay(GeneratedFeed(WORLD, {}, 3, START, 1), "CHF", 64_000.0, {}, chosen, store=store)


def told_until(venue, seconds):
    found, until = [], venue.now + int(seconds * SECOND)
    while (message := venue.next_message(until)) is not None:
        found.append(message)
    return found


def test_a_restart_loses_what_was_under_way_and_keeps_the_books(tmp_path):
    store = BookStore(tmp_path / "q.sqlite")
    venue = quay(store=store)
    told_until(venue, 20)
    venue.send(order("a", qty="0.10"), venue.now)
    told_until(venue, 1)
    venue.send(order("b", qty="0.10"), venue.now)
    venue.gust("restart", "", 2 * SECOND)
    told = told_until(venue, 5)
    links = [one.up for one in told if isinstance(one, port.LinkTold)]
    assert links == [False, True]
    assert [position.id for position in venue.book.positions()] == ["a"]
    assert venue.book.known("b").status == "missing"
    assert set(store.load().positions) == {"a"}
    venue.close()


@pytest.mark.parametrize(("kind", "code"), [("margin", "margin"), ("reject", "busy")])
def test_an_entry_meets_its_fate(kind, code):
    venue = quay(**{kind: 1.0})
    told_until(venue, 20)
    venue.send(order("a", qty="0.10"), venue.now)
    refusals = [one for one in told_until(venue, 1) if isinstance(one, port.Rejected)]
    assert [one.code for one in refusals] == [code]
    assert venue.counts[kind] == 1


def test_a_price_jumps_and_comes_back():
    gusts = Gusts()
    gusts.jump(SYMBOL, 100, 0, 10 * MINUTE)
    tick = fd.Tick(0, SYMBOL, 61230, 61242)
    assert gusts.quoted(tick, 0) == (61330, 61342)
    assert gusts.quoted(tick, 5 * MINUTE) == (61280, 61292)
    assert gusts.quoted(tick, 10 * MINUTE) == (61230, 61242)
    assert gusts.quoted(tick, 11 * MINUTE) == (61230, 61242)


def test_a_bar_in_which_a_price_jumped_still_is_a_bar():
    gusts = Gusts()
    gusts.jump(SYMBOL, -300, 30 * SECOND, 300 * SECOND)
    bar = gusts.bar(fd.BarDone(60 * SECOND, SYMBOL, 0, 61230, 61240, 61220, 61235, 12.0))
    assert bar.low <= min(bar.open, bar.close) <= max(bar.open, bar.close) <= bar.high
    assert (bar.open, bar.low) == (61230, 60920)
    assert Jump(10, 0, 0).at(5) == 0


def test_a_jump_never_goes_below_a_tick():
    gusts = Gusts()
    gusts.jump(SYMBOL, -10_000, 0, MINUTE)
    assert gusts.quoted(fd.Tick(0, SYMBOL, 50, 60), 0) == (1, 11)


def test_a_stranger_s_position_is_told_only_to_who_asks():
    venue = quay()
    told_until(venue, 20)
    venue.stray(SYMBOL, -1, 5)
    told = told_until(venue, 1)
    assert not [one for one in told if isinstance(one, (port.Accepted, port.Filled))]
    venue.send(port.AskHoldings(token=1, orders=()), venue.now)
    holdings = next(one for one in told_until(venue, 1) if isinstance(one, port.HoldingsTold))
    assert [(one.side, one.qty) for one in holdings.positions] == [(-1, "0.05")]
    assert holdings.positions[0].entry > 0


@pytest.mark.parametrize("key", FAULTS)
def test_a_fault_beyond_its_bounds_is_no_weather(key):
    too_much = 1.5 if key in CHANCES else 1e9
    for value in (-1, too_much):
        with pytest.raises(BadInput, match=key):
            Weather(**{key: int(value) if key == "slip_ticks" else value})


def test_another_weather_counts_from_nothing():
    venue = quay("gale")
    told_until(venue, 300)
    assert sum(venue.counts.values())
    venue.set_weather(SEVERITIES["fair"], 7)
    assert not sum(venue.counts.values())
    assert venue.weather is SEVERITIES["fair"]
