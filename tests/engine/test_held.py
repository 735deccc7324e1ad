"""Held lines: the venue sees the backstop only, the quote triggers the stop; adoption of positions
not ours."""

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from byhand import SYMBOL, ByHand, codes, of, plan
from hawser.core.clock import MILLISECOND
from hawser.core.entry import HeldRule
from hawser.core.levels import StopRule
from hawser.core.rules.entries import (
    HELD_QUIET,
    HELD_REACHED,
    HELD_SPIKE,
    backstop_behind,
    held_stop,
)
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.model import reasons as rs
from hawser.engine.model import transitions as states
from hawser.engine.model.reasons import Reason
from hawser.engine.outbox import Outbox
from hawser.engine.protection import held_lines


def held(**rule) -> ByHand:
    hand = ByHand()
    hand.protect(held=HeldRule(**rule))
    return hand


def quoted(hand: ByHand, bid: int, ask: int) -> list:
    return hand.do(ev.Quote, symbol=SYMBOL, bid=bid, ask=ask, high_bid=bid, low_ask=ask)


def test_the_venue_sees_the_backstop_and_no_target():
    hand = held()
    assert hand.order("stop").level == 60516  # 2 R below the entry; the stop itself is at 0.60879
    assert hand.trade.state == states.PROTECTED
    assert not hand.engine.state.orders_of(hand.trade, "target")


def test_a_quote_at_the_held_stop_closes_at_market():
    hand = held()
    assert not quoted(hand, 60880, 60892)
    sent = of(quoted(hand, 60879, 60891), cm.Submit)
    assert [(order.role, order.kind, order.steps) for order in sent] == [("close", "market", 104)]
    hand.fill(sent[0].order, 104, 60879)
    assert hand.trade.end == Reason(rs.HELD_STOP)


def test_a_spread_spike_is_waited_for_also_where_a_quote_is_looked_at_for_something_else():
    hand = held(settle_ms=500)
    quoted(hand, 60870, 60930)
    outbox = Outbox(hand.engine.state)
    hand.engine.state.now += 100 * MILLISECOND
    held_lines.watch(outbox, hand.trade)  # as a basket's quote does
    assert not outbox.out
    hand.engine.state.now += 400 * MILLISECOND
    held_lines.watch(outbox, hand.trade)
    assert "held_stop" in codes(outbox.out) or of(outbox.out, cm.Submit)


def test_quotes_of_what_is_being_closed_leave_nothing_in_the_record():
    hand = held()
    hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id)
    assert hand.trade.leave is not None
    assert not quoted(hand, 60870, 60882)  # beyond the held stop
    assert not hand.engine.decided


def test_a_spread_spike_may_last_so_long_and_no_longer():
    hand = held(settle_ms=500)
    found = quoted(hand, 60870, 60930)  # the ask stands where it was: only the spread has widened
    assert "held_waits" in codes(found) and not of(found, cm.Submit)
    assert not quoted(hand, 60900, 60912)  # it has passed
    quoted(hand, 60870, 60930)
    assert [order.role for order in of(hand.later(0.6), cm.Submit)] == ["close"]


def test_who_moves_the_held_stop_out_of_a_spread_spike_is_not_closed_by_it():
    hand = held(settle_ms=500)
    quoted(hand, 60870, 60930)
    hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=60_800, widen=True)
    assert hand.trade.stop == 60_800
    assert not of(hand.later(0.6), cm.Submit)
    assert not hand.trade.leave
    quoted(hand, 60800, 60930)  # another spike has its own time
    assert not of(hand.later(0.4), cm.Submit)
    assert [order.role for order in of(hand.later(0.2), cm.Submit)] == ["close"]


def test_quotes_while_a_spread_spike_is_waited_for_leave_nothing_in_the_record():
    hand = held(settle_ms=500)
    quoted(hand, 60870, 60930)
    assert hand.engine.decided
    hand.now += 100 * MILLISECOND
    assert not quoted(hand, 60871, 60931)
    assert not hand.engine.decided


def test_a_real_move_is_not_waited_for():
    hand = held(settle_ms=500)
    assert of(quoted(hand, 60870, 60882), cm.Submit)


