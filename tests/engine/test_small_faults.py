"""What faults planted by a tool did not meet: what is told, what is refused, and what holds at the
edges."""

import math
from decimal import Decimal

import msgspec
import pytest

from byhand import SYMBOL, ByHand, codes, of, plan
from hawser.core.account import Policy, SizeRule
from hawser.core.clock import DAY, MINUTE, SECOND
from hawser.core.entry import EntryRule
from hawser.core.errors import Refused
from hawser.core.guards import declared as dc
from hawser.core.guards.memory import GuardMemory
from hawser.core.levels import StopRule, TargetRule
from hawser.core.rig import Amount, Basket, BreakEven, Ladder, LossStep, Measure, Rig, TimeExit
from hawser.core.rules.entries import filled_at
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.alignment import align
from hawser.engine.asks import stop_problem
from hawser.engine.clearance.guards import context_of
from hawser.engine.entries.anchoring import _known
from hawser.engine.guards.next_look import next_moment
from hawser.engine.model import reasons as rs
from hawser.engine.model import transitions as states
from hawser.engine.model.exposure import Exposure
from hawser.engine.model.requests import need_equity, request_for
from hawser.engine.reconcile import differs

BUY_STOP = EntryRule("stop", price=Decimal("0.61500"))
LADDER = Rig(name="Rungs", ladder=Ladder(3, Measure(ticks=100.0), 60.0, 80.0, factor=2.0))


def waiting(**changes):
    hand = ByHand()
    hand.place(**{"entry": BUY_STOP} | changes)
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    return hand


def texts(commands, code):
    return [one.text for one in of(commands, cm.Tell) if one.code == code]


# What is told


def test_a_basket_says_what_it_stops_and_takes_with_its_sign():
    hand = ByHand()
    hand.protect()
    basket = Basket(stop=Amount(money=120.0), target=Amount(money=300.0), basis="tick")
    told = hand.do(ev.FormBasket, ask_id="B", trades=(hand.trade.id,), basket=basket)
    assert (
        "stop at \u2212120.00\u00a0CHF, target at +300.00\u00a0CHF, from now"
        in texts(told, "basket_formed")[0]
    )
    reached = rs.Reason(rs.BASKET_TARGET, name="basket 1", money=301.5)
    assert rs.words(reached, "CHF") == "basket 1 target at +301.50\u00a0CHF"


def test_a_loss_is_told_in_money_and_as_a_share_of_what_the_day_began_with():
    hand = ByHand()
    hand.do(
        ev.ChangeGuards,
        ask_id="G",
        guards=dc.Guards(guard=(dc.LossSwitch(name="loss", percent=1.0),)),
    )
    told = hand.do(ev.Figures, balance=64_000.0, equity=63_120.0, margin_used=0.0)
    assert (
        "\u2212880.00\u00a0CHF this day, 1.38\u00a0% of its first equity"
        in texts(told, "guard_tripped")[0]
    )


def test_looser_limits_that_wait_are_told():
    hand = ByHand(policy=Policy(max_positions=2))
    hand.do(
        ev.ChangeGuards,
        ask_id="G",
        guards=dc.Guards(loosen="next_period", guard=(dc.CountGuard(name="n", most=9),)),
    )
    account = hand.engine.state.account
    looser = msgspec.structs.replace(account, policy=Policy(max_positions=5))
    told = hand.do(ev.ChangeAccount, ask_id="A", account=looser)
    assert "from the next day on" in texts(told, "account_loosened")[0]
    assert hand.engine.state.account.policy.max_positions == 2


def test_an_account_s_file_that_replaces_what_was_edited_here_is_told():
    hand = ByHand()
    account = hand.engine.state.account
    opened = {"prefix": "P", "instruments": tuple(hand.engine.state.instruments.values())}
    hand.do(
        ev.ChangeAccount,
        ask_id="A",
        account=msgspec.structs.replace(account, size=SizeRule(percent=0.1)),
    )
    # the file is as it was
    assert "account_file" not in codes(hand.do(ev.Opened, account=account, **opened))
    assert hand.engine.state.account.size.percent == 0.1
    other = msgspec.structs.replace(account, size=SizeRule(percent=0.2))
    assert "account_file" in codes(hand.do(ev.Opened, account=other, **opened))
    assert hand.engine.state.account.size.percent == 0.2


def test_a_record_that_may_be_wrong_is_told_in_a_whole_sentence():
    hand = ByHand()
    opened = {
        "account": hand.engine.state.account,
        "instruments": tuple(hand.engine.state.instruments.values()),
    }
    told = hand.do(ev.Opened, prefix="P", suspect="line 40 of the record is damaged", **opened)
    text = (
        "Line 40 of the record is damaged: nothing is sent before the venue has told what it holds"
    )
    assert texts(told, "suspect") == [text]


def test_a_drill_of_what_is_not_there_says_which():
    hand = ByHand()
    for subject, of_it in (("", ""), (SYMBOL, f" for {SYMBOL}")):
        told = hand.do(ev.Drill, ask_id="D", guard="none", subject=subject)
        assert texts(told, "no_guard") == [f"There is no guard none{of_it} that watches"]


def test_another_rig_is_refused_in_words_while_a_trade_is_being_closed():
    hand = ByHand()
    hand.protect()
    hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id, share=1.0)
    assert codes(
        hand.do(ev.ChangeRules, ask_id="R", trade=hand.trade.id, plan=plan(stop=StopRule(ticks=99)))
    ) == ["leaving"]


def test_a_guard_that_never_closed_has_no_time_of_it():
    assert (GuardMemory().tripped, GuardMemory().latched) == (0, 0)


@pytest.mark.parametrize(("side", "word"), [(1, "long"), (-1, "short")])
def test_what_a_trade_becomes_is_told_with_side_sign_and_r(side, word):
    hand = ByHand()
    hand.place(side=side)
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    told = hand.fill(hand.trade.entry.order_id, hand.trade.entry.asked_steps, hand.trade.ref)
    assert texts(told, "entered") == [
        f"Entered {word} 1.04 CAD/CHF at {hand.trade.ref / 100_000:.5f}"
    ]
    stop = hand.order("stop")
    hand.do(ev.OrderAccepted, order=stop.id)
    told = hand.fill(stop.id, stop.steps, stop.level, profit=500.0)
    assert texts(told, "trade_ended")[0].startswith("Trade ended by stop: +498.00\u00a0CHF, +1.3")


