"""The Helm without its window: what it is about, and what it asks for."""

from __future__ import annotations

import msgspec
import pytest

from byhand import SYMBOL, ByHand, plan
from hawser.core.clock import MINUTE
from hawser.core.entry import EntryRule
from hawser.core.rig import BreakEven, Rig
from hawser.desk.models.helm import HelmModel, OtherAccount, Wish
from hawser.desk.models.planning import Draft, Planning
from hawser.desk.models.settings import Shown
from hawser.desk.models.trade_actions import of_many
from hawser.engine import events as ev
from hawser.service.views.taking import taken
from madeup import pair


class Account:
    """An engine played by hand that a Helm asks."""

    def __init__(self) -> None:
        self.hand, self.asked, self.measured = ByHand(), list[ev.AskEvent](), []
        self.hand.do(ev.InstrumentsChanged, instruments=(pair(),), spans={SYMBOL: (15 * MINUTE,)})
        self.hand.bar(0.6123, atr=0.00145)

    def ask(self, make) -> str:
        event = make(self.hand.now, f"A{len(self.asked)}")
        self.asked.append(event)
        values = {name: getattr(event, name) for name in event.__struct_fields__ if name != "time"}
        self.hand.do(type(event), **values)
        return event.ask_id

    def measure(self, wanted) -> None:
        self.measured.append(wanted)

    @property
    def snapshot(self):
        return taken(self.hand.engine.state)


class At:
    """A Helm at an account; `look` has it take the newest snapshot."""

    def __init__(self, kept: Shown | None = None) -> None:
        self.account = Account()
        self.model = HelmModel(self.account, kept or Shown(), Planning())
        self.look()

    def look(self) -> None:
        snapshot = self.account.snapshot
        before, symbol = self.model.symbol, self.model.take(snapshot)
        if symbol:
            self.plan(self.model.take_up(symbol))
            self.model.took_place_of(before)
        self.model.follow_trades()
        self.model.planning.reckon(snapshot)

    def plan(self, draft: Draft) -> None:
        planning = self.model.planning
        planning.symbol, planning.span = self.model.symbol, self.model.span
        planning.change(draft)
        planning.reckon(self.account.snapshot)

    def opened(self):
        """The plan is placed, fills and is protected."""
        assert self.model.place(()) == ""
        hand = self.account.hand
        trade = hand.trade
        hand.do(ev.OrderAccepted, order=trade.entry.order_id)
        hand.fill(trade.entry.order_id, trade.entry.asked_steps, trade.ref)
        hand.do(ev.OrderAccepted, order=hand.order("stop").id)
        self.look()
        return self.model.selected_trade


@pytest.fixture
def at() -> At:
    return At()


def test_a_plan_is_placed_as_it_was_seen_and_its_trade_comes_into_view(at):
    assert (at.model.symbol, at.model.selected) == (SYMBOL, "")
    assert at.model.focus.trade == ""
    trade = at.opened()
    placed = at.account.asked[0]
    assert isinstance(placed, ev.PlaceTrade)
    assert placed.seen == 61242  # the ask that the plan was sized at
    assert trade.ask_id == placed.ask_id
    assert at.model.focus.trade == trade.id


def test_a_plan_with_an_error_is_not_placed_and_says_why(at):
    at.plan(msgspec.structs.replace(at.model.planning.draft, stop="-3 atr"))
    problem = at.model.place(())
    assert problem == at.model.planning.errors["stop"]
    assert at.account.asked == []
    at.plan(Draft())
    at.account.hand.do(ev.Halt, ask_id="H", why="by hand")
    at.look()
    assert at.model.place(()).startswith("Entries closed: ")
    assert at.account.asked == []


def test_a_plan_that_was_refused_brings_no_later_trade_into_view(at):
    assert at.model.place(()) == ""
    hand, ask = at.account.hand, at.account.asked[0].ask_id
    at.model.refused(ask)
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    hand.fill(hand.trade.entry.order_id, 1, hand.trade.ref)
    at.look()
    assert at.model.selected == ""


def test_the_same_plan_goes_to_the_accounts_that_are_chosen_without_the_price_seen_here(at):
    others = {name: Account() for name in ("Mole", "Pier")}
    at.model.others = [
        OtherAccount(name, lambda one=one: one.snapshot, one) for name, one in others.items()
    ]
    assert all(words for words in at.model.also().values())
    assert at.model.place(("Pier",)) == ""
    assert others["Mole"].asked == []
    assert [one.seen for one in others["Pier"].asked] == [0]
    assert others["Pier"].asked[0].plan == at.account.asked[0].plan


def test_a_stop_is_widened_only_where_the_policy_lets_a_person_and_it_is_still_what_was_told(at):
    trade = at.opened()
    assert not at.model.must_confirm(trade, trade.stop + 5)
    at.model.wish = Wish("stop", 0, trade.stop - 40)
    assert "wider than now" in at.model.wish_words
    assert at.model.must_confirm(trade, trade.stop - 40)
    assert f"{SYMBOL} long: move the stop from" in at.model.widening_words(trade, trade.stop - 40)
    assert at.model.still_as_told(trade)
    at.model.move_stop(trade, trade.stop + 20)
    at.look()
    assert not at.model.still_as_told(trade)
    assert (at.account.asked[-1].level, at.account.asked[-1].widen) == (trade.stop + 20, False)