def test_held_targets_are_taken_at_market_when_the_quote_reaches_them():
    hand = held()
    sent = of(quoted(hand, 61605, 61617), cm.Submit)
    assert [(order.role, order.kind, order.steps) for order in sent] == [("target", "market", 41)]
    assert not of(quoted(hand, 61606, 61618), cm.Submit)  # it is under way
    hand.fill(sent[0].order, 41, 61605)
    assert hand.trade.open_steps == 63
    assert not of(quoted(hand, 61607, 61619), cm.Submit)


def test_the_backstop_follows_the_held_stop_and_only_tightens():
    hand = held()
    hand.quote(61900, 61912)
    found = hand.bar(0.61900, atr=0.00145)
    assert hand.trade.stop > 60879
    amends = of(found, cm.Amend)
    assert [order.level for order in amends] == [hand.trade.stop - 363]


def test_lines_change_places():
    hand = ByHand()
    hand.protect()
    found = hand.do(ev.HoldLines, ask_id="H", trade=hand.trade.id, held=HeldRule())
    assert [order.level for order in of(found, cm.Amend)] == [60516]
    assert len(of(found, cm.Cancel)) == 2
    hand.do(ev.AmendAccepted, order=hand.order("stop").id, level=60516, steps=104)
    for number in (1, 2):
        hand.do(ev.OrderCancelled, order=hand.order("target", number).id, why="asked for")
    back = hand.do(ev.HoldLines, ask_id="B", trade=hand.trade.id, held=None)
    assert [order.level for order in of(back, cm.Amend)] == [60879]
    assert [order.role for order in of(back, cm.Submit)] == ["target", "target"]
    assert codes(hand.do(ev.HoldLines, ask_id="B2", trade=hand.trade.id, held=None)) == [
        "held_already"
    ]


def test_a_widened_held_stop_takes_its_backstop_along():
    hand = held()
    hand.do(ev.MoveStop, ask_id="W", trade=hand.trade.id, level=60800, widen=True)
    assert hand.trade.cover.backstop == 60437


def test_a_held_stop_that_is_reached_says_so():
    hand = held()
    told = [one.text for one in of(quoted(hand, 60879, 60891), cm.Tell) if one.code == "held_stop"]
    assert len(told) == 1
    assert told[0].startswith("Held stop 0.60879: ")
    assert told[0].endswith("; closing at market")


def test_a_stop_that_a_person_moves_counts_at_the_next_quote():
    """Between which prices a quote changes nothing is worked out anew once anything else has
    happened."""
    hand = held()
    assert not quoted(hand, 61_200, 61_212)
    hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=61_150)
    assert [order.role for order in of(quoted(hand, 61_150, 61_162), cm.Submit)] == ["close"]


def test_another_plan_that_holds_its_lines_lays_the_backstop_behind_its_stop():
    hand = held()
    # a looser stop is not taken
    other = plan(stop=StopRule(ticks=500), targets=(), held=HeldRule(backstop_r=1.5))
    hand.do(ev.ChangeRules, ask_id="R", trade=hand.trade.id, plan=other)
    assert (hand.trade.stop, hand.trade.cover.backstop) == (
        60_879,
        60_879 - backstop_behind(363, 1.5),
    )


@pytest.mark.parametrize(
    ("side", "stop", "bid", "ask", "found"),
    [
        (1, 100, 101, 103, HELD_QUIET),
        (1, 100, 100, 102, HELD_REACHED),
        (1, 100, 95, 103, HELD_SPIKE),
        (-1, 100, 97, 99, HELD_QUIET),
        (-1, 100, 98, 100, HELD_REACHED),
        (-1, 100, 97, 105, HELD_SPIKE),
    ],
)
def test_what_a_held_stop_says_of_a_quote(side, stop, bid, ask, found):
    assert held_stop(stop, bid, ask, 2.0, side) == found


def test_the_backstop_is_always_wider():
    assert [backstop_behind(r, m) for r, m in ((363, 2.0), (10, 1.01), (1, 1.001))] == [363, 1, 1]


# Adoption


def found_position(steps: int = 50, side: int = 1) -> ByHand:
    hand = ByHand()
    hand.do(ev.VenueUp)
    told = hand.holdings(positions=(ev.VenuePosition("X-1", SYMBOL, side, steps, 61300.0),))
    assert "position_unexplained" in codes(told)
    return hand