def test_a_target_that_follows_says_where_or_how_much():
    hand = ByHand()
    hand.protect()
    found = hand.do(ev.MoveTarget, ask_id="M", trade=hand.trade.id, number=1, level=61_655)
    assert [one.why for one in of(found, cm.Amend)] == ["Target 1 to 0.61655"]


@pytest.mark.parametrize("share", [0.0, 1.01, math.nan, -0.5])
def test_no_more_than_all_of_a_trade_can_be_closed(share):
    with pytest.raises(ValueError, match="a share"):
        ev.CloseTrade(time=1, ask_id="C", trade="T1", share=share)


def test_a_stop_that_an_answer_finds_elsewhere_before_it_was_known_to_rest_is_the_venue_s_doing():
    """Where it rests already it is another hand's."""
    hand = ByHand()
    hand.enter(targets=())
    stop = hand.order("stop")
    hand.later(0.5)
    found = hand.do(
        ev.OrderStatus, known=ev.OrderReport(stop.id, "resting", stop.level - 3, stop.steps)
    )
    assert "level_adjusted" in codes(found)
    assert hand.trade.stop == stop.level == 60_876
    found = hand.do(
        ev.OrderStatus, known=ev.OrderReport(stop.id, "resting", stop.level + 30, stop.steps)
    )
    assert "moved_elsewhere" in codes(found)
    assert hand.trade.stop == 60_906


# What is refused, and what is not


def test_a_stop_at_nothing_is_refused():
    hand = ByHand()
    hand.protect()
    assert codes(hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=0, widen=True)) == [
        "stop_refused"
    ]
    assert hand.trade.stop > 0


@pytest.mark.parametrize("level", [0, -1, -(10**15)])
def test_a_waiting_entry_and_its_stop_are_not_moved_to_what_is_no_price(level):
    hand = waiting()
    told = hand.do(ev.MoveEntry, ask_id="M", trade=hand.trade.id, level=level)
    assert codes(told) == ["not_positive"]
    told = hand.do(ev.MoveStop, ask_id="S", trade=hand.trade.id, level=level)
    assert codes(told) == ["stop_refused"]
    assert hand.trade.entry.moving is None


def test_a_plan_that_does_not_go_with_how_a_trade_is_sized_is_not_put_on_it():
    hand = waiting(size=SizeRule("fixed", qty=Decimal("0.05")))
    before = hand.trade.plan
    told = hand.do(
        ev.ChangeRules,
        ask_id="R",
        trade=hand.trade.id,
        plan=plan(rig=LADDER, stop=None, targets=(), trail=None),
    )
    why = (
        "This plan cannot be used with the size of this trade (ladder: only a risk sizes it, not "
        "fixed)."
    )
    assert texts(told, "bad_rig") == [f"Not put on the trade: {why}"]
    assert (hand.trade.plan, hand.trade.entry.moving) == (before, None)
    hand = ByHand()
    hand.protect()
    by_money = plan(
        stop=StopRule(money=200.0), size=SizeRule("fixed", qty=Decimal("0.05")), targets=()
    )
    before = hand.trade.plan, list(hand.trade.targets)
    assert "bad_stop" in codes(
        hand.do(ev.ChangeRules, ask_id="R", trade=hand.trade.id, plan=by_money)
    )
    assert (hand.trade.plan, hand.trade.targets) == before


def test_the_number_of_trades_is_counted_without_the_one_that_moves():
    hand = ByHand(policy=Policy(max_positions=1))
    hand.place(entry=BUY_STOP)
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    assert codes(hand.place(ask_id="A2")) == ["max_positions"]
    assert (
        len(of(hand.do(ev.MoveEntry, ask_id="M", trade=hand.trade.id, level=61_600), cm.Amend)) == 1
    )


def test_an_equity_of_half_a_franc_can_be_sized_on():
    hand = ByHand()
    state = hand.engine.state
    request = request_for(
        plan(),
        state.account,
        state.instruments[SYMBOL],
        (61_230, 61_242),
        0.00145,
        Exposure(0.0, 0.0, {}),
        0,
        math.nan,
    )
    need_equity(0.5, request)
    with pytest.raises(Refused, match="nothing can be sized"):
        need_equity(0.0, request)


def test_a_rig_without_a_ladder_lets_a_waiting_entry_have_more_targets():
    hand = waiting(rig=Rig(name="x", stop=StopRule(atr=2.5), break_even=BreakEven()), trail=None)
    told = hand.do(ev.SetTarget, ask_id="T", trade=hand.trade.id, number=0, level=62_000, share=0.2)
    assert "target_refused" not in codes(told)
    laddered = waiting(rig=LADDER, stop=None, targets=(), trail=None)
    told = laddered.do(
        ev.SetTarget, ask_id="T", trade=laddered.trade.id, number=0, level=62_000, share=0.2
    )
    assert codes(told) == ["target_refused"]


def test_a_quantity_that_is_refused_is_halved_down_to_one_step():
    hand = ByHand()
    hand.enter(size=SizeRule("fixed", qty=Decimal("0.02")), targets=())
    told = hand.do(ev.OrderRejected, order=hand.order("stop").id, code="bad_qty", text="too large")
    found = of([*told, *hand.later(1)], cm.Submit)
    assert {(one.role, one.steps) for one in found} == {("stop", 1)}
    assert sum(one.steps for one in found) == 2


def test_a_stop_by_ticks_needs_no_atr_and_one_by_atr_does():
    assert _known(plan(stop=StopRule(ticks=50)), math.nan, None)
    assert not _known(plan(stop=StopRule(atr=2.0)), math.nan, None)
    assert _known(plan(stop=StopRule(atr=2.0)), 0.001, None)
    assert not _known(plan(stop=StopRule(bars=3)), 0.001, None)


def test_another_plan_moves_no_target_of_its_own_at_the_next_bar():
    """Only rungs that have filled since the last bar lay a ladder's target anew."""
    hand = ByHand()
    hand.protect(rig=LADDER, stop=None, targets=(), trail=None)
    targets = (TargetRule(share=0.5, ticks=300.0),)
    rig = Rig(stop=StopRule(ticks=280), target=targets, break_even=BreakEven())
    other = plan(stop=rig.stop, targets=targets, trail=None, rig=rig)
    hand.do(ev.ChangeRules, ask_id="R", trade=hand.trade.id, plan=other)
    hand.bar(0.6123, atr=0.00145)
    assert [line.level for line in hand.trade.targets] == [hand.trade.ref + 300]


