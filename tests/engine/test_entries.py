"""Entries that wait: sized, moved, expired, filled in part, linked; and what fills at other prices
do to the lines."""

from decimal import Decimal

import pytest

from byhand import SYMBOL, TARGETS, ByHand, codes, of, plan
from hawser.core.account import Policy, SizeRule
from hawser.core.entry import EntryRule, GoodUntil
from hawser.core.levels import StopRule
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.model import reasons as rs
from hawser.engine.model import transitions as states
from hawser.engine.model.exposure import Valuation
from hawser.engine.model.reasons import Reason

BUY_STOP = EntryRule("stop", price=Decimal("0.61500"))


def waiting(**changes) -> ByHand:
    """A buy stop that rests at 0.61500."""
    hand = ByHand()
    hand.place(**{"entry": BUY_STOP} | changes)
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    return hand


@pytest.mark.parametrize(
    ("entry", "kind", "level", "bound"),
    [
        (EntryRule("limit", price=Decimal("0.61100")), "limit", 61100, None),
        (BUY_STOP, "stop", 61500, None),
        (EntryRule("stop", price=Decimal("0.61500"), within_ticks=8), "stop", 61500, 61508),
        (EntryRule("stop", atr=1.0), "stop", 61387, None),  # the ask and 145 ticks
        (EntryRule(within_ticks=5), "market", None, 61247),
    ],
)
def test_an_entry_leaves_with_its_level_and_its_bound(entry, kind, level, bound):
    hand = ByHand()
    sent = of(hand.place(entry=entry), cm.Submit)
    assert [(order.kind, order.level, order.bound) for order in sent] == [(kind, level, bound)]


def test_a_pending_entry_is_sized_from_its_own_level():
    hand = waiting()
    assert hand.trade.ref == 61500
    assert hand.trade.stop == 61137  # 2.5 ATR below the entry, not below the market
    assert hand.trade.entry.asked_steps == 104
    assert hand.trade.state == states.ENTERING


@pytest.mark.parametrize(
    ("entry", "code"),
    [
        (EntryRule("limit", price=Decimal("0.61300")), "entry_wrong_side"),
        (EntryRule("stop", price=Decimal("0.61200")), "entry_wrong_side"),
        (EntryRule("stop", price=Decimal("0.61250")), "entry_too_near"),
        (EntryRule("limit", atr=500.0), "entry_wrong_side"),
        (
            EntryRule("stop", price=Decimal("0.61500"), good=GoodUntil(session_end=True)),
            "no_session_end",
        ),
    ],
)
def test_an_entry_that_cannot_wait_there_is_refused(entry, code):
    assert codes(ByHand().place(entry=entry)) == [code]


def test_a_market_that_ran_away_from_what_was_seen_is_not_followed():
    hand = ByHand()
    entry = EntryRule(within_ticks=5)
    assert codes(hand.do(ev.PlaceTrade, ask_id="A", plan=plan(entry=entry), seen=61236)) == [
        "slippage"
    ]
    sent = of(hand.do(ev.PlaceTrade, ask_id="B", plan=plan(entry=entry), seen=61238), cm.Submit)
    assert sent[0].bound == 61243


def test_the_venue_is_told_until_when():
    hand = ByHand()
    entry = EntryRule("stop", price=Decimal("0.61500"), good=GoodUntil(minutes=30))
    assert of(hand.place(entry=entry), cm.Submit)[0].until == hand.now + 30 * 60 * 10**9


def test_an_expired_entry_ends_the_trade_with_nothing_opened():
    hand = waiting()
    found = hand.do(ev.OrderCancelled, order=hand.trade.entry.order_id, why="expired")
    assert hand.trade.state == states.ENDED
    assert hand.trade.end == Reason(rs.ENTRY_GONE, name="expired")
    assert "entry_void" in codes(found)