def test_an_adopted_position_gets_its_stop_at_once():
    hand = found_position()
    sent = of(hand.do(ev.Adopt, ask_id="A", position="X-1", plan=plan()), cm.Submit)
    assert [(order.role, order.steps, order.level, order.closes) for order in sent] == [
        ("stop", 50, 60867, "X-1")
    ]
    hand.do(ev.OrderAccepted, order=sent[0].order)
    assert hand.trade.state == states.PROTECTED
    assert hand.trade.entry_price == 61300.0
    assert not hand.engine.state.unexplained


def test_a_stop_from_bars_of_an_adopted_position_stands_on_what_bars_say_now():
    hand = found_position()
    bars = plan(stop=StopRule(bars=5), targets=(), trail=None)
    sent = of(hand.do(ev.Adopt, ask_id="A", position="X-1", plan=bars, basis=0.60900), cm.Submit)
    assert [(order.role, order.level) for order in sent] == [("stop", 60_900)]
    hand = found_position()
    assert codes(hand.do(ev.Adopt, ask_id="A", position="X-1", plan=bars)) == [
        "indicator_not_ready"
    ]


def test_an_adopted_position_is_compared_like_any_other():
    hand = found_position()
    hand.do(ev.Adopt, ask_id="A", position="X-1", plan=plan())
    hand.do(ev.OrderAccepted, order=hand.order("stop").id)
    hand.do(ev.VenueUp)
    resting = tuple(order.id for order in hand.engine.state.orders.values() if not order.over)
    told = hand.holdings(
        positions=(ev.VenuePosition("X-1", SYMBOL, 1, 50, 61300.0),), resting=resting
    )
    assert codes(told) == ["reconciled"]
    hand.do(ev.VenueUp)
    assert "quantity_differs" in codes(hand.holdings())
    assert hand.trade.state == states.ENDED


@pytest.mark.parametrize(
    ("position", "changes", "code"),
    [("X-9", {}, "no_position"), ("X-1", {"side": -1}, "other_position")],
)
def test_what_cannot_be_adopted_is_refused(position, changes, code):
    hand = found_position()
    assert codes(hand.do(ev.Adopt, ask_id="A", position=position, plan=plan(**changes))) == [code]
    assert "X-1" in hand.engine.state.unexplained


def test_adopting_waits_for_a_quote():
    hand = found_position()
    hand.market.bid = 0
    told = hand.do(ev.Adopt, ask_id="A", position="X-1", plan=plan())
    assert [one.text for one in of(told, cm.Tell)] == ["Not adopted: CAD/CHF has no quote yet."]
    assert "X-1" in hand.engine.state.unexplained


def test_an_adopted_position_can_be_closed():
    hand = found_position()
    hand.do(ev.Adopt, ask_id="A", position="X-1", plan=plan(targets=()))
    hand.do(ev.OrderAccepted, order=hand.order("stop").id)
    sent = of(hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id), cm.Submit)
    hand.fill(sent[0].order, 50, 61230)
    assert hand.trade.state == states.ENDED


@settings(max_examples=60, deadline=None)
@given(
    st.lists(
        st.tuples(st.integers(-90, 90), st.integers(2, 60), st.integers(0, 9)),
        min_size=5,
        max_size=60,
    )
)
def test_a_quiet_band_never_hides_a_quote_that_matters(moves):
    """The same quotes to an engine that looks at every one and to one that skips what its band
    calls quiet."""
    plain, banded = held(settle_ms=300), held(settle_ms=300)
    for number, (step, spread, other) in enumerate(moves):
        bid = 61230 + step * 6
        for hand in (plain, banded):
            hand.now += 100_000_000
            if other == 0:  # now and then something else happens
                hand.do(ev.MoveStop, ask_id=f"m{number}", trade=hand.trade.id, level=bid - 200)
        plain.engine._bands.clear()
        told = [quoted(hand, bid, bid + spread) for hand in (plain, banded)]
        assert told[0] == told[1]
    first, second = (msgspec.msgpack.encode(hand.engine.state) for hand in (plain, banded))
    assert first == second
