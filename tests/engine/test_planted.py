"""What nothing had looked at, as faults planted at random showed: a figure in a sentence, a limit
met exactly, what is told once, what the second of two does."""

from decimal import Decimal
from math import inf

import msgspec
import pytest

from byhand import SYMBOL, ByHand, codes, of, plan
from hawser.core.account import SizeRule
from hawser.core.clock import DAY, HOUR, MINUTE, SECOND
from hawser.core.entry import EntryRule, GoodUntil, HeldRule
from hawser.core.guards import declared as dc
from hawser.core.guards.memory import GuardMemory
from hawser.core.instrument import WeeklySession
from hawser.core.levels import MAX_TARGETS, StopRule, TargetRule
from hawser.core.rig import (
    After,
    BreakEven,
    FollowOn,
    Ladder,
    LossStep,
    Measure,
    Rig,
    TimeExit,
    Trail,
)
from hawser.core.rules.bar_close import basket_reached
from hawser.core.rules.quantity import AtStop, Fees, money_stop_distance, risk_of
from hawser.core.rules.rounding import floor_steps, floor_whole
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.guards import money as guard_money
from hawser.engine.guards.memory import count_anew
from hawser.engine.model import transitions as states
from hawser.engine.model.exposure import resting_level
from hawser.engine.model.rig_levels import ready, waiting
from hawser.engine.pacing import silence_allowed
from hawser.engine.reconcile import differs
from hawser.verification.places import clock_of
from madeup import pair

LIMIT = EntryRule("limit", atr=1.0)


def guarded(*guards, **policy):
    hand = ByHand()
    hand.do(ev.ChangeGuards, ask_id="G", guards=dc.Guards(guard=guards, **policy))
    return hand


def resting(**changes):
    hand = ByHand()
    hand.place(entry=LIMIT, **changes)
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    return hand


def rigged(targets=(), **rules):
    hand = ByHand()
    rig = Rig(name="test", stop=StopRule(atr=2.5), target=targets, trail=None, **rules)
    hand.protect(targets=targets, trail=None, rig=rig, own_atr=0.00145)
    return hand


def texts(commands, code):
    return [one.text for one in of(commands, cm.Tell) if one.code == code]


# Limits met exactly


def test_a_basket_that_has_won_or_lost_exactly_so_much_has_reached_it():
    assert basket_reached(100.0, inf, 100.0)
    assert basket_reached(-100.0, 100.0, inf)
    assert not basket_reached(99.99, 100.0, 100.0)


def test_a_whole_number_is_met_within_a_billionth_and_no_more():
    assert floor_whole(1 - 0.9e-9) == 1
    assert floor_whole(1 - 1.5e-9) == 0
    assert floor_steps(1 - 0.9e-9) == 1
    assert floor_steps(1 - 1.5e-9) == 0


@pytest.mark.parametrize("side", [1, -1])
def test_the_farthest_stop_for_a_sum_counts_commissions_by_value_and_slippage_together(side):
    fees = Fees(unit_money=100_000.0, per_unit=2.0, per_notional=1e-3, minimum=0.0)
    found = money_stop_distance(5_000.0, 4.0, side, 61_242, 0.00001, 60.0, fees)

    def risk(ticks):
        stop = (61_242 - side * ticks) * 0.00001
        return risk_of(4.0, AtStop(ticks + 60.0, 1.0, 0.61242, stop, fees))

    assert risk(found) <= 5_000.0 < risk(found + 1)


def test_what_is_asked_for_may_be_as_long_and_as_much_as_is_said_and_no_more():
    ev.Drill(time=1, ask_id="D", guard="x", subject="", seconds=3600.0)
    with pytest.raises(ValueError, match="3600"):
        ev.Drill(time=1, ask_id="D", guard="x", subject="", seconds=3600.5)
    ev.SetTarget(time=1, ask_id="S", trade="T", number=1, level=1, share=1.0)
    with pytest.raises(ValueError, match="share"):
        ev.SetTarget(time=1, ask_id="S", trade="T", number=1, level=1, share=1.5)
    hand = ByHand()
    hand.do(ev.Halt, ask_id="H", why="x")
    assert codes(hand.do(ev.Rearm, ask_id="R", reason=" ok")) == ["no_reason"]
    assert codes(hand.do(ev.Rearm, ask_id="R2", reason="fix")) == ["rearmed"]


def test_a_stop_refused_where_the_market_just_touches_it_closes():
    hand = ByHand()
    hand.enter()
    stop = hand.order("stop")
    hand.quote(stop.level, stop.level + 12)
    told = hand.do(ev.OrderRejected, order=stop.id, code="too_near", text="too near")
    assert "stop_passed" in codes(told)
    assert [one.role for one in of(told, cm.Submit)] == ["close"]


def test_an_answer_is_waited_for_longer_from_the_third_silence_on():
    assert [silence_allowed(SECOND, count) // SECOND for count in (1, 2, 3, 4, 20)] == [
        1,
        1,
        2,
        4,
        30,
    ]


# What follows, and what is told


def test_holdings_are_given_two_seconds():
    hand = ByHand()
    told = hand.do(ev.VenueUp)
    assert [
        one.at - hand.now for one in of(told, cm.StartTimer) if one.name.startswith("holdings")
    ] == [2 * SECOND]


