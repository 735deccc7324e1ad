"""What the gale found: fills lost while the link stands, split stops that the venue adjusts, orders
no record has."""

from decimal import Decimal

import msgspec

from byhand import SYMBOL, ByHand, codes, of, plan
from hawser.core.clock import MINUTE
from hawser.core.instrument import Instrument
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.model import transitions as states
from hawser.engine.model.state import Order
from hawser.engine.reconcile import differs
from hawser.service.views.logbook_lines import Teller
from madeup import account


def split(most: int = 50) -> ByHand:
    """A trade of 104 steps where one order may have `most`: stops for all of it, under way."""
    hand = ByHand()
    hand.place()
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    instruments = hand.engine.state.instruments
    instruments[SYMBOL] = msgspec.structs.replace(
        instruments[SYMBOL],
        qty_max=instruments[SYMBOL].qty_step * most,
        qty_min=instruments[SYMBOL].qty_step,
    )
    hand.fill(hand.trade.entry.order_id, hand.trade.entry.asked_steps, hand.trade.ref)
    return hand


def stops(hand: ByHand) -> list[str]:
    return [order.id for order in hand.engine.state.orders_of(hand.trade, "stop")]


def live(hand: ByHand, role: str) -> list[Order]:
    return hand.engine.state.orders_of(hand.trade, role)


def test_a_position_that_would_take_more_than_50_stops_is_closed_50_orders_at_a_time():
    hand = split(most=2)  # 52 orders for 104 steps
    assert len(stops(hand)) == 50
    for order in stops(hand):
        hand.do(ev.OrderAccepted, order=order)
    assert hand.trade.state == states.EXPOSED
    told = hand.later(2.6)
    assert [one.text for one in of(told, cm.Tell) if one.code == "deadline"] == [
        "One order takes 0.02 at most, and the position would need 52 stops: closing at market"
    ]
    closes = of(told, cm.Submit)
    assert {one.role for one in closes} == {"close"}
    assert len(closes) == len(live(hand, "close")) == 50
    followed = []
    for one in closes:
        followed += of(hand.fill(one.order, one.steps, 61200), cm.Submit)
    assert [(one.role, one.steps) for one in followed] == [("close", 2), ("close", 2)]
    for one in followed:
        hand.fill(one.order, one.steps, 61200)
    assert hand.trade.state == states.ENDED


def test_a_stop_that_covers_all_stays_where_too_many_would_have_to_take_its_place():
    """They were laid beside it, and covered a part twice for as long as the venue took no more in
    one order."""
    hand = ByHand()
    hand.protect(targets=(), trail=None)
    trade, stop = hand.trade, hand.order("stop")
    state = hand.engine.state
    less = msgspec.structs.replace(state.instruments[SYMBOL], qty_max=Decimal("0.02"))
    hand.do(ev.Opened, prefix="P", account=account(), instruments=(less,))
    hand.do(ev.VenueUp)
    held = (ev.VenuePosition(trade.entry.order_id, SYMBOL, 1, trade.open_steps, 61_242.0),)
    hand.holdings(held, (stop.id,), (ev.OrderReport(stop.id, "resting", stop.level, stop.steps),))
    found = hand.do(ev.MoveStop, ask_id="M", trade=trade.id, level=trade.stop + 20)
    assert [one.text for one in of(found, cm.Tell) if one.code == "stop_stays"] == [
        "The stop stays at 0.60879: one order takes 0.02 at most, and 52 orders would have to "
        "replace it"
    ]
    assert not of(found, cm.Submit)
    later = hand.later(60)
    assert "stop_stays" not in codes(later)  # it is told once
    assert not of(later, cm.Submit)
    assert trade.state == states.PROTECTED
    told = hand.do(ev.MoveStop, ask_id="N", trade=trade.id, level=trade.stop + 30)
    assert "stop_stays" in codes(told)
    # three would do: they take its place
    some = msgspec.structs.replace(less, qty_max=Decimal("0.50"))
    hand.do(ev.Opened, prefix="P", account=account(), instruments=(some,))
    sent = of(hand.do(ev.VenueUp), cm.Submit)
    assert sent
    assert {(one.role, one.level) for one in sent} == {("stop", trade.stop)}


def test_a_part_filled_close_leaves_room_for_another():
    hand = split(most=2)
    hand.later(2.6)
    first = live(hand, "close")[0]
    assert not of(hand.fill(first.id, 1, 61200), cm.Submit)  # 49 and a half are under way
    [more] = of(hand.fill(first.id, 1, 61200), cm.Submit)
    assert (more.role, more.steps) == ("close", 2)


