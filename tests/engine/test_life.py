"""A trade's life in the engine: entry, cover, targets, trail, leaving, and every answer that comes
late or twice."""

from decimal import Decimal

import msgspec
import pytest

from byhand import SYMBOL, ByHand, codes, of, plan
from hawser.core.account import Policy, SizeRule
from hawser.core.clock import MINUTE
from hawser.core.entry import EntryRule
from hawser.core.errors import HawserBug
from hawser.core.levels import StopRule
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.engine import Engine
from hawser.engine.model import reasons as rs
from hawser.engine.model import transitions as states
from hawser.engine.model.reasons import Reason
from madeup import account, pair


def test_placing_sends_one_sized_market_entry():
    hand = ByHand()
    sent = of(hand.place(), cm.Submit)
    assert len(sent) == 1
    assert (sent[0].role, sent[0].kind, sent[0].side, sent[0].steps, sent[0].level) == (
        "entry",
        "market",
        1,
        104,
        None,
    )
    assert sent[0].order.startswith("P-")
    assert hand.trade.state == states.ENTERING


def test_one_request_is_one_entry_however_often_it_comes():
    hand = ByHand()
    hand.place("A1")
    again = hand.place("A1")
    assert not of(again, cm.Submit)
    assert codes(again) == ["asked_twice"]


def test_a_fill_exposes_then_the_stop_s_rest_protects_then_targets_follow():
    hand = ByHand()
    sent = of(hand.enter(), cm.Submit)
    assert hand.trade.state == states.EXPOSED
    assert [(order.role, order.level, order.steps, order.side) for order in sent] == [
        ("stop", 60879, 104, -1)
    ]
    followed = of(hand.do(ev.OrderAccepted, order=sent[0].order), cm.Submit)
    assert hand.trade.state == states.PROTECTED
    assert [(order.role, order.level, order.steps) for order in followed] == [
        ("target", 61605, 41),
        ("target", 62149, 31),
    ]
    assert all(order.closes == hand.trade.entry.order_id for order in followed)


def test_a_fill_before_its_acceptance_is_protected_all_the_same():
    hand = ByHand()
    hand.place()
    sent = of(hand.fill(hand.trade.entry.order_id, 104, 61242), cm.Submit)
    assert [order.role for order in sent] == ["stop"]
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    assert hand.trade.open_steps == 104


def test_a_fill_told_twice_counts_once():
    hand = ByHand()
    hand.place()
    hand.fill(hand.trade.entry.order_id, 104, 61242, fill="F1")
    assert not of(hand.fill(hand.trade.entry.order_id, 104, 61242, fill="F1"), cm.Submit)
    assert hand.trade.open_steps == 104


def test_the_stop_follows_an_entry_that_fills_in_parts():
    hand = ByHand()
    hand.place()
    first = of(hand.fill(hand.trade.entry.order_id, 60, 61242), cm.Submit)
    assert first[0].steps == 60
    hand.do(ev.OrderAccepted, order=first[0].order)
    assert hand.trade.state == states.PROTECTED
    more = hand.fill(hand.trade.entry.order_id, 44, 61244)
    assert of(more, cm.Amend)[0].steps == 104
    assert hand.trade.state == states.EXPOSED
    hand.do(ev.AmendAccepted, order=first[0].order, level=60879, steps=104)
    assert hand.trade.state == states.PROTECTED
    assert hand.trade.entry_price == pytest.approx((60 * 61242 + 44 * 61244) / 104)


def test_a_target_s_fill_lowers_the_stop_s_quantity():
    hand = ByHand()
    hand.protect()
    hand.quote(61605, 61617)
    amend = of(hand.fill(hand.order("target", 1).id, 41, 61605, profit=146.0), cm.Amend)
    assert [(order.role, order.steps) for order in amend] == [("stop", 63)]


def test_the_stop_s_fill_ends_the_trade_and_takes_the_targets_back():
    hand = ByHand()
    hand.protect()
    told = hand.fill(hand.order("stop").id, 104, 60879, profit=-377.0)
    assert len(of(told, cm.Cancel)) == 2
    assert hand.trade.state == states.ENDED
    assert hand.trade.end == Reason(rs.STOP)
    assert "\u2212379.00" in next(
        tell.text for tell in of(told, cm.Tell) if tell.code == "trade_ended"
    )


def test_a_refused_stop_is_tried_again_and_at_the_deadline_the_trade_is_closed():
    hand = ByHand(policy=Policy(exposed_deadline_s=4.0))
    hand.enter()
    hand.do(ev.OrderRejected, order=hand.order("stop").id, code="busy", text="the venue is busy")
    assert hand.trade.state == states.EXPOSED
    again = hand.later(0.3)
    assert [order.role for order in of(again, cm.Submit)] == ["stop"]
    hand.do(ev.OrderRejected, order=hand.order("stop").id, code="busy", text="the venue is busy")
    late = hand.later(1.8)
    assert "deadline" in codes(late)
    assert "close" in [order.role for order in of(late, cm.Submit)]
    assert hand.trade.state == states.LEAVING