def test_what_was_really_sent_names_the_trade_where_other_rules_would_number_it_otherwise():
    hand = ByHand()
    folded = hand.place()
    old, sent = hand.trade, next(one for one in folded if isinstance(one, cm.Submit))
    assert old.id == sent.trade
    wakes = hand.now + SECOND
    theirs = [
        msgspec.structs.replace(sent, trade="T99", order="P-99", steps=sent.steps - 1),
        cm.StartTimer(f"retry:T99:{wakes}", SECOND),
        # of a trade that this version never made: nothing to wake
        cm.StartTimer(f"retry:T98:{wakes}", SECOND),
    ]
    align(hand.engine.state, folded, theirs)
    assert hand.trade.wake_at == wakes
    assert set(hand.engine.state.trades) == {"T99"}
    assert hand.trade.entry.order_id == "P-99"
    assert hand.engine.state.orders["P-99"].steps == sent.steps - 1


def test_an_order_that_other_rules_would_not_send_may_rest_all_the_same():
    hand = ByHand()
    hand.protect()
    sent = cm.Submit(
        order="P-77",
        trade=hand.trade.id,
        symbol=SYMBOL,
        role="target",
        side=-1,
        kind="limit",
        steps=3,
        level=62_000,
        closes=hand.trade.entry.order_id,
        why="target 9",
    )
    align(hand.engine.state, [], [sent])
    assert hand.trade.live_ids[-1] == hand.trade.order_ids[-1] == "P-77"


# At the edges


def test_a_loss_step_that_the_market_just_touches_goes_at_market():
    """A stop there would be refused as at the market."""
    hand = ByHand()
    hand.enter(
        rig=Rig(stop=StopRule(atr=2.5), loss_step=(LossStep(0.5, 0.5),)),
        targets=(),
        trail=None,
        own_atr=0.00145,
    )
    line = hand.trade.losses[0]
    hand.quote(line.level, line.level + 12)
    found = of(hand.do(ev.OrderAccepted, order=hand.order("stop").id), cm.Submit)
    assert [(one.role, one.kind) for one in found] == [("loss", "market")]


def test_break_even_reaches_the_venue_at_the_close_that_decides_it():
    rig = Rig(stop=StopRule(atr=2.5), break_even=BreakEven())
    hand = ByHand()
    hand.protect(rig=rig, targets=(), trail=None, own_atr=0.00145)
    hand.quote(hand.trade.ref + 500, hand.trade.ref + 512)
    found = of(hand.bar(0.6175, atr=0.00145), cm.Amend)
    assert [(one.role, one.level) for one in found] == [("stop", hand.trade.ref)]


def test_a_bar_that_is_told_twice_counts_once():
    hand = ByHand()
    hand.protect(
        rig=Rig(stop=StopRule(atr=2.5), time_exit=TimeExit(bars=3)),
        targets=(),
        trail=None,
        own_atr=0.00145,
    )
    hand.bar(0.6123, atr=0.00145)
    hand.bar(0.6123, atr=0.00145)
    last = next(one for one in reversed(hand.events) if isinstance(one, ev.BarCompleted))
    for _ in range(3):
        assert not of(hand.engine.handle(last), cm.Submit)
    assert not hand.trade.leave


def test_a_target_on_the_entry_is_off_also_for_a_position_that_is_adopted():
    hand = ByHand()
    position = ev.VenuePosition("other", SYMBOL, 1, 40, 61_242.0)
    hand.do(ev.VenueUp)
    hand.holdings(positions=(position,))
    rules = (
        TargetRule(share=0.5, price=Decimal("0.61230")),
        TargetRule(share=0.5, price=Decimal("0.61900")),
    )
    hand.do(
        ev.Adopt, ask_id="A", position="other", plan=plan(stop=StopRule(ticks=200), targets=rules)
    )
    assert [line.level for line in hand.trade.targets] == [61_900]


def test_a_target_that_is_off_is_no_line_on_an_open_short():
    hand = ByHand()
    hand.protect(side=-1)
    off = (TargetRule(share=0.5, ticks=0.0), TargetRule(share=0.5, ticks=300.0))
    hand.do(ev.ChangeRules, ask_id="R", trade=hand.trade.id, plan=plan(side=-1, targets=off))
    assert [line.level for line in hand.trade.targets] == [hand.trade.ref - 300]


def test_a_refused_move_leaves_a_target_where_it_rests_and_a_ladder_s_where_the_average_says():
    hand = ByHand()
    hand.protect()
    order = hand.order("target", 1)
    before = order.level
    hand.do(ev.MoveTarget, ask_id="M", trade=hand.trade.id, number=1, level=before + 50)
    told = hand.do(ev.AmendRejected, order=order.id, code="too_near", text="too near")
    assert "move_refused" in codes(told)
    assert hand.trade.targets[0].level == before
    hand = ByHand()
    hand.protect(rig=LADDER, stop=None, targets=(), trail=None)
    order = hand.order("target", 1)
    hand.do(ev.MoveTarget, ask_id="M", trade=hand.trade.id, number=1, level=order.level + 50)
    told = hand.do(ev.AmendRejected, order=order.id, code="too_near", text="too near")
    assert "move_refused" not in codes(told)
    assert hand.trade.targets[0].level == order.level + 50


def test_a_silent_feed_is_looked_at_again_after_five_seconds():
    hand = ByHand()
    hand.do(
        ev.ChangeGuards,
        ask_id="G",
        guards=dc.Guards(guard=(dc.SilenceSwitch(name="s", seconds=20),)),
    )
    hand.now += 100 * SECOND
    hand.do(ev.TimerFired, name="guards:0")
    assert next_moment(hand.engine.state) - hand.engine.state.now == 5 * SECOND


# What the venue holds


def test_a_position_that_grew_before_anything_was_told_is_open_from_now():
    hand = waiting()
    hand.do(ev.VenueUp)
    hand.holdings(
        positions=(ev.VenuePosition(hand.trade.entry.order_id, SYMBOL, 1, 7, 61_500.0),),
        resting=(hand.trade.entry.order_id,),
        asked=(
            ev.OrderReport(
                hand.trade.entry.order_id, "resting", 61_500, hand.trade.entry.asked_steps
            ),
        ),
    )
    assert (hand.trade.open_steps, hand.trade.opened) == (7, hand.now)