def test_what_a_venue_took_is_doubled_after_ten_minutes_until_its_instrument_says_no_more():
    hand = split()
    hand.do(ev.OrderRejected, order=stops(hand)[0], code="bad_qty", text="too many")
    hand.later(0.2)
    found = []
    for minutes in (0, 9, 10, 10):
        hand.now += minutes * MINUTE
        for order in stops(hand):
            hand.do(ev.OrderAccepted, order=order)
        found.append(hand.trade.cover.most_steps)
    assert found == [25, 25, 0, 0]  # 50 is what the instrument says
    hand.trade.cover.most_steps = 5
    hand.now += 10 * MINUTE
    hand.do(ev.OrderAccepted, order=stops(hand)[1])
    assert hand.trade.cover.most_steps == 10


def test_a_position_that_would_take_more_than_50_stops_is_not_adopted():
    hand = split(most=2)
    hand.engine.state.unexplained["X"] = ev.VenuePosition("X", SYMBOL, 1, 101, 61200.0)
    [told] = of(hand.do(ev.Adopt, ask_id="A", position="X", plan=plan()), cm.Tell)
    assert told.code == "too_large"
    assert told.text == (
        "Not adopted: It would need more than 50 stops, because one order takes 0.02 at most. "
        "Close a part of it first."
    )
    hand.engine.state.unexplained["X"] = ev.VenuePosition("X", SYMBOL, 1, 100, 61200.0)
    assert "adopted" in codes(hand.do(ev.Adopt, ask_id="B", position="X", plan=plan()))


def test_one_stop_of_several_that_the_venue_adjusts_moves_none_of_the_others():
    hand = split()
    first, *others = stops(hand)
    wanted = hand.trade.stop
    for order in others:
        assert not of(hand.do(ev.OrderAccepted, order=order), cm.Amend)
    told = hand.do(ev.OrderAccepted, order=first, level=wanted - 3)
    assert "level_adjusted" in codes(told)
    assert not of(told, cm.Amend)
    assert (hand.trade.stop, hand.trade.state) == (wanted, states.PROTECTED)
    assert not of(hand.later(120), cm.Amend)
    # Another level is wanted: all of them are asked again, also the one that stands elsewhere.
    moved = of(hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=wanted + 20), cm.Amend)
    assert {one.order for one in moved} == {first, *others}
    for one in moved:
        hand.do(ev.AmendAccepted, order=one.order, level=one.level, steps=one.steps)
    # And back to the level it would not have before: that is asked for again.
    back = of(
        hand.do(ev.MoveStop, ask_id="B", trade=hand.trade.id, level=wanted, widen=True), cm.Amend
    )
    assert {one.order for one in back} == {first, *others}


def test_a_stop_that_another_hand_moves_takes_none_of_the_others_away_from_the_market():
    """All follow the one that was moved, unless they rest nearer already."""
    hand = split()
    first, second, *others = stops(hand)
    for order in (first, *others):
        hand.do(ev.OrderAccepted, order=order)
    wanted = hand.trade.stop
    hand.do(ev.OrderAccepted, order=second, level=wanted + 3)  # the venue has it there
    hand.later(60)
    orders = hand.engine.state.orders
    known = ev.OrderReport(first, "resting", wanted + 2, orders[first].steps)
    moved = of(hand.do(ev.OrderStatus, known=known), cm.Amend)
    assert hand.trade.stop == wanted + 2
    assert {one.order for one in moved} == set(others)
    assert {one.level for one in moved} == {wanted + 2}
    wished = of(
        hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=wanted - 5, widen=True),
        cm.Amend,
    )
    assert second in {one.order for one in wished}  # a person may


def test_one_of_several_stops_that_the_venue_has_nearer_is_not_moved_back_by_a_small_step():
    """Storm 8614959: a trail moved the others to where they still rested farther from the market
    than this one."""
    hand = split()
    first, *others = stops(hand)
    wanted = hand.trade.stop
    for order in others:
        hand.do(ev.OrderAccepted, order=order)
    hand.do(ev.OrderAccepted, order=first, level=wanted + 4)  # the venue has it there
    for step in (2, 4):
        moved = of(
            hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=wanted + step), cm.Amend
        )
        assert {one.order for one in moved} == set(others)
        for one in moved:
            hand.do(ev.AmendAccepted, order=one.order, level=one.level, steps=one.steps)
    nearer = of(hand.do(ev.MoveStop, ask_id="N", trade=hand.trade.id, level=wanted + 6), cm.Amend)
    assert {one.order for one in nearer} == {first, *others}


def test_one_stop_of_two_that_the_venue_adjusts_does_not_move_the_other():
    hand = split(most=60)
    first, other = stops(hand)
    wanted = hand.trade.stop
    hand.do(ev.OrderAccepted, order=other)
    hand.do(ev.OrderAccepted, order=first, level=wanted - 3)
    assert hand.trade.stop == wanted


