"""A kind of filter is one class: made here, the engine, the Guards station and the rehearsal all
know it, and no other file does. For a policy's file it needs its line in `core/guards/declared.py`
as well.
"""

from __future__ import annotations

from decimal import Decimal
from typing import Annotated

import numpy as np

from byhand import SYMBOL, ByHand, plan
from hawser.core.account import Account, Costs, SizeRule
from hawser.core.bars import Bars
from hawser.core.clock import MINUTE
from hawser.core.field_help import help_text, keys_of
from hawser.core.guards import declared as dc
from hawser.core.guards.context import Closed, EntryContext
from hawser.core.guards.filters.base import PREFIX, Filter, FilterFigures
from hawser.core.guards.looseness import loosened
from hawser.core.guards.measures import measures_for
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.core.levels import StopRule
from hawser.core.rig import Rig
from hawser.core.rules.inside_bar import PESSIMISTIC
from hawser.engine import events as ev
from hawser.engine.clearance.entries import entry_verdict
from hawser.rehearsal.run import Rehearsal, SignalColumns
from hawser.rehearsal.watch import HistoryPolicy
from hawser.service.views.guard_picture import picture


class RangeGuard(Filter, frozen=True, kw_only=True, tag="range"):
    KIND = "range"
    SAYS = "no entry after a bar that is too long"
    FIRST = {"most": 1.0}
    LOOSER = {"most": 1}

    most: Annotated[float, help_text("longest bar", "price")]

    def verdict(self, context: EntryContext) -> Closed | None:
        length = context.measure(context.instrument.symbol, self.measure_key)
        return (
            Closed("range", f"the last bar is {length:g} long", 0, self.name)
            if length > self.most
            else None
        )

    @property
    def measure_key(self) -> str:
        return f"{PREFIX}range"

    def measure(self, bars: Bars, span: int) -> float:
        return float(bars.high[-1] - bars.low[-1])

    def column(self, bars: Bars, span: int) -> Array:
        return bars.high - bars.low

    def shut(self, values: Array, spread: Array, side: int) -> Array:
        return values > self.most

    def figures(self, context: EntryContext) -> FilterFigures:
        length = context.measure(context.instrument.symbol, self.measure_key)
        return FilterFigures(
            f"{length:g}",
            f"{self.most:g}",
            f"length of the last bar of {context.instrument.symbol}",
        )


CALM = RangeGuard(name="Calm bars", most=3.0, then=("cancel",))
PIER = Instrument(
    symbol="Pier",
    kind="index",
    quote="CHF",
    tick=Decimal(1),
    multiplier=1.0,
    qty_step=Decimal(1),
    qty_min=Decimal(1),
    qty_max=Decimal(1000),
    margin_rate=0.0,
    min_stop_ticks=1,
    currencies=("CHF",),
)


def bars(*ranges: float) -> Bars:
    n, half = len(ranges), np.array(ranges) / 2
    level = np.full(n, 1000.0)
    return Bars(
        np.arange(n, dtype=np.int64) * MINUTE, level, level + half, level - half, level, np.zeros(n)
    )


def test_the_engine_closes_entries_by_it_and_the_station_shows_it():
    hand = ByHand()
    hand.do(
        ev.ChangeGuards,
        ask_id="G",
        guards=dc.Guards(guard=(CALM,)),
        measures={SYMBOL: {CALM.measure_key: 2.0}},
    )
    assert not entry_verdict(hand.engine.state, SYMBOL, 1)
    [found] = measures_for(
        hand.engine.state.guards, SYMBOL, MINUTE, MINUTE, lambda _: bars(1.0, 5.0)
    ).items()
    assert found == (CALM.measure_key, 5.0)
    told = hand.do(
        ev.BarCompleted,
        symbol=SYMBOL,
        span=MINUTE,
        opened=hand.now,
        open=0.6,
        high=5.6,
        low=0.6,
        close=0.6,
        spread=12.0,
        atr=0.001,
        values=dict([found]),
    )
    assert any("Calm bars" in getattr(one, "text", "") for one in told)
    assert [one.code for one in entry_verdict(hand.engine.state, SYMBOL, 1)] == ["range"]
    hand.do(ev.PlaceTrade, ask_id="P", plan=plan())
    assert not hand.engine.state.trades
    [view] = [one for one in picture(hand.engine.state, SYMBOL).views if one.name == "Calm bars"]
    assert (view.now, view.limit, view.closed.text) == ("5", "3", "the last bar is 5 long")


def test_a_rehearsal_is_guarded_by_it():
    account = Account(
        currency="CHF", equity=10_000.0, size=SizeRule("fixed", qty=Decimal(10)), costs=Costs()
    )
    calls = np.ones(5, np.int8)
    run = Rehearsal(
        bars(1.0, 5.0, 5.0, 1.0, 1.0),
        SignalColumns(calls, np.zeros(5, np.int8)),
        PIER,
        account,
        Rig(atr_length=1, stop=StopRule(ticks=20.0)),
        HistoryPolicy(dc.Guards(guard=(CALM,))),
    ).run(PESSIMISTIC)
    assert [trade.first for trade in run.trades] == [1]  # the first: bar 0 was calm
    refused = Rehearsal(
        bars(5.0, 5.0, 1.0, 1.0, 1.0),
        SignalColumns(calls, np.zeros(5, np.int8)),
        PIER,
        account,
        Rig(atr_length=1, stop=StopRule(ticks=20.0)),
        HistoryPolicy(dc.Guards(guard=(CALM,))),
    ).run(PESSIMISTIC)
    assert [trade.first for trade in refused.trades] == [3]  # bars 0 and 1 were not


def test_its_form_and_what_loosens_it_follow_from_its_keys():
    assert [key.help for key in keys_of(RangeGuard) if key.path == "most"] == ["longest bar"]
    wider = RangeGuard(name="Calm bars", most=4.0, then=("cancel",))
    assert loosened(CALM, wider) == ["most"]
    assert not loosened(wider, CALM)
    assert RangeGuard(name="new", **RangeGuard.FIRST).most == 1.0