def test_what_entered_while_nobody_listened_counts_before_what_has_left():
    """More was closed than was known to be open: no alarm is due, for it had entered meanwhile."""
    hand = ByHand()
    hand.place(targets=())
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    hand.fill(hand.trade.entry.order_id, 10, 61_242, fill="E1")
    stop, entry = hand.order("stop"), hand.engine.state.orders[hand.trade.entry.order_id]
    hand.do(ev.OrderAccepted, order=stop.id)
    more = ev.Fill("E2", hand.now, 5, 61_242, 0.0, 1.0)
    out = ev.Fill("S1", hand.now, 15, stop.level, -9.0, 1.0)
    first = ev.Fill("E1", hand.now, 10, 61_242, 0.0, 1.0)
    hand.do(ev.VenueUp)
    found = hand.holdings(
        asked=(
            ev.OrderReport(stop.id, "filled", stop.level, 15, (out,)),
            ev.OrderReport(entry.id, "filled", 0, 15, (first, more)),
        )
    )
    assert "overfilled" not in codes(found)
    assert (hand.trade.entered, hand.trade.closed, hand.trade.state) == (15, 15, states.ENDED)


@pytest.mark.parametrize(("left", "end"), [(0, rs.AT_VENUE), (10, None)])
def test_a_position_that_is_gone_has_ended_at_the_venue_and_one_that_shrank_has_not(left, end):
    hand = ByHand()
    hand.protect(targets=())
    stop = hand.order("stop")
    hand.do(ev.VenueUp)
    held = (ev.VenuePosition(hand.trade.entry.order_id, SYMBOL, 1, left, 61_242.0),) if left else ()
    hand.holdings(
        positions=held,
        resting=(stop.id,),
        asked=(ev.OrderReport(stop.id, "resting", stop.level, stop.steps),),
    )
    assert (hand.trade.end and hand.trade.end.code) == end
    assert hand.trade.open_steps == left


def test_what_is_left_of_a_position_of_which_more_was_closed_than_was_known_is_covered():
    """Another hand had made it larger; the stop and a close beside it filled. The trade was ended
    anew at each check, and what the venue still held had no stop."""
    hand = ByHand()
    hand.protect(targets=())
    stop = hand.order("stop")
    hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id)
    close = hand.order("close")
    hand.fill(stop.id, stop.steps, stop.level)
    hand.fill(close.id, 80, stop.level)
    assert (hand.trade.entered, hand.trade.closed, hand.trade.state) == (104, 184, states.ENDED)
    hand.later(40)
    held = ev.VenuePosition(hand.trade.entry.order_id, SYMBOL, 1, 1, 61_242.0)
    found = hand.do(ev.Checked, asked=(), resting=(), positions=(held,), quiet=(hand.trade.id,))
    assert hand.trade.open_steps == 1
    assert hand.trade.entry_price == pytest.approx(hand.trade.ref)
    # 24 of the close are under way
    assert [(one.role, one.steps) for one in of(found, cm.Submit)] == [("stop", 1)]


def test_a_position_that_another_hand_turned_about_and_back_stays_another_s():
    hand = ByHand()
    hand.protect(targets=())
    entry, stop = hand.trade.entry.order_id, hand.order("stop").id
    for side in (-1, 1):
        hand.do(ev.VenueUp)
        held = ev.VenuePosition(entry, SYMBOL, side, 9, 61_242.0)
        hand.holdings(positions=(held,), resting=(stop,) if side < 0 else ())
        if side < 0:
            hand.do(ev.OrderCancelled, order=stop, why="asked for")
        assert hand.trade.state == states.ENDED
        assert hand.engine.state.unexplained[entry].side == side


def test_a_stop_at_one_tick_is_a_price():
    hand = ByHand()
    hand.protect()
    assert stop_problem(hand.engine.state, hand.trade, 1) == ""
    assert "not a price" in stop_problem(hand.engine.state, hand.trade, 0)


def test_an_order_that_rests_though_it_was_taken_back_is_taken_back_until_it_is_gone():
    """The cancel that a comparison sent for it was lost, and no check looked at it again: an entry
    could fill."""
    hand = waiting()
    entry = hand.trade.entry.order_id
    hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id)
    hand.do(ev.OrderCancelled, order=entry, why="asked for")
    assert hand.trade.state == states.ENDED
    found = ev.Checked(time=hand.now, asked=(), resting=(entry,), positions=(), quiet=())
    assert not differs(hand.engine.state, found)  # the answer may be older than the cancel
    for told_now in (True, False):
        hand.now += 40 * SECOND
        hand.quote(61_230, 61_242)
        found = ev.Checked(time=hand.now, asked=(), resting=(entry,), positions=(), quiet=())
        assert differs(hand.engine.state, found)
        told = hand.engine.handle(found)
        assert ("order_left_over" in codes(told)) == told_now
        assert [one.order for one in of(told, cm.Cancel)] == [entry]
    hand.protect(ask_id="A2")
    target = hand.order("target", 1)
    hand.do(ev.OrderCancelled, order=target.id, why="by the venue")
    found = {"asked": (), "positions": (), "resting": (target.id,), "time": hand.now}
    # something of the trade is under way
    assert not differs(hand.engine.state, ev.Checked(**found, quiet=()))
    assert differs(hand.engine.state, ev.Checked(**found, quiet=(hand.trade.id,)))


def test_a_stop_that_rests_though_it_was_said_to_be_missing_stays_until_another_does():
    hand = ByHand()
    hand.enter(targets=())
    first = hand.order("stop")
    hand.do(ev.OrderStatus, known=ev.OrderReport(first.id, "missing", 0, 0))
    held = ev.VenuePosition(hand.trade.entry.order_id, SYMBOL, 1, hand.trade.open_steps, 61_242.0)
    found = {"asked": (), "positions": (held,), "resting": (first.id,), "quiet": (hand.trade.id,)}
    assert not of(hand.do(ev.Checked, **found), cm.Cancel)
    hand.later(0.3)
    second = hand.order("stop")
    assert second.id != first.id
    hand.do(ev.OrderAccepted, order=second.id)
    resting = found | {"resting": (first.id, second.id)}
    assert [one.order for one in of(hand.do(ev.Checked, **resting), cm.Cancel)] == [first.id]


def test_a_check_finds_a_foreign_position_that_is_new_or_another_now():
    hand = ByHand()
    for steps in (5, 8):
        found = ev.Checked(
            time=hand.now,
            asked=(),
            resting=(),
            positions=(ev.VenuePosition("X", SYMBOL, 1, steps),),
            quiet=(),
        )
        assert differs(hand.engine.state, found)
        hand.engine.handle(found)
        assert hand.engine.state.unexplained["X"].steps == steps
        assert not differs(hand.engine.state, found)
    gone = ev.Checked(time=hand.now, asked=(), resting=(), positions=(), quiet=())
    assert differs(hand.engine.state, gone)