def test_at_the_deadline_the_stop_is_tried_beside_the_close_and_a_failing_close_never_gives_up():
    hand = ByHand(policy=Policy(exposed_deadline_s=4.0))
    hand.enter()
    hand.do(ev.OrderRejected, order=hand.order("stop").id, code="busy", text="busy")
    sent = []
    for _ in range(40):
        sent += of(hand.later(0.25), cm.Submit)
        for order in list(hand.engine.state.orders.values()):
            if order.trade == hand.trade.id and not order.over and order.role != "entry":
                hand.do(ev.OrderRejected, order=order.id, code="busy", text="busy")
    roles = [order.role for order in sent]
    assert roles.count("close") > 10
    assert roles.count("stop") > 10
    assert "close_fails" in codes(hand.all)
    assert hand.trade.open_steps == 104


def test_past_the_deadline_a_close_that_nobody_answers_gets_another_beside_it():
    hand = ByHand(policy=Policy(exposed_deadline_s=4.0))
    hand.enter()
    hand.do(ev.OrderRejected, order=hand.order("stop").id, code="busy", text="busy")
    closes = [order for order in of(hand.later(3.9), cm.Submit) if order.role == "close"]
    assert len(closes) == 4  # at 2 s, and each time the one before it was silent
    assert not [order for order in of(hand.later(5), cm.Submit) if order.role == "close"]
    found = hand.fill(closes[1].order, 104, 61230)
    assert "trade_ended" in codes(found)
    for other in (closes[0], closes[2], closes[3]):
        told = hand.do(
            ev.OrderRejected,
            order=other.order,
            code="no_position",
            text="there is no position to close",
        )
        assert not codes(told)  # it is closed: nothing has failed
    assert (hand.trade.state, hand.trade.closed) == (states.ENDED, 104)
    assert codes(hand.all).count("trade_ended") == 1
    assert "close_fails" not in codes(hand.all)


def test_a_stop_the_market_has_passed_closes_the_trade():
    hand = ByHand()
    hand.enter()
    hand.quote(60870, 60882)
    told = hand.do(
        ev.OrderRejected,
        order=hand.order("stop").id,
        code="wrong_side",
        text="at or through the market",
    )
    assert "stop_passed" in codes(told)
    assert [order.role for order in of(told, cm.Submit)] == ["close"]


def test_silence_is_asked_about_and_never_sent_again_blindly():
    hand = ByHand()
    hand.place()
    entry = hand.trade.entry.order_id
    late = hand.later(0.5)
    assert [query.order for query in of(late, cm.Query)] == [entry]
    assert not of(late, cm.Submit)
    assert hand.engine.state.orders[entry].state == states.UNKNOWN
    assert "venue_silent" in codes(hand.later(3))
    hand.do(ev.OrderStatus, known=ev.OrderReport(entry, "missing", 0, 0))
    assert hand.trade.state == states.ENDED
    assert "entry_void" in codes(hand.all)


def grown(hand):
    """A stop that is asked to cover a second part of the entry; nothing is heard of it."""
    hand.place()
    hand.fill(hand.trade.entry.order_id, 40, 61242)
    stop = hand.order("stop")
    hand.do(ev.OrderAccepted, order=stop.id)
    found = of(hand.fill(hand.trade.entry.order_id, 64, 61242), cm.Amend)
    assert [(one.order, one.steps) for one in found] == [(stop.id, 104)]
    return stop


def test_a_fill_of_all_that_is_known_does_not_end_an_order_that_may_have_grown():
    hand = ByHand()
    stop = grown(hand)
    hand.fill(stop.id, 45, 60879)  # more than it had: the change came through, its answer did not
    assert not stop.over
    stop.steps_under_way = 0
    # it is larger than is known, however that came
    assert of(hand.fill(stop.id, 3, 60879) + hand.later(1), cm.Query)
    hand.do(ev.OrderStatus, known=ev.OrderReport(stop.id, "resting", stop.level, 104))
    assert (stop.left, hand.trade.open_steps) == (56, 56)
    hand.fill(stop.id, 56, 60879)
    assert hand.trade.state == states.ENDED


def test_where_the_change_was_refused_the_order_is_at_its_end():
    hand = ByHand()
    stop = grown(hand)
    hand.fill(stop.id, 40, 60879)
    assert not stop.over
    found = hand.do(ev.AmendRejected, order=stop.id, code="not_resting", text="it does not rest")
    assert [query.order for query in of(found, cm.Query)] == [stop.id]
    found = hand.do(ev.OrderStatus, known=ev.OrderReport(stop.id, "filled", stop.level, 40))
    assert stop.over
    assert [(one.role, one.steps) for one in of(found, cm.Submit)] == [("stop", 64)]


