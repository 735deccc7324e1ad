"""What a check with the venue takes for a difference, and what it leaves alone."""

from decimal import Decimal

from byhand import SYMBOL, ByHand, codes, of
from hawser.core.clock import SECOND
from hawser.core.entry import EntryRule
from hawser.core.rig import Ladder, Measure, Rig
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.model import transitions as states
from hawser.engine.model.exposure import resting_level
from hawser.engine.reconcile import differs


def checked(
    hand: ByHand, *known: ev.OrderReport, steps: int, quiet: bool = True, side: int = 1
) -> ev.Checked:
    """The venue's answer: these orders, and a position of so many steps."""
    position = ev.VenuePosition(hand.trade.entry.order_id, SYMBOL, side, steps, 61242.0)
    return ev.Checked(
        time=hand.now,
        asked=known,
        resting=tuple(one.order for one in known),
        positions=(position,),
        quiet=(hand.trade.id,) if quiet else (),
    )


def test_a_stop_that_another_hand_has_moved_is_a_difference_though_its_quantity_is_the_same():
    hand = ByHand()
    hand.protect(targets=())
    stop = hand.order("stop")
    same = checked(hand, ev.OrderReport(stop.id, "resting", stop.level, stop.steps), steps=104)
    assert not differs(hand.engine.state, same)
    looser = checked(
        hand, ev.OrderReport(stop.id, "resting", stop.level - 200, stop.steps), steps=104
    )
    assert differs(hand.engine.state, looser)
    wanted = stop.level
    told = hand.engine.handle(looser)
    assert "moved_elsewhere" in codes(told)
    assert [one.level for one in of(told, cm.Amend)] == [wanted]


def test_a_position_of_a_trade_that_is_under_way_is_nobody_else_s():
    hand = ByHand()
    hand.protect(targets=())
    for side in (1, -1):
        busy = checked(hand, steps=60, quiet=False, side=side)
        assert not differs(hand.engine.state, busy)
        assert codes(hand.engine.handle(busy)) == []
        assert not hand.engine.state.unexplained
    assert hand.trade.open_steps == 104


def test_an_entry_that_has_filled_in_part_is_not_laid_out_anew_where_it_rests():
    """Its stop, its targets and what it risks stand by what has filled."""
    hand = ByHand()
    hand.place(entry=EntryRule(kind="limit", price=Decimal("0.61100")), targets=())
    trade, steps = hand.trade, hand.trade.entry.asked_steps
    hand.do(ev.OrderAccepted, order=trade.entry.order_id)
    hand.fill(trade.entry.order_id, 10, trade.ref)
    hand.do(ev.OrderAccepted, order=hand.order("stop").id)
    before = (trade.ref, trade.stop, trade.entry.asked_steps)
    for level, asked in ((trade.ref - 40, steps), (trade.ref, steps - 20)):
        told = hand.engine.handle(
            checked(hand, ev.OrderReport(trade.entry.order_id, "resting", level, asked), steps=10)
        )
        assert (trade.ref, trade.stop, trade.entry.asked_steps) == before
        assert "entry" not in {one.role for one in of(told, cm.Amend)}


def test_a_stop_stays_while_the_answer_that_ends_its_trade_says_that_something_is_still_open():
    """Another hand had made the position larger: what was known had left, and its stop was taken
    back first."""
    hand = ByHand()
    hand.protect(targets=())
    stop, entry = hand.order("stop"), hand.trade.entry.order_id
    hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id, share=1.0)
    close = hand.order("close")
    fill = ev.Fill("F9", hand.now, 104, 61230, 0.0, 1.0)
    hand.now += 60 * SECOND
    told = hand.engine.handle(
        ev.Checked(
            time=hand.now,
            resting=(stop.id,),
            positions=(ev.VenuePosition(entry, SYMBOL, 1, 8, 61242.0),),
            asked=(ev.OrderReport(close.id, "filled", 0, 104, (fill,)),),
            quiet=(hand.trade.id,),
        )
    )
    assert hand.trade.open_steps == 8
    assert not of(told, cm.Cancel)


