"""A rig on an open trade: what each rule makes of bars and quotes, in orders and in words."""

from __future__ import annotations

import math

import msgspec
import pytest

from byhand import SYMBOL, ByHand, codes, of
from hawser.core.clock import DAY, MINUTE, SECOND
from hawser.core.entry import HeldRule
from hawser.core.guards.declared import Guards, SpreadGuard
from hawser.core.indicator_values import atr_key, lived_key, trail_key, values_for
from hawser.core.levels import LineRule, StopRule, TargetRule
from hawser.core.rig import (
    After,
    Amount,
    Basket,
    BreakEven,
    FollowOn,
    LossStep,
    Measure,
    Rig,
    Step,
    TimeExit,
    Trail,
)
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.entries.follow_on import following, turned_plan
from hawser.engine.model import reasons as rs
from hawser.engine.model.reasons import Reason
from hawser.engine.model.rig_levels import waiting

SPAN = 15 * MINUTE
WHOLE = (TargetRule(share=1.0, r=1.0),)


def opened(targets=(), trail=None, held=None, **rules):
    """A long of 1.04 at 0.61242, stop 0.60879 (R 363 t), protected."""
    hand = ByHand()
    rig = Rig(name="test", stop=StopRule(atr=2.5), target=targets, trail=trail, **rules)
    hand.protect(targets=targets, trail=trail, rig=rig, held=held, own_atr=0.00145)
    return hand


def bar_at(hand, close, high=None, low=None, minutes=15, values=None, atr=0.00145):
    """Let a bar go by that ends at `close` (ticks) and moves the quote there."""
    hand.now += minutes * MINUTE
    high, low = high or close, low or close
    hand.do(ev.Quote, symbol=SYMBOL, bid=close, ask=close + 12, high_bid=high, low_ask=low + 12)
    return hand.do(
        ev.BarCompleted,
        symbol=SYMBOL,
        span=SPAN,
        opened=hand.now - SPAN,
        open=close / 1e5,
        high=high / 1e5,
        low=low / 1e5,
        close=close / 1e5,
        spread=12.0,
        atr=atr,
        values=values or {},
    )


def moved(hand, commands):
    """The one move of the stop, which the venue takes: its level and reason."""
    amends = [one for one in of(commands, cm.Amend) if one.role == "stop"]
    assert len(amends) == 1, commands
    hand.do(ev.AmendAccepted, order=amends[0].order, level=amends[0].level, steps=amends[0].steps)
    return amends[0].level, amends[0].why


def taken(hand, role, number, steps):
    """A part fills, and the venue takes what follows from it; returns that."""
    order = hand.order(role, number)
    found = hand.fill(order.id, steps, order.level)
    for one in of(found, cm.Amend):
        hand.do(ev.AmendAccepted, order=one.order, level=one.level, steps=one.steps)
    return found


def test_break_even_comes_after_its_excursion_with_costs_on_top_and_says_so():
    hand = opened(break_even=BreakEven(After(r=1.0), offset_ticks=2.0, cover_costs=True))
    assert not of(bar_at(hand, 61604), cm.Amend)  # one tick short of 1 R
    level, why = moved(hand, bar_at(hand, 61605))
    # Two commissions of 2.50 for each unit are 5 ticks of a unit.
    assert level == 61242 + 2 + 5
    assert why == "Stop 0.60879 \u2192 0.61249: break-even after +1 R"


def test_a_rule_after_a_target_waits_until_that_target_has_filled_whole():
    targets = (TargetRule(share=0.4, r=1.0), TargetRule(share=0.3, r=2.5))
    hand = opened(targets, break_even=BreakEven(After(target=1)))
    assert not of(bar_at(hand, 61700), cm.Amend)
    taken(hand, "target", 1, 20)
    assert not [one for one in of(bar_at(hand, 61700), cm.Amend) if "break-even" in one.why]
    taken(hand, "target", 1, 21)
    level, why = moved(hand, bar_at(hand, 61700))
    assert (level, why.partition(": ")[2]) == (61242, "break-even after target 1")