def test_a_query_that_finds_fills_protects_them():
    hand = ByHand()
    hand.place()
    hand.later(0.5)
    fill = ev.Fill("F9", hand.now, 104, 61242, 0.0, 2.6)
    sent = of(
        hand.do(
            ev.OrderStatus,
            known=ev.OrderReport(hand.trade.entry.order_id, "filled", 0, 104, (fill,)),
        ),
        cm.Submit,
    )
    assert [order.role for order in sent] == ["stop"]


def test_an_entry_that_fills_after_it_was_given_up_is_closed():
    hand = ByHand()
    hand.place()
    hand.later(0.5)
    hand.do(ev.OrderStatus, known=ev.OrderReport(hand.trade.entry.order_id, "missing", 0, 0))
    told = hand.fill(hand.trade.entry.order_id, 104, 61242)
    assert "late_fill" in codes(told)
    assert "close" in [order.role for order in of(told, cm.Submit)]
    assert hand.trade.state == states.LEAVING


def test_a_stop_thought_lost_that_rests_after_all_is_taken_back():
    hand = ByHand()
    hand.enter()
    first = hand.order("stop").id
    hand.later(0.5)
    sent = of(
        hand.do(ev.OrderStatus, known=ev.OrderReport(first, "missing", 0, 0)), cm.Submit
    ) + of(hand.later(0.3), cm.Submit)
    second = next(order.order for order in sent if order.role == "stop")
    hand.do(ev.OrderAccepted, order=second)
    told = hand.do(ev.OrderAccepted, order=first)
    cancelled = [cancel.order for cancel in of(told, cm.Cancel)]
    assert len(cancelled) == 1
    assert cancelled[0] in (first, second)
    assert hand.trade.state == states.PROTECTED


def test_a_lost_telling_of_a_part_is_asked_about():
    """A close fills in pieces and the first telling is lost: the second must not pass for all there
    is to know."""
    hand = ByHand()
    hand.protect()
    hand.do(ev.CloseTrade, ask_id="A2", trade=hand.trade.id)
    close = hand.order("close").id
    hand.fill(close, 40, 61230, fill="F-second")
    assert close in [query.order for query in of(hand.later(1.0), cm.Query)]
    fills = (
        ev.Fill("F-first", hand.now, 64, 61231, 0.0, 1.0),
        ev.Fill("F-second", hand.now, 40, 61230, 0.0, 1.0),
    )
    hand.do(ev.OrderStatus, known=ev.OrderReport(close, "filled", 0, 104, fills))
    assert hand.trade.closed == 104
    assert hand.trade.state == states.ENDED


def test_an_unheard_order_that_is_cancelled_is_asked_for_its_fills():
    hand = ByHand()
    hand.protect()
    hand.do(ev.CloseTrade, ask_id="A2", trade=hand.trade.id)
    close = hand.order("close").id
    asked = of(hand.do(ev.OrderCancelled, order=close, why="no more to close"), cm.Query)
    assert [query.order for query in asked] == [close]
    hand.do(
        ev.OrderStatus,
        known=ev.OrderReport(
            close, "cancelled", 0, 104, (ev.Fill("F8", hand.now, 30, 61230, 0, 1),)
        ),
    )
    assert hand.trade.closed == 30
    assert not [query for query in of(hand.later(3), cm.Query) if query.order == close]


def test_a_close_that_finds_nothing_is_compared_with_the_venue():
    hand = ByHand()
    hand.protect()
    hand.do(ev.CloseTrade, ask_id="A2", trade=hand.trade.id)
    told = hand.do(
        ev.OrderRejected, order=hand.order("close").id, code="no_position", text="nothing to close"
    )
    assert of(told, cm.QueryAll)
    assert codes(hand.place("A9")) == ["reconciling"]
    hand.holdings()
    assert hand.trade.state == states.ENDED


def test_a_stop_the_venue_finds_too_near_twice_is_not_waited_for():
    hand = ByHand()
    hand.enter()
    for _ in range(2):
        told = hand.do(
            ev.OrderRejected, order=hand.order("stop").id, code="too_near", text="10 are needed"
        )
        found = of(told, cm.Submit) + of(hand.later(0.26), cm.Submit)
    assert "stop_impossible" in codes(told)
    assert "close" in [order.role for order in found]
    hand.quote(60885, 60897)
    again = of(
        hand.do(ev.OrderRejected, order=hand.order("stop").id, code="too_near", text="10"),
        cm.Submit,
    )
    again += of(hand.later(0.6), cm.Submit)
    covers = [order for order in again if order.role == "stop"]
    # farther out than the plan's 60879: it is told, and the close goes on
    assert covers[-1].level == 60885 - 20
    assert "emergency_stop" in codes(hand.all)


def test_closing_by_hand_takes_targets_back_and_sends_one_close():
    hand = ByHand()
    hand.protect()
    told = hand.do(ev.CloseTrade, ask_id="A2", trade=hand.trade.id)
    assert [order.role for order in of(told, cm.Submit)] == ["close"]
    assert len(of(told, cm.Cancel)) == 2
    assert not of(hand.do(ev.CloseTrade, ask_id="A3", trade=hand.trade.id), cm.Submit)
    told = hand.fill(hand.order("close").id, 104, 61240)
    assert hand.trade.state == states.ENDED
    assert hand.trade.end == Reason(rs.BY_HAND)
    assert [cancel.order for cancel in of(told, cm.Cancel)] == [hand.order("stop").id]


