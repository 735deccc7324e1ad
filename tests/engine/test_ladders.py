"""A ladder live: rungs wait beside a stop, one target from the average, one end; and what goes
wrong with it."""

from decimal import Decimal

import msgspec
import pytest

from byhand import SYMBOL, ByHand, codes, of, plan
from hawser.core.account import SizeRule
from hawser.core.clock import DAY, MINUTE
from hawser.core.entry import EntryRule
from hawser.core.errors import BadInput
from hawser.core.guards import declared as dc
from hawser.core.levels import StopRule, TargetRule
from hawser.core.rig import After, BreakEven, Ladder, Measure, Rig
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.model import reasons as rs
from hawser.engine.model import rig_levels
from hawser.engine.model import transitions as states
from hawser.engine.model.exposure import Valuation
from hawser.engine.model.reasons import Reason

LADDER = Rig(name="Rungs", ladder=Ladder(3, Measure(ticks=100.0), 60.0, 80.0, factor=2.0))
PLAN = {"rig": LADDER, "stop": None, "targets": (), "trail": None}


def laddered(**changes) -> ByHand:
    """The first entry filled and protected; two rungs rest."""
    hand = ByHand()
    hand.protect(**PLAN | changes)
    for order in hand.engine.state.orders_of(hand.trade, "rung"):
        hand.do(ev.OrderAccepted, order=order.id)
    return hand


def add(hand: ByHand, number: int) -> list[cm.AnyCommand]:
    """A rung fills whole; the venue agrees to what follows."""
    order = hand.order("rung", number)
    found = hand.fill(order.id, order.steps, order.level)
    for amend in of(found, cm.Amend):
        hand.do(ev.AmendAccepted, order=amend.order, level=amend.level, steps=amend.steps)
    return found


def test_rungs_leave_only_once_a_stop_rests():
    hand = ByHand()
    found = hand.enter(**PLAN)
    assert [order.role for order in of(found, cm.Submit)] == ["stop"]
    found = of(hand.do(ev.OrderAccepted, order=hand.order("stop").id), cm.Submit)
    base, ref = hand.trade.entry.asked_steps, hand.trade.ref
    assert [(one.role, one.kind, one.level, one.steps) for one in found] == [
        ("target", "limit", ref + 60, base),
        ("rung", "limit", ref - 100, 2 * base),
        ("rung", "limit", ref - 200, 4 * base),
    ]
    assert {(one.closes, one.adds) for one in found[1:]} == {(None, hand.trade.entry.order_id)}
    assert (hand.trade.stop, hand.trade.r_ticks) == (ref - 280, 280)