def test_steps_act_at_their_excursion_and_the_tightest_candidate_names_the_reason():
    hand = opened(
        step=(
            Step(Measure(r=0.5), Measure(r=-0.5)),
            Step(Measure(ticks=250.0), Measure(ticks=-100.0)),
        ),
    )
    level, why = moved(hand, bar_at(hand, 61424))
    assert (level, why.partition(": ")[2]) == (61060, "step 1 at +0.5 R")
    level, why = moved(hand, bar_at(hand, 61500))
    assert (level, why.partition(": ")[2]) == (61142, "step 2 at +250 t")
    assert not of(bar_at(hand, 61600), cm.Amend)


@pytest.mark.parametrize(
    ("trail", "level", "words"),
    [
        (Trail(atr=1.0, base_ticks=10.0), 61345, "trail, 10 t and 1 ATR below 0.61500"),
        (Trail(ticks=80.0), 61420, "trail, 80 t below 0.61500"),
        (Trail(percent=0.2), 61377, "trail, 0.2 % below 0.61500"),
        (Trail(ticks=80.0, anchor="close"), 61370, "trail, 80 t below 0.61450"),
        (Trail(bars=3, offset_ticks=2.0), 61198, "trail, below the low of 3 bars and 2 t"),
        (Trail(line=LineRule("ema", 20)), 61200, "trail, below the exponential average (20)"),
    ],
)
def test_every_trail_moves_the_stop_and_says_by_what(trail, level, words):
    hand = opened(trail=trail)
    values = {trail_key(trail, 1, "wilder"): 0.61200}
    found, why = moved(hand, bar_at(hand, 61450, high=61500, values=values))
    assert (found, why.partition(": ")[2]) == (level, words)


def test_a_trail_by_a_line_needs_no_rig():
    trail = Trail(line=LineRule("ema", 20))
    hand = ByHand()
    hand.protect(targets=(), trail=trail)
    found, _ = moved(
        hand, bar_at(hand, 61450, high=61500, values={trail_key(trail, 1, "wilder"): 0.61200})
    )
    assert found == 61200


def test_a_trail_without_a_value_waits():
    trail = Trail(bars=3)
    hand = opened(trail=trail)
    assert not of(bar_at(hand, 61450), cm.Amend)
    assert not of(bar_at(hand, 61450, values={trail_key(trail, 1, "wilder"): math.nan}), cm.Amend)


def test_a_rig_with_an_atr_of_its_own_trails_by_it():
    hand = opened(trail=Trail(atr=2.0), atr_length=5)
    rig = hand.trade.plan.rig
    assert not of(bar_at(hand, 61450), cm.Amend)  # the standard one is not meant
    level, _ = moved(hand, bar_at(hand, 61450, values={atr_key(rig): 0.00100}))
    assert level == 61250


def test_the_stop_is_held_back_at_the_least_distance_and_never_sent_through_the_market():
    hand = opened(trail=Trail(ticks=5.0, anchor="close"))
    level, why = moved(hand, bar_at(hand, 61450))
    assert level == 61440  # 10 ticks are the least
    assert why.endswith("held at the least distance")


def test_loss_steps_rest_beside_the_stop_and_the_stop_follows_what_is_left():
    hand = opened(loss_step=(LossStep(0.5, 0.25), LossStep(0.75, 0.25)))
    rest = [one for one in of(hand.all, cm.Submit) if one.role == "loss"]
    assert [(one.kind, one.level, one.steps) for one in rest] == [
        ("stop", 61060, 26),
        ("stop", 60969, 26),
    ]
    found = taken(hand, "loss", 1, 26)
    assert [(one.role, one.steps) for one in of(found, cm.Amend)] == [("stop", 78)]
    assert any("by loss step 1" in one.text for one in of(found, cm.Tell))