def test_a_close_during_the_entry_waits_for_its_fill():
    hand = ByHand()
    hand.place()
    hand.do(ev.CloseTrade, ask_id="A2", trade=hand.trade.id)
    told = hand.fill(hand.trade.entry.order_id, 104, 61242)
    assert "close" in [order.role for order in of(told, cm.Submit)]


@pytest.mark.parametrize(
    ("change", "code"),
    [
        (lambda hand: hand.do(ev.VenueDown, why="cable"), "link_down"),
        (lambda hand: hand.do(ev.Halt, ask_id="h", why="by hand"), "halted"),
        (
            lambda hand: hand.do(ev.InstrumentState, symbol="CAD/CHF", open=False, until=0),
            "market_closed",
        ),
        (lambda hand: hand.later(120), "feed_silent"),
        (lambda hand: (hand.do(ev.VenueDown, why="x"), hand.do(ev.VenueUp)), "reconciling"),
    ],
)
def test_entries_are_closed_with_a_reason(change, code):
    hand = ByHand()
    change(hand)
    told = hand.place()
    assert not of(told, cm.Submit)
    assert codes(told) == [code]


def test_an_unknown_instrument_or_trade_is_refused():
    hand = ByHand()
    assert codes(hand.place(symbol="Nothing")) == ["no_instrument"]
    assert codes(hand.do(ev.CloseTrade, ask_id="A", trade="T99")) == ["no_trade"]
    assert codes(hand.do(ev.MoveStop, ask_id="A", trade="T99", level=5)) == ["no_trade"]


def test_a_size_that_is_refused_is_told_with_its_code():
    told = ByHand().place(size=SizeRule(percent=0.001))
    assert codes(told) == ["below_min"]
    assert "Not placed" in of(told, cm.Tell)[0].text


def test_halt_latches_closes_and_is_lifted_by_a_reason_only():
    hand = ByHand()
    hand.protect()
    told = hand.do(ev.Halt, ask_id="h", why="by hand")
    assert [order.role for order in of(told, cm.Submit)] == ["close"]
    assert codes(hand.do(ev.Rearm, ask_id="r", reason=" ")) == ["no_reason"]
    assert codes(hand.place("A9")) == ["halted"]
    assert codes(hand.do(ev.Rearm, ask_id="r", reason="news has passed")) == ["rearmed"]
    assert of(hand.place("A10"), cm.Submit)
    assert codes(hand.do(ev.Rearm, ask_id="r", reason="again")) == ["not_halted"]


def test_the_trail_moves_on_completed_bars_and_only_tightens():
    hand = ByHand()
    hand.protect()
    stop = hand.order("stop").id
    hand.quote(61545, 61557)
    moved = of(hand.bar(0.61545, atr=0.00145), cm.Amend)
    assert [(order.order, order.level) for order in moved] == [(stop, 61110)]
    assert moved[0].why == "Stop 0.60879 \u2192 0.61110: trail, 3 ATR below 0.61545"
    hand.do(ev.AmendAccepted, order=stop, level=61110, steps=104)
    hand.quote(61400, 61412)
    assert not of(hand.bar(0.614, atr=0.0020), cm.Amend)  # farther away now: stays
    assert [rest.level for rest in hand.trade.cover.trace] == [60879, 61110]


def test_a_trail_needs_its_own_timeframe_and_an_atr():
    hand = ByHand()
    hand.protect()
    hand.quote(61545, 61557)
    assert not of(hand.bar(0.61545, atr=0.0001, span=60_000_000_000), cm.Amend)
    assert not of(hand.bar(0.61545, atr=float("nan")), cm.Amend)


def test_the_extreme_includes_the_bars_lived_through():
    hand = ByHand()
    hand.protect()
    hand.bar(0.6123, atr=0.00145)
    hand.now += 900_000_000_000
    hand.quote(61500, 61512)
    moved = hand.do(
        ev.BarCompleted,
        symbol="CAD/CHF",
        span=900_000_000_000,
        opened=hand.now - 900_000_000_000,
        open=0.6125,
        high=0.61600,
        low=0.61210,
        close=0.615,
        spread=12.0,
        atr=0.00145,
    )
    assert of(moved, cm.Amend)[0].level == 61600 - 435


def test_a_short_trails_the_lowest_ask():
    hand = ByHand()
    hand.protect(side=-1)
    hand.quote(60900, 60912)
    assert of(hand.bar(0.609, atr=0.00145), cm.Amend)[0].level == 60912 + 435