def test_what_has_left_while_its_entry_still_fills_is_not_exposed():
    hand = ByHand()
    hand.place(targets=())
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    hand.fill(hand.trade.entry.order_id, 10, 61_242)
    assert hand.trade.cover.exposed_since
    stop = hand.order("stop")
    hand.do(ev.OrderAccepted, order=stop.id)
    hand.fill(hand.trade.entry.order_id, 5, 61_242)  # more than the stop covers
    assert hand.trade.cover.exposed_since
    hand.fill(stop.id, 15, stop.level)
    assert (hand.trade.open_steps, hand.trade.cover.exposed_since) == (0, 0)
    assert hand.trade.state != states.ENDED  # its entry may still fill


def test_what_filters_look_at_is_of_neither_side_where_none_is_asked_for():
    assert context_of(ByHand().engine.state, SYMBOL).side == 0


# An entry that rests elsewhere


def elsewhere(level=61_600):
    """An entry that another hand has moved away from its stop, where it may have less."""
    hand = waiting(stop=StopRule(price=Decimal("0.61300")), targets=())
    steps = hand.trade.entry.asked_steps
    asked = hand.do(ev.AmendAccepted, order=hand.trade.entry.order_id, level=level, steps=steps)
    return hand, steps, told_where(hand, asked, level, steps)


def told_where(hand, asked, level, steps):
    """The venue's answer to the question where the entry rests."""
    [question] = of(asked, cm.Query)
    known = ev.OrderReport(hand.trade.entry.order_id, "resting", level, steps)
    return hand.do(ev.OrderStatus, known=known, token=question.token)


def test_an_entry_that_another_hand_has_moved_is_sized_where_it_rests():
    hand, steps, found = elsewhere()
    smaller = of(found, cm.Amend)
    assert [(one.role, one.level) for one in smaller] == [("entry", 61_600)]
    assert smaller[0].steps < steps
    # before the venue has made it smaller
    assert (hand.trade.ref, hand.trade.r_ticks) == (61_600, 300)
    hand.do(ev.AmendAccepted, order=hand.trade.entry.order_id, level=61_600, steps=smaller[0].steps)
    assert hand.trade.entry.asked_steps == smaller[0].steps
    assert hand.trade.entry.planned_risk <= 0.006 * 64_000 * (1 + 1e-9)


def test_one_that_cannot_be_made_smaller_there_is_taken_back():
    """Its stop stood where it had been sized for: had it filled, it would have risked a
    multiple."""
    hand, _, _ = elsewhere()
    told = hand.do(
        ev.AmendRejected, order=hand.trade.entry.order_id, code="too_near", text="too near"
    )
    assert [one.order for one in of([*told, *hand.later(1)], cm.Cancel)] == [
        hand.trade.entry.order_id
    ]
    hand.do(ev.OrderCancelled, order=hand.trade.entry.order_id, why="asked for")
    assert hand.trade.state == states.ENDED
    assert "sized where the venue has it rest" in rs.words(hand.trade.end)


def test_one_that_has_filled_in_part_is_where_it_was_though_its_lines_are_laid_from_the_fill():
    hand = waiting(targets=(), anchor="fill")
    entry, level = hand.trade.entry.order_id, hand.trade.ref
    hand.fill(entry, 10, level - 3)
    assert hand.trade.ref == level - 3
    hand.do(ev.OrderAccepted, order=hand.order("stop").id)
    stop = hand.order("stop")
    rests = ev.OrderReport(stop.id, "resting", hand.trade.stop, stop.steps)
    waits = ev.OrderReport(entry, "resting", level, hand.trade.entry.asked_steps)
    found = ev.Checked(
        time=hand.now,
        asked=(waits, rests),
        resting=(entry, stop.id),
        quiet=(hand.trade.id,),
        positions=(ev.VenuePosition(entry, SYMBOL, 1, 10, float(level - 3)),),
    )
    assert not differs(hand.engine.state, found)


def test_a_late_answer_does_not_take_an_entry_back_to_where_the_venue_had_it_before():
    hand = waiting(targets=())
    entry, before = hand.trade.entry.order_id, hand.trade.ref
    hand.do(ev.MoveEntry, ask_id="M", trade=hand.trade.id, level=before + 100)
    steps = hand.trade.entry.moving.steps
    told_where(
        hand,
        hand.do(ev.AmendAccepted, order=entry, level=before + 104, steps=steps),
        before + 104,
        steps,
    )
    hand.do(ev.MoveEntry, ask_id="N", trade=hand.trade.id, level=before + 200)
    steps = hand.trade.entry.moving.steps
    hand.do(ev.AmendAccepted, order=entry, level=before + 200, steps=steps)
    asked = hand.do(ev.AmendAccepted, order=entry, level=before + 104, steps=steps)
    told = told_where(hand, asked, before + 200, steps)
    assert not of([*asked, *told, *hand.later(60)], cm.Amend)
    assert hand.trade.ref == before + 200


def test_what_was_asked_for_an_entry_holds_where_the_venue_puts_it_elsewhere():
    """Its new stop was lost with the move that the venue changed, and so was the next move, which
    waited for it."""
    hand = waiting(targets=())
    entry, before, stop = hand.trade.entry.order_id, hand.trade.ref, hand.trade.stop + 50
    hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=stop)
    steps = hand.trade.entry.moving.steps
    hand.do(ev.MoveEntry, ask_id="N", trade=hand.trade.id, level=before + 200)
    asked = hand.do(ev.AmendAccepted, order=entry, level=before + 4, steps=steps)
    told = of(told_where(hand, asked, before + 4, steps), cm.Amend)
    assert (hand.trade.ref, hand.trade.stop) == (before + 4, stop)
    assert [one.level for one in told] == [before + 200]
    hand.do(ev.AmendAccepted, order=entry, level=told[0].level, steps=told[0].steps)
    assert (hand.trade.ref, hand.trade.stop) == (before + 200, stop)