def test_a_foreign_order_is_told_once_and_a_stray_of_ours_is_none():
    hand = ByHand()
    hand.do(ev.VenueUp)
    told = hand.holdings(resting=("X-2", "P-99"))
    assert codes(told).count("order_not_ours") == 1
    assert hand.engine.state.foreign == ("X-2",)
    assert hand.engine.state.strays == ("P-99",)
    hand.do(ev.VenueUp)
    assert "order_not_ours" not in codes(hand.holdings(resting=("X-2", "P-99")))


def test_a_close_that_fails_is_an_alarm_at_the_third_time_and_not_at_each():
    hand = ByHand()
    hand.protect()
    hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id, share=1.0)
    told = []
    for _ in range(5):
        told.append(
            codes(hand.do(ev.OrderRejected, order=hand.order("close").id, code="busy", text="busy"))
        )
        hand.later(9)
    assert ["close_fails" in one for one in told] == [False, False, True, False, False]


def test_the_sentences_say_what_was_asked_for():
    hand = ByHand()
    hand.protect()
    sent = of(hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id, share=0.9), cm.Submit)
    assert [one.why for one in sent] == ["90\u00a0% closed by hand"]
    account = msgspec.structs.replace(hand.engine.state.account, size=SizeRule(percent=0.3))
    told = hand.do(ev.ChangeAccount, ask_id="A", account=account)
    assert texts(told, "account_changed") == [
        "Account changed (size): holds from the next entry on, open trades keep their lines"
    ]


@pytest.mark.parametrize(("side", "word"), [(1, "long"), (-1, "short")])
def test_a_follow_on_says_to_which_side_it_goes(side, word):
    whole = (TargetRule(share=1.0, r=1.0),)
    hand = ByHand()
    rig = Rig(name="test", stop=StopRule(atr=2.5), target=whole, follow_on=FollowOn(2))
    hand.protect(side=side, targets=whole, trail=None, rig=rig, own_atr=0.00145)
    order = hand.order("target", 1)
    hand.fill(order.id, order.steps, order.level)
    told = texts(hand.do(ev.TimerFired, name=f"follow:{hand.trade.id}"), "follow_on")
    assert told == [f"Follow-on 1 after {told[0].split()[3][:-1]}: {word}"]


def test_what_is_done_is_no_longer_shown_as_waiting():
    hand = rigged(loss_step=(LossStep(0.5, 0.25), LossStep(0.8, 0.25)))
    first = hand.order("loss", 1)
    hand.fill(first.id, first.steps, first.level)
    assert [one.text.split(" at ")[0] for one in waiting(hand.engine.state, hand.trade)] == [
        "loss step 2"
    ]
    ladder = Rig(name="Rungs", ladder=Ladder(3, Measure(ticks=100.0), 60.0, 80.0, factor=2.0))
    hand = ByHand()
    hand.protect(rig=ladder, stop=None, targets=(), trail=None)
    rung = hand.order("rung", 2)
    hand.do(ev.OrderAccepted, order=rung.id)
    hand.fill(rung.id, rung.steps, rung.level)
    assert [one.text.split(" at ")[0] for one in waiting(hand.engine.state, hand.trade)] == [
        "rung 3"
    ]
    average = "Common target 0.61302 → 0.61235: 60 t from the average of all entries"
    assert texts(hand.bar(0.6114, atr=0.00145), "ladder_target") == [average]


# Where the venue has its own mind


def test_a_rung_that_the_venue_puts_elsewhere_is_known_there():
    ladder = Rig(name="Rungs", ladder=Ladder(3, Measure(ticks=100.0), 60.0, 80.0))
    hand = ByHand()
    hand.protect(rig=ladder, stop=None, targets=(), trail=None)
    order = hand.order("rung", 2)
    told = hand.do(ev.OrderAccepted, order=order.id, level=order.level - 3)
    assert "level_adjusted" in codes(told)
    assert hand.trade.ladder.rungs[0].level == order.level
    assert not of(told, cm.Amend)


def test_a_moved_entry_whose_answer_is_lost_is_known_where_a_question_finds_it():
    hand = resting()
    moved = of(hand.do(ev.MoveEntry, ask_id="M", trade=hand.trade.id, level=61_050), cm.Amend)[0]
    hand.later(5)
    told = hand.do(
        ev.OrderStatus,
        known=ev.OrderReport(hand.trade.entry.order_id, "resting", moved.level, moved.steps),
    )
    assert texts(told, "entry_moved")[0].startswith("Entry 0.61097 → 0.61050 for ")
    assert (hand.trade.ref, hand.trade.entry.asked_steps) == (61_050, moved.steps)


def test_an_entry_whose_size_stays_is_not_changed_when_the_venue_puts_it_elsewhere():
    hand = ByHand()
    hand.place(entry=LIMIT, size=SizeRule("fixed", qty=Decimal("0.50")))
    told = hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id, level=hand.trade.ref - 2)
    assert not of(told, cm.Amend)
    assert hand.trade.entry.moving is None
    assert not of(hand.later(30), cm.Amend)