def test_moving_a_stop_by_hand():
    hand = ByHand()
    hand.protect()
    name = hand.trade.id
    assert of(hand.do(ev.MoveStop, ask_id="m", trade=name, level=61000), cm.Amend)[0].level == 61000
    hand.do(ev.AmendAccepted, order=hand.order("stop").id, level=61000, steps=104)
    assert codes(hand.do(ev.MoveStop, ask_id="m", trade=name, level=60900)) == ["widen_unconfirmed"]
    wider = hand.do(ev.MoveStop, ask_id="m", trade=name, level=60900, widen=True)
    assert "widened by hand" in of(wider, cm.Amend)[0].why
    # 5 ticks away
    assert codes(hand.do(ev.MoveStop, ask_id="m", trade=name, level=61225)) == ["stop_refused"]
    assert codes(hand.do(ev.MoveStop, ask_id="m", trade=name, level=61300)) == ["stop_refused"]
    assert hand.do(ev.MoveStop, ask_id="m", trade=name, level=60900) == []


def test_a_policy_that_never_widens():
    hand = ByHand(policy=Policy(never_widen=True))
    hand.protect()
    told = hand.do(ev.MoveStop, ask_id="m", trade=hand.trade.id, level=60000, widen=True)
    assert codes(told) == ["never_widen"]


def test_a_move_the_venue_refuses_is_given_up_and_told():
    hand = ByHand()
    hand.protect()
    hand.do(ev.MoveStop, ask_id="m", trade=hand.trade.id, level=61000)
    told = hand.do(
        ev.AmendRejected, order=hand.order("stop").id, code="too_near", text="10 ticks are needed"
    )
    assert codes(told) == ["move_refused"]
    assert hand.trade.stop == 60879
    assert hand.trade.state == states.PROTECTED


def test_moving_a_target_by_hand():
    hand = ByHand()
    hand.protect()
    name = hand.trade.id
    moved = hand.do(ev.MoveTarget, ask_id="m", trade=name, number=1, level=61700)
    assert [(order.role, order.level) for order in of(moved, cm.Amend)] == [("target", 61700)]
    assert codes(hand.do(ev.MoveTarget, ask_id="m", trade=name, number=1, level=61235)) == [
        "target_refused"
    ]
    assert codes(hand.do(ev.MoveTarget, ask_id="m", trade=name, number=3, level=61900)) == [
        "target_refused"
    ]


@pytest.mark.parametrize(
    ("steps", "code", "state"),
    [
        (104, None, states.PROTECTED),
        (60, "quantity_differs", states.PROTECTED),
        (0, "quantity_differs", states.ENDED),
    ],
)
def test_what_the_venue_holds_counts(steps, code, state):
    hand = ByHand()
    hand.protect()
    hand.do(ev.VenueDown, why="cable")
    assert codes(hand.place("A5")) == ["link_down"]
    hand.do(ev.VenueUp)
    stop = hand.order("stop")
    held = (ev.VenuePosition(hand.trade.entry.order_id, "CAD/CHF", 1, steps),) if steps else ()
    asked = (ev.OrderReport(stop.id, "resting", stop.level, 104),)
    told = hand.holdings(positions=held, resting=(stop.id,), asked=asked)
    assert (code in codes(told)) if code else ("quantity_differs" not in codes(told))
    assert hand.trade.open_steps == steps
    assert hand.trade.state == state
    if steps == 60:
        assert of(told, cm.Amend)[0].steps == 60


def test_what_only_the_venue_knows_is_told_and_left_alone():
    hand = ByHand()
    hand.do(ev.VenueUp)
    told = hand.holdings(positions=(ev.VenuePosition("X-1", "CAD/CHF", -1, 7),), resting=("X-2",))
    assert codes(told) == ["position_unexplained", "order_not_ours"]
    assert not of(told, cm.Cancel)
    assert codes(hand.do(ev.OrderAccepted, order="X-3")) == ["order_not_ours"]


def test_a_part_that_is_more_than_one_order_may_take_is_closed_by_several():
    """The venue refused it, as often as it was asked for."""
    hand = ByHand()
    hand.protect()
    smaller = msgspec.structs.replace(pair(), qty_max=pair().qty_step * 20)
    hand.do(ev.InstrumentsChanged, instruments=(smaller,), spans={})
    sent = of(hand.do(ev.CloseTrade, ask_id="A", trade=hand.trade.id, share=0.5), cm.Submit)
    assert [(one.role, one.steps) for one in sent] == [("close", 20), ("close", 20), ("close", 12)]
    for one in sent:
        hand.fill(one.order, one.steps, 61_230)
    assert (hand.trade.open_steps, hand.trade.leave) == (52, None)
    least = msgspec.structs.replace(pair(), qty_max=pair().qty_step)
    hand.do(ev.InstrumentsChanged, instruments=(least,), spans={})
    told = hand.do(ev.CloseTrade, ask_id="B", trade=hand.trade.id, share=0.99)
    assert codes(told) == ["share_refused"] and not of(told, cm.Submit)


