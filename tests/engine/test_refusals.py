"""What the engine says no to, or lets go, each once: its code, its words, and that nothing else
follows."""

from decimal import Decimal

import msgspec

from byhand import SYMBOL, ByHand, codes, of, plan
from hawser.core.account import Policy
from hawser.core.clock import DAY, MINUTE, SECOND
from hawser.core.entry import EntryRule, GoodUntil, HeldRule
from hawser.core.guards import declared as dc
from hawser.core.levels import StopRule, TargetRule
from hawser.core.rig import Ladder, LossStep, Measure, Rig, Step, TimeExit
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.entries.placing import latest_plan
from hawser.engine.model import transitions as states
from madeup import account, pair

WAITS = EntryRule("limit", price=Decimal("0.61000"))


def told(found: list) -> list[tuple[str, str]]:
    return [(one.code, one.text) for one in of(found, cm.Tell)]


def opened(*instruments, **values) -> ByHand:
    hand = ByHand()
    hand.do(ev.Opened, prefix="P", account=account(), instruments=instruments, **values)
    hand.do(ev.VenueUp)
    hand.holdings()
    return hand


def test_an_entry_is_refused_until_the_venue_has_told_money_and_price():
    hand = opened(pair(), pair(symbol="NZD/SEK"))
    assert told(hand.place()) == [
        ("no_figures", "Entries closed: the venue has not told the account's figures yet")
    ]
    hand.do(ev.Figures, balance=64_000.0, equity=64_000.0, margin_used=0.0)
    assert told(hand.place("A2", symbol="NZD/SEK")) == [
        ("no_quote", "Entries closed: NZD/SEK has no quote yet")
    ]
    assert of(hand.place("A3"), cm.Submit)


def test_an_entry_is_refused_where_a_rate_is_missing():
    hand = opened(
        pair(), pair(symbol="XAU", kind="cfd", quote="XAG", base=None, currencies=("XAG",))
    )
    hand.do(ev.Figures, balance=64_000.0, equity=64_000.0, margin_used=0.0)
    hand.do(ev.Quote, symbol="XAU", bid=61_230, ask=61_242, high_bid=61_230, low_ask=61_242)
    assert codes(hand.place("A2", symbol="XAU", size=plan().size, stop=StopRule(ticks=300))) == [
        "rate_missing"
    ]


def test_bars_that_the_history_does_not_make_are_refused():
    hand = opened(pair(), spans={SYMBOL: (MINUTE, 5 * MINUTE)})
    hand.do(ev.Figures, balance=64_000.0, equity=64_000.0, margin_used=0.0)
    assert told(hand.place()) == [
        (
            "no_timeframe",
            "Not placed: Bars of 15m cannot be made of this history; there are 1m, 5m.",
        )
    ]
    assert of(
        hand.place("A2", timeframe_ns=5 * MINUTE, stop=StopRule(ticks=300), trail=None), cm.Submit
    )


def test_a_rig_that_could_not_be_carried_out_is_refused():
    hand = ByHand()
    leaves = Rig(stop=StopRule(ticks=300), time_exit=TimeExit(session_end=True))
    assert told(hand.place("A1", rig=leaves, stop=leaves.stop)) == [
        (
            "no_session_end",
            f"Not placed: {SYMBOL} has no sessions, so the rig's time exit never comes.",
        )
    ]
    steps = Rig(
        atr_length=9,
        stop=StopRule(ticks=300),
        step=(Step(at=Measure(atr=1.0), to=Measure(atr=0.5)),),
    )
    assert told(hand.place("A2", rig=steps, stop=steps.stop, trail=None)) == [
        ("indicator_not_ready", "Not placed: The ATR has no value yet: the rig's steps need it.")
    ]
    assert of(hand.place("A3", rig=steps, stop=steps.stop, trail=None, own_atr=0.001), cm.Submit)


def test_a_trade_has_five_targets_and_they_take_at_most_all_of_it():
    hand = ByHand()
    hand.protect(targets=tuple(TargetRule(share=0.1, r=1.0 + number) for number in range(5)))
    name, far = hand.trade.id, hand.trade.ref + 900
    one_more = hand.do(ev.SetTarget, ask_id="S", trade=name, number=0, level=far, share=0.1)
    assert told(one_more) == [("target_refused", "A trade has at most 5 targets")]
    larger = hand.do(ev.SetTarget, ask_id="T", trade=name, number=2, level=far, share=0.7)
    assert told(larger) == [("target_refused", "The targets would take 110\u00a0% of the position")]