def test_a_dragged_line_changes_what_is_typed_or_asks_for_a_target(at):
    stop = at.model.planning.sizing.stop
    draft = at.model.dragged_plan(Wish("stop", 0, stop - 30))
    at.plan(draft)
    assert at.model.planning.sizing.stop == stop - 30
    trade = at.opened()
    at.model.ask_for(trade, Wish("target", 2, 61_900))
    assert at.account.hand.trade.targets[1].level == 61_900


def test_an_entry_that_waits_is_moved_and_taken_back_not_closed(at):
    at.plan(Draft(entry="stop 0.61500"))
    assert at.model.planning.errors == {}
    assert at.model.place(()) == ""
    hand = at.account.hand
    hand.do(ev.OrderAccepted, order=hand.trade.entry.order_id)
    at.look()
    trade = at.model.selected_trade
    assert trade.pending
    at.model.wish = Wish("entry", 0, 61_520)
    assert at.model.wish_words == "Entry to 0.61520: the size follows when the venue accepts"
    at.model.ask_for(trade, at.model.wish)
    assert hand.trade.entry.moving.ref == 61_520
    at.model.close(trade.id)
    assert at.account.asked[-1].entry_only


def test_a_position_that_is_not_ours_is_adopted_by_the_plan_that_has_no_error():
    at = At(Shown(drafts={SYMBOL: Draft(stop="nonsense")}))
    at.account.hand.do(ev.VenueUp)
    at.account.hand.holdings((ev.VenuePosition("other-1", SYMBOL, -1, 7, 61_240.0),), asked=())
    at.look()
    at.model.adopt("other-1")
    asked = at.account.asked[-1]
    assert (asked.position, asked.plan.side, asked.plan.stop) == ("other-1", -1, plan().stop)
    at.model.adopt("nobody")
    assert len(at.account.asked) == 1


def test_a_rig_that_was_edited_goes_on_the_trades_that_have_it_else_into_the_plan(at):
    rig = Rig(name="Keel", stop=plan().stop, target=plan().targets)
    at.model.planning.rigs = {"Keel": rig}
    at.plan(msgspec.structs.replace(at.model.planning.draft, rig="Keel"))
    assert not at.model.put_rig(rig)
    at.opened()
    assert at.model.put_rig(msgspec.structs.replace(rig, break_even=BreakEven()))
    assert at.account.hand.trade.plan.rig.break_even == BreakEven()


def test_across_is_measured_once_a_minute_and_only_where_bars_decide(at):
    at.model.measure()
    assert at.account.measured == []
    at.plan(msgspec.structs.replace(at.model.planning.draft, stop="3 bars"))
    at.model.measure()
    at.model.measure()
    assert len(at.account.measured) == 1
    at.account.hand.now += MINUTE
    at.account.hand.quote(61230, 61242)
    at.look()
    at.model.measure()
    assert len(at.account.measured) == 2


def test_what_can_be_done_is_offered_for_the_trade_and_for_those_that_are_marked(at):
    assert [one.text for one in at.model.actions(())] == [
        one.text for one in of_many(at.account.snapshot)
    ]
    trade = at.opened()
    texts = [one.text for one in at.model.actions_of(trade.id)]
    assert any("Close" in text for text in texts)
    assert at.model.actions_of("nobody") == []
    assert at.model.actions_of_marked((trade.id, "nobody"))
    action = next(
        one for one in at.model.actions_of(trade.id) if one.text.startswith("Close") and one.makes
    )
    at.model.carry_out(action)
    assert isinstance(at.account.asked[-1], ev.CloseTrade)


def test_an_instrument_that_is_gone_leaves_its_place_to_another_whose_plan_must_be_chosen_first(at):
    other = pair(symbol="NZD/SEK", quote="CHF")
    at.account.hand.do(ev.InstrumentsChanged, instruments=(other,), spans={})
    at.account.hand.do(
        ev.Quote, symbol="NZD/SEK", bid=61230, ask=61242, high_bid=61230, low_ask=61242
    )
    at.look()
    assert at.model.symbol == "NZD/SEK"
    assert f"{SYMBOL} is not traded any more" in at.model.planning.unseen
    assert not at.model.planning.may_be_placed
    at.model.planning.unseen = ""  # somebody has chosen it
    at.look()
    assert at.model.planning.unseen == ""


def test_the_first_instrument_is_the_one_shown_last_else_one_with_an_open_trade():
    assert At(Shown(symbol="Tin Z")).model.symbol == SYMBOL  # there is none of that name
    at = At(Shown(spans={SYMBOL: 7 * MINUTE}))
    assert at.model.span == 15 * MINUTE  # bars of seven minutes there are none
    hand = at.account.hand
    hand.place(entry=EntryRule("limit", atr=1.0))
    again = HelmModel(at.account, Shown(), Planning())
    assert again.take(at.account.snapshot) == SYMBOL
    again.take_up(SYMBOL)
    assert again.selected == hand.trade.id