def test_rungs_leave_beside_stops_that_bear_the_same_numbers():
    """A position larger than one order may be has several stops, numbered too."""
    hand = ByHand()
    hand.place(**PLAN)
    trade = hand.trade
    hand.do(ev.OrderAccepted, order=trade.entry.order_id)
    trade.cover.most_steps, trade.cover.most_at = -(-trade.entry.asked_steps // 4), hand.now
    hand.fill(trade.entry.order_id, trade.entry.asked_steps, trade.ref)
    stops = hand.engine.state.orders_of(trade, "stop")
    assert {order.number for order in stops} == {0, 1, 2, 3}
    found = [
        one for order in stops for one in of(hand.do(ev.OrderAccepted, order=order.id), cm.Submit)
    ]
    rungs = [one for one in found if one.role == "rung"]
    assert [one.level for one in rungs] == [trade.ref - 100, trade.ref - 200]


def test_the_entry_that_fills_a_day_s_count_keeps_its_rungs_and_a_kill_switch_takes_them_back():
    few, streak = dc.CountGuard(name="few", most=1), dc.StreakSwitch(name="streak", losses=9)
    hand = ByHand()
    hand.do(ev.ChangeGuards, ask_id="G", guards=dc.Guards(guard=(few, streak)))
    hand.protect(**PLAN)
    rungs = hand.engine.state.orders_of(hand.trade, "rung")
    assert len(rungs) == 2
    for order in rungs:
        hand.do(ev.OrderAccepted, order=order.id)
    taken = of(hand.do(ev.Drill, ask_id="D", guard="streak", subject=""), cm.Cancel)
    assert {cancel.order for cancel in taken} == {order.id for order in rungs}


def test_rungs_that_a_kill_switch_took_back_are_set_out_again_at_the_first_bar_of_the_next_day():
    loss = dc.LossSwitch(name="loss", percent=1.0)
    hand = ByHand()
    hand.do(ev.ChangeGuards, ask_id="G", guards=dc.Guards(guard=(loss,)))
    hand.protect(**PLAN)
    rungs = [order.id for order in hand.engine.state.orders_of(hand.trade, "rung")]
    for order in rungs:
        hand.do(ev.OrderAccepted, order=order)
    taken = of(hand.do(ev.Drill, ask_id="D", guard="loss", subject=""), cm.Cancel)
    assert {one.order for one in taken} == set(rungs)
    for order in rungs:
        hand.do(ev.OrderCancelled, order=order, why="asked for")
    assert not of(hand.bar(0.6123, atr=0.00145), cm.Submit)
    hand.now += DAY
    assert "guard_open" in codes(hand.later(1))
    hand.quote(hand.market.bid, hand.market.ask)
    found = of(hand.bar(0.6123, atr=0.00145), cm.Submit)
    assert [one.role for one in found] == ["rung", "rung"]


def test_the_worst_case_is_the_risk_and_the_heat_before_any_rung_has_filled():
    hand = laddered()
    heat = Valuation(hand.engine.state).exposure().heat
    assert hand.trade.entry.planned_risk <= 0.006 * 64_000 * (1 + 1e-9)
    # less the slippage that is expected
    assert heat == pytest.approx(hand.trade.entry.planned_risk, rel=0.03)
    before = heat
    add(hand, 2)
    assert Valuation(hand.engine.state).exposure().heat == pytest.approx(before, rel=1e-6)


def test_a_rung_that_fills_is_covered_at_once_and_aimed_at_the_average_from_the_next_bar():
    hand = laddered()
    base, ref = hand.trade.entry.asked_steps, hand.trade.ref
    found = add(hand, 2)
    assert [(one.role, one.steps) for one in of(found, cm.Amend)] == [("stop", 3 * base)]
    assert hand.order("target").left == base  # what was held before goes at the old level
    assert "rung_entered" in codes(found)
    average = (ref + 2 * (ref - 100)) / 3
    found = of(hand.bar(0.6123, atr=0.00145), cm.Amend)
    assert [(one.role, one.steps) for one in found] == [("target", 3 * base)]
    assert abs(found[0].level - (average + 60)) <= 0.5


def test_a_target_that_a_person_set_holds_until_the_next_rung():
    hand = laddered()
    hand.do(ev.MoveTarget, ask_id="M", trade=hand.trade.id, number=1, level=hand.trade.ref + 200)
    hand.do(
        ev.AmendAccepted,
        order=hand.order("target").id,
        level=hand.trade.ref + 200,
        steps=hand.trade.entry.asked_steps,
    )
    assert not of(hand.bar(0.6123, atr=0.00145), cm.Amend)
    add(hand, 2)
    assert of(hand.bar(0.6123, atr=0.00145), cm.Amend)[0].level < hand.trade.ref + 60


def test_a_common_target_that_the_market_has_passed_fills_where_it_is():
    hand = laddered()
    add(hand, 2)
    hand.quote(hand.trade.ref + 10, hand.trade.ref + 22)  # back above the average and 60 ticks
    found = hand.bar(0.6125, atr=0.00145)
    assert [one.order for one in of(found, cm.Cancel)] == [hand.order("target").id]
    found = of(
        hand.do(ev.OrderCancelled, order=hand.order("target").id, why="asked for"), cm.Submit
    )
    assert [(one.role, one.kind, one.steps) for one in found] == [
        ("target", "limit", 3 * hand.trade.entry.asked_steps)
    ]


def test_the_rungs_go_with_the_trade():
    hand = laddered()
    target = hand.order("target")
    found = hand.fill(target.id, target.steps, target.level)
    rungs = {order.id for order in hand.engine.state.orders.values() if order.role == "rung"}
    assert rungs <= {one.order for one in of(found, cm.Cancel)}
    assert hand.trade.state != states.ENDED  # a rung may still fill
    for order in rungs:
        hand.do(ev.OrderCancelled, order=order, why="asked for")
    assert (hand.trade.state, hand.trade.end) == (states.ENDED, Reason(rs.TARGET, 1))


def test_a_rung_that_fills_after_the_end_is_closed_at_once():
    hand = laddered()
    target = hand.order("target")
    hand.fill(target.id, target.steps, target.level)
    for number in (2, 3):
        hand.do(ev.OrderCancelled, order=hand.order("rung", number).id, why="asked for")
    found = hand.fill(hand.order("rung", 2).id, 10, hand.trade.ref - 100)
    assert "late_fill" in codes(found)
    assert [(one.role, one.steps) for one in of(found, cm.Submit)] == [("close", 10)]


def test_a_rung_that_the_margin_forbids_is_given_up():
    hand = ByHand()
    hand.protect(**PLAN)
    before = Valuation(hand.engine.state).exposure().heat
    hand.do(ev.OrderAccepted, order=hand.order("rung", 2).id)
    found = hand.do(
        ev.OrderRejected,
        order=hand.order("rung", 3).id,
        code="margin",
        text="not enough free margin",
    )
    assert "rung_given_up" in codes(found)
    assert Valuation(hand.engine.state).exposure().heat < before
    assert not [one for one in of(hand.later(30), cm.Submit) if one.role == "rung"]
    assert hand.trade.state == states.PROTECTED


def test_a_rung_refused_for_another_reason_is_sent_again_after_a_pause():
    hand = ByHand()
    hand.protect(**PLAN)
    found = hand.do(
        ev.OrderRejected, order=hand.order("rung", 2).id, code="market_closed", text="not trading"
    )
    assert not of(found, cm.Submit)
    # the venue says when it opens
    assert not [one for one in of(hand.later(20), cm.Submit) if one.role == "rung"]
    opens = hand.do(ev.InstrumentState, symbol="CAD/CHF", open=True, until=0)
    again = [one for one in of(opens, cm.Submit) if one.role == "rung"]
    assert [(one.level, one.steps) for one in again] == [
        (hand.trade.ref - 100, 2 * hand.trade.entry.asked_steps)
    ]


def test_a_rung_given_up_by_the_venue_is_not_sent_again_before_its_fills_are_known():
    hand = laddered()
    order = hand.order("rung", 2)
    found = hand.do(ev.OrderCancelled, order=order.id, why="expired", filled=5)
    assert [one.order for one in of(found, cm.Query)] == [order.id]
    assert not [one for one in of(hand.later(4), cm.Submit) if one.role == "rung"]
    fill = ev.Fill("late", hand.now, 5, order.level, 0.0, 1.0)
    found = hand.do(
        ev.OrderStatus,
        known=ev.OrderReport(order.id, "cancelled", order.level, order.steps, (fill,)),
    )
    stop = of(found, cm.Amend)[0]
    again = of(
        hand.do(ev.AmendAccepted, order=stop.order, level=stop.level, steps=stop.steps), cm.Submit
    )
    assert [one.steps for one in again] == [order.steps - 5]


def test_leaving_takes_the_rungs_back_first_of_all():
    hand = laddered()
    found = hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id)
    assert {"close"} == {one.role for one in of(found, cm.Submit)}
    gone = {one.order for one in of(found, cm.Cancel)}
    assert {hand.order("rung", 2).id, hand.order("rung", 3).id} <= gone