def test_an_entry_past_its_time_by_our_own_clock_ends_the_trade():
    hand = ByHand()
    hand.place(
        entry=EntryRule("limit", atr=1.0, good=msgspec.structs.replace(LIMIT.good, minutes=1.0))
    )
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    # the venue gives it up by itself, a moment later by our clock
    assert not of(hand.later(61), cm.Cancel)
    assert [one.order for one in of(hand.later(2), cm.Cancel)] == [hand.trade.entry.order_id]
    hand.do(ev.OrderCancelled, order=hand.trade.entry.order_id, why="cancelled")
    assert hand.trade.state == states.ENDED
    assert hand.trade.end.name == "expired"


def move_stop(hand, level):
    """By hand, and the venue agrees."""
    hand.do(ev.MoveStop, ask_id=f"to {level}", trade=hand.trade.id, level=level)
    stop = hand.order("stop")
    hand.do(ev.AmendAccepted, order=stop.id, level=level, steps=stop.steps)
    return stop


def test_an_amend_answered_once_more_is_no_level_of_the_venue_s_own():
    hand = ByHand()
    hand.protect()
    first = hand.trade.stop
    move_stop(hand, first + 10)
    stop = move_stop(hand, first + 20)
    told = hand.do(ev.AmendAccepted, order=stop.id, level=first + 10, steps=stop.steps)
    assert "level_adjusted" not in codes(told)
    assert hand.trade.stop == first + 20


def test_a_stop_found_where_it_was_earlier_is_moved_on_again():
    """The venue has lost the change; it is no other hand that put the stop back."""
    hand = ByHand()
    hand.protect()
    first = hand.trade.stop
    stop = move_stop(hand, first + 10)
    told = hand.do(ev.OrderStatus, known=ev.OrderReport(stop.id, "resting", first, stop.steps))
    told += hand.later(2)
    assert [(one.order, one.level) for one in of(told, cm.Amend)] == [(stop.id, first + 10)]
    assert not {"moved_elsewhere", "level_adjusted"} & set(codes(told))


def test_a_stop_that_may_not_move_says_that_it_stays():
    hand = ByHand()
    hand.protect()
    hand.do(ev.MoveStop, ask_id="1", trade=hand.trade.id, level=hand.trade.stop + 10)
    hand.do(ev.AmendRejected, order=hand.order("stop").id, code="too_near", text="too near")
    assert hand.trade.cover.why == "kept where it rests"


def test_money_that_changes_under_an_open_trade_is_an_alarm_and_other_terms_are_a_caution():
    hand = ByHand()
    hand.protect()

    def weights(**changes):
        one = hand.engine.state.instruments[SYMBOL]
        told = hand.do(
            ev.Opened,
            prefix="P",
            account=hand.engine.state.account,
            instruments=(msgspec.structs.replace(one, **changes),),
        )
        return [each.weight for each in of(told, cm.Tell) if each.code == "instrument_changed"]

    assert weights(margin_rate=0.07) == ["caution"]
    assert weights(multiplier=50_000.0) == ["alarm"]


# Plans put on what is open


@pytest.mark.parametrize("side", [1, -1])
def test_a_held_entry_that_moves_takes_its_backstop_along(side):
    hand = resting(side=side, held=HeldRule(2.0, 0))
    level = hand.trade.ref - side * 20
    moved = of(hand.do(ev.MoveEntry, ask_id="M", trade=hand.trade.id, level=level), cm.Amend)[0]
    hand.do(ev.AmendAccepted, order=hand.trade.entry.order_id, level=level, steps=moved.steps)
    hand.fill(hand.trade.entry.order_id, moved.steps, level)
    assert hand.order("stop").level == level - side * 2 * hand.trade.r_ticks


def test_a_second_part_that_fills_higher_takes_stop_and_backstop_along():
    hand = ByHand()
    hand.place(anchor="fill", held=HeldRule(2.0, 0))
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    first, ref = hand.trade.ref, hand.trade.entry.asked_steps
    half = hand.trade.entry.asked_steps // 2
    hand.fill(hand.trade.entry.order_id, half, first)
    hand.do(ev.OrderAccepted, order=hand.order("stop").id)
    told = hand.fill(hand.trade.entry.order_id, hand.trade.entry.asked_steps - half, first + 2)
    assert hand.trade.ref == first + 1
    assert ref == hand.trade.entered
    assert hand.trade.cover.backstop == hand.trade.ref - 2 * hand.trade.r_ticks
    assert [one.level for one in of(told, cm.Amend) if one.role == "stop"] == [
        hand.trade.cover.backstop
    ]


def test_a_held_target_is_taken_though_the_trade_is_to_be_looked_at_later_for_something_else():
    hand = ByHand()
    hand.protect(held=HeldRule(2.0, 0), targets=(TargetRule(share=0.5, r=1.0),), trail=None)
    hand.trade.wake_at = hand.now + 60 * SECOND
    told = hand.quote(hand.trade.targets[0].level, hand.trade.targets[0].level + 12)
    assert [(one.role, one.kind) for one in of(told, cm.Submit)] == [("target", "market")]