def test_what_waits_is_heat_and_counts_for_the_next_size():
    hand = waiting()
    heat = Valuation(hand.engine.state).exposure().heat
    assert heat == pytest.approx(382.7, abs=1)
    hand.engine.state.account = ByHand(policy=Policy(max_heat_percent=0.9)).engine.state.account
    sent = of(hand.place(ask_id="A2"), cm.Submit)
    assert sent[0].steps < 104  # the cap leaves 0.9 % less what waits


def heat_of(hand: ByHand) -> float:
    return Valuation(hand.engine.state).exposure().heat


def test_a_stop_on_its_way_to_be_wider_is_heat_at_once_and_one_that_follows_only_once_it_rests():
    """The venue may have either. An entry that was let through meanwhile went beyond the most that
    may be lost."""
    hand = ByHand()
    hand.protect()
    trade, before = hand.trade, heat_of(hand)
    hand.do(ev.MoveStop, ask_id="N", trade=trade.id, level=trade.stop + 100)
    assert heat_of(hand) == before
    hand.do(ev.AmendAccepted, order=hand.order("stop").id, level=trade.stop, steps=trade.open_steps)
    nearer = heat_of(hand)
    assert nearer < before
    hand.do(ev.MoveStop, ask_id="W", trade=trade.id, level=trade.stop - 300, widen=True)
    assert heat_of(hand) > before
    hand.do(ev.AmendRejected, order=hand.order("stop").id, code="not_allowed", text="it stays")
    assert hand.trade.stop < hand.order("stop").level
    assert heat_of(hand) > before  # it is tried again


def test_an_entry_on_its_way_to_risk_more_is_heat_at_once():
    hand = waiting(
        size=SizeRule("fixed", qty=Decimal("0.50")), stop=StopRule(price=Decimal("0.61100"))
    )
    before = heat_of(hand)
    hand.do(ev.MoveEntry, ask_id="M", trade=hand.trade.id, level=61900)  # R is twice what it was
    assert heat_of(hand) == pytest.approx(2 * before, rel=0.02)
    hand.do(ev.MoveEntry, ask_id="N", trade=hand.trade.id, level=61300)
    assert hand.trade.entry.then is not None
    # until the venue has answered the first
    assert heat_of(hand) == pytest.approx(2 * before, rel=0.02)
    hand.do(ev.AmendAccepted, order=hand.trade.entry.order_id, level=61900, steps=50)
    assert heat_of(hand) == pytest.approx(2 * before, rel=0.02)
    hand.do(ev.AmendAccepted, order=hand.trade.entry.order_id, level=61300, steps=50)
    assert heat_of(hand) == pytest.approx(before / 2, rel=0.03)


def test_moving_an_entry_sizes_it_anew_once_the_venue_agrees():
    hand = waiting(stop=StopRule(price=Decimal("0.61100")))
    before = hand.trade.entry.asked_steps
    sent = of(hand.do(ev.MoveEntry, ask_id="M", trade=hand.trade.id, level=61600), cm.Amend)
    assert [(order.level, order.steps) for order in sent] == [(61600, sent[0].steps)]
    assert sent[0].steps < before  # the stop stayed, R grew
    assert hand.trade.ref == 61500  # not yet
    hand.do(ev.AmendAccepted, order=hand.trade.entry.order_id, level=61600, steps=sent[0].steps)
    assert (hand.trade.ref, hand.trade.entry.asked_steps, hand.trade.r_ticks) == (
        61600,
        sent[0].steps,
        500,
    )


def test_a_fixed_quantity_stays_when_the_entry_moves():
    hand = waiting(size=SizeRule("fixed", qty=Decimal("0.50")))
    sent = of(hand.do(ev.MoveEntry, ask_id="M", trade=hand.trade.id, level=61600), cm.Amend)
    assert sent[0].steps == 50