def test_a_loss_step_at_or_beyond_the_stop_is_void():
    hand = opened(loss_step=(LossStep(0.5, 0.25),))
    moved = hand.do(ev.MoveStop, ask_id="1", trade=hand.trade.id, level=61100)
    order = next(one for one in of(hand.all, cm.Submit) if one.role == "loss")
    assert [one.order for one in of(moved, cm.Cancel)] == [order.order]


def test_a_held_loss_step_is_taken_at_market_when_a_quote_reaches_it():
    hand = opened(loss_step=(LossStep(0.5, 0.25),), held=HeldRule(2.0))
    assert not [one for one in of(hand.all, cm.Submit) if one.role == "loss"]
    assert not of(hand.quote(61061, 61073), cm.Submit)
    sent = of(hand.quote(61060, 61072), cm.Submit)
    assert [(one.role, one.kind, one.steps) for one in sent] == [("loss", "market", 26)]


def test_a_time_exit_counts_the_entry_s_own_bar():
    hand = opened(time_exit=TimeExit(bars=2))
    assert not of(bar_at(hand, 61300), cm.Submit)
    sent = of(bar_at(hand, 61310), cm.Submit)
    assert [(one.role, one.kind) for one in sent] == [("close", "market")]
    assert hand.trade.leave == Reason(rs.TIME_BARS, 2)


def test_a_basket_looks_where_it_was_told_to():
    loss = Amount(money=100.0)  # 1.04 units lose 1.04 CHF a tick
    at_bars = opened(basket=Basket(stop=loss))
    assert not of(at_bars.quote(61100, 61112), cm.Submit)
    assert of(bar_at(at_bars, 61100), cm.Submit)
    each = opened(basket=Basket(stop=loss, basis="tick"))
    assert not of(each.quote(61149, 61161), cm.Submit)
    assert [one.role for one in of(each.quote(61140, 61152), cm.Submit)] == ["close"]
    assert each.trade.leave.code == rs.BASKET_STOP
    minute = opened(basket=Basket(stop=loss, basis="minute_end"))
    minute.later((-minute.now % MINUTE) / SECOND + 1)
    assert not of(minute.quote(61100, 61112) + minute.later(57.5), cm.Submit)
    assert of(minute.later(1), cm.Submit)


def test_a_basket_target_may_be_a_share_of_the_equity_at_entry():
    hand = opened(basket=Basket(target=Amount(percent=0.5), basis="tick"))  # 320 of 64 000
    assert not of(hand.quote(61540, 61552), cm.Submit)
    assert of(hand.quote(61560, 61572), cm.Submit)
    assert hand.trade.leave.code == rs.BASKET_TARGET


def test_after_a_losing_stop_the_follow_on_goes_the_other_way_once():
    hand = opened(follow_on=FollowOn(1))
    timers = of(taken(hand, "stop", 0, 104), cm.StartTimer)
    first = hand.trade
    assert [one.name for one in timers if one.name.startswith("follow")] == [f"follow:{first.id}"]
    plan = following(hand.engine.state, first)
    assert (plan.side, plan.rig) == (-1, first.plan.rig)
    sent = of(hand.do(ev.TimerFired, name=f"follow:{first.id}"), cm.Submit)
    assert [(one.role, one.side) for one in sent] == [("entry", -1)]
    second = hand.engine.state.trades[sent[0].trade]
    assert second.entry.chain == 1
    second.end = Reason(rs.STOP)
    assert following(hand.engine.state, second) is None  # the chain is at its end