def test_a_bar_that_ended_as_the_trade_began_is_none_of_its_own():
    hand = ByHand()
    hand.now += 15 * MINUTE  # and the bar that ends here is told only after the fill
    hand.quote(61_230, 61_242)
    hand.protect(targets=(), trail=Trail(atr=0.5))
    began, span = hand.trade.opened, 15 * MINUTE
    hand.quote(61_400, 61_412)
    bar = {
        "symbol": SYMBOL,
        "span": span,
        "open": 0.614,
        "high": 0.614,
        "low": 0.614,
        "close": 0.614,
        "spread": 12.0,
        "atr": 0.00145,
    }
    assert not of(hand.do(ev.BarCompleted, opened=began - span, **bar), cm.Amend)
    hand.now += span
    assert of(hand.do(ev.BarCompleted, opened=began, **bar), cm.Amend)


def test_what_waits_one_tick_beyond_the_stop_is_shown():
    hand = rigged(break_even=BreakEven(After(r=1.0)))
    hand.trade.stop = hand.trade.ref - 1
    assert len(waiting(hand.engine.state, hand.trade)) == 1
    hand.trade.stop = hand.trade.ref
    assert not waiting(hand.engine.state, hand.trade)


def test_a_trade_of_no_planned_risk_ends_at_no_r():
    hand = guarded(dc.CoolDownGuard(name="calm", minutes=5))
    hand.protect()
    hand.trade.entry.planned_risk = 0.0
    stop = hand.order("stop")
    told = hand.fill(stop.id, stop.steps, stop.level, profit=-300.0)
    assert hand.trade.state == states.ENDED
    assert texts(told, "guard_closed")[0].endswith(f"{SYMBOL} ended at 0.00\u00a0R")


def test_a_target_on_the_wrong_side_is_no_target_of_a_plan_put_on_a_trade():
    wrong = TargetRule(share=0.5, price=Decimal("0.60000"))
    right = TargetRule(share=0.5, price=Decimal("0.63000"))
    hand = ByHand()
    hand.protect()
    hand.do(ev.ChangeRules, ask_id="P", trade=hand.trade.id, plan=plan(targets=(wrong, right)))
    assert 60_000 not in [line.level for line in hand.trade.targets if line.share]
    assert 63_000 in [line.level for line in hand.trade.targets]
    hand = ByHand()
    hand.do(ev.VenueUp)
    hand.holdings(positions=(ev.VenuePosition("X-1", SYMBOL, 1, 20, 61_200.0),))
    hand.do(ev.Adopt, ask_id="A", position="X-1", plan=plan(targets=(wrong, right)))
    assert [line.level for line in hand.trade.targets] == [63_000]


def test_a_plan_whose_stop_is_one_tick_nearer_moves_it_there():
    hand = ByHand()
    hand.protect()
    nearer = StopRule(price=Decimal(hand.trade.stop + 1) / 100_000)
    hand.do(
        ev.ChangeRules,
        ask_id="P",
        trade=hand.trade.id,
        plan=plan(stop=nearer, targets=(), trail=None),
    )
    assert hand.trade.stop == 60_880


def test_an_entry_moved_with_a_stop_from_bars_takes_what_it_stands_on_now():
    hand = ByHand()
    bars = plan(entry=LIMIT, stop=StopRule(bars=5))
    hand.do(ev.PlaceTrade, ask_id="A", plan=bars, basis=0.60900, atr=None)
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    hand.do(ev.MoveEntry, ask_id="M", trade=hand.trade.id, level=61_120, basis=0.60800)
    assert hand.trade.entry.moving.stop == 60_800


# Money


def test_the_highest_bid_since_entry_follows_quotes_and_a_pair_is_a_rate_of_its_own():
    hand = ByHand()
    hand.protect()
    hand.quote(61_300, 61_312)
    assert hand.trade.progress.best_exit == 61_300
    assert hand.engine.state.rates[SYMBOL][0] == pytest.approx(0.61306, abs=1e-12)


def test_a_rate_alone_is_no_line_of_the_record():
    hand = ByHand()
    hand.do(ev.RateSeen, pair="USD/CHF", mid=0.9)
    assert not hand.engine.decided


def test_each_payment_moves_the_start_of_a_loss_by_itself():
    hand = guarded(dc.LossSwitch(name="Day", percent=5.0))

    def figures(equity, paid):
        hand.do(ev.Figures, balance=equity, equity=equity, margin_used=0.0, transferred=paid)
        return hand.engine.state.memory["Day\n"].base

    assert figures(64_000.0, 0.0) == 64_000.0
    assert figures(65_000.0, 1_000.0) == 65_000.0
    assert figures(65_500.0, 1_500.0) == 65_500.0
    assert figures(65_000.0, 1_000.0) == 65_000.0


def test_counting_anew_begins_at_nothing():
    hand = guarded(dc.LossSwitch(name="Pair", money=500.0, per="instrument"))
    memory = GuardMemory(won=-7.0)
    count_anew(hand.engine.state, hand.engine.state.guards.guard[0], SYMBOL, memory)
    assert memory.won == 0.0