def test_who_takes_an_entry_back_that_has_just_filled_closes_nothing():
    hand = ByHand()
    hand.place(entry=EntryRule(kind="limit", price=Decimal("0.61100")), targets=())
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    hand.fill(hand.trade.entry.order_id, 30, hand.trade.ref)
    told = hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id, entry_only=True)
    assert [(one.order, one.why) for one in of(told, cm.Cancel)] == [
        (hand.trade.entry.order_id, "taken back by hand")
    ]
    hand.do(ev.OrderCancelled, order=hand.trade.entry.order_id, why="asked for", filled=30)
    hand.do(ev.OrderAccepted, order=hand.order("stop").id)
    told = hand.do(ev.CloseTrade, ask_id="D", trade=hand.trade.id, entry_only=True)
    assert codes(told) == ["not_pending"]
    assert not [one for one in of(hand.later(30), cm.Submit) if one.role == "close"]
    assert (hand.trade.leave, hand.trade.open_steps) == (None, 30)


def test_a_part_is_not_closed_on_a_line_that_is_cut():
    hand = ByHand()
    hand.protect()
    hand.do(ev.VenueDown, why="it was cut")
    told = hand.do(ev.CloseTrade, ask_id="A", trade=hand.trade.id, share=0.5)
    assert codes(told) == ["share_refused"] and not of(told, cm.Submit)


def test_a_foreign_position_follows_its_instrument():
    """Asking to adopt one whose instrument had gone ended in a fault; one on another grid was
    another size."""
    hand = ByHand()
    hand.do(ev.VenueUp)
    hand.holdings(positions=(ev.VenuePosition("X-1", SYMBOL, -1, 70, 61_100.0),))
    finer = msgspec.structs.replace(pair(), tick=pair().tick / 10, qty_step=pair().qty_step * 4)
    hand.do(ev.InstrumentsChanged, instruments=(finer,), spans={})
    assert hand.engine.state.unexplained == {
        "X-1": ev.VenuePosition("X-1", SYMBOL, -1, 17, 611_000.0)
    }
    told = hand.do(ev.InstrumentsChanged, instruments=(), spans={})
    assert "position_unseen" in codes(told)
    assert codes(hand.do(ev.Adopt, ask_id="A", position="X-1", plan=plan(side=-1))) == [
        "no_position"
    ]
    assert "position_gone" not in codes(hand.holdings())  # nobody knows


def test_holdings_that_never_come_are_asked_for_again():
    hand = ByHand()
    hand.do(ev.VenueUp)
    assert of(hand.later(2.1), cm.QueryAll)


def test_an_order_left_over_from_an_ended_trade_is_cancelled():
    hand = ByHand()
    hand.protect()
    target = hand.order("target", 1).id
    hand.do(ev.OrderCancelled, order=target, why="gone")
    hand.do(ev.VenueUp)
    told = hand.holdings(
        positions=(ev.VenuePosition(hand.trade.entry.order_id, "CAD/CHF", 1, 104),),
        resting=(target,),
    )
    assert target in [cancel.order for cancel in of(told, cm.Cancel)]


def test_the_same_events_give_the_same_commands_to_the_byte():
    hand = ByHand()
    hand.protect()
    hand.quote(61545, 61557)
    hand.bar(0.61545, atr=0.00145)
    hand.later(5)
    hand.do(ev.Halt, ask_id="h", why="by hand")
    again, commands = Engine(), []
    for event in hand.events:
        commands += again.handle(event)
    encode = msgspec.msgpack.encode
    assert encode(commands) == encode(hand.all)
    assert encode(again.state) == encode(hand.engine.state)


def test_impossible_events_and_transitions_cannot_be_made():
    with pytest.raises(ValueError, match="bid"):
        ev.Quote(time=1, symbol="X", bid=5, ask=4, high_bid=5, low_ask=4)
    with pytest.raises(HawserBug):
        states.next_trade_state(states.PLANNED, "cover")


def test_tables_are_closed():
    for table in (states.ORDER, states.TRADE):
        assert all(target in table for row in table.values() for target in row.values())
    for state in states.OVER:
        assert states.next_order_state(state, "silence") == state
    assert states.next_order_state(states.CANCELLED, "accept") == states.CANCELLED


def test_a_stop_without_an_indicator_is_not_placed():
    hand = ByHand()
    assert codes(hand.place(timeframe_ns=60_000_000_000)) == ["indicator_not_ready"]
    assert of(hand.place("A7", stop=StopRule(ticks=200), timeframe_ns=60_000_000_000), cm.Submit)
    assert plan().stop == StopRule(atr=2.5)


def test_closing_a_share_leaves_the_rest_covered():
    hand = ByHand()
    hand.protect()
    sent = of(hand.do(ev.CloseTrade, ask_id="A2", trade=hand.trade.id, share=0.5), cm.Submit)
    assert [(order.role, order.steps) for order in sent] == [("close", 52)]
    assert codes(hand.do(ev.CloseTrade, ask_id="A3", trade=hand.trade.id, share=0.5)) == [
        "share_refused"
    ]
    amends = of(hand.fill(hand.order("close").id, 52, 61240), cm.Amend)
    assert ("stop", 52) in [(order.role, order.steps) for order in amends]
    assert hand.trade.state in (states.PROTECTED, states.EXPOSED)
    assert hand.trade.open_steps == 52