def test_the_targets_of_a_plan_that_waits_are_bounded_too():
    hand = ByHand()
    hand.place(entry=WAITS, targets=(TargetRule(share=0.4, r=1.0), TargetRule(share=0.3, r=2.5)))
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    name = hand.trade.id
    first = hand.do(ev.SetTarget, ask_id="S", trade=name, number=1, level=61_900, share=0.8)
    assert told(first) == [
        ("target_refused", "At most 5 targets that take at most all; these 2 take 110\u00a0%")
    ]
    none = hand.do(ev.SetTarget, ask_id="T", trade=name, number=3, level=61_900, share=0.1)
    assert told(none) == [("target_refused", "There is no target 3")]
    assert not of(first + none, cm.Amend)
    hand.do(ev.SetTarget, ask_id="U", trade=name, number=1, level=61_900, share=0.6)
    assert [rule.share for rule in latest_plan(hand.trade).targets] == [0.6, 0.3]
    ladder = ByHand()
    rig = Rig(name="L", ladder=Ladder(2, Measure(ticks=60.0), 80.0, 60.0))
    ladder.place(rig=rig, entry=WAITS, stop=None, targets=(), trail=None)
    ladder.do(ev.OrderAccepted, order=ladder.trade.entry.order_id)
    more = ladder.do(
        ev.SetTarget, ask_id="S", trade=ladder.trade.id, number=0, level=61_900, share=0.5
    )
    assert told(more) == [
        ("target_refused", "A ladder has one target: it can be moved, not added to")
    ]


def test_what_a_target_has_taken_stays_when_the_rest_of_it_is_taken_away():
    hand = ByHand()
    hand.protect(targets=(TargetRule(share=0.5, r=1.0),))
    target = hand.order("target", 1)
    hand.fill(target.id, 20, target.level)
    found = hand.do(
        ev.SetTarget, ask_id="S", trade=hand.trade.id, number=1, level=target.level, share=0.0
    )
    assert [one.order for one in of(found, cm.Cancel)] == [target.id]
    [line] = hand.trade.targets
    assert (line.filled, line.share) == (20, 20 / hand.trade.entered)


def test_an_entry_whose_time_is_up_is_let_go_by_our_clock():
    """The venue should have given it up two seconds before."""
    hand = ByHand()
    hand.place(entry=EntryRule("limit", price=Decimal("0.61000"), good=GoodUntil(minutes=2)))
    order = hand.engine.state.orders[hand.trade.entry.order_id]
    hand.do(ev.OrderAccepted, order=order.id)
    assert not of(hand.later(121), cm.Cancel)
    found = hand.later(2)
    assert [one.order for one in of(found, cm.Cancel)] == [order.id]
    hand.do(ev.OrderCancelled, order=order.id, why="asked for")
    assert hand.trade.state == states.ENDED


def test_looser_limits_wait_for_the_next_day_or_hold_at_once():
    for loosen, text in (
        ("now", "The account's limits are looser from now on: max_positions"),
        (
            "next_period",
            (
                "The account's limits are looser (max_positions) from the next day on: the "
                "policy says so"
            ),
        ),
    ):
        hand = ByHand(policy=Policy(max_positions=2))
        hand.do(ev.ChangeGuards, ask_id="G", guards=dc.Guards(loosen=loosen))
        wider = msgspec.structs.replace(hand.engine.state.account, policy=Policy(max_positions=3))
        found = hand.do(ev.ChangeAccount, ask_id="C", account=wider)
        assert ("account_loosened", text) in told(found)
        assert hand.engine.state.account.policy.max_positions == (3 if loosen == "now" else 2)
        hand.now += DAY
        hand.do(ev.Figures, balance=64_000.0, equity=64_000.0, margin_used=0.0)
        assert hand.engine.state.account.policy.max_positions == 3


def test_a_spread_spike_that_does_not_pass_reaches_the_held_stop():
    hand = ByHand()
    hand.protect(targets=(), trail=None, held=HeldRule(backstop_r=2.0, settle_ms=300))
    stop = hand.trade.stop
    assert codes(hand.quote(stop - 5, stop + 300)) == ["held_waits"]
    hand.now += SECOND // 10
    assert not codes(hand.quote(stop - 6, stop + 300))
    hand.now += SECOND  # the timer has not fired yet, the quote comes first
    found = hand.quote(stop - 6, stop + 300)
    assert "held_stop" in codes(found)
    assert "the spread spike did not pass" in dict(told(found))["held_stop"]
    assert [one.role for one in of(found, cm.Submit)] == ["close"]


def test_a_loss_step_is_let_go_with_its_trade():
    hand = ByHand()
    rig = Rig(stop=StopRule(atr=2.5), loss_step=(LossStep(0.5, 0.5),))
    hand.protect(rig=rig, stop=rig.stop, targets=(), trail=None)
    stop, step = hand.order("stop"), hand.order("loss")
    found = hand.fill(stop.id, stop.steps, stop.level)
    assert [one.order for one in of(found, cm.Cancel)] == [step.id]