def test_only_switches_over_money_that_are_on_watch_the_equity():
    floor = dc.FloorSwitch(name="floor", money=1.0, on=False)
    fall = dc.DrawdownSwitch(name="fall", percent=9.0)
    guards = (
        dc.CountGuard(name="few", most=3),
        floor,
        fall,
        dc.LossSwitch(name="off", percent=1.0, on=False),
    )
    found = guard_money.watching(guarded(*guards).engine.state)
    assert [guard.name for guard, _ in found] == ["fall"]


# Guards


def test_news_and_days_may_be_loosened_at_once_only_while_nothing_has_latched():
    hand = guarded(dc.LossSwitch(name="Day", percent=1.0), loosen="now")
    later = dc.Guards(
        guard=(dc.LossSwitch(name="Day", percent=1.0),), loosen="now", day_starts="09:00"
    )
    hand.do(ev.ChangeGuards, ask_id="1", guards=later)
    assert hand.engine.state.guards.day_starts == "09:00"
    hand.do(ev.Figures, balance=64_000.0, equity=60_000.0, margin_used=0.0)
    again = msgspec.structs.replace(later, day_starts="11:00")
    told = hand.do(ev.ChangeGuards, ask_id="2", guards=again)
    assert hand.engine.state.guards.day_starts == "09:00"
    assert any("day starts" in text for text in texts(told, "guard_loosened"))


def test_a_filter_says_what_it_did_and_sets_out_again_what_it_took_back():
    ladder = Rig(name="Rungs", ladder=Ladder(3, Measure(ticks=100.0), 60.0, 80.0))
    hand = guarded(dc.SpreadGuard(name="Wide", max_ticks=20, then=("cancel",)))
    hand.protect(rig=ladder, stop=None, targets=(), trail=None)
    for number in (2, 3):
        hand.do(ev.OrderAccepted, order=hand.order("rung", number).id)
    told = hand.quote(61_230, 61_280)
    taken = [one.order for one in of(told, cm.Cancel)]
    assert len(taken) == 2
    for order in taken:
        hand.do(ev.OrderCancelled, order=order, why="taken back")
    told = hand.quote(61_230, 61_242)
    assert texts(told, "guard_open")
    assert [one.role for one in of(told, cm.Submit)] == ["rung", "rung"]
    hand = guarded(dc.SpreadGuard(name="Wide", max_ticks=20, then=("cancel",)))
    hand.place("1", entry=LIMIT)
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    assert texts(hand.quote(61_230, 61_280), "guard_closed")[0].endswith("; 1 cancelled")


@pytest.mark.parametrize("timed", [TimeExit(None, True, False), TimeExit(None, False, True)])
def test_an_exit_by_the_hours_has_its_timer_whichever_hours_they_are(timed):
    hand = ByHand()
    instrument = hand.engine.state.instruments[SYMBOL]
    hours = (WeeklySession((0, 1, 2, 3, 4), "00:00", "22:00", "UTC"),)
    hand.engine.state.instruments[SYMBOL] = msgspec.structs.replace(instrument, sessions=hours)
    rig = Rig(name="test", stop=StopRule(atr=2.5), time_exit=timed)
    hand.protect(targets=(), trail=None, rig=rig, own_atr=0.00145)
    assert hand.now < hand.trade.progress.hours_at <= hand.now + 7 * DAY
    hand.now = hand.trade.progress.hours_at
    hand.quote(61_230, 61_242)
    told = hand.do(ev.TimerFired, name=f"hours:{hand.trade.id}:{hand.trade.progress.hours_at}")
    assert [one.role for one in of(told, cm.Submit)] == ["close"]
    assert "hours" in hand.trade.leave.code
    assert hand.now % MINUTE == 0


def test_an_exit_by_the_hours_follows_another_plan_and_other_hours():
    """A trade was closed by the time exit of a rig that it did not have any more."""
    hand = ByHand()
    until = {
        clock: msgspec.structs.replace(
            pair(), sessions=(WeeklySession((0, 1, 2, 3, 4), "00:00", clock),)
        )
        for clock in ("22:00", "21:00")
    }
    hand.do(ev.InstrumentsChanged, instruments=(until["22:00"],), spans={})
    timed = Rig(name="test", stop=StopRule(atr=2.5), time_exit=TimeExit(None, True))
    hand.protect(targets=(), trail=None, rig=timed, own_atr=0.00145)
    trade, first = hand.trade, hand.trade.progress.hours_at
    told = hand.do(ev.InstrumentsChanged, instruments=(until["21:00"],), spans={})
    assert "other trading hours" in texts(told, "instrument_changed")[0]
    assert hand.trade.progress.hours_at == first - HOUR
    assert f"hours:{trade.id}:{first - HOUR}" in {one.name for one in of(told, cm.StartTimer)}
    told = hand.do(ev.InstrumentsChanged, instruments=(pair(),), spans={})
    assert "does not come" in texts(told, "no_session_end")[0]
    assert not hand.trade.progress.hours_at
    hand.do(ev.InstrumentsChanged, instruments=(until["21:00"],), spans={})
    untimed = msgspec.structs.replace(trade.plan, rig=Rig(name="other", stop=StopRule(atr=2.5)))
    hand.do(ev.ChangeRules, ask_id="E", trade=trade.id, plan=untimed)
    assert not hand.trade.progress.hours_at
    hand.now = first
    hand.quote(61_230, 61_242)
    assert not of(hand.do(ev.TimerFired, name=f"hours:{trade.id}:{first - HOUR}"), cm.Submit)
    assert not hand.trade.leave


