"""A stop moves away from the market only where a person wishes it."""

from decimal import Decimal

import pytest

from byhand import SYMBOL, ByHand, codes, of, plan
from hawser.core.entry import EntryRule, HeldRule
from hawser.core.rig import Trail
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.model import reasons as rs
from hawser.engine.model import transitions as states
from hawser.engine.model.state import Order


def protected() -> tuple[ByHand, Order, int]:
    """An open trade without targets, its stop, and where that rests."""
    hand = ByHand()
    hand.protect(targets=())
    stop = hand.order("stop")
    return hand, stop, stop.level


def asked_twice() -> tuple[ByHand, Order, int]:
    """A stop moved nearer by hand: the first change without an answer, the second under way."""
    hand = ByHand()
    hand.protect(targets=())
    stop = hand.order("stop")
    rests = ev.OrderReport(stop.id, "resting", stop.level, stop.steps)
    hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=stop.level + 340)
    hand.later(1)
    assert of(hand.do(ev.OrderStatus, known=rests), cm.Amend)
    return hand, stop, stop.level


def test_an_answer_to_an_earlier_change_is_not_taken_for_the_last_word():
    """Storm 7921200: a stop that rested where it was asked for was moved back to where the venue
    had put it before."""
    hand, stop, level = asked_twice()
    asked = hand.do(ev.AmendAccepted, order=stop.id, level=level + 330, steps=stop.steps)
    asked += hand.do(ev.AmendAccepted, order=stop.id, level=level + 340, steps=stop.steps)
    # the first once more, late
    asked += hand.do(ev.AmendAccepted, order=stop.id, level=level + 330, steps=stop.steps)
    assert [one.order for one in of(asked, cm.Query)] == [stop.id]
    assert not of(asked, cm.Amend)
    assert hand.trade.stop == level + 340
    rests = ev.OrderReport(stop.id, "resting", level + 340, stop.steps)
    told = hand.do(ev.OrderStatus, known=rests)
    assert not of([*told, *hand.later(60)], cm.Amend)
    assert (hand.trade.stop, stop.level) == (level + 340, level + 340)


def test_a_nearer_stop_that_another_hand_has_laid_is_not_moved_back_while_the_venue_is_asked():
    """Storm 7930311: told as a change that nobody here had asked for."""
    hand = ByHand()
    hand.protect(targets=())
    stop = hand.order("stop")
    nearer = stop.level + 50
    told = hand.do(ev.AmendAccepted, order=stop.id, level=nearer, steps=stop.steps)
    assert [one.order for one in of(told, cm.Query)] == [stop.id]
    told = hand.do(ev.OrderStatus, known=ev.OrderReport(stop.id, "resting", nearer, stop.steps))
    assert not of([*told, *hand.later(60)], cm.Amend)
    assert (hand.trade.stop, stop.level) == (nearer, nearer)


def test_a_move_that_is_carried_out_after_its_first_try_was_refused_stays():
    hand, stop, level = asked_twice()
    assert "move_refused" in codes(
        hand.do(ev.AmendRejected, order=stop.id, code="too_near", text="too near")
    )
    assert (hand.trade.stop, hand.trade.cover.code) == (level, rs.KEPT)
    told = hand.do(ev.AmendAccepted, order=stop.id, level=level + 340, steps=stop.steps)
    assert "moved_after_all" in codes(told)
    assert not of([*told, *hand.later(60)], cm.Amend)  # it went back to where it had been
    assert (hand.trade.stop, stop.level) == (level + 340, level + 340)


def test_one_of_which_only_a_question_tells_stays_too():
    hand, stop, level = asked_twice()
    hand.do(ev.AmendRejected, order=stop.id, code="too_near", text="too near")
    rests = ev.OrderReport(stop.id, "resting", level + 340, stop.steps)
    told = hand.do(ev.OrderStatus, known=rests)
    assert "moved_after_all" in codes(told)
    assert not of([*told, *hand.later(60)], cm.Amend)
    assert (hand.trade.stop, stop.level) == (level + 340, level + 340)