def test_no_stop_is_made_smaller_by_the_first_half_of_an_answer():
    """Two targets had filled untold, and another hand had made the position larger: all in one
    answer."""
    hand = ByHand()
    hand.protect()
    stop = hand.order("stop")
    taken = [
        (order, ev.Fill(f"U{order.number}", hand.now, order.steps, order.level, 10.0, 1.0))
        for order in hand.engine.state.orders_of(hand.trade, "target")
    ]
    asked = [
        ev.OrderReport(order.id, "filled", order.level, order.steps, (fill,))
        for order, fill in taken
    ]
    known = (*asked, ev.OrderReport(stop.id, "resting", stop.level, stop.steps))
    told = hand.engine.handle(checked(hand, *known, steps=120))
    assert "quantity_differs" in codes(told)
    assert [(one.role, one.steps) for one in of(told, cm.Amend)] == [("stop", 120)]


def test_a_stop_that_rests_for_more_than_an_older_record_knows_is_not_made_smaller():
    """Each rung that the answer tells of would have had the stop cover only what was known so
    far."""
    hand = ByHand()
    ladder = Rig(name="Rungs", ladder=Ladder(3, Measure(ticks=100.0), 60.0, 80.0, factor=2.0))
    hand.protect(rig=ladder, stop=None, targets=(), trail=None)
    stop, rungs = hand.order("stop"), hand.engine.state.orders_of(hand.trade, "rung")
    open_steps = hand.trade.open_steps
    for order in rungs:
        hand.do(ev.OrderAccepted, order=order.id)
    hand.do(ev.VenueUp)
    fills = [
        ev.Fill(f"U{order.number}", hand.now, order.steps, order.level, 0.0, 1.0) for order in rungs
    ]
    whole = open_steps + sum(order.steps for order in rungs)
    asked = tuple(
        ev.OrderReport(order.id, "filled", order.level, order.steps, (fill,))
        for order, fill in zip(rungs, fills, strict=True)
    )
    held = ev.VenuePosition(hand.trade.entry.order_id, SYMBOL, 1, whole, hand.trade.entry_price)
    known = (*asked, ev.OrderReport(stop.id, "resting", stop.level, whole))
    told = hand.holdings(positions=(held,), resting=(stop.id,), asked=known)
    assert not [one for one in of(told, cm.Amend) if one.role == "stop"]
    assert hand.trade.state == states.PROTECTED


def test_fills_that_one_answer_tells_are_covered_by_one_stop():
    hand = ByHand()
    hand.place(targets=())
    fills = tuple(ev.Fill(f"U{number}", hand.now, 20, 61_242, 0.0, 1.0) for number in range(3))
    known = ev.OrderReport(
        hand.trade.entry.order_id, "resting", 0, hand.trade.entry.asked_steps, fills
    )
    sent = of(hand.do(ev.OrderStatus, known=known), cm.Submit)
    assert [(one.role, one.steps) for one in sent] == [("stop", 60)]


def test_what_becomes_of_a_foreign_position_is_told():
    hand = ByHand()
    for side, steps, code in (
        (1, 7, "position_unexplained"),
        (1, 9, "position_changed"),
        (-1, 9, "position_changed"),
    ):
        hand.do(ev.VenueUp)
        assert code in codes(
            hand.holdings(positions=(ev.VenuePosition("X-1", SYMBOL, side, steps),))
        )
    hand.do(ev.VenueUp)
    assert codes(hand.holdings(positions=(ev.VenuePosition("X-1", SYMBOL, -1, 9),))) == [
        "reconciled"
    ]
    hand.do(ev.VenueUp)
    assert codes(hand.holdings()) == ["position_gone"]


def test_a_foreign_position_that_a_late_fill_explains_is_not_told_as_closed():
    hand = ByHand()
    hand.protect(targets=())
    stop, entry = hand.order("stop"), hand.trade.entry.order_id
    hand.fill(stop.id, 104, stop.level)
    hand.engine.state.unexplained[entry] = held = ev.VenuePosition(entry, SYMBOL, 1, 8)
    hand.fill(entry, 8, 61_242)
    hand.do(ev.VenueUp)
    told = hand.holdings(positions=(held,))
    assert not hand.engine.state.unexplained
    assert "position_gone" not in codes(told)