def test_a_trade_of_some_days_is_not_closed_by_its_first_day_s_end_where_its_bars_are_gone():
    """On another grid none is known until the venue's are read."""
    hand = ByHand()
    hours = (WeeklySession((0, 1, 2, 3, 4), "00:00", "22:00"),)
    day = msgspec.structs.replace(pair(), sessions=hours)
    hand.do(ev.InstrumentsChanged, instruments=(day,), spans={})
    rig = Rig(name="test", stop=StopRule(atr=2.5), time_exit=TimeExit(None, True))
    hand.protect(targets=(), trail=None, rig=rig, own_atr=0.00145)
    hand.now += 2 * DAY
    hand.do(
        ev.InstrumentsChanged,
        instruments=(msgspec.structs.replace(day, tick=day.tick / 10),),
        spans={},
    )
    assert hand.now < hand.trade.progress.hours_at <= hand.now + DAY


def test_what_waits_until_the_session_ends_is_taken_back_where_that_comes_earlier():
    hand = ByHand()
    hand.do(ev.InstrumentState, symbol=SYMBOL, open=True, until=hand.now + 8 * HOUR)
    hand.place(
        entry=EntryRule("limit", price=Decimal("0.61100"), good=GoodUntil(session_end=True)),
        targets=(),
    )
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    name, sooner = f"until:{hand.trade.entry.order_id}", hand.now + HOUR
    told = hand.do(ev.InstrumentState, symbol=SYMBOL, open=True, until=sooner)
    assert [(one.name, one.at) for one in of(told, cm.StartTimer)] == [(name, sooner + 2 * SECOND)]
    assert hand.engine.state.orders[hand.trade.entry.order_id].until == sooner
    assert not of(
        hand.do(ev.InstrumentState, symbol=SYMBOL, open=True, until=sooner + HOUR), cm.StartTimer
    )
    hand.now = sooner + 2 * SECOND
    assert [one.order for one in of(hand.do(ev.TimerFired, name=name), cm.Cancel)] == [
        hand.trade.entry.order_id
    ]


def test_a_guard_looks_again_where_the_hours_it_goes_by_have_changed():
    """No bar and no quote may come before they end."""
    hand = ByHand()
    closes = {
        clock: msgspec.structs.replace(
            pair(), sessions=(WeeklySession((0, 1, 2, 3, 4, 5, 6), "00:00", clock),)
        )
        for clock in ("22:00", clock_of(hand.now + 20 * MINUTE))
    }
    late, soon = closes.values()
    hand.do(ev.InstrumentsChanged, instruments=(late,), spans={})
    guard = dc.SessionGuard(name="Near", before_close_min=30.0, then=("flatten",))
    hand.do(ev.ChangeGuards, ask_id="G", guards=dc.Guards(guard=(guard,)))
    hand.protect()
    told = hand.do(ev.InstrumentsChanged, instruments=(soon,), spans={})
    assert [one.role for one in of(told, cm.Submit)] == ["close"]


def test_a_target_that_is_off_is_none_for_a_short_either():
    hand = ByHand()
    hand.protect(side=-1)
    off = plan(side=-1, targets=(TargetRule(share=0.0, r=1.0), TargetRule(share=0.5, r=2.0)))
    hand.do(ev.ChangeRules, ask_id="P", trade=hand.trade.id, plan=off)
    assert all(line.level > 0 for line in hand.trade.targets)


def test_a_stop_whose_quantity_the_venue_will_not_have_is_sent_in_smaller_parts():
    hand = ByHand()
    hand.enter()
    whole = hand.trade.open_steps
    told = hand.do(ev.OrderRejected, order=hand.order("stop").id, code="bad_qty", text="too many")
    told += hand.later(3)
    parts = [one.steps for one in of(told, cm.Submit) if one.role == "stop"]
    assert len(parts) >= 2
    assert max(parts) <= whole // 2
    assert sum(parts) == whole


def test_an_entry_whose_quantity_the_venue_will_not_have_ends():
    hand = ByHand()
    hand.place()
    hand.do(ev.OrderRejected, order=hand.trade.entry.order_id, code="bad_qty", text="too many")
    assert hand.trade.state == states.ENDED
    assert hand.trade.cover.most_steps == 0


def test_held_lines_of_what_is_not_open_are_not_said_to_be_unwatched():
    hand = resting(held=HeldRule(2.0, 0))
    assert "held lines" not in texts(hand.do(ev.VenueDown, why="cable"), "link_down")[0]
    hand.do(ev.VenueUp)
    hand.fill(hand.trade.entry.order_id, hand.trade.entry.asked_steps, hand.trade.ref)
    assert (
        "the held lines of 1 trade are" in texts(hand.do(ev.VenueDown, why="cable"), "link_down")[0]
    )