def test_another_rig_adds_nothing():
    hand = laddered()
    other = plan(rig=Rig(name="Plain", stop=StopRule(atr=2.5)), stop=StopRule(atr=2.5))
    gone = {
        one.order
        for one in of(
            hand.do(ev.ChangeRules, ask_id="R", trade=hand.trade.id, plan=other), cm.Cancel
        )
    }
    assert {hand.order("rung", 2).id, hand.order("rung", 3).id} <= gone
    assert not hand.trade.ladder.rungs[0].steps


def test_a_ladder_is_not_put_on_what_is_open_already():
    hand = ByHand()
    hand.protect()
    ladder = plan(**PLAN)
    assert codes(hand.do(ev.ChangeRules, ask_id="R", trade=hand.trade.id, plan=ladder)) == [
        "ladder"
    ]
    hand.engine.state.unexplained["other"] = ev.VenuePosition("other", SYMBOL, 1, 10, 61240.0)
    assert codes(hand.do(ev.Adopt, ask_id="A", position="other", plan=ladder)) == ["ladder"]


@pytest.mark.parametrize(
    "changes",
    [
        {"size": SizeRule("fixed", qty=1)},
        {"targets": (TargetRule(share=1.0, r=1.0),)},
        {"stop": StopRule(atr=2.0)},
    ],
)
def test_a_ladder_brings_its_own_stop_and_target_and_is_sized_by_risk(changes):
    with pytest.raises(BadInput):
        plan(**PLAN | changes)


def test_break_even_costs_are_those_of_the_first_entry():
    rig = Rig(ladder=LADDER.ladder, break_even=BreakEven(cover_costs=True))
    hand = laddered(rig=rig)
    before = hand.trade.original
    add(hand, 2)
    assert (hand.trade.original, hand.trade.entered) == (before, 3 * before)