def test_a_share_below_one_step_is_refused_and_one_that_fails_is_told_and_not_repeated():
    hand = ByHand()
    hand.protect()
    assert codes(hand.do(ev.CloseTrade, ask_id="A2", trade=hand.trade.id, share=0.001)) == [
        "share_refused"
    ]
    hand.do(ev.CloseTrade, ask_id="A3", trade=hand.trade.id, share=0.25)
    told = hand.do(
        ev.OrderRejected, order=hand.order("close").id, code="busy", text="the venue is busy"
    )
    assert "rejected_busy" in codes(told)
    assert not [order for order in of(hand.later(5), cm.Submit) if order.role == "close"]
    assert hand.trade.open_steps == 104
    with pytest.raises(ValueError, match="share"):
        ev.CloseTrade(time=1, ask_id="x", trade="T1", share=0.0)


def test_the_stop_goes_to_the_entry_where_that_tightens_it():
    hand = ByHand()
    hand.protect()
    # the market is below it
    assert codes(hand.do(ev.StopToEntry, ask_id="b", trade=hand.trade.id)) == ["stop_refused"]
    hand.quote(61345, 61357)
    moved = of(hand.do(ev.StopToEntry, ask_id="b", trade=hand.trade.id), cm.Amend)
    assert [(order.role, order.level) for order in moved] == [("stop", 61242)]
    hand.do(ev.AmendAccepted, order=hand.order("stop").id, level=61242, steps=104)
    assert (
        "already" in of(hand.do(ev.StopToEntry, ask_id="b", trade=hand.trade.id), cm.Tell)[0].text
    )


BOTH = ["T-long", "T-short"]


@pytest.mark.parametrize(
    ("values", "closed"),
    [
        ({"which": "long"}, ["T-long"]),
        ({"which": "short"}, ["T-short"]),
        ({"which": "losers"}, BOTH),
        ({"which": "winners"}, []),
        ({"symbol": "Nothing"}, []),
        ({"symbol": "CAD/CHF"}, BOTH),
    ],
)
def test_closing_some_closes_those_and_no_others(values, closed):
    hand = ByHand()
    hand.protect()
    first = hand.trade.id
    hand.protect(ask_id="A2", side=-1)
    names = {"T-long": first, "T-short": hand.trade.id}
    told = hand.do(ev.CloseAll, ask_id="c", **values)
    assert [order.trade for order in of(told, cm.Submit)] == [names[name] for name in closed]
    assert ("nothing_meant" in codes(told)) == (not closed)


def test_turning_around_opens_the_other_side_only_once_the_first_is_closed():
    hand = ByHand()
    hand.protect()
    first = hand.trade
    assert [
        order.role for order in of(hand.do(ev.TurnAround, ask_id="t", trade=first.id), cm.Submit)
    ] == ["close"]
    assert not [order for order in of(hand.later(0.3), cm.Submit) if order.role == "entry"]
    hand.fill(hand.order("close").id, 104, 61230)
    sent = of(hand.later(0.1), cm.Submit)
    assert [(order.role, order.side) for order in sent] == [("entry", -1)]
    assert hand.trade.id != first.id
    assert hand.trade.plan.side == -1
    assert first.end == Reason(rs.TURNED)


def test_turning_around_asks_the_guards_like_any_entry_and_never_turns_a_price():
    hand = ByHand()
    hand.protect()
    hand.do(ev.TurnAround, ask_id="t", trade=hand.trade.id)
    hand.do(ev.Halt, ask_id="h", why="by hand")
    hand.fill(hand.order("close").id, 104, 61230)
    assert codes(hand.later(0.1))[-1] == "halted"
    hand = ByHand()
    hand.protect(stop=StopRule(price=Decimal("0.60900")), targets=())
    assert codes(hand.do(ev.TurnAround, ask_id="t", trade=hand.trade.id)) == ["turn_refused"]
    assert hand.trade.state == states.PROTECTED


def test_the_other_side_waits_where_the_first_is_open_again():
    """Its market was shut when it had ended; then a fill came late, and the venue was compared
    with."""
    hand = ByHand()
    hand.place()
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    hand.fill(hand.trade.entry.order_id, 50, 61242)
    hand.do(ev.OrderAccepted, order=hand.order("stop").id)
    hand.do(ev.TurnAround, ask_id="t", trade=hand.trade.id)
    first = hand.trade
    hand.do(ev.OrderCancelled, order=first.entry.order_id, why="asked for", filled=50)
    hand.do(ev.InstrumentState, symbol=SYMBOL, open=False, until=0)
    hand.fill(hand.order("close").id, 50, 61230)
    assert (first.state, first.progress.due) == (states.ENDED, "turn")
    hand.fill(first.entry.order_id, 10, 61242)
    assert first.open_steps == 10
    hand.do(ev.InstrumentState, symbol=SYMBOL, open=True, until=0)
    hand.do(ev.VenueDown, why="the line dropped")
    hand.do(ev.VenueUp)
    hand.holdings(positions=(ev.VenuePosition(first.entry.order_id, SYMBOL, 1, 10),))
    found = hand.later(1)
    assert "lapsed" not in codes(found)
    assert not [order for order in of(found, cm.Submit) if order.role == "entry"]
    hand.fill(hand.engine.state.orders_of(first, "close")[-1].id, 10, 61230)
    assert [(order.role, order.side) for order in of(hand.later(1), cm.Submit)] == [("entry", -1)]