def test_a_position_of_a_trade_that_has_just_ended_may_be_older_than_its_end():
    hand = ByHand()
    hand.protect(targets=())
    stop = hand.order("stop")
    hand.fill(stop.id, 104, stop.level)
    assert hand.trade.state == states.ENDED
    for seconds, counts in ((29, False), (2, True)):
        hand.now += seconds * SECOND
        hand.quote(61_230, 61_242)
        assert differs(hand.engine.state, checked(hand, steps=104, quiet=False)) == counts


def test_a_stop_that_does_not_rest_yet_is_shown_where_it_is_wanted():
    hand = ByHand()
    hand.enter(targets=())
    assert resting_level(hand.engine.state, hand.trade) == hand.trade.stop


def test_a_stop_that_was_put_nearer_while_something_is_under_way_is_not_put_back():
    """A rung had filled: the change of its quantity would have moved the stop away again."""
    hand = ByHand()
    hand.protect(targets=())
    stop, entry = hand.order("stop"), hand.trade.entry.order_id
    nearer = stop.level + 150
    busy = checked(
        hand, ev.OrderReport(stop.id, "resting", nearer, stop.steps), steps=104, quiet=False
    )
    assert differs(hand.engine.state, busy)
    assert "moved_elsewhere" in codes(hand.engine.handle(busy))
    assert (hand.trade.stop, stop.level) == (nearer, nearer)
    assert not differs(hand.engine.state, busy)
    earlier = checked(
        hand,
        ev.OrderReport(stop.id, "resting", hand.trade.cover.initial_stop, stop.steps),
        steps=104,
        quiet=False,
    )
    assert not differs(hand.engine.state, earlier)  # an older answer
    fill = hand.fill(entry, 10, 61_242)
    assert not [one for one in of(fill, cm.Amend) if one.level != nearer]


def test_an_older_answer_that_a_stop_was_nearer_does_not_undo_what_a_person_widened():
    hand = ByHand()
    hand.protect(targets=())
    stop, was = hand.order("stop"), hand.trade.stop
    hand.do(ev.MoveStop, ask_id="W", trade=hand.trade.id, level=was - 100, widen=True)
    hand.do(ev.AmendAccepted, order=stop.id, level=was - 100, steps=104)
    older = checked(
        hand, ev.OrderReport(stop.id, "resting", was, stop.steps), steps=104, quiet=False
    )
    assert not differs(hand.engine.state, older)


def test_a_picture_older_than_a_close_says_nothing_of_the_trade_it_ended():
    """What a check tells may have left the venue before the close did: only later can it be that
    something is open."""
    hand = ByHand()
    hand.protect(targets=())
    hand.do(ev.OrderCancelled, order=hand.order("stop").id, why="cancelled at the venue")
    close = of(hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id), cm.Submit)[-1]
    hand.fill(close.order, 104, 61230)
    for name in hand.trade.live_ids:
        hand.do(ev.OrderCancelled, order=name, why="asked for")
    assert hand.trade.state == states.ENDED
    assert codes(hand.engine.handle(checked(hand, steps=104, quiet=False))) == []
    assert hand.trade.open_steps == 0
    hand.later(31)
    assert "quantity_differs" in codes(hand.engine.handle(checked(hand, steps=104, quiet=False)))


def test_a_stop_that_seems_farther_away_while_something_is_under_way_is_not_judged_yet():
    """The picture may be older than an answer that is on its way: what is nearer alone holds
    whatever it is."""
    hand = ByHand()
    hand.protect(targets=())
    stop, wanted = hand.order("stop"), hand.trade.stop
    for level in (0, stop.level - 150):
        busy = checked(
            hand, ev.OrderReport(stop.id, "resting", level, stop.steps), steps=104, quiet=False
        )
        assert codes(hand.engine.handle(busy)) == []
        assert (hand.trade.stop, stop.level) == (wanted, wanted)
