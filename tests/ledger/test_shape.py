"""Names in the record do not hang on those of the code: what was written stays readable where a
class is renamed, and nothing is read as something else.

`tests/ledgers/shape.txt` has every field that a record of events and commands could ever have, by
the record's names. Lines are added to it (`keep_records.py shape`) and never taken away.
"""

from __future__ import annotations

import msgspec
import pytest

from hawser.core.entry import HeldRule
from hawser.engine.commands import AnyCommand, Command, StartTimer
from hawser.engine.events import AnyEvent, Event, Holdings, OrderReport, Quote
from hawser.engine.model.state import EngineState, Halted
from hawser.ledger import shape
from keep_records import SHAPE


def test_no_field_that_a_record_may_have_is_gone():
    kept = shape.read(SHAPE.read_text().rstrip("\n"))
    assert len(kept) > 300
    assert not kept - shape.record_shape(), (
        "an old ledger would not open: give the new name its old one on the wire"
    )
    assert not shape.record_shape() - kept, "run keep_records.py shape, which adds new fields"


@pytest.mark.parametrize("kinds", [AnyEvent, AnyCommand])
def test_every_event_and_command_has_a_tag_of_its_own(kinds):
    tags = [kind.__struct_config__.tag for kind in kinds.__args__]
    assert len(set(tags)) == len(tags)
    assert all(isinstance(tag, str) for tag in tags)


def test_a_class_without_a_tag_cannot_be_an_event():
    class Unnamed(Event, frozen=True):
        level: int = 0

    with pytest.raises(TypeError):
        msgspec.msgpack.Decoder(AnyEvent | Unnamed)


def test_a_renamed_class_writes_and_reads_what_its_old_name_did():
    class BestPrices(Event, frozen=True, tag="Quote"):
        symbol: str
        buy: int = msgspec.field(name="bid")
        ask: int
        high_bid: int
        low_ask: int

    class Alarm(Command, frozen=True, tag="StartTimer"):
        name: str
        at: int

    quote = Quote(time=5, symbol="X", bid=1, ask=2, high_bid=1, low_ask=2)
    body = msgspec.msgpack.encode(quote)
    again = msgspec.msgpack.decode(body, type=BestPrices)
    assert (again.buy, msgspec.msgpack.encode(again)) == (1, body)
    assert shape.wire_name(BestPrices) == "Quote"
    assert shape.wire_name(Alarm) == shape.wire_name(StartTimer) == "StartTimer"


def test_a_renamed_record_within_one_keeps_its_name(monkeypatch):
    class AtTheVenue(msgspec.Struct, frozen=True):
        order: str
        status: str
        level: int
        steps: int

    monkeypatch.setitem(shape.NAMES, "AtTheVenue", "Known")
    assert shape.lines_of(AtTheVenue) < shape.lines_of(OrderReport)


def test_two_classes_of_one_name_are_both_in_the_shape():
    """A stop to the entry is a rig's rule and something a person asks for."""
    named = {line.partition(":")[0] for line in shape.record_shape()}
    assert {"BreakEven.trade", "BreakEven.cover_costs"} <= named


@pytest.mark.parametrize(
    ("item", "old", "new"),
    [
        (EngineState(halt=Halted(1, "by hand"), now=5), "halt", "stopped"),
        (Holdings(time=1, token=2, asked=(), resting=(), positions=(), as_of=7), "as_of", "at"),
        (HeldRule(backstop_r=1.5, settle_ms=5), "settle_ms", "wait_ms"),
    ],
    ids=["state", "event", "plan"],
)
def test_a_field_of_another_name_is_refused_and_not_left_out(item, old, new):
    body = msgspec.msgpack.decode(msgspec.msgpack.encode(item))
    body[new] = body.pop(old)
    with pytest.raises(msgspec.ValidationError, match=new):
        msgspec.msgpack.decode(msgspec.msgpack.encode(body), type=type(item))