def test_a_move_that_was_put_elsewhere_first_and_then_where_it_was_asked_for_stays_there():
    hand, stop, level = asked_twice()
    hand.do(ev.AmendAccepted, order=stop.id, level=level + 330, steps=stop.steps)
    told = hand.do(ev.AmendAccepted, order=stop.id, level=level + 340, steps=stop.steps)
    assert not of([*told, *hand.later(60)], cm.Amend)
    assert (hand.trade.stop, stop.level) == (level + 340, level + 340)


def test_a_level_that_the_venue_chooses_counts_once_it_has_been_asked_and_is_not_asked_for_again():
    hand, stop, level = protected()
    hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=level + 340)
    farther = level + 320
    told = hand.do(ev.AmendAccepted, order=stop.id, level=farther, steps=stop.steps)
    assert [one.order for one in of(told, cm.Query)] == [stop.id]
    assert not of([*told, *hand.later(0.3)], cm.Amend)
    told = hand.do(ev.OrderStatus, known=ev.OrderReport(stop.id, "resting", farther, stop.steps))
    assert "level_adjusted" in codes(told)
    assert not of([*told, *hand.later(60)], cm.Amend)
    assert (hand.trade.stop, stop.level) == (farther, farther)


def test_a_late_answer_while_another_change_is_under_way_does_not_move_the_stop_back():
    """A change whose answer came late, the next one under way already: its level was taken for the
    wanted one, and the next change of quantity moved the stop there, away from where it rested."""
    hand, stop, level = asked_twice()
    hand.do(ev.AmendAccepted, order=stop.id, level=level + 330, steps=stop.steps)
    assert hand.trade.stop == level + 340
    told = hand.do(
        ev.OrderStatus, known=ev.OrderReport(stop.id, "resting", level + 340, stop.steps)
    )
    assert not of([*told, *hand.later(60)], cm.Amend)
    assert (hand.trade.stop, stop.level) == (level + 340, level + 340)


def test_an_answer_to_a_question_from_before_a_change_ends_no_wait_for_that_change():
    """Its level, which the venue had chosen before, would have counted as where the stop is
    wanted."""
    hand, stop, level = protected()
    hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=level + 330)
    [question] = of(hand.later(1), cm.Query)
    rests = ev.OrderReport(stop.id, "resting", level, stop.steps)
    hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=level + 340)
    assert of(hand.do(ev.OrderStatus, known=rests, token=question.token), cm.Amend)
    older = ev.OrderReport(stop.id, "resting", level - 4, stop.steps)
    told = hand.do(ev.OrderStatus, known=older, token=question.token)
    assert (told, stop.pending, stop.level, hand.trade.stop) == ([], "amend", level, level + 340)


def test_an_acceptance_told_again_once_the_stop_was_moved_does_not_move_it_back():
    """The venue had put it elsewhere when it was sent."""
    hand = ByHand()
    hand.enter(targets=())
    stop, level = hand.order("stop"), hand.order("stop").level
    hand.do(ev.OrderAccepted, order=stop.id, level=level - 3)
    assert hand.trade.stop == level - 3
    hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=level + 340)
    hand.do(ev.AmendAccepted, order=stop.id, level=level + 340, steps=stop.steps)
    told = hand.do(ev.OrderAccepted, order=stop.id, level=level - 3)
    assert [one.order for one in of(told, cm.Query)] == [stop.id]
    told = hand.do(
        ev.OrderStatus, known=ev.OrderReport(stop.id, "resting", level + 340, stop.steps)
    )
    assert not of([*told, *hand.later(60)], cm.Amend)
    assert (hand.trade.stop, stop.level) == (level + 340, level + 340)


def test_a_foreign_hand_s_looser_level_is_put_back_also_while_a_change_of_ours_is_under_way():
    """It was taken for the venue's answer to that change: the stop stayed there, and the person's
    move was lost."""
    hand, stop, level = protected()
    [change] = of(
        hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=level + 300), cm.Amend
    )
    [question] = of(
        hand.do(ev.AmendAccepted, order=stop.id, level=level - 40, steps=stop.steps), cm.Query
    )
    hand.do(
        ev.AmendAccepted, order=stop.id, level=level + 300, steps=stop.steps, token=change.token
    )
    known = ev.OrderReport(stop.id, "resting", level - 40, stop.steps)
    told = hand.do(ev.OrderStatus, known=known, token=question.token)
    assert [one.level for one in of(told, cm.Amend)] == [level + 300]
    assert hand.trade.stop == level + 300


