"""What a person asks for: place, move, close, halt, re-arm. Each is answered, and a refusal says why."""

from __future__ import annotations

from decimal import Decimal

import msgspec

from hawser.core import figures as fg
from hawser.core.errors import Refused
from hawser.core.levels import MAX_TARGETS, TargetRule
from hawser.core.plan import Plan
from hawser.core.rigwords import sentence
from hawser.core.rules.moving import even_level
from hawser.core.rules.rounding import floor_steps
from hawser.engine import events as ev
from hawser.engine import reasons as rs
from hawser.engine import states
from hawser.engine.anchoring import equip, fitted, held_or_resting, set_stop
from hawser.engine.covering import MOST_PARTS, most_steps
from hawser.engine.entering import (
    check_rig,
    is_pending,
    latest_plan,
    no_ladder,
    pinned_stop,
    pinned_target,
    replan,
)
from hawser.engine.exposure import Valuation
from hawser.engine.following import at_a_price
from hawser.engine.guardmemory import take_policy
from hawser.engine.protecting import converge, leave
from hawser.engine.reasons import Reason
from hawser.engine.requests import Desk
from hawser.engine.state import EngineState, Halted, Marks, TargetLine, Trade
from hawser.engine.tending import want_hours


def move_stop(desk: Desk, ask: ev.MoveStop) -> None:
    """Move a stop by hand. Looser only where it is confirmed and the policy lets it."""
    trade = _open_trade(desk, ask.trade, ask.ask)
    if trade is None:
        return
    state, instrument = desk.state, desk.state.instruments[trade.symbol]
    if is_pending(state, trade):
        _pin_stop(desk, trade, ask)
        return
    problem = stop_problem(state, trade, ask.level)
    if problem:
        desk.tell("refused", "stop_refused", problem, trade, ask.ask)
        return
    if ask.level == trade.stop:
        return
    looser = trade.side * (ask.level - trade.stop) < 0
    assert state.account is not None
    if looser and state.account.policy.never_widen:
        desk.tell("refused", "never_widen", "The policy never widens a stop", trade, ask.ask)
        return
    if looser and not ask.widen:
        desk.tell("refused", "widen_unconfirmed", "Widening a stop needs to be confirmed", trade, ask.ask)
        return
    word = "widened by hand" if looser else "by hand"
    if looser:
        trade.backstop = 0  # it goes out with the stop
    why = f"Stop {instrument.price(trade.stop)} \u2192 {instrument.price(ask.level)}: {word}"
    set_stop(desk, trade, ask.level, why, rs.HAND)
    converge(desk, trade)


def _pin_stop(desk: Desk, trade: Trade, ask: ev.MoveStop) -> None:
    """The stop of an entry that still waits: its plan changes."""
    instrument = desk.state.instruments[trade.symbol]
    if ask.level <= 0:
        problem = f"A stop at {instrument.price(ask.level)} is not a price"
        desk.tell("refused", "stop_refused", problem, trade, ask.ask)
        return
    try:
        replan(desk, trade, pinned_stop(trade, ask.level, instrument), ask.ask)
    except Refused as refusal:
        desk.tell("refused", refusal.code, f"Not moved: {refusal.sentence}", trade, ask.ask)


def stop_problem(state: EngineState, trade: Trade, level: int) -> str:
    """Why a stop may not be moved to `level` now; empty where it may."""
    instrument, market = state.instruments[trade.symbol], state.markets[trade.symbol]
    exit_side, least = market.exit_side(trade.side), max(1, instrument.min_stop_ticks)
    shown = instrument.price(level)
    if level <= 0:
        return f"A stop at {shown} is not a price"
    if trade.side * (exit_side - level) <= 0:
        side = "below" if trade.side > 0 else "above"
        return f"A stop at {shown} is not {side} the market at {instrument.price(exit_side)}"
    if abs(exit_side - level) < least:
        return f"A stop at {shown} is {abs(exit_side - level)} ticks from the market; the venue wants {least}"
    return ""