def test_a_follow_on_waits_for_its_market_while_others_trade():
    """A stop fills on Friday evening, figures are told all weekend for what trades then: the trade
    is not forgotten before its follow-on is through, or lapses."""
    hand = opened(follow_on=FollowOn(1))
    taken(hand, "stop", 0, 104)
    first = hand.trade
    hand.do(ev.InstrumentState, symbol=SYMBOL, open=False, until=0)
    hand.do(ev.TimerFired, name=f"follow:{first.id}")
    for _ in range(3):
        hand.now += DAY
        hand.do(ev.Figures, balance=64_000.0, equity=64_000.0, margin_used=0.0)
    hand.do(ev.InstrumentState, symbol=SYMBOL, open=True, until=0)
    hand.quote(61260, 61272)
    sent = of(hand.do(ev.TimerFired, name=f"follow:{first.id}"), cm.Submit)
    assert [(one.role, one.side) for one in sent] == [("entry", -1)]
    hand.now += 2 * DAY
    hand.do(ev.Figures, balance=64_000.0, equity=64_000.0, margin_used=0.0)
    assert first.id not in hand.engine.state.trades  # it is through


def test_after_the_last_target_the_follow_on_stays_on_its_side_and_after_a_close_there_is_none():
    hand = opened(WHOLE, follow_on=FollowOn(2))
    taken(hand, "target", 1, 104)
    assert following(hand.engine.state, hand.trade).side == 1
    other = opened(WHOLE, follow_on=FollowOn(2))
    other.trade.end = Reason(rs.BY_HAND)
    assert following(other.engine.state, other.trade) is None
    assert turned_plan(other.trade).side == -1


@pytest.mark.parametrize("name", ["stop on news", "target day", "News pause", "held stop"])
def test_what_a_guard_is_called_decides_nothing(name):
    """A guard that closes a trade ends it as a guard, whatever words it is called by: nothing
    follows."""
    hand = opened(follow_on=FollowOn(1))
    hand.do(
        ev.ChangeGuards,
        ask_id="g",
        guards=Guards(guard=(SpreadGuard(name=name, max_ticks=50.0, then=("flatten",)),)),
    )
    hand.do(ev.Drill, ask_id="d", guard=name, subject=SYMBOL)
    close = hand.order("close")
    hand.fill(close.id, hand.trade.entered, 61230)
    assert hand.trade.end == Reason(rs.GUARD, name=name)
    assert following(hand.engine.state, hand.trade) is None
    assert "follow_on" not in codes(hand.later(0.01))


def test_a_halt_or_a_closed_guard_keeps_a_follow_on_out():
    hand = opened(follow_on=FollowOn(1))
    taken(hand, "stop", 0, 104)
    hand.do(ev.Halt, ask_id="h", why="by hand")
    assert following(hand.engine.state, hand.trade) is None
    again = opened(follow_on=FollowOn(1))
    taken(again, "stop", 0, 104)
    again.do(ev.VenueDown, why="lost")
    assert not again.do(ev.TimerFired, name=f"follow:{again.trade.id}")


@pytest.mark.parametrize(("away_s", "sent", "told"), [(60, 1, "follow_on"), (16 * 60, 0, "lapsed")])
def test_what_was_to_follow_comes_once_the_two_sides_agree_again_unless_a_bar_has_passed(
    away_s, sent, told
):
    hand = opened(follow_on=FollowOn(1))
    taken(hand, "stop", 0, 104)
    first = hand.trade
    hand.do(ev.VenueDown, why="lost")
    hand.do(ev.TimerFired, name=f"follow:{first.id}")
    hand.now += away_s * SECOND
    hand.quote(61230, 61242)
    hand.do(ev.VenueUp)
    hand.do(ev.Figures, balance=64_000.0, equity=64_000.0, margin_used=0.0)
    timers = [one.name for one in of(hand.holdings(), cm.StartTimer)]
    assert f"follow:{first.id}" in timers
    found = hand.do(ev.TimerFired, name=f"follow:{first.id}")
    assert len(of(found, cm.Submit)) == sent
    assert told in codes(found)
    assert not hand.do(ev.TimerFired, name=f"follow:{first.id}")  # once