@pytest.mark.parametrize("late", ["refusal", "acceptance", "change"])
def test_no_late_answer_ends_the_question_where_a_stop_rests(late):
    """Storm 8001042: a refusal of the change before did, and the next moved a stop back that the
    venue had nearer."""
    hand, stop, level = asked_twice()
    hand.do(ev.AmendAccepted, order=stop.id, level=level + 344, steps=stop.steps)
    told = {
        "refusal": lambda: hand.do(ev.AmendRejected, order=stop.id, code="busy", text="busy"),
        "acceptance": lambda: hand.do(ev.OrderAccepted, order=stop.id, level=level),
        "change": lambda: hand.do(
            ev.AmendAccepted, order=stop.id, level=level + 340, steps=stop.steps
        ),
    }[late]()
    told += hand.later(0.3)
    assert (stop.pending, of(told, cm.Amend)) == ("query", [])
    told = hand.do(
        ev.OrderStatus, known=ev.OrderReport(stop.id, "resting", level + 344, stop.steps)
    )
    assert not of([*told, *hand.later(60)], cm.Amend)
    assert (hand.trade.stop, stop.level) == (level + 344, level + 344)


def test_a_foreign_hand_s_looser_level_told_twice_is_still_put_back():
    """The second telling comes while the venue is asked about the first: no change of ours is under
    way."""
    hand, stop, level = protected()
    for _ in range(2):
        hand.do(ev.AmendAccepted, order=stop.id, level=level - 40, steps=stop.steps)
    told = hand.do(ev.OrderStatus, known=ev.OrderReport(stop.id, "resting", level - 40, stop.steps))
    assert [one.level for one in of(told, cm.Amend)] == [level]
    assert hand.trade.stop == level


def test_a_move_away_that_is_carried_out_after_all_is_put_back():
    hand = ByHand()
    hand.protect(targets=())
    stop = hand.order("stop")
    level = stop.level
    hand.trade.cover.code, stop.asked = rs.KEPT, [*stop.asked, (level - 50, stop.steps)]
    told = hand.do(ev.AmendAccepted, order=stop.id, level=level - 50, steps=stop.steps)
    assert [one.level for one in of(told, cm.Amend)] == [level]


def test_the_backstop_of_a_new_plan_says_why_it_is_farther_away():
    """It said "as it rests at the venue"."""
    hand = ByHand()
    hand.protect(targets=())
    hand.trade.cover.why, hand.trade.cover.code = "as it rests at the venue", rs.ADJUSTED
    told = hand.do(
        ev.ChangeRules, ask_id="R", trade=hand.trade.id, plan=plan(targets=(), held=HeldRule())
    )
    [moved] = of(told, cm.Amend)
    assert (moved.code, moved.level) == (rs.HELD_HERE, hand.trade.cover.backstop)
    assert moved.why.startswith("Backstop to ")
    assert hand.trade.cover.trace[-1].level == hand.trade.stop


def test_no_stop_is_moved_before_it_is_known_where_it_rests():
    """An older record knew nothing of a nearer one, and a trail went by what it knew: away from the
    market."""
    hand = ByHand()
    hand.protect(targets=(), trail=Trail(atr=1.0))
    stop = hand.order("stop")
    hand.do(ev.VenueDown, why="a drop")
    hand.do(ev.VenueUp)
    hand.quote(61430, 61442)
    assert not of(hand.bar(0.6143, atr=0.00145), cm.Amend)
    nearer = ev.OrderReport(stop.id, "resting", stop.level + 420, stop.steps)
    position = ev.VenuePosition(hand.trade.entry.order_id, SYMBOL, 1, 104, 61242.0)
    told = hand.holdings((position,), (stop.id,), (nearer,))
    assert "moved_elsewhere" in codes(told)
    assert not of(told, cm.Amend)
    assert hand.trade.stop == nearer.level


def answered(hand: ByHand, order: Order, level: int, how: str) -> list[cm.AnyCommand]:
    """The venue's answer to a change: refused, or carried out at another level."""
    if how == "refused":
        told = hand.do(
            ev.AmendRejected,
            order=order.id,
            code="too_near",
            text="too near",
            token=order.changed,
        )
        return told + hand.later(3)
    return hand.do(
        ev.AmendAccepted, order=order.id, level=level, steps=order.steps, token=order.changed
    )