def test_the_ladder_is_laid_anew_from_the_fill_where_the_plan_says_so():
    hand = ByHand()
    hand.place(**PLAN | {"anchor": "fill"})
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    ref = hand.trade.ref
    hand.fill(hand.trade.entry.order_id, hand.trade.entry.asked_steps, ref + 7)
    assert (hand.trade.stop, hand.trade.targets[0].level) == (ref - 273, ref + 67)
    assert [rung.level for rung in hand.trade.ladder.rungs] == [ref - 93, ref - 193]


def test_a_target_where_no_price_is_is_off_until_the_average_has_risen():
    """A short ladder whose target is further down than its price is high: the order for it could
    not be written."""
    far = Rig(ladder=Ladder(2, Measure(ticks=20_000.0), 65_000.0, 80.0, factor=9.0))
    hand = laddered(side=-1, rig=far)
    ref, base = hand.trade.ref, hand.trade.entry.asked_steps
    assert hand.trade.targets[0].level == ref - 65_000 < 0
    assert not [one for one in of(hand.all, cm.Submit) if one.role == "target"]
    assert hand.trade.state == states.PROTECTED
    add(hand, 2)
    found = hand.bar(0.6123, atr=0.00145)
    assert "none above zero" in next(
        one.text for one in of(found, cm.Tell) if one.code == "ladder_target"
    )
    average = ref + 0.9 * 20_000
    assert [(one.role, one.level, one.steps) for one in of(found, cm.Submit)] == [
        ("target", round(average - 65_000), 10 * base)
    ]


def test_a_ladder_s_target_moves_at_its_own_bar_also_where_that_is_joined_from_others():
    hand = laddered()
    add(hand, 2)
    hand.do(ev.OrderAccepted, order=hand.order("target").id)
    hand.now += 15 * MINUTE
    hand.quote(hand.market.bid, hand.market.ask)
    found = hand.do(
        ev.BarCompleted,
        symbol=SYMBOL,
        span=15 * MINUTE,
        opened=hand.now - 15 * MINUTE,
        open=0.6114,
        high=0.6114,
        low=0.6114,
        close=0.6114,
        spread=12.0,
        atr=0.00145,
        base=False,
    )
    assert "ladder_target" in codes(found)
    assert "target" in {one.role for one in found if isinstance(one, (cm.Amend, cm.Submit))}


def test_lines_of_a_ladder_that_waits_are_moved_from_where_it_is_on_its_way_to():
    hand = ByHand()
    hand.place(**PLAN | {"entry": EntryRule("stop", price=Decimal("0.61500"))})
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    hand.do(ev.MoveEntry, ask_id="M", trade=hand.trade.id, level=61600)
    hand.do(ev.MoveStop, ask_id="S", trade=hand.trade.id, level=61350)
    assert hand.trade.entry.then.stop == 61350
    hand.do(ev.MoveTarget, ask_id="T", trade=hand.trade.id, number=1, level=61700)
    assert hand.trade.entry.then.targets[0].level == 61700
    found = hand.do(ev.MoveStop, ask_id="S2", trade=hand.trade.id, level=61450)  # within the ladder
    assert codes(found) == ["stop_in_ladder"]


def test_break_even_after_its_target_waits_until_that_has_filled():
    """The target closes what was held before a rung filled; the rung's part stays, and its stop
    goes to the entry."""
    hand = laddered(rig=msgspec.structs.replace(LADDER, break_even=BreakEven(After(target=1))))
    ref, held, target = hand.trade.ref, hand.trade.open_steps, hand.order("target")
    assert "break-even to" in rig_levels.waiting(hand.engine.state, hand.trade)[0].text
    hand.quote(ref + 40, ref + 52)

    def stops(commands):
        for amend in of(commands, cm.Amend):
            hand.do(ev.AmendAccepted, order=amend.order, level=amend.level, steps=amend.steps)
        return [one.level for one in of(commands, cm.Amend) if one.role == "stop"]

    stops(hand.fill(target.id, 1, target.level))
    # a part of it is not the target filled
    assert stops(hand.bar(close=(ref + 40) / 1e5, atr=0.001)) == []
    add(hand, 2)
    stops(hand.fill(target.id, held - 1, target.level))
    assert hand.trade.open_steps == 2 * held
    assert stops(hand.bar(close=(ref + 40) / 1e5, atr=0.001)) == [ref]


def test_the_common_target_leaves_with_the_bar_that_moves_it():
    hand = laddered()
    add(hand, 2)
    target, before = hand.order("target"), hand.trade.targets[0].level
    moved = of(hand.bar(0.6114, atr=0.00145), cm.Amend)
    assert hand.trade.targets[0].level < before
    assert [(one.order, one.level) for one in moved] == [(target.id, hand.trade.targets[0].level)]
