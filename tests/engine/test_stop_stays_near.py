"""A stop moves away from the market only where a person wishes it."""

from byhand import SYMBOL, ByHand, codes, of, plan
from hawser.core.entry import HeldRule
from hawser.core.rig import Trail
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.model import reasons as rs
from hawser.engine.model.state import Order


def asked_twice() -> tuple[ByHand, Order, int]:
    """A stop moved nearer by hand: the first change without an answer, the second under way."""
    hand = ByHand()
    hand.protect(targets=())
    stop = hand.order("stop")
    rests = ev.OrderReport(stop.id, "resting", stop.level, stop.steps)
    hand.do(ev.MoveStop, ask="M", trade=hand.trade.id, level=stop.level + 340)
    hand.later(1)
    assert of(hand.do(ev.OrderStatus, known=rests), cm.Amend)
    return hand, stop, stop.level


def test_an_answer_to_an_earlier_change_is_not_taken_for_the_last_word():
    """Storm 7921200: a stop that rested where it was asked for was moved back to where the venue had put it before."""
    hand, stop, level = asked_twice()
    hand.do(ev.AmendAccepted, order=stop.id, level=level + 330, steps=stop.steps)
    hand.do(ev.AmendAccepted, order=stop.id, level=level + 340, steps=stop.steps)
    asked = hand.do(ev.AmendAccepted, order=stop.id, level=level + 330, steps=stop.steps)  # the first once more, late
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
    assert "move_refused" in codes(hand.do(ev.AmendRejected, order=stop.id, code="too_near", text="too near"))
    assert (hand.trade.stop, hand.trade.stop_code) == (level, rs.KEPT)
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
    assert "level_adjusted" in codes(hand.do(ev.AmendAccepted, order=stop.id, level=level + 330, steps=stop.steps))
    told = hand.do(ev.AmendAccepted, order=stop.id, level=level + 340, steps=stop.steps)
    assert not of([*told, *hand.later(60)], cm.Amend)
    assert (hand.trade.stop, stop.level) == (level + 340, level + 340)


def test_a_move_away_that_is_carried_out_after_all_is_put_back():
    hand = ByHand()
    hand.protect(targets=())
    stop = hand.order("stop")
    level = stop.level
    hand.trade.stop_code, stop.asked = rs.KEPT, [*stop.asked, (level - 50, stop.steps)]
    told = hand.do(ev.AmendAccepted, order=stop.id, level=level - 50, steps=stop.steps)
    assert [one.level for one in of(told, cm.Amend)] == [level]


def test_the_backstop_of_a_new_plan_says_why_it_is_farther_away():
    """It said "as it rests at the venue"."""
    hand = ByHand()
    hand.protect(targets=())
    hand.trade.stop_why, hand.trade.stop_code = "as it rests at the venue", rs.ADJUSTED
    told = hand.do(ev.ChangeRules, ask="R", trade=hand.trade.id, plan=plan(targets=(), held=HeldRule()))
    [moved] = of(told, cm.Amend)
    assert (moved.code, moved.level) == (rs.HELD_HERE, hand.trade.backstop)
    assert moved.why.startswith("Backstop to ")
    assert hand.trade.trace[-1].level == hand.trade.stop


def test_no_stop_is_moved_before_it_is_known_where_it_rests():
    """An older record knew nothing of a nearer one, and a trail went by what it knew: away from the market."""
    hand = ByHand()
    hand.protect(targets=(), trail=Trail(atr=1.0))
    stop = hand.order("stop")
    hand.do(ev.VenueDown, why="a drop")
    hand.do(ev.VenueUp)
    hand.quote(61430, 61442)
    assert not of(hand.bar(0.6143, atr=0.00145), cm.Amend)
    nearer = ev.OrderReport(stop.id, "resting", stop.level + 420, stop.steps)
    position = ev.VenuePosition(hand.trade.entry, SYMBOL, 1, 104, 61242.0)
    told = hand.holdings((position,), (stop.id,), (nearer,))
    assert "moved_elsewhere" in codes(told)
    assert not of(told, cm.Amend)
    assert hand.trade.stop == nearer.level