@pytest.mark.parametrize("how", ["refused", "put elsewhere"])
def test_what_a_person_wants_of_a_stop_meanwhile_is_not_lost_with_the_change_before(how):
    """The stop stayed where the venue had it, and its next move, which waited for the answer, was
    forgotten."""
    hand, stop, level = protected()
    hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=level + 300)
    assert not of(
        hand.do(ev.MoveStop, ask_id="N", trade=hand.trade.id, level=level + 340), cm.Amend
    )
    told = answered(hand, stop, level + 304, how)
    assert [one.level for one in of(told, cm.Amend)] == [level + 340]
    assert hand.trade.stop == level + 340


@pytest.mark.parametrize("how", ["refused", "put elsewhere"])
def test_nor_what_is_wanted_of_a_target(how):
    hand = ByHand()
    hand.protect()
    target = hand.order("target", 1)
    level = target.level
    hand.do(ev.MoveTarget, ask_id="M", trade=hand.trade.id, number=1, level=level + 300)
    hand.do(ev.MoveTarget, ask_id="N", trade=hand.trade.id, number=1, level=level + 340)
    told = answered(hand, target, level + 304, how)
    assert [one.level for one in of(told, cm.Amend)] == [level + 340]
    assert hand.trade.targets[0].level == level + 340


def test_a_stop_moved_before_the_venue_has_taken_it_goes_on_from_where_the_venue_puts_it():
    hand = ByHand()
    hand.enter(targets=())
    stop, level = hand.order("stop"), hand.order("stop").level
    hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=level + 300)
    told = hand.do(ev.OrderAccepted, order=stop.id, level=level - 3)
    assert [one.level for one in of(told, cm.Amend)] == [level + 300]
    assert "it goes on to" in next(
        one.text for one in of(told, cm.Tell) if one.code == "level_adjusted"
    )


def test_a_stop_that_was_to_be_nearer_and_that_the_venue_has_nearer_still_stays():
    hand, stop, level = protected()
    hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=level + 300)
    hand.do(ev.MoveStop, ask_id="N", trade=hand.trade.id, level=level + 302)
    told = answered(hand, stop, level + 304, "put elsewhere")
    assert not of([*told, *hand.later(60)], cm.Amend)
    assert (hand.trade.stop, stop.level) == (level + 304, level + 304)


def test_another_hand_s_change_before_the_stop_was_accepted_is_asked_about_all_the_same():
    hand = ByHand()
    hand.enter(targets=())
    stop, level = hand.order("stop"), hand.order("stop").level
    asked = hand.do(ev.AmendAccepted, order=stop.id, level=level + 40, steps=stop.steps)
    assert [one.order for one in of(asked, cm.Query)] == [stop.id]
    told = hand.do(ev.OrderAccepted, order=stop.id, level=level)
    assert (stop.pending, of(told, cm.Amend)) == ("query", [])
    known = ev.OrderReport(stop.id, "resting", level + 40, stop.steps)
    told = hand.do(ev.OrderStatus, known=known, token=of(asked, cm.Query)[0].token)
    assert not of([*told, *hand.later(60)], cm.Amend)
    assert stop.level == hand.trade.stop == level + 40


def test_a_target_that_the_venue_puts_elsewhere_stays_there_also_where_the_stop_is_split():
    hand = ByHand()
    hand.enter()
    hand.do(ev.OrderRejected, order=hand.order("stop").id, code="bad_qty", text="too many")
    hand.later(1)
    stops = hand.engine.state.orders_of(hand.trade, "stop")
    assert [order.steps for order in stops] == [52, 52]
    for order in stops:
        hand.do(ev.OrderAccepted, order=order.id)
    target = hand.order("target", 1)
    told = hand.do(ev.OrderAccepted, order=target.id, level=target.level + 3)
    assert not [one for one in of([*told, *hand.later(60)], cm.Amend) if one.order == target.id]
    assert hand.trade.targets[0].level == target.level


