"""Whatever is asked and told, in whatever order, the engine raises nothing, and what it sends can
be."""

import msgspec
from hypothesis import given, settings
from hypothesis import strategies as st

from anybody import Anybody
from byhand import of
from hawser.engine import commands as cm
from hawser.engine.engine import Engine


@settings(max_examples=150, deadline=None)
@given(st.integers(0, 10**9))
def test_whatever_is_asked_and_told_the_engine_goes_on_and_sends_what_can_be(seed):
    anybody = Anybody(seed)
    for _ in range(120):
        anybody.act()
    hand = anybody.hand
    for one in of(hand.all, cm.Submit) + of(hand.all, cm.Amend):
        assert one.steps > 0
        assert one.level is None or one.level > 0
    # the engine changed none of them
    assert [msgspec.msgpack.encode(event) for event in hand.events] == hand.written
    again = Engine()
    replayed = [command for event in hand.events for command in again.handle(event)]  # type: ignore[arg-type]
    assert replayed == hand.all
    assert msgspec.msgpack.encode(again.state) == msgspec.msgpack.encode(hand.engine.state)