def test_where_an_answer_tells_another_level_and_another_quantity_both_count():
    """A lost answer to a change, and a venue that put it three ticks away: it was sized from the
    quantity before."""
    hand = waiting(targets=())
    before = hand.trade.entry.asked_steps
    moved = of(
        hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=hand.trade.stop + 100), cm.Amend
    )[0]
    assert moved.steps > before
    hand.later(1)
    known = ev.OrderReport(hand.trade.entry.order_id, "resting", moved.level + 30, moved.steps)
    found = of(hand.do(ev.OrderStatus, known=known), cm.Amend)
    assert hand.trade.ref == moved.level + 30
    assert [(one.level, one.steps < moved.steps) for one in found] == [(moved.level + 30, True)]


def test_a_check_that_finds_an_entry_where_an_earlier_change_put_it_lays_it_out_there():
    """Two changes were under way; the venue put the first elsewhere, and the answer to the second
    was lost."""
    hand = waiting(targets=())
    entry, before = hand.trade.entry.order_id, hand.trade.ref
    hand.do(ev.MoveEntry, ask_id="M", trade=hand.trade.id, level=before + 100)
    moved = hand.trade.entry.moving.steps
    asked = hand.do(ev.AmendAccepted, order=entry, level=before + 104, steps=moved)
    told_where(hand, asked, before + 104, moved)
    assert hand.trade.ref == before + 104
    steps = hand.trade.entry.asked_steps
    # it may be an older answer
    hand.do(ev.OrderStatus, known=ev.OrderReport(entry, "resting", before + 100, steps))
    assert hand.trade.ref == before + 104
    found = ev.Checked(
        time=hand.now,
        asked=(ev.OrderReport(entry, "resting", before + 100, steps),),
        resting=(entry,),
        positions=(),
        quiet=(hand.trade.id,),
    )
    assert differs(hand.engine.state, found)
    hand.engine.handle(found)
    assert hand.trade.ref == before + 100
    assert not differs(hand.engine.state, found)


def test_a_filter_goes_by_a_bar_from_the_moment_it_is_complete():
    """A rung once left in the very event of the bar whose completion closed its filter."""
    wild = dc.VolatilityGuard(name="wild", timeframe="15m", high=90.0)
    hand = ByHand()
    hand.do(
        ev.ChangeGuards,
        ask_id="G",
        guards=dc.Guards(guard=(wild,)),
        measures={SYMBOL: {wild.measure_key: 50.0}},
    )
    hand.protect(rig=LADDER, stop=None, targets=(), trail=None)
    second, third = hand.order("rung", 2), hand.order("rung", 3)
    hand.do(ev.OrderAccepted, order=second.id)
    hand.do(ev.OrderRejected, order=third.id, code="busy", text="busy")
    # the target follows at the bar, and all of the trade is looked at
    hand.fill(second.id, second.steps, second.level)
    hand.do(
        ev.AmendAccepted,
        order=hand.order("stop").id,
        level=hand.trade.stop,
        steps=hand.trade.open_steps,
    )
    hand.now += 15 * MINUTE
    hand.quote(hand.market.bid, hand.market.ask)
    found = hand.do(
        ev.BarCompleted,
        symbol=SYMBOL,
        span=15 * MINUTE,
        opened=hand.now - 15 * MINUTE,
        open=0.6123,
        high=0.6123,
        low=0.6123,
        close=0.6123,
        spread=12.0,
        atr=0.00145,
        values={wild.measure_key: 95.0},
    )
    assert "ladder_target" in codes(found)
    assert not [one for one in of(found, cm.Submit) if one.role == "rung"]


# What a third sample of planted faults did not meet


def test_a_move_that_is_refused_as_too_large_makes_smaller_parts():
    hand = ByHand()
    hand.protect(targets=())
    stop = hand.order("stop")
    hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=stop.level + 20)
    hand.do(ev.AmendRejected, order=stop.id, code="bad_qty", text="too many")
    assert hand.trade.cover.most_steps == stop.steps // 2


def test_a_late_refusal_of_an_earlier_change_makes_no_part_smaller_again():
    """It was taken for that of the last change, which asked for less: parts were halved until they
    were a flood."""
    hand = ByHand()
    hand.protect(targets=())
    stop = hand.order("stop")
    refused = {"order": stop.id, "code": "bad_qty", "text": "too many"}
    [first] = of(
        hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=stop.level + 20), cm.Amend
    )
    hand.later(2)
    known = ev.OrderReport(stop.id, "resting", stop.level, stop.steps)
    [second] = of(hand.do(ev.OrderStatus, known=known), cm.Amend)
    assert (first.steps, second.steps) == (104, 104)
    [beside] = of(hand.do(ev.AmendRejected, token=second.token, **refused), cm.Submit)
    assert (hand.trade.cover.most_steps, beside.steps) == (52, 52)
    hand.do(ev.OrderAccepted, order=beside.order)
    [third] = of(hand.later(1), cm.Amend)
    assert third.steps == 52
    for one in (first, second):
        assert hand.do(ev.AmendRejected, token=one.token, **refused) == []
    assert (hand.trade.cover.most_steps, stop.pending) == (52, "amend")
    hand.do(ev.AmendRejected, token=third.token, **refused)  # it is too much after all
    assert hand.trade.cover.most_steps == 26


def test_a_smaller_quantity_that_is_refused_asks_for_fills_before_it_teaches_smaller_parts():
    """It was less than what had filled, which nobody had told; the trade then went in parts of two
    steps each."""
    hand = ByHand()
    hand.protect()
    target = hand.order("target", 1)
    hand.fill(hand.order("stop").id, 70, 60_879)  # what is left for the target becomes smaller
    told = hand.do(
        ev.AmendRejected, order=target.id, code="bad_qty", text="not above what has filled"
    )
    assert [one.order for one in of(told, cm.Query)] == [target.id]
    assert hand.trade.cover.most_steps == 0
    known = ev.OrderReport(target.id, "resting", target.level, target.steps)
    hand.do(ev.OrderStatus, known=known)
    again = of(hand.later(5), cm.Amend)
    assert target.id in {one.order for one in again}
    hand.do(ev.AmendRejected, order=target.id, code="bad_qty", text="too many")
    assert hand.trade.cover.most_steps > 0  # it is too much after all


def test_a_target_that_has_filled_in_part_and_may_not_be_changed_any_more_is_sent_anew():
    """What has filled counts with the quantity that was refused; parts were halved each time, down
    to one step."""
    hand = ByHand()
    hand.protect()
    target = hand.order("target", 1)
    hand.fill(target.id, 30, target.level)
    hand.do(ev.AmendAccepted, order=hand.order("stop").id, level=60_879, steps=74)
    hand.do(ev.MoveTarget, ask_id="M", trade=hand.trade.id, number=1, level=target.level + 20)
    told = hand.do(ev.AmendRejected, order=target.id, code="bad_qty", text="too many")
    assert [one.order for one in of(told, cm.Cancel)] == [target.id]
    assert hand.trade.cover.most_steps == 0
    [anew] = of(hand.do(ev.OrderCancelled, order=target.id, why="asked for"), cm.Submit)
    assert (anew.role, anew.steps, anew.level) == ("target", 11, target.level + 20)