def test_a_close_refused_for_a_market_that_has_opened_meanwhile_is_tried_again_at_once():
    """It was sent before the opening, and its answer comes after it: 30 s without cover
    followed."""
    hand = ByHand()
    hand.protect()
    hand.do(ev.InstrumentState, symbol=SYMBOL, open=False, until=0)
    sent = of(hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id), cm.Submit)
    hand.do(ev.InstrumentState, symbol=SYMBOL, open=True, until=0)
    hand.do(ev.OrderRejected, order=sent[0].order, code="market_closed", text="not trading")
    assert [one.role for one in of(hand.later(1), cm.Submit)] == ["close"]


def test_a_market_that_is_refused_as_closed_though_told_as_open_is_asked_now_and_then():
    hand = ByHand()
    hand.protect()
    sent = of(hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id), cm.Submit)
    hand.do(ev.OrderRejected, order=sent[0].order, code="market_closed", text="not trading")
    assert not of(hand.later(29), cm.Submit)
    assert of(hand.later(2), cm.Submit)


def test_whatever_fails_in_a_shut_market_leaves_the_tries_for_its_opening():
    hand = ByHand()
    hand.protect()
    hand.do(ev.InstrumentState, symbol=SYMBOL, open=False, until=0)
    sent = of(hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id), cm.Submit)
    hand.do(ev.OrderRejected, order=sent[0].order, code="busy", text="busy")
    assert not of(hand.later(29), cm.Submit)
    opens = hand.do(ev.InstrumentState, symbol=SYMBOL, open=True, until=0)
    assert [one.role for one in of(opens, cm.Submit)] == ["close"]


def test_what_is_left_of_an_ended_trade_in_a_shut_market_is_taken_back_when_it_opens():
    hand = ByHand()
    hand.protect()
    stop, target = hand.order("stop"), hand.order("target", 1)
    hand.do(ev.MoveTarget, ask_id="M", trade=hand.trade.id, number=1, level=target.level + 30)
    hand.do(ev.InstrumentState, symbol=SYMBOL, open=False, until=0)
    hand.fill(stop.id, stop.steps, stop.level)
    assert hand.trade.ended
    assert target.pending == "amend"
    hand.do(ev.AmendRejected, order=target.id, code="market_closed", text="not trading")
    known = ev.OrderReport(target.id, "resting", target.level, target.steps)
    assert not of(hand.do(ev.OrderStatus, known=known), cm.Cancel)
    opens = hand.do(ev.InstrumentState, symbol=SYMBOL, open=True, until=0)
    assert target.id in {one.order for one in of(opens, cm.Cancel)}


def test_a_check_finds_what_rests_of_an_ended_trade_and_is_about_to_be_taken_back_by_nothing():
    hand = ByHand()
    hand.protect()
    stop, target = hand.order("stop"), hand.order("target", 1)
    hand.fill(stop.id, stop.steps, stop.level)
    for order in hand.engine.state.orders_of(hand.trade, "target"):
        hand.do(ev.CancelRejected, order=order.id, code="busy", text="busy")
        hand.do(ev.OrderStatus, known=ev.OrderReport(order.id, "cancelled", 0, order.steps))
    target.state, target.pending = states.RESTING, ""
    hand.engine.state.list_live(hand.trade, target)
    known = ev.OrderReport(target.id, "resting", target.level, target.steps)
    check = ev.Checked(
        time=hand.now, asked=(known,), resting=(target.id,), positions=(), quiet=(hand.trade.id,)
    )
    assert differs(hand.engine.state, check)
    found = hand.do(
        ev.Checked, asked=(known,), resting=(target.id,), positions=(), quiet=(hand.trade.id,)
    )
    assert [one.order for one in of(found, cm.Cancel)] == [target.id]
    hand.trade.wake_at, target.pending = hand.now + 1, ""
    assert not differs(hand.engine.state, check)  # its time comes


def test_a_held_trade_risks_as_far_as_its_stop_while_the_link_stands_and_its_backstop_without():
    hand = ByHand()
    hand.protect(targets=(), held=HeldRule(backstop_r=2.0))
    trade = hand.trade
    assert trade.cover.backstop < trade.stop
    assert resting_level(hand.engine.state, trade) == trade.stop
    hand.do(ev.VenueDown, why="cut")
    assert (
        resting_level(hand.engine.state, trade) == trade.cover.backstop == hand.order("stop").level
    )


def test_a_target_of_one_step_counts_as_filled():
    targets = (TargetRule(share=0.1, r=1.0),)
    rig = Rig(
        name="R",
        stop=StopRule(ticks=100),
        target=targets,
        break_even=BreakEven(after=After(target=1)),
    )
    hand = ByHand()
    hand.protect(
        rig=rig,
        size=SizeRule("fixed", qty=Decimal("0.10")),
        stop=rig.stop,
        targets=targets,
        trail=None,
    )
    target = hand.order("target", 1)
    assert target.steps == 1
    assert ready(hand.trade) == 0
    hand.fill(target.id, 1, target.level)
    assert ready(hand.trade) == 0b10


def test_what_waits_for_no_price_has_no_level():
    rig = Rig(name="R", stop=StopRule(ticks=100), time_exit=TimeExit(bars=8, before_weekend=True))
    hand = ByHand()
    hand.protect(rig=rig, stop=rig.stop, targets=(), trail=None)
    assert {(one.level, one.text) for one in waiting(hand.engine.state, hand.trade)} == {
        (0, "time exit in 8 bars"),
        (0, "out before the week ends"),
    }