def test_a_basket_at_the_minute_s_end_needs_no_quote_in_that_second():
    hand = opened(basket=Basket(target=Amount(money=100.0), basis="minute_end"))
    hand.quote(61440, 61452)  # more than enough, in the middle of a minute
    assert not hand.trade.leave
    sent = of(hand.later(60), cm.Submit)
    assert [one.role for one in sent] == ["close"]
    assert hand.trade.progress.minute_at % MINUTE == 59 * SECOND


def test_another_rig_never_loosens_and_its_rules_begin_at_the_next_bar():
    hand = opened(loss_step=(LossStep(0.5, 0.25),), trail=Trail(atr=1.0))
    stop = hand.trade.stop
    wide = Rig(name="wide", stop=StopRule(atr=4.0), break_even=BreakEven(After(r=0.2), 100.0))
    plan = msgspec.structs.replace(
        hand.trade.plan, stop=wide.stop, targets=(), trail=None, rig=wide
    )
    found = hand.do(ev.ChangeRules, ask_id="1", trade=hand.trade.id, plan=plan)
    assert hand.trade.stop == stop
    assert of(found, cm.Cancel)  # its loss step is not the new rig's
    assert any("wide: Stop 4 ATR from the entry." in one.text for one in of(found, cm.Tell))
    assert moved(hand, bar_at(hand, 61450))[0] == 61342


def test_another_rig_s_loss_step_already_passed_goes_at_market_once_the_old_one_is_taken_back():
    hand = opened(loss_step=(LossStep(0.5, 0.25),))
    old = hand.order("loss")
    hand.quote(61120, 61132)  # 0.34 R down
    nearer = msgspec.structs.replace(
        hand.trade.plan.rig, name="nearer", loss_step=(LossStep(0.25, 0.25),)
    )
    found = hand.do(
        ev.ChangeRules,
        ask_id="1",
        trade=hand.trade.id,
        plan=msgspec.structs.replace(hand.trade.plan, rig=nearer),
    )
    # it cannot be moved to where the market is beyond
    assert [one.order for one in of(found, cm.Cancel)] == [old.id]
    assert not [one for one in of(found, cm.Amend) if one.role == "loss"]
    sent = of(hand.do(ev.OrderCancelled, order=old.id, why=""), cm.Submit)
    assert [(one.role, one.kind, one.steps) for one in sent] == [("loss", "market", 26)]


def test_another_rig_s_loss_step_farther_off_is_where_the_old_one_is_moved_to():
    hand = opened(loss_step=(LossStep(0.5, 0.25),))
    farther = msgspec.structs.replace(
        hand.trade.plan.rig, name="farther", loss_step=(LossStep(0.8, 0.5),)
    )
    plan = msgspec.structs.replace(hand.trade.plan, rig=farther)
    found = hand.do(ev.ChangeRules, ask_id="1", trade=hand.trade.id, plan=plan)
    assert not of(found, cm.Cancel)
    assert [(one.level, one.steps) for one in of(found, cm.Amend) if one.role == "loss"] == [
        (60951, 52)
    ]


def test_a_short_that_trails_the_close_trails_its_ask():
    hand = ByHand()
    trail = Trail(ticks=100.0, anchor="close")
    rig = Rig(name="test", stop=StopRule(atr=2.5), trail=trail)
    hand.protect(side=-1, targets=(), trail=trail, rig=rig, own_atr=0.00145)
    level, _ = moved(hand, bar_at(hand, 61000))
    assert level == 61000 + 12 + 100


