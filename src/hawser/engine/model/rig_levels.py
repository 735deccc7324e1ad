"""A trade's rig laid on it: its rules as levels and excursions, by the same functions as a
rehearsal's. Pure reads."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import NamedTuple

import numpy as np

from hawser.core import figures as fg
from hawser.core.errors import Refused
from hawser.core.fx import convert
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.core.plan import Plan
from hawser.core.rig import Rig
from hawser.core.rig_numbers import money_of, setup_of
from hawser.core.rules import trade_levels
from hawser.core.rules.bar_close import begun
from hawser.core.rules.inside_bar import NO_LEVEL
from hawser.core.rules.rounding import floor_steps
from hawser.core.rules.targets import steps_through
from hawser.core.rules.trade_levels import Begins
from hawser.engine.model.state import EngineState, TargetLine, Trade

_setup = lru_cache(maxsize=1024)(setup_of)


def setup_for(plan: Plan, instrument: Instrument) -> trade_levels.Setup:
    """The plan's rules as numbers."""
    return _setup(plan.tended, plan.size, instrument)


class Laid(NamedTuple):
    """The rules of one trade: distances and levels in ticks; where the steps act, and lead."""

    rules: trade_levels.Rules
    step_at: Array
    step_to: Array


def target_parts(trade: Trade, total: int) -> dict[int, int]:
    """What each target takes of a position of `total` steps, by number; merged ones take 0."""
    parts, share, taken = {}, 0.0, 0
    for line in trade.targets:
        share += line.share
        parts[line.number] = steps_through(share, total) - taken
        taken += parts[line.number]
    return parts


def loss_parts(trade: Trade) -> dict[int, int]:
    """What each loss step takes of the original quantity, by number."""
    return {line.number: floor_steps(line.share * trade.entered) for line in trade.losses}


def loss_lines(
    plan: Plan, instrument: Instrument, ref: int, r_ticks: int
) -> tuple[TargetLine, ...]:
    """The loss steps of a plan's rig from an entry at `ref`."""
    if plan.rig is None or not plan.rig.loss_step:
        return ()
    levels, parts = np.empty((2, len(plan.rig.loss_step)), np.int64)
    trade_levels.lay_losses(
        setup_for(plan, instrument),
        plan.side,
        ref=ref,
        r_ticks=r_ticks,
        steps=0,
        levels=levels,
        parts=parts,
    )
    return tuple(
        TargetLine(number, level, rule.share, rule=number)
        for number, (rule, level) in enumerate(
            zip(plan.rig.loss_step, levels.tolist(), strict=True), start=1
        )
    )


def lay(state: EngineState, trade: Trade) -> Laid:
    """The rules of a trade, at the rates of this moment; what costs nobody can tell without a rate
    is left out."""
    instrument, account = state.instruments[trade.symbol], state.account
    assert account is not None
    setup = setup_for(trade.plan, instrument)
    try:
        fx = convert(instrument.quote, account.currency, state.current_rates())
    except Refused:
        fx = math.nan
    money = money_of(account, instrument, fx)
    atr = math.nan if trade.entry.atr is None else trade.entry.atr / instrument.tick_size
    parts = np.zeros(len(trade.plan.targets), np.int64)
    of = target_parts(trade, trade.entered)
    for line in trade.targets:
        if line.rule:
            parts[line.rule - 1] = of[line.number]
    equity = trade.entry.equity or state.equity
    rules = trade_levels.lay_rules(
        setup,
        money,
        side=trade.side,
        ref=trade.ref,
        r_ticks=trade.r_ticks,
        steps=max(1, trade.original),
        parts=parts,
        cash=float(equity),
    )
    if math.isnan(fx) and setup.even.costs:
        rules = rules._replace(even=rules.even._replace(level=NO_LEVEL))
    step_at, step_to = np.empty((2, len(trade.plan.tended.step)), np.int64)
    trade_levels.lay_steps(
        setup, trade.side, ref=trade.ref, r_ticks=trade.r_ticks, atr=atr, at=step_at, to=step_to
    )
    return Laid(rules, step_at, step_to)