def test_parts_that_were_too_large_are_no_failures_and_teach_once():
    hand = ByHand()
    hand.place(targets=())
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    hand.trade.cover.most_steps, hand.trade.cover.most_at = 20, hand.now
    hand.fill(hand.trade.entry.order_id, 104, hand.trade.ref)
    stops = [order.id for order in hand.engine.state.orders_of(hand.trade, "stop")]
    assert len(stops) == 6
    for order in stops[:-1]:  # of 20 steps each
        hand.do(ev.OrderRejected, order=order, code="bad_qty", text="too many")
    assert (hand.trade.cover.failures, hand.trade.cover.most_steps) == (0, 10)
    hand.later(0.15)
    again = hand.engine.state.orders_of(hand.trade, "stop")
    assert sum(order.steps for order in again) == 98  # the one of 4 takes the other 6 once it rests


def test_an_entry_that_was_given_up_without_a_link_is_taken_back_also_while_the_market_is_shut():
    """Else it could fill at the opening."""
    hand = waiting()
    entry = hand.trade.entry.order_id
    hand.do(ev.InstrumentState, symbol=SYMBOL, open=False, until=hand.now + DAY)
    hand.do(ev.VenueDown, why="cut")
    assert not of(hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id), cm.Cancel)
    hand.do(ev.VenueUp)
    known = ev.OrderReport(entry, "resting", hand.trade.ref, hand.trade.entry.asked_steps)
    assert [
        one.order for one in of(hand.holdings(resting=(entry,), asked=(known,)), cm.Cancel)
    ] == [entry]


def test_an_entry_that_fills_beyond_a_fixed_stop_keeps_stop_and_r():
    hand = ByHand()
    hand.place(anchor="fill", stop=StopRule(price=Decimal("0.61000")), targets=())
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    before = hand.trade.stop, hand.trade.r_ticks
    hand.fill(hand.trade.entry.order_id, hand.trade.entry.asked_steps, 60_990)
    assert (hand.trade.stop, hand.trade.r_ticks) == before


def test_an_entry_that_fills_one_tick_before_a_fixed_stop_has_an_r_of_one_tick():
    hand = ByHand()
    hand.place(anchor="fill", stop=StopRule(price=Decimal("0.61000")), targets=())
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    hand.fill(hand.trade.entry.order_id, hand.trade.entry.asked_steps, 61_001)
    assert (hand.trade.ref, hand.trade.stop, hand.trade.r_ticks) == (61_001, 61_000, 1)


def test_a_group_is_known_for_as_long_as_one_of_it_waits():
    hand = waiting()
    first = hand.trade.id
    hand.place(ask_id="A2", entry=BUY_STOP)
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    second = hand.trade.id
    hand.do(ev.LinkEntries, ask_id="L", trades=(first, second))
    [group] = hand.engine.state.groups
    hand.do(
        ev.OrderCancelled, order=hand.engine.state.trades[first].entry.order_id, why="by the venue"
    )
    hand.now += 3 * DAY
    hand.do(ev.Figures, balance=64_000.0, equity=64_000.0, margin_used=0.0)
    assert set(hand.engine.state.trades) == {second}
    assert set(hand.engine.state.groups) == {group}