def test_an_entry_that_fills_while_it_is_moved_keeps_the_lines_it_filled_with():
    hand = waiting()
    hand.do(ev.MoveEntry, ask_id="M", trade=hand.trade.id, level=61600)
    hand.fill(hand.trade.entry.order_id, 104, 61500)
    hand.do(
        ev.AmendRejected,
        order=hand.trade.entry.order_id,
        code="not_resting",
        text="it does not rest",
    )
    assert (hand.trade.ref, hand.trade.stop) == (61500, 61137)
    assert hand.order("stop").level == 61137


def test_a_move_the_venue_refuses_leaves_the_entry_where_it_rests():
    hand = waiting()
    hand.do(ev.MoveEntry, ask_id="M", trade=hand.trade.id, level=61600)
    found = hand.do(
        ev.AmendRejected, order=hand.trade.entry.order_id, code="too_near", text="too near"
    )
    assert "move_refused" in codes(found)
    assert hand.trade.entry.moving is None
    assert not of(hand.later(3), cm.Amend)


def test_dragging_the_stop_of_a_waiting_entry_sizes_it_anew():
    hand = waiting()
    sent = of(hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=61300), cm.Amend)
    assert sent[0].level == 61500 and sent[0].steps > 104  # a nearer stop, the same risk
    hand.do(ev.AmendAccepted, order=hand.trade.entry.order_id, level=61500, steps=sent[0].steps)
    assert hand.trade.stop == 61300


def test_lines_follow_the_part_that_has_filled():
    hand = waiting()
    hand.fill(hand.trade.entry.order_id, 40, 61500)
    stop = hand.order("stop")
    assert stop.steps == 40
    hand.do(ev.OrderAccepted, order=stop.id)
    assert [hand.order("target", number).steps for number in (1, 2)] == [16, 12]
    amends = of(hand.fill(hand.trade.entry.order_id, 64, 61500), cm.Amend)
    assert (stop.id, 104) in [(order.order, order.steps) for order in amends]


def test_the_rest_of_an_entry_is_cancelled_once_anything_was_closed():
    hand = waiting()
    hand.fill(hand.trade.entry.order_id, 40, 61500)
    hand.do(ev.OrderAccepted, order=hand.order("stop").id)
    found = hand.fill(hand.order("stop").id, 40, 61137)
    assert [cancel.order for cancel in of(found, cm.Cancel)][:1] == [hand.trade.entry.order_id]
    hand.do(ev.OrderCancelled, order=hand.trade.entry.order_id, why="asked for")
    for order in [o for o in hand.engine.state.orders.values() if not o.over]:
        hand.do(ev.OrderCancelled, order=order.id, why="asked for")
    assert hand.trade.state == states.ENDED


def test_cancelling_a_waiting_entry_by_hand_ends_it():
    hand = waiting()
    found = hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id)
    assert [cancel.order for cancel in of(found, cm.Cancel)] == [hand.trade.entry.order_id]
    hand.do(ev.OrderCancelled, order=hand.trade.entry.order_id, why="asked for")
    assert (hand.trade.state, hand.trade.end) == (states.ENDED, Reason(rs.CANCELLED_BY_HAND))


def test_halting_cancels_what_waits():
    hand = waiting()
    assert of(hand.do(ev.Halt, ask_id="H", why="enough"), cm.Cancel)


# Anchors


@pytest.mark.parametrize(
    ("anchor", "stop", "target"), [("planned", 60879, 61605), ("fill", 60887, 61613)]
)
def test_a_fill_at_another_price_keeps_or_moves_the_lines_as_the_plan_says(anchor, stop, target):
    hand = ByHand()
    hand.place(anchor=anchor)
    hand.fill(hand.trade.entry.order_id, 104, 61250)  # 8 ticks worse
    assert hand.order("stop").level == stop
    assert hand.trade.targets[0].level == target
    assert hand.trade.ref == (61250 if anchor == "fill" else 61242)


def test_anchoring_never_loosens_a_stop_that_rests():
    hand = ByHand()
    hand.place(anchor="fill")
    hand.fill(hand.trade.entry.order_id, 50, 61250)
    hand.do(ev.OrderAccepted, order=hand.order("stop").id)
    hand.fill(hand.trade.entry.order_id, 54, 61200)  # the average falls
    assert hand.trade.stop == 60887