@pytest.mark.parametrize("trailed", [True, False])
def test_a_trade_whose_bars_cannot_be_made_any_more_is_told(trailed):
    """Its trail stood still without a word after the venue had come back with longer bars."""
    hand = ByHand()
    hand.protect(**({} if trailed else {"trail": None}))
    told = hand.do(
        ev.Opened,
        prefix="P",
        account=account(),
        instruments=(pair(),),
        spans={SYMBOL: (15 * MINUTE,)},
    )
    assert "no_bars" not in codes(told)
    told = hand.do(ev.InstrumentsChanged, instruments=(pair(),), spans={SYMBOL: (60 * MINUTE,)})
    texts = [one.text for one in of(told, cm.Tell) if one.code == "no_bars"]
    assert texts == (
        ["There are no bars of 15m any more: its trail and its rig stand still"] if trailed else []
    )


def test_in_a_shut_market_one_unheard_close_is_enough_and_at_the_opening_another_leaves_at_once():
    """What was sent again and again into the shut market was missing among the tries when it
    opened: in one storm of 10,000 a position stayed without cover for 5.9 s."""
    hand = ByHand()
    hand.protect(targets=())
    trade = hand.trade
    hand.do(ev.OrderCancelled, order=hand.order("stop").id, why="cancelled at the venue")
    trade.cover.hurried = True  # its time without cover is up
    hand.do(ev.InstrumentState, symbol=SYMBOL, open=False, until=0)
    found = hand.do(ev.CloseTrade, ask_id="C", trade=trade.id)
    for _ in range(12):
        found += hand.later(0.4)
    closes = [order for order in of(found, cm.Submit) if order.role == "close"]
    assert len(closes) == 1
    assert hand.engine.state.orders[closes[0].order].silences
    opens = hand.do(ev.InstrumentState, symbol=SYMBOL, open=True, until=0)
    assert [order.role for order in of(opens, cm.Submit)].count("close") == 1


@pytest.mark.parametrize("ticks", [1, 2])
@pytest.mark.parametrize("filled", [0, 30])
def test_what_waits_is_taken_back_where_its_contract_is_worth_another_amount(filled, ticks):
    """It was sized for the old one: it filled with ten times what may be risked. Its tick may be
    another as well."""
    hand = ByHand()
    hand.place(entry=EntryRule(kind="limit", price=Decimal("0.61100")), targets=())
    trade = hand.trade
    hand.do(ev.OrderAccepted, order=trade.entry.order_id)
    if filled:
        hand.fill(trade.entry.order_id, filled, trade.ref)
        hand.do(ev.OrderAccepted, order=hand.order("stop").id)
    dearer = msgspec.structs.replace(
        pair(), multiplier=pair().multiplier * 10, tick=pair().tick / ticks
    )
    hand.do(ev.VenueDown, why="it was cut")
    told = hand.do(ev.InstrumentsChanged, instruments=(dearer,), spans={})
    assert "outsized" in codes(told)
    found = of(hand.do(ev.VenueUp) + hand.holdings() + hand.later(1), cm.Cancel)
    assert {one.order for one in found} == {trade.entry.order_id}
    hand.do(ev.OrderCancelled, order=trade.entry.order_id, why="asked for", filled=filled)
    assert (hand.trade.state == states.ENDED) == (not filled)
    assert hand.trade.open_steps == filled


def test_what_waits_to_enter_for_a_trade_that_is_left_as_it_rests_is_taken_back():
    """It filled, and nobody set a stop."""
    hand = ByHand()
    hand.place(entry=EntryRule(kind="limit", price=Decimal("0.61103")), targets=())
    trade = hand.trade
    hand.do(ev.OrderAccepted, order=trade.entry.order_id)
    hand.do(ev.VenueDown, why="it was cut")
    coarser = msgspec.structs.replace(pair(), tick=pair().tick * 7)
    told = hand.do(ev.InstrumentsChanged, instruments=(coarser,), spans={})
    assert next(one.text for one in of(told, cm.Tell) if one.code == "left").endswith(
        "What waits to enter is taken back"
    )
    hand.do(ev.VenueUp)
    found = hand.holdings(resting=(trade.entry.order_id,))
    assert [one.order for one in of(found, cm.Cancel)] == [trade.entry.order_id]
    hand.do(ev.OrderCancelled, order=trade.entry.order_id, why="asked for")
    assert not of(hand.holdings(), cm.Cancel)