def test_what_ended_just_before_midnight_is_remembered_for_a_day_more():
    """A late answer about it may still come."""
    hand = ByHand()
    hand.protect(targets=())
    hand.now = (hand.now // DAY + 1) * DAY - 10 * MINUTE
    hand.fill(hand.order("stop").id, 104, hand.trade.stop)
    assert hand.trade.state == states.ENDED
    for minutes, there in ((30, True), (24 * 60, False)):
        hand.now += minutes * MINUTE
        hand.do(ev.Figures, balance=64_000.0, equity=64_000.0, margin_used=0.0)
        assert bool(hand.engine.state.trades) == there


def test_a_market_that_is_shut_stays_so_where_its_tick_is_another():
    hand = ByHand()
    hand.do(ev.InstrumentState, symbol=SYMBOL, open=False, until=hand.now + DAY)
    one = hand.engine.state.instruments[SYMBOL]
    finer = msgspec.structs.replace(one, tick=one.tick / 10)
    hand.do(ev.Opened, prefix="P", account=hand.engine.state.account, instruments=(finer,))
    assert (hand.market.open, hand.market.bid) == (False, 0)


def test_distances_in_ticks_are_carried_over_to_another_tick_exactly():
    hand = ByHand()
    hand.protect(targets=(TargetRule(share=0.5, ticks=90.5),), stop=StopRule(ticks=120.0))
    stop = hand.trade.stop
    one = hand.engine.state.instruments[SYMBOL]
    finer = msgspec.structs.replace(one, tick=one.tick / 2)
    hand.do(ev.Opened, prefix="P", account=hand.engine.state.account, instruments=(finer,))
    plan = hand.trade.plan
    assert (plan.stop.ticks, plan.targets[0].ticks, hand.trade.stop) == (240.0, 181.0, 2 * stop)


def test_a_drill_may_be_of_one_source():
    hand = ByHand()
    loss = dc.LossSwitch(name="Loss", percent=1.0, per="source")
    hand.do(ev.ChangeGuards, ask_id="G", guards=dc.Guards(guard=(loss,)))
    assert "guard_tripped" in codes(hand.do(ev.Drill, ask_id="D", guard="Loss", subject="relay"))
    assert codes(hand.do(ev.Drill, ask_id="E", guard="Loss")) == ["no_guard"]


def test_a_filter_is_looked_at_with_each_bar_of_its_instrument():
    hand = ByHand()
    hand.do(
        ev.ChangeGuards,
        ask_id="G",
        guards=dc.Guards(guard=(dc.SpreadGuard(name="Wide", max_ticks=20),)),
    )
    hand.quote(61_230, 61_290)
    assert "guard_closed" in codes(hand.bar(0.6123, atr=0.00145))


def test_a_position_of_a_trade_that_ended_long_ago_is_found_by_a_check():
    hand = ByHand()
    hand.protect(targets=())
    stop = hand.order("stop")
    hand.fill(stop.id, stop.steps, stop.level)
    assert hand.trade.state == states.ENDED
    hand.now += 40 * SECOND
    held = ev.VenuePosition(hand.trade.entry.order_id, SYMBOL, 1, 5, 61_242.0)
    found = hand.do(ev.Checked, asked=(), resting=(), positions=(held,), quiet=())
    assert "check_differs" in codes(found)
    assert (hand.trade.open_steps, hand.engine.state.unexplained) == (5, {})
    assert ("stop", 5) in {(one.role, one.steps) for one in of(found, cm.Submit)}


def test_a_basket_that_wins_less_than_one_has_still_won():
    hand = ByHand()
    hand.protect(size=SizeRule("fixed", qty=Decimal("0.20")), targets=())
    basket = Basket(target=Amount(money=0.5), basis="tick")
    hand.do(ev.FormBasket, ask_id="B", trades=(hand.trade.id,), basket=basket)
    hand.quote(hand.market.bid + 4, hand.market.ask + 4)
    assert 0.5 < hand.trade.leave.money < 1
    assert hand.trade.leave.code == rs.BASKET_TARGET


@pytest.mark.parametrize(("price", "found"), [(-3.0, 1.0), (0.4, 1.0), (1.5, 1.5)])
def test_what_slips_fills_at_one_tick_at_least(price, found):
    assert filled_at(price) == found


def test_a_refusal_that_comes_twice_takes_no_cover_from_beside_a_stop_that_is_being_made_smaller():
    """Storm 8601911: a change to less was taken for refused, and so what it had given up for still
    there; the stop beside it was made smaller for that, while the venue carried the change out."""
    hand = ByHand()
    hand.protect(targets=())
    first = hand.order("stop")
    [moved] = of(
        hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=first.level + 20), cm.Amend
    )
    refused = {"order": first.id, "code": "bad_qty", "text": "too many", "token": moved.token}
    [beside] = of(hand.do(ev.AmendRejected, **refused), cm.Submit)
    hand.do(ev.OrderAccepted, order=beside.order)
    [smaller] = of(hand.later(1), cm.Amend)
    assert (smaller.order, smaller.steps, first.steps) == (first.id, 52, 104)
    assert [hand.do(ev.AmendRejected, **refused) for _ in range(3)] == [[], [], []]
    asked = hand.later(1)
    assert first.id in [one.order for one in of(asked, cm.Query)]
    rest = ev.OrderReport(first.id, "resting", smaller.level, 52)
    told = hand.do(ev.OrderStatus, known=rest)
    covers = {order.id: order.left for order in hand.engine.state.orders_of(hand.trade, "stop")}
    for one in of(told, cm.Amend):
        covers[one.order] = one.steps
    assert sum(covers.values()) >= hand.trade.open_steps


def test_a_move_of_an_entry_that_waited_for_an_earlier_one_is_not_carried_out_after_a_later_one():
    """What waits for its pause to end is moved by a person once more: the one before it came back
    afterwards."""
    hand = waiting(targets=())
    entry, before = hand.trade.entry.order_id, hand.trade.ref
    [first] = of(
        hand.do(ev.MoveEntry, ask_id="A", trade=hand.trade.id, level=before + 100), cm.Amend
    )
    hand.do(ev.MoveEntry, ask_id="B", trade=hand.trade.id, level=before + 200)
    hand.do(ev.AmendRejected, order=entry, code="busy", text="busy", token=first.token)
    [last] = of(hand.do(ev.MoveEntry, ask_id="C", trade=hand.trade.id, level=before + 50), cm.Amend)
    told = hand.do(
        ev.AmendAccepted, order=entry, level=last.level, steps=last.steps, token=last.token
    )
    assert not of([*told, *hand.later(60)], cm.Amend)
    assert (hand.trade.ref, hand.trade.entry.moving, hand.trade.entry.then) == (
        before + 50,
        None,
        None,
    )


# An entry whose move the venue refuses


def refused_move(hand, change):
    return hand.do(
        ev.AmendRejected,
        order=hand.trade.entry.order_id,
        code="too_near",
        text="too near",
        token=change.token,
    )


@pytest.mark.parametrize(("ask", "more"), [(ev.MoveEntry, 150), (ev.MoveStop, 60)])
def test_an_entry_whose_move_is_refused_waits_as_it_did(ask, more):
    """It risks no more than was asked for: farther from its stop it was to be smaller, nearer to it
    larger."""
    hand = waiting(targets=(), stop=StopRule(price=Decimal("0.61300")))
    ref, steps, stop = hand.trade.ref, hand.trade.entry.asked_steps, hand.trade.stop
    [change] = of(
        hand.do(
            ask,
            ask_id="M",
            trade=hand.trade.id,
            level=more + (ref if ask is ev.MoveEntry else stop),
        ),
        cm.Amend,
    )
    assert (change.steps < steps) == (ask is ev.MoveEntry)
    told = refused_move(hand, change)
    assert "move_refused" in codes(told)
    assert not of([*told, *hand.later(60)], (cm.Amend, cm.Cancel))
    assert (hand.trade.ref, hand.trade.entry.asked_steps, hand.trade.stop) == (ref, steps, stop)


def test_one_that_could_not_be_made_smaller_goes_on_to_where_it_is_wanted_next():
    hand = waiting(targets=(), stop=StopRule(price=Decimal("0.61300")))
    ref, stop = hand.trade.ref, hand.trade.stop
    [smaller] = of(hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=stop - 60), cm.Amend)
    assert (smaller.level, smaller.steps < hand.trade.entry.asked_steps) == (ref, True)
    hand.do(ev.MoveEntry, ask_id="N", trade=hand.trade.id, level=ref + 100)
    told = [*refused_move(hand, smaller), *hand.later(1)]
    assert [one.level for one in of(told, cm.Amend)] == [ref + 100]
    assert not of(told, cm.Cancel)


def test_a_refusal_without_a_number_of_a_move_that_nobody_waits_for_changes_nothing():
    hand = waiting(targets=())
    ref, steps = hand.trade.ref, hand.trade.entry.asked_steps
    told = hand.do(
        ev.AmendRejected, order=hand.trade.entry.order_id, code="too_near", text="too near"
    )
    assert not of([*told, *hand.later(60)], (cm.Amend, cm.Cancel))
    assert (hand.trade.ref, hand.trade.entry.asked_steps) == (ref, steps)
