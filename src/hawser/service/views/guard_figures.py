"""The figures of guards that count, for the Guards station: what each has counted, against what. A
filter's are its own (`core/guards/filters/`)."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

from hawser.core import figures as fg
from hawser.core.clock import MINUTE, SECOND
from hawser.core.guards import declared as dc
from hawser.core.heat import outcome_at_stop
from hawser.engine.clearance.guards import about, silent_since, whole_account
from hawser.engine.guards.memory import counted_within
from hawser.engine.guards.money import result_of
from hawser.engine.model.exposure import Valuation
from hawser.engine.model.state import EngineState, Memory

# used, at stake, limit, as text, what it watches
Figures = tuple[float, float, float, Callable[[float], str], str]


def counted_figures(
    state: EngineState, guard: dc.AnyGuard, subject: str, memory: Memory
) -> Figures:
    """What a guard that counts has counted, against what."""
    for kind, figures in _FIGURES.items():
        if isinstance(guard, kind):
            return figures(state, guard, subject, memory)
    raise AssertionError("unreachable: every kind that counts is listed")


def _at_stake(state: EngineState, guard: dc.Guard, subject: str) -> float:
    """What is lost from now on if every stop of what it watches is hit, money."""
    values, total = Valuation(state), 0.0
    for trade in state.live():
        if trade.open_steps and about(guard, subject, trade):
            total += max(
                0.0,
                values.floating(trade) - outcome_at_stop(values.stake(trade)) - trade.commission,
            )
    return total


def _loss(state: EngineState, guard: dc.LossSwitch, subject: str, memory: Memory) -> Figures:
    lost = max(0.0, -result_of(state, guard, subject, memory, Valuation(state)))
    return _money_parts(state, guard, subject, lost, memory.base, f"loss this {guard.period}")


def _drawdown(
    state: EngineState, guard: dc.DrawdownSwitch, subject: str, memory: Memory
) -> Figures:
    return _money_parts(
        state,
        guard,
        subject,
        max(0.0, memory.high - state.equity),
        memory.high,
        "fall from its highest",
    )


def _money_parts(
    state: EngineState,
    guard: dc.LossSwitch | dc.DrawdownSwitch,
    subject: str,
    lost: float,
    base: float,
    text: str,
) -> Figures:
    """A loss in percent where that limit is the nearer one, else in money."""
    stake = _at_stake(state, guard, subject)
    currency = state.account.currency if state.account else ""
    whose = (
        "equity"
        if whole_account(guard)
        else (subject or ", ".join(guard.instruments or guard.sources))
    )
    of_base = guard.percent * base / 100.0 if guard.percent is not None else math.inf
    money = guard.money if guard.money is not None else math.inf
    if of_base <= money and base > 0:
        part = 100.0 / base
        return (
            lost * part,
            stake * part,
            guard.percent or 0.0,
            lambda value: fg.percent(value, 2),
            f"{text}, {whose}",
        )
    return (
        lost,
        stake,
        guard.money or 0.0,
        lambda value: fg.money(value, currency),
        f"{text}, {whose}",
    )


def _floor(state: EngineState, guard: dc.FloorSwitch, subject: str, memory: Memory) -> Figures:
    room = max(1.0, memory.high - guard.money)
    currency = state.account.currency if state.account else ""
    used = max(0.0, memory.high - state.equity)
    text = f"equity above {fg.money(guard.money, currency)}, its highest less the floor"
    return (
        used,
        _at_stake(state, guard, subject),
        room,
        lambda value: fg.money(value, currency),
        text,
    )


def _whole(value: float) -> str:
    return fg.number(value, 0)


def _streak(state: EngineState, guard: dc.StreakSwitch, subject: str, memory: Memory) -> Figures:
    live = sum(trade.open_steps > 0 and about(guard, subject, trade) for trade in state.live())
    return memory.count, live, guard.losses, _whole, "losing trades in a row"


def _count(state: EngineState, guard: dc.CountGuard, subject: str, memory: Memory) -> Figures:
    count = memory.count if state.now < memory.end else 0
    return count, 0, guard.most, _whole, f"entries this {guard.period}"


def _cool(state: EngineState, guard: dc.CoolDownGuard, subject: str, memory: Memory) -> Figures:
    left = max(0, memory.until - state.now) / MINUTE
    text = f"after a loss of {guard.from_r:g} R or more" if guard.from_r else "after a loss"
    return left, 0, guard.minutes, lambda value: f"{value:.0f} min", text


def _rejects(state: EngineState, guard: dc.RejectSwitch, subject: str, memory: Memory) -> Figures:
    used = len(counted_within(memory, state.now, round(guard.window_min * MINUTE)))
    return used, 0, guard.most, _whole, f"orders refused in {guard.window_min:g} min"


def _rate(state: EngineState, guard: dc.RateSwitch, subject: str, memory: Memory) -> Figures:
    used = len(counted_within(memory, state.now, round(guard.window_s * SECOND)))
    return used, 0, guard.most, _whole, f"new orders in {guard.window_s:g} s"


def _silence(state: EngineState, guard: dc.SilenceSwitch, subject: str, memory: Memory) -> Figures:
    times = silent_since(state, guard)
    since = times.get(subject, min(times.values(), default=state.now))
    of = (
        "the newest quote of any open market"
        if guard.per == "account"
        else "the oldest quote of an open market"
    )
    watches = f"the last quote of {subject}" if subject else of
    return (state.now - since) / SECOND, 0, guard.seconds, lambda value: f"{value:.0f} s", watches


def _slippage(
    state: EngineState, guard: dc.SlippageSwitch, subject: str, memory: Memory
) -> Figures:
    return 0, 0, guard.ticks, lambda value: f"{value:g} t", "a fill worse than expected"


_FIGURES: dict[type, Callable[[EngineState, Any, str, Memory], Figures]] = {
    dc.LossSwitch: _loss,
    dc.DrawdownSwitch: _drawdown,
    dc.FloorSwitch: _floor,
    dc.StreakSwitch: _streak,
    dc.CountGuard: _count,
    dc.CoolDownGuard: _cool,
    dc.RejectSwitch: _rejects,
    dc.RateSwitch: _rate,
    dc.SilenceSwitch: _silence,
    dc.SlippageSwitch: _slippage,
}