def test_an_entry_that_has_filled_in_part_is_not_sized_anew_where_the_venue_has_it():
    hand = ByHand()
    hand.place(entry=EntryRule("limit", price=Decimal("0.61200")), targets=())
    entry, ref = hand.trade.entry.order_id, hand.trade.ref
    hand.do(ev.OrderAccepted, order=entry)
    steps = hand.trade.entry.asked_steps
    hand.fill(entry, 10, ref)
    known = ev.OrderReport(entry, "resting", ref + 3, steps)
    told = hand.do(ev.OrderStatus, known=known, token=10**6)
    assert not [one for one in of(told, cm.Amend) if one.order == entry]
    assert (hand.trade.ref, hand.trade.entry.asked_steps) == (ref, steps)


def test_a_target_goes_on_to_where_it_is_wanted_also_from_beyond():
    hand = ByHand()
    hand.protect()
    target = hand.order("target", 1)
    level = target.level
    for ask, more in (("M", 300), ("N", 302)):
        hand.do(ev.MoveTarget, ask_id=ask, trade=hand.trade.id, number=1, level=level + more)
    told = answered(hand, target, level + 304, "put elsewhere")
    assert [one.level for one in of(told, cm.Amend)] == [level + 302]


def test_another_level_named_while_the_venue_is_asked_is_asked_about_anew():
    """The answer to the first question may be from before the second change."""
    hand, stop, level = protected()
    [first] = of(
        hand.do(ev.AmendAccepted, order=stop.id, level=level + 40, steps=stop.steps), cm.Query
    )
    assert not of(
        hand.do(ev.AmendAccepted, order=stop.id, level=level + 40, steps=stop.steps), cm.Query
    )
    [second] = of(
        hand.do(ev.AmendAccepted, order=stop.id, level=level + 60, steps=stop.steps), cm.Query
    )
    rests = ev.OrderReport(stop.id, "resting", level + 40, stop.steps)
    assert hand.do(ev.OrderStatus, known=rests, token=first.token) == []
    rests = ev.OrderReport(stop.id, "resting", level + 60, stop.steps)
    hand.do(ev.OrderStatus, known=rests, token=second.token)
    assert stop.level == hand.trade.stop == level + 60


def test_where_a_stop_that_is_being_taken_back_rests_is_not_asked():
    hand = ByHand()
    hand.protect(targets=())
    stop = hand.order("stop")
    hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id, share=1.0)
    close = hand.order("close")
    hand.fill(close.id, close.steps, 61_230)
    assert stop.pending == "cancel"
    assert not of(
        hand.do(ev.AmendAccepted, order=stop.id, level=stop.level + 9, steps=stop.steps), cm.Query
    )
    assert stop.pending == "cancel"


def test_a_change_that_the_venue_carried_out_for_less_covers_less_and_is_asked_for_again():
    hand = ByHand()
    hand.protect(targets=())
    stop = hand.order("stop")
    [change] = of(
        hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=stop.level + 340), cm.Amend
    )
    told = {
        "order": stop.id,
        "level": change.level,
        "steps": change.steps - 4,
        "token": change.token,
    }
    again = of(hand.do(ev.AmendAccepted, **told), cm.Amend)
    assert [(one.level, one.steps) for one in again] == [(change.level, change.steps)]
    assert (stop.level, stop.steps, hand.trade.state) == (
        change.level,
        change.steps - 4,
        states.EXPOSED,
    )


def test_an_end_counts_whichever_question_it_is_the_answer_to():
    hand = ByHand()
    hand.protect(targets=())
    stop = hand.order("stop")
    hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=stop.level + 330)
    [question] = of(hand.later(1), cm.Query)
    hand.do(
        ev.AmendAccepted,
        order=stop.id,
        level=stop.level + 330,
        steps=stop.steps,
        token=stop.changed,
    )
    hand.do(ev.MoveStop, ask_id="N", trade=hand.trade.id, level=stop.level + 340)
    gone = ev.OrderReport(stop.id, "cancelled", stop.level, stop.steps)
    told = hand.do(ev.OrderStatus, known=gone, token=question.token)
    assert "cancelled_by_venue" in codes(told)
    assert [one.role for one in of([*told, *hand.later(0.3)], cm.Submit)] == ["stop"]
