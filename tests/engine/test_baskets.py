"""One basket over several trades: counted from when it was laid, on quotes, bars or minutes;
reached, all go."""

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from byhand import SYMBOL, ByHand, codes, of
from hawser.core.clock import MINUTE
from hawser.core.errors import BadInput
from hawser.core.levels import StopRule
from hawser.core.plan import FleetPlace
from hawser.core.rig import Amount, Basket, FollowOn, Rig, basket_text, read_basket
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.model import transitions as states
from hawser.engine.model.state import bar_key
from hawser.engine.rigs import baskets
from hawser.service.views.taking import taken


def two(**basket) -> ByHand:
    """A long and a second long under one basket."""
    hand = ByHand()
    hand.protect()
    hand.protect(ask_id="A2")
    hand.quote(61260, 61272)  # both are ahead: that does not count
    first, second = hand.engine.state.trades
    hand.do(ev.FormBasket, ask_id="B", trades=(first, second), basket=Basket(**basket))
    return hand


def group(hand):
    return next(iter(hand.engine.state.baskets.values()))


def test_a_basket_counts_from_when_it_was_laid_and_closes_all():
    hand = two(stop=Amount(money=150.0), basis="tick")
    assert baskets.won(hand.engine.state, group(hand)) == 0
    assert not of(hand.quote(61200, 61212), cm.Submit)  # 60 ticks, some 125
    found = hand.quote(61180, 61192)
    assert [(one.role, one.kind) for one in of(found, cm.Submit)] == [("close", "market")] * 2
    assert "basket_reached" in codes(found)
    reasons = {trade.leave for trade in hand.engine.state.trades.values()}
    assert len(reasons) == 1
    assert reasons.pop().code == "basket_stop"
    assert not of(hand.quote(61100, 61112), cm.Submit)  # once


def test_what_was_realised_counts_too():
    hand = two(target=Amount(percent=0.2), basis="tick")  # 128 of 64 000
    first = next(iter(hand.engine.state.trades.values()))
    close = of(hand.do(ev.CloseTrade, ask_id="C", trade=first.id), cm.Submit)[0]
    hand.fill(close.order, first.open_steps, 61320, profit=100.0)
    assert first.state == states.ENDED
    assert baskets.won(hand.engine.state, group(hand)) > 50
    assert [one.trade for one in of(hand.quote(61350, 61362), cm.Submit)] == [hand.trade.id]


def test_one_that_looks_at_bars_waits_for_a_bar():
    hand = two(stop=Amount(money=150.0), basis="bar_close")
    assert not of(hand.quote(61150, 61162), cm.Submit)
    assert [one.role for one in of(hand.bar(0.6115, atr=0.00145), cm.Submit)] == ["close"] * 2


def test_one_that_looks_at_bars_looks_at_those_of_trades_that_are_still_open():
    hand = two(stop=Amount(money=150.0), basis="bar_close")
    first, second = hand.engine.state.trades.values()
    second.plan = msgspec.structs.replace(second.plan, timeframe_ns=60 * MINUTE)
    close = of(hand.do(ev.CloseTrade, ask_id="C", trade=first.id), cm.Submit)[0]
    hand.fill(close.order, first.open_steps, 61150)
    hand.quote(61100, 61112)
    assert not [one for one in of(hand.bar(0.6110, atr=0.00145), cm.Submit) if one.role == "close"]
    assert [
        one.trade for one in of(hand.bar(0.6110, atr=0.00145, span=60 * MINUTE), cm.Submit)
    ] == [second.id]


def test_one_that_looks_at_minutes_has_its_timer():
    hand = two(stop=Amount(money=150.0), basis="minute_end")
    hand.quote(61150, 61162)
    assert not hand.trade.leave
    assert [one.role for one in of(hand.later(61), cm.Submit)] == ["close"] * 2
    assert not [one for one in of(hand.later(120), cm.Submit) if one.role == "close"]


def test_a_trade_that_goes_under_another_basket_takes_its_share_of_the_first_along():
    hand = two(stop=Amount(money=150.0), basis="tick")
    _, second = hand.engine.state.trades.values()
    hand.quote(61300, 61312)  # each is some 42 ahead of when it came under the basket
    old = group(hand)
    whole = baskets.won(hand.engine.state, old)
    hand.do(
        ev.FormBasket,
        ask_id="B2",
        trades=(second.id,),
        basket=Basket(target=Amount(money=900.0), basis="tick"),
    )
    assert baskets.won(hand.engine.state, old) == pytest.approx(whole / 2)
    assert not of(hand.quote(61299, 61311), cm.Submit)


def test_a_basket_can_be_taken_off_and_is_gone_with_its_trades():
    hand = two(stop=Amount(money=150.0), basis="tick")
    name = group(hand).name
    assert "basket_gone" in codes(hand.do(ev.DissolveBasket, ask_id="D", name=name))
    assert not of(hand.quote(61150, 61162), cm.Submit)
    assert codes(hand.do(ev.DissolveBasket, ask_id="D2", name=name)) == ["no_basket"]
    again = two(target=Amount(money=150.0), basis="tick")
    for trade in list(again.engine.state.trades.values()):
        close = of(again.do(ev.CloseTrade, ask_id=f"c{trade.id}", trade=trade.id), cm.Submit)[0]
        again.fill(close.order, trade.open_steps, 61260)
    again.do(ev.Figures, balance=64_000.0, equity=64_000.0, margin_used=0.0)
    assert not again.engine.state.baskets