def test_a_target_one_tick_away_is_adopted_and_one_at_the_market_is_not():
    for ticks, count in ((1, 1), (0, 0)):
        hand = ByHand()
        hand.do(ev.VenueUp)
        hand.holdings(positions=(ev.VenuePosition("X-1", SYMBOL, 1, 50, 61_300.0),))
        level = Decimal(hand.market.bid + ticks) / 100_000
        adopted = plan(targets=(TargetRule(share=1.0, price=level),), trail=None)
        hand.do(ev.Adopt, ask_id="A", position="X-1", plan=adopted)
        assert len(hand.trade.targets) == count


def test_a_ladder_s_target_may_be_moved_to_one_tick_beyond_its_entry():
    rig = Rig(name="L", ladder=Ladder(2, Measure(ticks=60.0), 80.0, 60.0))
    wait = EntryRule("limit", price=Decimal("0.61000"))
    for ticks, moved in ((1, True), (0, False)):
        hand = ByHand()
        hand.place(rig=rig, entry=wait, stop=None, targets=(), trail=None)
        hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
        found = hand.do(
            ev.MoveTarget, ask_id="M", trade=hand.trade.id, number=1, level=hand.trade.ref + ticks
        )
        assert ("refused" in {one.weight for one in of(found, cm.Tell)}) != moved


def test_a_drill_lasts_some_time_and_a_reason_has_three_letters():
    with pytest.raises(ValueError, match="a drill lasts"):
        ev.Drill(time=1, ask_id="D", guard="g", seconds=0.0)
    hand = ByHand()
    for reason, halted in (("no", True), (" no ", True), ("yes", False)):
        hand.do(ev.Halt, ask_id=f"H{reason}", why="x")
        hand.do(ev.Rearm, ask_id=f"R{reason}", reason=reason)
        assert (hand.engine.state.halt is not None) == halted


def test_a_target_that_another_hand_moves_is_taken_over_and_a_loss_step_is_put_back():
    rig = Rig(stop=StopRule(atr=2.5), loss_step=(LossStep(0.5, 0.5),))
    hand = ByHand()
    hand.protect(rig=rig, stop=rig.stop, targets=(TargetRule(share=0.5, r=2.0),), trail=None)
    for role, takes in (("target", True), ("loss", False)):
        order = hand.order(role)
        level, was = order.level + 7, order.level
        told = hand.do(
            ev.OrderStatus, known=ev.OrderReport(order.id, "resting", level, order.steps)
        )
        assert "moved_elsewhere" in codes(told)
        line = (hand.trade.targets if role == "target" else hand.trade.losses)[0]
        assert line.level == (level if takes else was)
        assert [(one.order, one.level) for one in of(told, cm.Amend)] == (
            [] if takes else [(order.id, was)]
        )


def test_a_guard_is_re_armed_for_a_reason_of_three_letters():
    hand = ByHand()
    hand.do(
        ev.ChangeGuards, ask_id="G", guards=dc.Guards(guard=(dc.LossSwitch(name="l", percent=2.0),))
    )
    hand.do(ev.Drill, ask_id="D", guard="l")
    (memory,) = hand.engine.state.memory.values()
    for reason, latched in ((" no ", True), ("yes", False)):
        hand.do(ev.RearmGuard, ask_id=f"R{reason}", guard="l", reason=reason)
        assert bool(memory.latched) == latched


def test_an_entry_whose_time_is_up_is_taken_back_also_where_it_is_being_asked_about_just_then():
    hand = ByHand()
    hand.place(entry=EntryRule(kind="limit", price=Decimal("0.61100")), targets=())
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    hand.fill(hand.trade.entry.order_id, 30, hand.trade.ref)
    entry, name = (
        hand.engine.state.orders[hand.trade.entry.order_id],
        f"until:{hand.trade.entry.order_id}",
    )
    entry.pending = "query"
    told = hand.do(ev.TimerFired, name=name)
    assert [one.name for one in of(told, cm.StartTimer)] == [name]
    entry.pending = ""
    assert [one.order for one in of(hand.do(ev.TimerFired, name=name), cm.Cancel)] == [entry.id]


def test_a_stop_that_is_refused_when_nothing_is_open_any_more_is_no_alarm():
    for open_steps, expected in ((0, 0), (1, 1)):
        hand = ByHand()
        hand.enter(targets=())
        trade = hand.trade
        trade.left, trade.closed = True, trade.entered - open_steps
        told = hand.do(ev.OrderRejected, order=hand.order("stop").id, code="other", text="not now")
        assert codes(told).count("left_bare") == expected


def test_no_more_targets_are_planned_than_a_trade_may_have_however_little_each_takes():
    found = {}
    for already in (MAX_TARGETS - 1, MAX_TARGETS):
        hand = resting(
            targets=tuple(
                TargetRule(share=0.1, r=float(number)) for number in range(1, already + 1)
            )
        )
        told = hand.do(
            ev.SetTarget, ask_id="T", trade=hand.trade.id, number=0, level=64_000, share=0.1
        )
        found[already] = codes(told).count("target_refused")
    assert found == {MAX_TARGETS - 1: 0, MAX_TARGETS: 1}
