"""A rig with a timeframe of its own on a trade that was planned on other bars."""

from __future__ import annotations

import msgspec

from calmworld import PLAN, World
from hawser.core.clock import MINUTE
from hawser.core.levels import StopRule
from hawser.core.rig import Rig, TimeExit, Trail
from hawser.desk.models.planning import plan_of
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.model import reasons as rs


def moves(world: World) -> list[int]:
    """The minutes at which the rig moved the stop."""
    return [
        event.time // MINUTE
        for event, commands in world.entries
        for command in commands
        if isinstance(command, cm.Amend) and command.code == "trail"
    ]


def test_it_tends_at_the_closes_of_its_own_bars():
    rig = Rig(
        name="Slow",
        stop=StopRule(ticks=400.0),
        trail=Trail(ticks=300.0, anchor="close"),
        time_exit=TimeExit(bars=6),
        timeframe="5m",
    )
    world = World()
    wide = msgspec.structs.replace(PLAN, stop=StopRule(ticks=900.0), targets=())
    plan = plan_of(rig, wide)
    assert (plan.timeframe_ns, wide.timeframe_ns) == (5 * MINUTE, MINUTE)
    world.session.ask(ev.PlaceTrade(time=world.venue.now, ask_id="A1", plan=wide))
    world.run(5)
    (trade,) = world.state.live()
    began = world.venue.now
    world.session.ask(ev.ChangeRules(time=world.venue.now, ask_id="A2", trade=trade.id, plan=plan))
    world.run(45 * 60)
    assert not world.faults
    told = [minute for minute in moves(world) if minute * MINUTE >= began]
    assert told
    assert all(minute % 5 == 0 for minute in told)
    ended = world.state.trades[trade.id]
    assert ended.end is not None
    assert ended.end.code in rs.BY_TIME
    # the sixth close of its own bars, that of the entry's being the first
    assert ended.ended // MINUTE == trade.opened // (5 * MINUTE) * 5 + 30