def move_target(desk: Desk, ask: ev.MoveTarget) -> None:
    trade = _open_trade(desk, ask.trade, ask.ask)
    if trade is None:
        return
    line = next((line for line in trade.targets if line.number == ask.number), None)
    if line is not None and is_pending(desk.state, trade):
        plan = pinned_target(trade, ask.number, ask.level, desk.state.instruments[trade.symbol])
        if plan is None:
            desk.tell("refused", "target_refused", f"There is no target {ask.number} any more", trade, ask.ask)
        else:
            replan(desk, trade, plan, ask.ask)
        return
    problem = target_problem(desk.state, trade, ask.level)
    if line is None or (trade.entered and line.filled >= trade.entered):
        problem = f"There is no target {ask.number} left"
    if problem or line is None:
        desk.tell("refused", "target_refused", problem, trade, ask.ask)
        return
    line.level, line.retry_at = ask.level, 0
    converge(desk, trade)


def target_problem(state: EngineState, trade: Trade, level: int) -> str:
    """Why a target may not be moved to `level` now; empty where it may."""
    instrument, market = state.instruments[trade.symbol], state.markets[trade.symbol]
    exit_side, least = market.exit_side(trade.side), max(1, instrument.min_stop_ticks)
    if level <= 0 or trade.side * (level - exit_side) < least:
        return (
            f"A target at {instrument.price(level)} is not at least {least} ticks beyond the market at "
            f"{instrument.price(exit_side)}"
        )
    return ""


def set_target(desk: Desk, ask: ev.SetTarget) -> None:
    """Set, add or take away one target of a trade."""
    trade = _open_trade(desk, ask.trade, ask.ask)
    if trade is None:
        return
    if is_pending(desk.state, trade):
        _plan_target(desk, trade, ask)
        return
    line = next((line for line in trade.targets if line.number == ask.number), None)
    problem = _set_problem(desk.state, trade, line, ask)
    if problem:
        desk.tell("refused", "target_refused", problem, trade, ask.ask)
        return
    if line is None:
        number = max((line.number for line in trade.targets), default=0) + 1
        trade.targets.append(TargetLine(number, ask.level, ask.share))
    elif ask.share:
        line.level, line.share, line.retry_at = ask.level, ask.share, 0
    elif line.filled:
        line.share = line.filled / trade.entered
    else:
        trade.targets.remove(line)
    converge(desk, trade)


def _set_problem(state: EngineState, trade: Trade, line: TargetLine | None, ask: ev.SetTarget) -> str:
    if line is None and (ask.number or not ask.share):
        return f"There is no target {ask.number}"
    waiting = [one for one in trade.targets if one.share * trade.entered > one.filled]
    if line is None and len(waiting) >= MAX_TARGETS:
        return f"A trade has at most {MAX_TARGETS} targets"
    share = sum(one.share for one in trade.targets if one is not line) + ask.share
    if share > 1 + 1e-9:
        return f"The targets would take {fg.percent(100 * share, 0)} of the position"
    return target_problem(state, trade, ask.level) if ask.share else ""


def _plan_target(desk: Desk, trade: Trade, ask: ev.SetTarget) -> None:
    """The same for an entry that still waits: its plan changes."""
    plan, instrument = latest_plan(trade), desk.state.instruments[trade.symbol]
    if plan.rig is not None and plan.rig.ladder is not None:
        desk.tell("refused", "target_refused", "A ladder has one target: it can be moved, not added to", trade, ask.ask)
        return
    rules = list(plan.targets)
    rule = TargetRule(share=ask.share, price=Decimal(instrument.price(ask.level))) if ask.share else None
    if ask.number > len(rules) or (not ask.number and rule is None):
        desk.tell("refused", "target_refused", f"There is no target {ask.number}", trade, ask.ask)
        return
    if not ask.number and rule is not None:
        rules.append(rule)
    elif rule is None:
        del rules[ask.number - 1]
    else:
        rules[ask.number - 1] = rule
    share = sum(one.share for one in rules)
    if share > 1 + 1e-9 or len(rules) > MAX_TARGETS:
        problem = (
            f"At most {MAX_TARGETS} targets that take at most all; these {len(rules)} take {fg.percent(100 * share, 0)}"
        )
        desk.tell("refused", "target_refused", problem, trade, ask.ask)
        return
    replan(desk, trade, msgspec.structs.replace(plan, targets=tuple(rules)), ask.ask)