# OCO and the straddle


def straddled() -> tuple[ByHand, list]:
    hand = ByHand()
    sent = of(hand.do(ev.PlaceStraddle, ask_id="S", plan=plan(targets=()), atr=1.0), cm.Submit)
    for order in sent:
        hand.do(ev.OrderAccepted, order=order.order)
    return hand, sent


def test_a_straddle_is_a_buy_stop_above_and_a_sell_stop_below():
    _, sent = straddled()
    assert [(order.side, order.kind, order.level) for order in sent] == [
        (1, "stop", 61387),
        (-1, "stop", 61085),
    ]


def test_a_straddle_asked_twice_is_one():
    hand, _ = straddled()
    assert codes(hand.do(ev.PlaceStraddle, ask_id="S", plan=plan(targets=()), atr=1.0)) == [
        "asked_twice"
    ]


def test_a_straddle_is_both_sides_or_none():
    hand = ByHand()
    small = plan(targets=(), size=SizeRule("risk_money", amount=3.0))
    found = hand.do(ev.PlaceStraddle, ask_id="S", plan=small, atr=1.0)
    assert codes(found) == ["below_min"]
    assert not of(found, cm.Submit)


def test_both_sides_of_a_straddle_count_for_every_cap_on_heat():
    """Each may come to be open: the second is sized with the first as a risk, in sum and by
    currency."""
    for cap in ("max_heat_percent", "max_currency_heat_percent"):
        hand = ByHand(policy=Policy(**{cap: 0.7}))
        found = of(hand.do(ev.PlaceStraddle, ask_id="S", plan=plan(targets=()), atr=1.0), cm.Submit)
        risks = [trade.entry.planned_risk for trade in hand.engine.state.trades.values()]
        assert len(found) == 2
        assert sum(risks) <= hand.engine.state.equity * 0.007, cap
        assert risks[1] < risks[0]


def test_the_first_fill_cancels_the_other_and_a_second_is_closed_at_once():
    hand, (buy, sell) = straddled()
    found = hand.fill(buy.order, 30, 61387)
    assert [cancel.order for cancel in of(found, cm.Cancel)] == [sell.order]
    late = hand.fill(sell.order, sell.steps, 61085)
    assert "oco_second" in codes(late)
    closes = [order for order in of(late, cm.Submit) if order.role == "close"]
    assert [(order.steps, order.side) for order in closes] == [(sell.steps, 1)]


def test_selected_entries_become_one_group_by_one_action():
    hand = waiting()
    first = hand.trade
    hand.place(ask_id="A2", entry=EntryRule("limit", price=Decimal("0.61000")))
    second = hand.trade
    hand.do(ev.OrderAccepted, order=second.entry.order_id)
    assert codes(hand.do(ev.LinkEntries, ask_id="G", trades=(first.id, second.id))) == ["linked"]
    found = hand.fill(second.entry.order_id, second.entry.asked_steps, 61000)
    assert first.entry.order_id in [cancel.order for cancel in of(found, cm.Cancel)]


def test_an_entry_can_leave_its_group():
    hand, (buy, sell) = straddled()
    hand.do(ev.LinkEntries, ask_id="G", trades=(next(iter(hand.engine.state.trades)),))
    found = hand.fill(buy.order, buy.steps, 61387)
    assert not [cancel for cancel in of(found, cm.Cancel) if cancel.order == sell.order]


def test_only_what_waits_can_be_linked():
    hand = ByHand()
    hand.protect()
    assert codes(hand.do(ev.LinkEntries, ask_id="G", trades=(hand.trade.id,))) == ["not_pending"]


# Targets of an open trade, and another plan's rules