def test_a_trade_lies_under_one_basket_and_one_that_is_not_open_under_none():
    hand = two(stop=Amount(money=150.0), basis="tick")
    first, second = hand.engine.state.trades
    hand.do(
        ev.FormBasket, ask_id="B2", trades=(first, second), basket=Basket(target=Amount(money=90.0))
    )
    assert len(hand.engine.state.baskets) == 1
    assert codes(
        hand.do(
            ev.FormBasket, ask_id="B3", trades=("T99",), basket=Basket(target=Amount(money=90.0))
        )
    ) == ["nothing_meant"]
    (view,) = taken(hand.engine.state, watched=SYMBOL).baskets
    assert (view.trades, view.gain, view.lose) == (2, 90.0, float("inf"))


amounts = (
    st.none()
    | st.builds(Amount, money=st.integers(1, 10**6).map(float))
    | st.builds(Amount, percent=st.integers(1, 400).map(lambda n: n / 4))
)


@given(amounts, amounts, st.sampled_from(["tick", "bar_close", "minute_end"]))
def test_what_is_typed_reads_back(stop, target, basis):
    if stop is None and target is None:
        return
    basket = Basket(stop, target, basis)
    assert read_basket(basket_text(basket)) == basket


@pytest.mark.parametrize(
    "text", ["", "900", "stop", "stop 900, stop 800", "every day", "stop 900 apples", "target -3"]
)
def test_what_cannot_be_read_is_told(text):
    with pytest.raises(BadInput):
        read_basket(text)


def test_one_that_looks_at_bars_does_not_look_at_a_bar_that_is_told_once_more():
    hand = two(stop=Amount(money=150.0), basis="bar_close")
    hand.bar(0.6130, atr=0.00145)
    bar = hand.engine.state.bars[bar_key(SYMBOL, 15 * MINUTE)]
    hand.bar(0.6130, atr=0.00145)
    hand.quote(61150, 61162)
    old = {
        "symbol": SYMBOL,
        "span": 15 * MINUTE,
        "opened": bar.opened,
        "spread": 12.0,
        "atr": 0.00145,
    }
    prices = dict.fromkeys(("open", "high", "low", "close"), 0.6115)
    assert not of(hand.do(ev.BarCompleted, **old, **prices), cm.Submit)
    assert of(hand.bar(0.6115, atr=0.00145), cm.Submit)


# The basket of a fleet


def fleet(**basket) -> ByHand:
    """Two open trades of one fleet, each 104 steps."""
    hand = ByHand()
    place = FleetPlace("Three harbours", Basket(**basket))
    hand.protect(fleet=place)
    hand.protect(ask_id="A2", fleet=place)
    return hand


def closes_known(hand, name="Three harbours"):
    return hand.do(ev.ClosesKnown, fleet=name)


def test_a_fleet_s_trades_come_under_its_basket_as_they_are_entered():
    hand = fleet(stop=Amount(percent=0.5))
    (one,) = hand.engine.state.baskets.values()
    assert (one.fleet, one.equity) == ("Three harbours", 64_000.0)
    assert len(baskets.members(hand.engine.state, one.name)) == 2
    hand.quote(61000, 61012)  # it looks at no quote, and at no bar of one member
    hand.bar(0.61000, 0.00145)
    assert not hand.trade.leave
    assert not closes_known(hand, "Another fleet")
    found = closes_known(hand)
    assert codes(found) == ["basket_reached"]
    assert [(sent.role, sent.kind) for sent in of(found, cm.Submit)] == [("close", "market")] * 2


def test_a_fleet_s_basket_counts_anew_at_each_close():
    """A member whose market is shut leaves later; who entered meanwhile stays where the group has
    come back, and goes where it has not."""
    hand = fleet(stop=Amount(percent=0.5))
    hand.quote(61000, 61012)
    closes_known(hand)
    hand.quote(61260, 61272)
    hand.protect(ask_id="A3", fleet=FleetPlace("Three harbours", group(hand).basket))
    third = hand.trade
    assert not closes_known(hand)
    assert not third.leave
    assert third.progress.basket == group(hand).name  # two of it are still open
    hand.quote(60000, 60012)
    closes_known(hand)
    assert third.leave.code == "basket_stop"


def test_with_a_fleet_flat_the_next_entry_begins_a_new_group():
    hand = fleet(stop=Amount(percent=0.5))
    first = group(hand).name
    for trade in list(hand.engine.state.trades.values()):
        close = of(hand.do(ev.CloseTrade, ask_id=f"c{trade.id}", trade=trade.id), cm.Submit)[0]
        hand.fill(close.order, trade.open_steps, 61260)
    assert not hand.engine.state.baskets
    hand.do(ev.Figures, balance=60_000.0, equity=60_000.0, margin_used=0.0)
    hand.protect(ask_id="A3", fleet=FleetPlace("Three harbours", Basket(stop=Amount(percent=0.5))))
    assert group(hand).name != first
    assert (group(hand).equity, len(baskets.members(hand.engine.state, group(hand).name))) == (
        60_000.0,
        1,
    )


def test_what_was_to_follow_lapses_with_the_fleet_s_basket():
    hand = ByHand()
    rig = Rig(name="test", stop=StopRule(atr=2.5), follow_on=FollowOn(1))
    place = FleetPlace("Three harbours", Basket(stop=Amount(percent=0.5)))
    hand.protect(fleet=place, rig=rig, targets=(), trail=None)
    first = hand.trade
    hand.protect(ask_id="A2", fleet=place)
    stop = next(
        o for o in hand.engine.state.orders.values() if o.trade == first.id and o.role == "stop"
    )
    hand.fill(stop.id, first.open_steps, 60800)
    assert first.progress.due == "follow"
    hand.quote(60900, 60912)
    assert codes(closes_known(hand)) == ["basket_reached", "lapsed"]
    assert not of(hand.do(ev.TimerFired, name=f"follow:{first.id}"), cm.Submit)