def reequip(desk: Desk, ask: ev.Reequip) -> None:
    """Put another plan's rules on a trade."""
    trade = _open_trade(desk, ask.trade, ask.ask)
    if trade is None:
        return
    plan = ask.plan
    if trade.leave:
        desk.tell("refused", "leaving", "The trade is being closed", trade, ask.ask)
        return
    try:
        if is_pending(desk.state, trade):
            replan(desk, trade, fitted(trade, plan), ask.ask, Marks(ask.basis, ask.atr))
            return
        no_ladder(plan)
        check_rig(plan, desk.state.instruments[trade.symbol], desk.state.spans.get(trade.symbol, ()))
        equip(desk, trade, plan, Marks(ask.basis, ask.atr))
    except Refused as refusal:  # before anything was changed
        desk.tell("refused", refusal.code, f"Not put on the trade: {refusal.sentence}", trade, ask.ask)
        return
    desk.tell("info", "equipped", f"Tended by another plan from now on: {_rules(plan)}", trade, ask.ask)
    want_hours(desk, trade)
    converge(desk, trade)


def _rules(plan: Plan) -> str:
    name = f"{plan.rig.name}: " if plan.rig is not None and plan.rig.name else ""
    held = "lines held here" if plan.held else "lines at the venue"
    return f"{name}{sentence(plan.tended)} {held.capitalize()}."


def hold_lines(desk: Desk, ask: ev.HoldLines) -> None:
    """Keep a trade's lines here, or let them rest at the venue."""
    trade = _open_trade(desk, ask.trade, ask.ask)
    if trade is None:
        return
    if (trade.plan.held is None) == (ask.held is None):
        where = "held here" if trade.held else "at the venue"
        desk.tell("refused", "held_already", f"The lines are {where} already", trade, ask.ask)
        return
    trade.plan = msgspec.structs.replace(trade.plan, held=ask.held)
    held_or_resting(desk, trade)
    price = desk.state.instruments[trade.symbol].price
    if trade.held:
        text = f"Lines held here, backstop {price(trade.backstop)} at the venue"
    else:
        text = f"Lines rest at the venue again, stop {price(trade.stop)}"
    desk.tell("info", "lines_held" if trade.held else "lines_rest", text, trade, ask.ask)
    converge(desk, trade)


def close_trade(desk: Desk, ask: ev.CloseTrade) -> None:
    trade = _open_trade(desk, ask.trade, ask.ask)
    if trade is None:
        return
    if ask.entry_only and not is_pending(desk.state, trade):
        _take_back_the_rest(desk, trade, ask.ask)
        return
    if ask.share == 1.0 or is_pending(desk.state, trade):
        _close(desk, trade, Reason(rs.CANCELLED_BY_HAND if is_pending(desk.state, trade) else rs.BY_HAND))
        return
    steps, most = floor_steps(ask.share * trade.open_steps), most_steps(desk, trade)
    problem = _share_problem(desk, trade, ask.share, steps, most)
    if problem:
        desk.tell("refused", "share_refused", problem, trade, ask.ask)
    elif steps >= trade.open_steps:
        _close(desk, trade, Reason(rs.BY_HAND))
    else:
        for part in range(0, steps, most):
            why = f"{fg.percent(100 * ask.share, 0)} closed by hand"
            desk.submit(trade, "close", "market", min(most, steps - part), None, why)


def _take_back_the_rest(desk: Desk, trade: Trade, ask: str) -> None:
    """The entry was to be taken back, and has filled meanwhile, in part perhaps: nothing that is open is closed."""
    if any(desk.state.orders_of(trade, role) for role in ("entry", "rung")):
        trade.entry_over = True
        desk.tell("info", "rest_taken_back", "What waits of its entry is taken back: what is open stays", trade, ask)
        converge(desk, trade)
    else:
        desk.tell("refused", "not_pending", "Its entry does not wait any more: what is open stays", trade, ask)


def _share_problem(desk: Desk, trade: Trade, share: float, steps: int, most: int) -> str:
    """Why a part of a trade, `steps` of it, cannot be closed now; empty where it can."""
    if steps < 1:
        return f"{fg.percent(100 * share, 0)} of what is open is less than one step"
    if desk.state.orders_of(trade, "close"):
        return "A close is under way already"
    if not desk.state.link_up:
        return "The line to the venue is cut: nothing was sent"
    if steps > MOST_PARTS * most:
        return f"One order takes {desk.state.instruments[trade.symbol].qty(most)} at most: close a smaller part first"
    return ""