def ready(trade: Trade) -> int:
    """The rig's targets that have filled, as bits by their number in the rig; of a ladder its one
    target, where that has closed what was held before a rung filled."""
    if trade.plan.tended.ladder is not None:
        return int(any(line.whole for line in trade.targets)) << 1
    parts, bits = target_parts(trade, trade.entered), 0
    for line in trade.targets:
        if line.rule and 0 < parts[line.number] <= line.filled:
            bits |= 1 << line.rule
    return bits


def awaited(trade: Trade, target: int) -> TargetLine | None:
    """The line that target `target` of the trade's rig is; None where there is none. Its number is
    not the rig's where another rig was put on the trade after a target had filled."""
    if trade.plan.tended.ladder is not None:
        return next(iter(trade.targets), None) if target == 1 else None
    return next((line for line in trade.targets if line.rule == target), None)


class Waiting(NamedTuple):
    """A rule that has not acted yet: where it will (exit-side ticks, 0: not at a price), what it
    does, and where in words."""

    level: int
    does: str
    where: str = ""

    @property
    def text(self) -> str:
        return f"{self.does} {self.where}".strip()


def waiting(state: EngineState, trade: Trade) -> list[Waiting]:
    """The rules of a trade that are still to act, in the rig's order."""
    rig, price = trade.plan.tended, state.instruments[trade.symbol].price
    if not _has_rules(rig):
        return []
    laid, found = lay(state, trade), []
    rules, bits = laid.rules, ready(trade)
    excursion = trade.side * (trade.progress.best_exit - trade.ref)

    def at(begins: Begins, effect: str) -> None:
        if begun(begins, excursion, bits):
            return
        line = awaited(trade, begins.target) if begins.target else None
        if begins.target:
            level = line.level if line is not None else 0
        else:
            level = trade.ref + trade.side * begins.excursion
        if level:
            found.append(
                Waiting(level, effect, f"at target {line.number}" if line else f"at {price(level)}")
            )
        else:
            found.append(Waiting(0, effect, "never: its target is gone"))

    if (
        rig.break_even is not None
        and rules.even.level != NO_LEVEL
        and trade.side * (rules.even.level - trade.stop) > 0
    ):
        at(rules.even.begins, f"break-even to {price(rules.even.level)}")
    for number, (reach, to) in enumerate(
        zip(laid.step_at.tolist(), laid.step_to.tolist(), strict=True), start=1
    ):
        if trade.side * (to - trade.stop) > 0 and to > 0:
            at(Begins(reach, 0), f"step {number} to {price(to)}")
    for rung in trade.ladder.rungs if not trade.leave else ():
        if rung.filled < rung.steps:
            qty = state.instruments[trade.symbol].qty(rung.steps - rung.filled)
            found.append(
                Waiting(rung.level, f"rung {rung.number} at {price(rung.level)}: {qty} more")
            )
    if rig.trail is not None:
        at(rules.trail_begins, "trail begins")
    parts = loss_parts(trade)
    for line in trade.losses:
        if line.filled < parts[line.number] and trade.side * (line.level - trade.stop) > 0:
            text = (
                f"loss step {line.number} at {price(line.level)}: "
                f"{fg.percent(100 * line.share, 0)} out"
            )
            found.append(Waiting(line.level, text))
    if rules.time_bars:
        left = max(0, rules.time_bars - trade.progress.bars)
        found.append(Waiting(0, f"time exit in {fg.counted(left, 'bar')}"))
    timed = rig.time_exit
    if timed is not None and (timed.session_end or timed.before_weekend):
        found.append(
            Waiting(0, f"out before the {'session' if timed.session_end else 'week'} ends")
        )
    return found


def _has_rules(rig: Rig) -> bool:
    return any((rig.break_even, rig.step, rig.trail, rig.loss_step, rig.time_exit, rig.ladder))