def test_what_waits_is_told_with_the_price_at_which_it_acts():
    hand = opened(
        WHOLE,
        break_even=BreakEven(After(r=1.0)),
        step=(Step(Measure(r=2.0), Measure(r=1.0)),),
        trail=Trail(atr=1.0),
        loss_step=(LossStep(0.5, 0.25),),
        time_exit=TimeExit(bars=4),
    )
    told = waiting(hand.engine.state, hand.trade)
    assert [(one.level, one.text) for one in told] == [
        (61605, "break-even to 0.61242 at 0.61605"),
        (61968, "step 1 to 0.61605 at 0.61968"),
        (61060, "loss step 1 at 0.61060: 25\u00a0% out"),
        (0, "time exit in 4 bars"),
    ]
    bar_at(hand, 61650)
    assert [one.text.split(" ")[0] for one in waiting(hand.engine.state, hand.trade)] == [
        "step",
        "time",
    ]
    # beyond where the step would put it
    hand.do(ev.MoveStop, ask_id="1", trade=hand.trade.id, level=61_610)
    assert [one.text.split(" ")[0] for one in waiting(hand.engine.state, hand.trade)] == ["time"]


def test_what_waits_for_a_target_acts_at_its_level_under_the_number_that_the_trade_has_for_it():
    two = (TargetRule(share=0.4, r=1.0), TargetRule(share=0.3, r=2.0))
    rules = {
        "break_even": BreakEven(After(target=1)),
        "trail": Trail(atr=1.0, after=After(target=2)),
    }
    hand = opened(two, **rules)
    told = waiting(hand.engine.state, hand.trade)
    assert [(one.level, one.text) for one in told] == [
        (61605, "break-even to 0.61242 at target 1"),
        (61968, "trail begins at target 2"),
    ]
    taken(hand, "target", 1, 41)
    rig = msgspec.structs.replace(hand.trade.plan.rig, name="again")
    found = hand.do(
        ev.ChangeRules,
        ask_id="1",
        trade=hand.trade.id,
        plan=msgspec.structs.replace(hand.trade.plan, rig=rig),
    )
    assert [(line.number, line.rule) for line in hand.trade.targets] == [(1, 0), (2, 1), (3, 2)]
    # What rested for target 2 is moved to where the new rig has its first; nothing else rests
    # beside it meanwhile.
    assert not of(found, cm.Cancel)
    assert [(one.level, one.steps) for one in of(found, cm.Amend) if one.role == "target"] == [
        (61605, 25)
    ]
    assert [one.where for one in waiting(hand.engine.state, hand.trade)] == [
        "at target 2",
        "at target 3",
    ]
    hand.do(ev.AmendAccepted, order=hand.order("target", 2).id, level=61605, steps=25)
    taken(hand, "target", 2, 25)
    assert moved(hand, bar_at(hand, 61650))[1].endswith("break-even after target 2")


def test_a_rule_whose_target_was_taken_away_says_that_it_never_comes():
    hand = opened((TargetRule(share=0.4, r=1.0),), break_even=BreakEven(After(target=1)))
    hand.do(ev.SetTarget, ask_id="1", trade=hand.trade.id, number=1, level=0, share=0.0)
    told = waiting(hand.engine.state, hand.trade)
    assert [(one.level, one.text) for one in told] == [
        (0, "break-even to 0.61242 never: its target is gone")
    ]
    assert not of(bar_at(hand, 61700), cm.Amend)


def test_values_are_worked_out_only_for_those_who_need_them():
    hand = opened(trail=Trail(bars=3))
    assert values_for([], SPAN, lambda span: pytest.fail("not needed")) == {}
    plan = msgspec.structs.replace(hand.trade.plan, trail=Trail(atr=1.0))
    assert values_for([plan], SPAN, lambda span: pytest.fail("not needed")) == {}


def test_a_refused_change_of_a_loss_step_waits_before_it_is_tried_again():
    hand = opened(loss_step=(LossStep(0.5, 0.25),))
    order = hand.order("loss")
    stop = hand.order("stop")
    (sent,) = [
        one for one in of(hand.fill(order.id, 6, order.level), cm.Amend) if one.role == "stop"
    ]
    hand.do(ev.AmendAccepted, order=stop.id, level=sent.level, steps=sent.steps)
    hand.trade.losses[0].level -= 3  # as after a fill at another price
    (asked,) = of(hand.do(ev.TimerFired, name=f"retry:{hand.trade.id}:0"), cm.Amend)
    refused = hand.do(
        ev.AmendRejected, order=asked.order, code="filling", text="the order is filling already"
    )
    assert not of(refused, cm.Amend)
    assert of(hand.later(3), cm.Amend)