def close_some(desk: Desk, ask: ev.CloseAll) -> None:
    """Close every trade that the ask means."""
    values = Valuation(desk.state)

    def meant(trade: Trade) -> bool:
        won, waits = values.result(trade), is_pending(desk.state, trade)
        holds = {
            "all": True, "winners": won > 0, "losers": won < 0, "long": trade.side > 0, "short": trade.side < 0,
            "pending": waits,
        }  # fmt: skip
        return holds[ask.which] and ask.symbol in ("", trade.symbol)

    trades = [trade for trade in desk.state.live() if meant(trade)]
    if not trades:
        desk.tell("refused", "nothing_meant", "There is no such trade open", ask=ask.ask)
    why = Reason(rs.CANCELLED_BY_HAND) if ask.which == "pending" else Reason(rs.CLOSE_SOME, name=ask.which)
    for trade in trades:
        _close(desk, trade, why)


def close_all(desk: Desk, why: Reason) -> None:
    for trade in desk.state.live():
        _close(desk, trade, why)


def break_even_level(trade: Trade) -> int:
    """The entry as a stop: the average of its fills, rounded to the profitable side."""
    return int(even_level(trade.side, float(trade.entry_price)))


def break_even(desk: Desk, ask: ev.BreakEven) -> None:
    """The stop to the entry now, where that tightens it."""
    trade = _open_trade(desk, ask.trade, ask.ask)
    if trade is None:
        return
    if not trade.open_steps:
        desk.tell("refused", "not_open", "Nothing is open of this trade yet", trade, ask.ask)
        return
    level = break_even_level(trade)
    if trade.side * (level - trade.stop) <= 0:
        desk.tell("refused", "stop_refused", "The stop is at the entry or better already", trade, ask.ask)
        return
    move_stop(desk, ev.MoveStop(time=ask.time, ask=ask.ask, trade=trade.id, level=level))


def turn_around(desk: Desk, ask: ev.TurnAround) -> None:
    """Close, and once that is done open the other side."""
    trade = _open_trade(desk, ask.trade, ask.ask)
    if trade is None:
        return
    if is_pending(desk.state, trade):
        desk.tell("refused", "turn_refused", "Nothing is open of this trade yet", trade, ask.ask)
        return
    if at_a_price(trade.plan):
        desk.tell("refused", "turn_refused", "A stop or target at a price cannot be turned around", trade, ask.ask)
        return
    trade.turn = ask.ask
    _close(desk, trade, Reason(rs.TURNED))


def _close(desk: Desk, trade: Trade, why: Reason) -> None:
    leave(desk, trade, why)
    converge(desk, trade)


def halt(desk: Desk, ask: ev.Halt) -> None:
    """Latch first, then cancel and close everything."""
    if desk.state.halt is None:
        desk.state.halt = Halted(ask.time, ask.why)
        count = len(desk.state.live())
        text = f"Flatten & halt: {ask.why}; closing {fg.counted(count, 'trade')}, entries closed"
        desk.tell("alarm", "halted", text, ask=ask.ask)
    close_all(desk, Reason(rs.HALTED))


def rearm(desk: Desk, ask: ev.Rearm) -> None:
    if desk.state.halt is None:
        desk.tell("refused", "not_halted", "Entries are not halted", ask=ask.ask)
    elif len(ask.reason.strip()) < 3:
        desk.tell("refused", "no_reason", "Re-arming needs a reason in words", ask=ask.ask)
    else:
        desk.state.halt = None
        desk.tell("caution", "rearmed", f"Entries re-armed: {ask.reason.strip()}", ask=ask.ask)


def change_account(desk: Desk, ask: ev.ChangeAccount) -> None:
    """What a person edited holds from the next decision on; open trades keep their stops and targets."""
    old, new = desk.state.account, ask.account
    assert old is not None
    policy = take_policy(desk, old.policy, new.policy, ask.ask)
    desk.state.account = msgspec.structs.replace(
        old, size=new.size, costs=new.costs, policy=policy, rates=new.rates, days_per_year=new.days_per_year,
        name=new.name,
    )  # fmt: skip
    if old.rates != new.rates:
        desk.state.rates_read = desk.state.now
    held = desk.state.account  # what is looser waits, and is told by itself
    changed = [name for name in ("size", "costs", "policy", "rates") if getattr(old, name) != getattr(held, name)]
    what = ", ".join(changed) or "nothing"
    text = f"Account changed ({what}): holds from the next entry on, open trades keep their lines"
    desk.tell("caution", "account_changed", text, ask=ask.ask)


def _open_trade(desk: Desk, trade_id: str, ask: str) -> Trade | None:
    trade = desk.state.trades.get(trade_id)
    if trade is None or trade.state == states.ENDED:
        desk.tell("refused", "no_trade", f"Trade {trade_id} is not open", ask=ask)
        return None
    return trade
