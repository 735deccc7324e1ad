"""One trade's stop, and an entry that waits, answers coming in any order: the stop is never moved
away from where the engine was told that it rests, and in the end both rest where they were last
wanted.
"""

from __future__ import annotations

from decimal import Decimal

from hypothesis import given, settings
from hypothesis import strategies as st

from anyorder import Story, played
from hawser.core.entry import EntryRule
from hawser.engine import events as ev
from hawser.engine.model import transitions as states


class Waiting(Story):
    """An entry that waits, and a person who moves it and its stop."""

    def begin(self) -> None:
        self.stops: list[int] = []
        self.hand.place(entry=EntryRule("stop", price=Decimal("0.61500")), targets=(), trail=None)

    def wish(self) -> None:
        trade, draw = self.hand.trade, self.draw
        if draw.random() < 0.6:
            level = draw.randint(61_400, 61_700)
            self.venue.wishes.append(level)
            self.hand.do(ev.MoveEntry, ask_id=f"E{level}", trade=trade.id, level=level)
        else:
            level = draw.randint(60_600, 61_200)
            self.stops.append(level)
            self.hand.do(ev.MoveStop, ask_id=f"S{level}", trade=trade.id, level=level)

    def reach_target(self) -> None:
        pass


@settings(max_examples=150, deadline=None)
@given(st.integers(0, 10**9))
def test_a_stop_never_leaves_where_it_is_known_to_rest_and_ends_where_it_is_wanted(seed):
    story = played(seed)
    venue, hand, trade = story.venue, story.hand, story.hand.trade
    assert venue.faults == []
    assert trade.open_steps == venue.open
    stops = [
        (name, one)
        for name, one in venue.orders.items()
        if one.status == "resting" and hand.engine.state.orders[name].role == "stop"
    ]
    assert sum(one.steps - one.filled for _, one in stops) == venue.open
    for name, one in stops:
        order = hand.engine.state.orders[name]
        assert (one.level, one.steps) == (order.level, order.steps)
        assert one.level >= min([*venue.wishes[-1:], trade.cover.initial_stop]) - 4
    if venue.wishes and stops and not venue.refused and trade.state == states.PROTECTED:
        assert max(one.level for _, one in stops) >= venue.wishes[-1] - 4


@settings(max_examples=150, deadline=None)
@given(st.integers(0, 10**9))
def test_an_entry_that_waits_ends_where_it_is_wanted_with_the_size_of_its_stop(seed):
    story = played(seed, kind=Waiting)
    venue, trade = story.venue, story.hand.trade
    entry = venue.orders.get(trade.entry.order_id)
    # lost, or taken back where it could not be sized
    if entry is None or entry.status != "resting":
        assert trade.state == states.ENDED
        return
    assert trade.state == states.ENTERING
    assert (trade.entry.moving, trade.entry.then) == (None, None)
    assert (entry.level, entry.steps) == (trade.ref, trade.entry.asked_steps)
    loss = entry.steps * (abs(trade.ref - trade.stop)) * 0.01  # a step and a tick are 0.01 CHF
    assert loss <= 0.006 * 64_000 * 1.05
    if not (venue.meddled or venue.refused):
        if venue.wishes:
            assert abs(entry.level - venue.wishes[-1]) <= 12  # put elsewhere some times in a row
        if story.stops:
            assert trade.stop == story.stops[-1]