def test_a_stop_is_not_moved_beyond_the_market_by_a_quote_that_is_older_than_the_bar():
    """As at a start: the venue refused it, and the trade was closed for that."""
    hand = opened(break_even=BreakEven(After(r=1.0)))
    ref, r = hand.trade.ref, hand.trade.r_ticks
    hand.quote(ref + 50, ref + 62)
    hand.now += 15 * MINUTE
    bar = {
        "symbol": SYMBOL,
        "span": SPAN,
        "opened": hand.now - SPAN,
        "spread": 12.0,
        "atr": 0.00145,
        "values": {},
    }
    price = {
        key: (ref + ticks) / 1e5
        for key, ticks in (("open", 0), ("high", r), ("low", -30), ("close", -20))
    }
    assert not of(hand.do(ev.BarCompleted, **bar, **price), cm.Amend)
    hand.quote(ref + 50, ref + 62)
    level, why = moved(hand, bar_at(hand, ref + 50, high=ref + r))
    assert level == ref and "break-even" in why


def test_bars_that_completed_while_nobody_looked_count_for_a_time_exit():
    hand = opened(time_exit=TimeExit(bars=5))
    assert not of(bar_at(hand, 61300), cm.Submit)
    sent = of(bar_at(hand, 61310, minutes=75, values={lived_key(hand.trade.opened): 6}), cm.Submit)
    assert [one.role for one in sent] == ["close"]


def test_a_rig_that_cannot_be_carried_out_is_refused_on_an_open_trade_and_changes_nothing():
    hand = opened(trail=Trail(atr=1.0))
    before = hand.trade.plan
    for rig, code in (
        (
            Rig(name="hours", stop=StopRule(atr=4.0), time_exit=TimeExit(session_end=True)),
            "no_session_end",
        ),
        (
            Rig(
                name="own",
                stop=StopRule(ticks=90.0),
                atr_length=5,
                step=(Step(Measure(atr=1.0), Measure(r=0.5)),),
            ),
            "indicator_not_ready",
        ),
    ):
        hand.trade.entry.atr = None
        plan = msgspec.structs.replace(before, stop=rig.stop, rig=rig)
        found = hand.do(ev.ChangeRules, ask_id=code, trade=hand.trade.id, plan=plan)
        assert code in codes(found)
        assert hand.trade.plan == before


def test_a_follow_on_stays_within_the_rig_s_times():
    hand = opened(follow_on=FollowOn(1), to=2_000_000 * SECOND)
    taken(hand, "stop", 0, 104)
    assert following(hand.engine.state, hand.trade) is not None
    hand.engine.state.now = 2_000_000 * SECOND
    assert following(hand.engine.state, hand.trade) is None


def test_what_a_bar_of_the_trade_s_own_timeframe_decides_leaves_at_once():
    """Also where it is no bar that every trade of the instrument is looked at by."""
    hand = ByHand()
    hand.protect(
        rig=Rig(stop=StopRule(atr=2.5), break_even=BreakEven()),
        targets=(),
        trail=None,
        own_atr=0.00145,
    )
    hand.quote(hand.trade.ref + 500, hand.trade.ref + 512)
    hand.now += 15 * MINUTE
    bar = {
        "symbol": SYMBOL,
        "span": 15 * MINUTE,
        "opened": hand.now - 15 * MINUTE,
        "spread": 12.0,
        "atr": 0.00145,
    }
    prices = dict.fromkeys(("open", "high", "low", "close"), 0.6175)
    found = of(hand.do(ev.BarCompleted, **bar, **prices, base=False), cm.Amend)
    assert [(one.role, one.level) for one in found] == [("stop", hand.trade.ref)]