def test_one_stop_of_several_whose_move_is_refused_stays_where_it_is_and_the_others_move():
    hand = split()
    first, *others = stops(hand)
    for order in (first, *others):
        hand.do(ev.OrderAccepted, order=order)
    wanted = hand.trade.stop + 20
    hand.do(ev.MoveStop, ask_id="M", trade=hand.trade.id, level=wanted)
    told = hand.do(ev.AmendRejected, order=first, code="too_near", text="too near")
    assert codes(told) == ["move_refused"]
    assert hand.trade.stop == wanted
    assert first not in {one.order for one in of(hand.later(60), cm.Amend)}


def test_a_lone_stop_that_the_venue_adjusts_is_where_the_trade_s_stop_is():
    hand = ByHand()
    hand.enter()
    told = hand.do(ev.OrderAccepted, order=hand.order("stop").id, level=60_875)
    assert hand.trade.stop == 60_875
    assert not of(told, cm.Amend)


def test_when_the_time_without_cover_is_up_the_venue_is_asked_for_all_it_holds():
    """A fill of the close may have been lost: then nothing is exposed at all."""
    hand = ByHand()
    hand.enter()
    hand.do(ev.OrderRejected, order=hand.order("stop").id, code="busy", text="busy")
    asked = [one for one in hand.later(5) if isinstance(one, cm.QueryAll)]
    assert asked
    assert not hand.engine.state.reconciled


def check(hand: ByHand, resting: tuple[str, ...]) -> list[cm.AnyCommand]:
    trade = hand.trade
    held = (
        (ev.VenuePosition(trade.entry.order_id, SYMBOL, 1, trade.open_steps),)
        if trade.open_steps
        else ()
    )
    return hand.do(ev.Checked, asked=(), resting=resting, positions=held, quiet=(trade.id,))


def test_an_order_of_ours_that_no_record_has_is_taken_back_once_all_is_covered():
    hand = ByHand()
    hand.protect()
    own = tuple(
        order.id
        for role in ("stop", "target")
        for order in hand.engine.state.orders_of(hand.trade, role)
    )
    first = check(hand, (*own, "P-lost-99"))
    assert not of(first, cm.Cancel)  # it may be the only cover of something
    second = check(hand, (*own, "P-lost-99"))
    assert [one.order for one in of(second, cm.Cancel)] == ["P-lost-99"]
    assert "stray" in codes(second)
    teller = Teller()
    instruments: tuple[Instrument, ...] = tuple(hand.engine.state.instruments.values())
    teller.lines(
        ev.Opened(time=0, prefix="P", account=hand.engine.state.account, instruments=instruments),
        [],
    )
    lines = teller.lines(hand.events[-1], second)
    assert any("P-lost-99" in line.text for line in lines)


def test_what_covers_a_trade_that_is_being_closed_stays_though_no_record_has_it_and_an_entry_goes():
    """A market is shut: nothing else could cover it for hours."""
    hand = ByHand()
    hand.enter(targets=())
    hand.do(
        ev.OrderRejected,
        order=hand.order("stop").id,
        code="market_closed",
        text="not trading now",
    )
    hand.do(ev.CloseTrade, ask_id="C", trade=hand.trade.id, share=1.0)
    assert hand.trade.state == states.LEAVING
    event = ev.Checked(
        time=hand.now,
        asked=(),
        resting=("P-lost-1", "P-lost-2"),
        quiet=(hand.trade.id,),
        positions=(ev.VenuePosition(hand.trade.entry.order_id, SYMBOL, 1, 104, 61242.0),),
        closing={"P-lost-1": hand.trade.entry.order_id},
    )
    hand.engine.handle(event)
    assert differs(hand.engine.state, event)
    assert [one.order for one in of(hand.engine.handle(event), cm.Cancel)] == ["P-lost-2"]


def test_a_check_says_that_strays_differ_for_as_long_as_they_can_be_taken_back():
    hand = ByHand()
    hand.protect()
    state = hand.engine.state
    own = tuple(
        order.id for role in ("stop", "target") for order in state.orders_of(hand.trade, role)
    )
    held = (ev.VenuePosition(hand.trade.entry.order_id, SYMBOL, 1, hand.trade.open_steps),)
    event = ev.Checked(
        time=hand.now, asked=(), resting=(*own, "P-lost-1"), positions=held, quiet=(hand.trade.id,)
    )
    assert differs(state, event)
    check(hand, (*own, "P-lost-1"))
    assert differs(state, event)
    check(hand, own)
    assert not differs(state, msgspec.structs.replace(event, resting=own))


def test_a_retry_of_an_earlier_version_s_record_is_taken_and_an_overtaken_one_is_not():
    hand = ByHand()
    hand.enter()
    hand.do(ev.OrderRejected, order=hand.order("stop").id, code="busy", text="busy")
    trade = hand.trade
    hand.now = trade.cover.retry_at
    assert not of(
        hand.do(ev.TimerFired, name=f"retry:{trade.id}:{trade.wake_at + 10**9}"), cm.Submit
    )
    assert of(hand.do(ev.TimerFired, name=f"retry:{trade.id}:45"), cm.Submit)