def test_a_target_is_added_changed_and_taken_away():
    hand = ByHand()
    hand.protect()
    added = of(
        hand.do(ev.SetTarget, ask_id="1", trade=hand.trade.id, number=0, level=62500, share=0.2),
        cm.Submit,
    )
    assert [(order.level, order.steps) for order in added] == [
        (62500, 21)
    ]  # to 90 % of 104, floored, less what the others take
    hand.do(ev.OrderAccepted, order=added[0].order)
    changed = of(
        hand.do(ev.SetTarget, ask_id="2", trade=hand.trade.id, number=3, level=62600, share=0.3),
        cm.Amend,
    )
    assert [(order.level, order.steps) for order in changed] == [(62600, 32)]
    hand.do(ev.AmendAccepted, order=added[0].order, level=62600, steps=32)
    gone = of(
        hand.do(ev.SetTarget, ask_id="3", trade=hand.trade.id, number=3, level=0, share=0.0),
        cm.Cancel,
    )
    assert [order.order for order in gone] == [added[0].order]


@pytest.mark.parametrize(
    ("number", "level", "share"),
    [(0, 62500, 0.5), (0, 61235, 0.1), (7, 62500, 0.1), (0, 62500, 0.0)],
)
def test_a_target_that_cannot_be_is_refused(number, level, share):
    hand = ByHand()
    hand.protect()
    found = hand.do(
        ev.SetTarget, ask_id="1", trade=hand.trade.id, number=number, level=level, share=share
    )
    assert codes(found) == ["target_refused"]


def test_another_plan_s_rules_never_loosen_the_stop():
    hand = ByHand()
    hand.protect(trail=None)
    wide = plan(stop=StopRule(atr=5.0), targets=TARGETS[:1])
    found = hand.do(ev.ChangeRules, ask_id="R", trade=hand.trade.id, plan=wide)
    assert hand.trade.stop == 60879
    assert hand.trade.plan.trail is not None
    # the second target goes; what rests for the first is the new one's
    assert len(of(found, cm.Cancel)) == 1
    hand.do(ev.ChangeRules, ask_id="R2", trade=hand.trade.id, plan=plan(stop=StopRule(atr=2.0)))
    assert hand.trade.stop == 60952


def test_a_target_that_a_waiting_entry_is_about_to_lose_cannot_be_moved():
    hand = ByHand()
    hand.place(entry=EntryRule("limit", price=Decimal("0.61100")))
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    hand.do(ev.SetTarget, ask_id="1", trade=hand.trade.id, number=2, level=0, share=0.0)
    told = of(
        hand.do(ev.MoveTarget, ask_id="2", trade=hand.trade.id, number=2, level=62500), cm.Tell
    )
    assert [(one.code, one.weight) for one in told] == [("target_refused", "refused")]


@pytest.mark.parametrize(("number", "left"), [(1, 2.5), (2, 1.0)])
def test_a_waiting_entry_loses_the_target_that_was_named(number, left):
    hand = ByHand()
    hand.place(entry=EntryRule("limit", price=Decimal("0.61100")))
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    hand.do(ev.SetTarget, ask_id="1", trade=hand.trade.id, number=number, level=0, share=0.0)
    for order in [one for one in hand.engine.state.orders.values() if one.pending == "amend"]:
        hand.do(ev.AmendAccepted, order=order.id, level=order.level, steps=order.steps)
    assert [
        rule.r
        for rule in (hand.trade.entry.then or hand.trade.entry.moving or hand.trade).plan.targets
    ] == [left]


def test_another_plan_s_stop_is_taken_as_near_as_a_stop_may_rest_and_no_nearer():
    for away, taken in ((10, True), (9, False)):  # the instrument's least distance is 10 ticks
        hand = ByHand()
        hand.protect()
        level = hand.market.bid - away
        price = Decimal(hand.engine.state.instruments[SYMBOL].price(level))
        hand.do(
            ev.ChangeRules, ask_id="R", trade=hand.trade.id, plan=plan(stop=StopRule(price=price))
        )
        assert (hand.trade.stop == level) is taken
