"""A kind of guard that counts is one class: made here, the engine, the Guards station and the
rehearsal all know it, and no other file does. For a policy's file it needs its line in
`core/guards/declared.py` as well. A rehearsal counts what its compiled loop knows (`limits.py`).
"""

from __future__ import annotations

from decimal import Decimal
from typing import Annotated

import numpy as np
from test_one_more_filter import PIER

from byhand import SYMBOL, ByHand, plan
from hawser.core import figures as fg
from hawser.core.account import Account, Costs, SizeRule
from hawser.core.bars import Bars
from hawser.core.clock import MINUTE
from hawser.core.field_help import help_text, keys_of
from hawser.core.guards import declared as dc
from hawser.core.guards.counting.base import (
    CountFigures,
    EndedTrade,
    Facts,
    RehearsedLimits,
    Stop,
    Switch,
)
from hawser.core.guards.limits import STREAK, full, losses_in_a_row
from hawser.core.guards.looseness import loosened
from hawser.core.guards.memory import GuardMemory
from hawser.core.levels import StopRule
from hawser.core.rig import Rig
from hawser.core.rules.inside_bar import PESSIMISTIC
from hawser.engine import events as ev
from hawser.engine.clearance.entries import entry_verdict
from hawser.rehearsal.run import Rehearsal, SignalColumns
from hawser.rehearsal.watch import HistoryPolicy
from hawser.service.views.guard_picture import picture


class BigLossSwitch(Switch, frozen=True, kw_only=True, tag="big_losses"):
    KIND = "big losses"
    SAYS = "stop after so many losing trades, each of some size"
    FIRST = {"losses": 2}
    LOOSER = {"losses": 1}
    REHEARSED = STREAK

    losses: Annotated[int, help_text("losing trades", "trades")]

    def trade_ended(self, memory: GuardMemory, now: int, trade: EndedTrade) -> Stop | None:
        memory.count = int(losses_in_a_row(memory.count, trade.net))
        lost = full(memory.count, self.losses)
        return Stop(f"{memory.count} losses, the last {fg.r(trade.r)}") if lost else None

    def figures(self, memory: GuardMemory, facts: Facts) -> CountFigures:
        return CountFigures(memory.count, 0, self.losses, lambda value: f"{value:g}", "big losses")

    def rehearsed(self) -> RehearsedLimits:
        return RehearsedLimits(most=self.losses)


ENOUGH = BigLossSwitch(name="Enough", losses=1, then=("cancel",))


def test_the_engine_counts_by_it_and_the_station_shows_it():
    hand = ByHand()
    hand.do(ev.ChangeGuards, ask_id="G", guards=dc.Guards(guard=(ENOUGH,)))
    hand.protect()
    stop = hand.order("stop")
    assert not entry_verdict(hand.engine.state, SYMBOL, 1)
    told = hand.fill(stop.id, stop.steps, hand.trade.stop)
    assert any("Enough" in getattr(one, "text", "") for one in told)
    assert [one.code for one in entry_verdict(hand.engine.state, SYMBOL, 1)] == ["latched"]
    trades = len(hand.engine.state.trades)
    hand.do(ev.PlaceTrade, ask_id="P", plan=plan())
    assert len(hand.engine.state.trades) == trades
    [view] = [one for one in picture(hand.engine.state, SYMBOL).views if one.name == "Enough"]
    assert (view.now, view.limit) == ("1", "1")
    assert "1 losses, the last" in view.closed.text


def test_a_rehearsal_is_guarded_by_it():
    """A falling market and a buy at every bar: after one loss there is no further trade."""
    n = 12
    close = 1000.0 - 10.0 * np.arange(n)
    bars = Bars(
        np.arange(n, dtype=np.int64) * MINUTE, close, close + 1, close - 9, close - 8, np.zeros(n)
    )
    account = Account(
        currency="CHF", equity=10_000.0, size=SizeRule("fixed", qty=Decimal(10)), costs=Costs()
    )
    rig, signals = (
        Rig(stop=StopRule(ticks=15.0)),
        SignalColumns(np.ones(n, np.int8), np.zeros(n, np.int8)),
    )

    def trades(*guards: dc.Guard) -> int:
        policy = HistoryPolicy(dc.Guards(guard=guards))
        return len(Rehearsal(bars, signals, PIER, account, rig, policy).run(PESSIMISTIC).trades)

    assert trades() > 2
    assert trades(ENOUGH) == 1


def test_its_form_and_what_loosens_it_follow_from_its_keys():
    assert [key.help for key in keys_of(BigLossSwitch) if key.path == "losses"] == ["losing trades"]
    wider = BigLossSwitch(name="Enough", losses=2, then=("cancel",))
    assert loosened(ENOUGH, wider) == ["losses"]
    assert not loosened(wider, ENOUGH)
    assert BigLossSwitch(name="new", **BigLossSwitch.FIRST).losses == 2
