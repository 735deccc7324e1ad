"""What a person asks for: place, move, close, halt, re-arm. Each is answered, and a refusal says
why."""

from __future__ import annotations

from decimal import Decimal

import msgspec

from hawser.core import figures as fg
from hawser.core.errors import Refused
from hawser.core.levels import MAX_TARGETS, TargetRule
from hawser.core.plan import Plan
from hawser.core.rig import sentence
from hawser.core.rules.rounding import floor_steps
from hawser.engine import events as ev
from hawser.engine.entries.anchoring import equip, fitted, held_or_resting, set_stop
from hawser.engine.entries.follow_on import at_a_price
from hawser.engine.entries.placing import (
    check_rig,
    is_pending,
    latest_plan,
    no_ladder,
    pinned_stop,
    pinned_target,
    replan,
)
from hawser.engine.guards.memory import take_policy
from hawser.engine.model import reasons as rs
from hawser.engine.model import transitions as states
from hawser.engine.model.exposure import Valuation
from hawser.engine.model.reasons import Reason
from hawser.engine.model.state import EngineState, EntryValues, Halted, TargetLine, Trade
from hawser.engine.outbox import Outbox
from hawser.engine.protection.converge import converge, leave
from hawser.engine.protection.covering import MOST_PARTS, most_steps
from hawser.engine.rigs.tending import want_hours


def move_stop(outbox: Outbox, ask: ev.MoveStop) -> None:
    """Move a stop by hand. Looser only where it is confirmed and the policy lets it."""
    trade = _open_trade(outbox, ask.trade, ask.ask_id)
    if trade is None:
        return
    state, instrument = outbox.state, outbox.state.instruments[trade.symbol]
    if is_pending(state, trade):
        _pin_stop(outbox, trade, ask)
        return
    problem = stop_problem(state, trade, ask.level)
    if problem:
        outbox.tell("refused", "stop_refused", problem, trade, ask.ask_id)
        return
    if ask.level == trade.stop:
        return
    looser = trade.side * (ask.level - trade.stop) < 0
    assert state.account is not None
    if looser and state.account.policy.never_widen:
        outbox.tell("refused", "never_widen", "The policy never widens a stop", trade, ask.ask_id)
        return
    if looser and not ask.widen:
        outbox.tell(
            "refused",
            "widen_unconfirmed",
            "Widening a stop needs to be confirmed",
            trade,
            ask.ask_id,
        )
        return
    word = "widened by hand" if looser else "by hand"
    if looser:
        trade.cover.backstop = 0  # it goes out with the stop
    why = f"Stop {instrument.price(trade.stop)} \u2192 {instrument.price(ask.level)}: {word}"
    set_stop(outbox, trade, ask.level, why, rs.HAND)
    converge(outbox, trade)


def _pin_stop(outbox: Outbox, trade: Trade, ask: ev.MoveStop) -> None:
    """The stop of an entry that still waits: its plan changes."""
    instrument = outbox.state.instruments[trade.symbol]
    if ask.level <= 0:
        problem = f"A stop at {instrument.price(ask.level)} is not a price"
        outbox.tell("refused", "stop_refused", problem, trade, ask.ask_id)
        return
    try:
        replan(outbox, trade, pinned_stop(trade, ask.level, instrument), ask.ask_id)
    except Refused as refusal:
        outbox.tell("refused", refusal.code, f"Not moved: {refusal.sentence}", trade, ask.ask_id)


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
        return (
            f"A stop at {shown} is {abs(exit_side - level)} ticks from the market; the venue "
            f"wants {least}"
        )
    return ""


def move_target(outbox: Outbox, ask: ev.MoveTarget) -> None:
    trade = _open_trade(outbox, ask.trade, ask.ask_id)
    if trade is None:
        return
    line = next((line for line in trade.targets if line.number == ask.number), None)
    if line is not None and is_pending(outbox.state, trade):
        plan = pinned_target(trade, ask.number, ask.level, outbox.state.instruments[trade.symbol])
        if plan is None:
            outbox.tell(
                "refused",
                "target_refused",
                f"There is no target {ask.number} any more",
                trade,
                ask.ask_id,
            )
        else:
            replan(outbox, trade, plan, ask.ask_id)
        return
    problem = target_problem(outbox.state, trade, ask.level)
    if line is None or (trade.entered and line.filled >= trade.entered):
        problem = f"There is no target {ask.number} left"
    if problem or line is None:
        outbox.tell("refused", "target_refused", problem, trade, ask.ask_id)
        return
    line.level, line.retry_at = ask.level, 0
    converge(outbox, trade)


def target_problem(state: EngineState, trade: Trade, level: int) -> str:
    """Why a target may not be moved to `level` now; empty where it may."""
    instrument, market = state.instruments[trade.symbol], state.markets[trade.symbol]
    exit_side, least = market.exit_side(trade.side), max(1, instrument.min_stop_ticks)
    if level <= 0 or trade.side * (level - exit_side) < least:
        return (
            f"A target at {instrument.price(level)} is not at least {least} ticks beyond the "
            "market at "
            f"{instrument.price(exit_side)}"
        )
    return ""


def set_target(outbox: Outbox, ask: ev.SetTarget) -> None:
    """Set, add or take away one target of a trade."""
    trade = _open_trade(outbox, ask.trade, ask.ask_id)
    if trade is None:
        return
    if is_pending(outbox.state, trade):
        _plan_target(outbox, trade, ask)
        return
    line = next((line for line in trade.targets if line.number == ask.number), None)
    problem = _set_problem(outbox.state, trade, line, ask)
    if problem:
        outbox.tell("refused", "target_refused", problem, trade, ask.ask_id)
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
    converge(outbox, trade)


def _set_problem(
    state: EngineState, trade: Trade, line: TargetLine | None, ask: ev.SetTarget
) -> str:
    if line is None and (ask.number or not ask.share):
        return f"There is no target {ask.number}"
    waiting = [one for one in trade.targets if one.share * trade.entered > one.filled]
    if line is None and len(waiting) >= MAX_TARGETS:
        return f"A trade has at most {MAX_TARGETS} targets"
    share = sum(one.share for one in trade.targets if one is not line) + ask.share
    if share > 1 + 1e-9:
        return f"The targets would take {fg.percent(100 * share, 0)} of the position"
    return target_problem(state, trade, ask.level) if ask.share else ""


def _plan_target(outbox: Outbox, trade: Trade, ask: ev.SetTarget) -> None:
    """The same for an entry that still waits: its plan changes."""
    plan, instrument = latest_plan(trade), outbox.state.instruments[trade.symbol]
    if plan.rig is not None and plan.rig.ladder is not None:
        outbox.tell(
            "refused",
            "target_refused",
            "A ladder has one target: it can be moved, not added to",
            trade,
            ask.ask_id,
        )
        return
    rules = list(plan.targets)
    rule = (
        TargetRule(share=ask.share, price=Decimal(instrument.price(ask.level)))
        if ask.share
        else None
    )
    if ask.number > len(rules) or (not ask.number and rule is None):
        outbox.tell(
            "refused", "target_refused", f"There is no target {ask.number}", trade, ask.ask_id
        )
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
            f"At most {MAX_TARGETS} targets that take at most all; these {len(rules)} take "
            f"{fg.percent(100 * share, 0)}"
        )
        outbox.tell("refused", "target_refused", problem, trade, ask.ask_id)
        return
    replan(outbox, trade, msgspec.structs.replace(plan, targets=tuple(rules)), ask.ask_id)


def reequip(outbox: Outbox, ask: ev.ChangeRules) -> None:
    """Put another plan's rules on a trade."""
    trade = _open_trade(outbox, ask.trade, ask.ask_id)
    if trade is None:
        return
    plan = ask.plan
    if trade.leave:
        outbox.tell("refused", "leaving", "The trade is being closed", trade, ask.ask_id)
        return
    try:
        if is_pending(outbox.state, trade):
            replan(outbox, trade, fitted(trade, plan), ask.ask_id, EntryValues(ask.basis, ask.atr))
            return
        no_ladder(plan)
        check_rig(
            plan, outbox.state.instruments[trade.symbol], outbox.state.spans.get(trade.symbol, ())
        )
        equip(outbox, trade, plan, EntryValues(ask.basis, ask.atr))
    except Refused as refusal:  # before anything was changed
        outbox.tell(
            "refused", refusal.code, f"Not put on the trade: {refusal.sentence}", trade, ask.ask_id
        )
        return
    outbox.tell(
        "info", "equipped", f"Tended by another plan from now on: {_rules(plan)}", trade, ask.ask_id
    )
    want_hours(outbox, trade)
    converge(outbox, trade)


def _rules(plan: Plan) -> str:
    name = f"{plan.rig.name}: " if plan.rig is not None and plan.rig.name else ""
    held = "lines held here" if plan.held else "lines at the venue"
    return f"{name}{sentence(plan.tended)} {held.capitalize()}."


def hold_lines(outbox: Outbox, ask: ev.HoldLines) -> None:
    """Keep a trade's lines here, or let them rest at the venue."""
    trade = _open_trade(outbox, ask.trade, ask.ask_id)
    if trade is None:
        return
    if (trade.plan.held is None) == (ask.held is None):
        where = "held here" if trade.held else "at the venue"
        outbox.tell("refused", "held_already", f"The lines are {where} already", trade, ask.ask_id)
        return
    trade.plan = msgspec.structs.replace(trade.plan, held=ask.held)
    held_or_resting(outbox, trade)
    price = outbox.state.instruments[trade.symbol].price
    if trade.held:
        text = f"Lines held here, backstop {price(trade.cover.backstop)} at the venue"
    else:
        text = f"Lines rest at the venue again, stop {price(trade.stop)}"
    outbox.tell("info", "lines_held" if trade.held else "lines_rest", text, trade, ask.ask_id)
    converge(outbox, trade)


def close_trade(outbox: Outbox, ask: ev.CloseTrade) -> None:
    trade = _open_trade(outbox, ask.trade, ask.ask_id)
    if trade is None:
        return
    if ask.entry_only and not is_pending(outbox.state, trade):
        _take_back_the_rest(outbox, trade, ask.ask_id)
        return
    if ask.share == 1.0 or is_pending(outbox.state, trade):
        _close(
            outbox,
            trade,
            Reason(rs.CANCELLED_BY_HAND if is_pending(outbox.state, trade) else rs.BY_HAND),
        )
        return
    steps, most = floor_steps(ask.share * trade.open_steps), most_steps(outbox, trade)
    problem = _share_problem(outbox, trade, ask.share, steps, most)
    if problem:
        outbox.tell("refused", "share_refused", problem, trade, ask.ask_id)
    elif steps >= trade.open_steps:
        _close(outbox, trade, Reason(rs.BY_HAND))
    else:
        for part in range(0, steps, most):
            why = f"{fg.percent(100 * ask.share, 0)} closed by hand"
            outbox.submit(
                trade, "close", kind="market", steps=min(most, steps - part), level=None, why=why
            )


def _take_back_the_rest(outbox: Outbox, trade: Trade, ask: str) -> None:
    """The entry was to be taken back, and has filled meanwhile, in part perhaps: nothing that is
    open is closed."""
    if any(outbox.state.orders_of(trade, role) for role in ("entry", "rung")):
        trade.entry.over = True
        outbox.tell(
            "info",
            "rest_taken_back",
            "What waits of its entry is taken back: what is open stays",
            trade,
            ask,
        )
        converge(outbox, trade)
    else:
        outbox.tell(
            "refused",
            "not_pending",
            "Its entry does not wait any more: what is open stays",
            trade,
            ask,
        )


def _share_problem(outbox: Outbox, trade: Trade, share: float, steps: int, most: int) -> str:
    """Why a part of a trade, `steps` of it, cannot be closed now; empty where it can."""
    if steps < 1:
        return f"{fg.percent(100 * share, 0)} of what is open is less than one step"
    if outbox.state.orders_of(trade, "close"):
        return "A close is under way already"
    if not outbox.state.link_up:
        return "The line to the venue is cut: nothing was sent"
    if steps > MOST_PARTS * most:
        return (
            f"One order takes {outbox.state.instruments[trade.symbol].qty(most)} at most: close "
            "a smaller part first"
        )
    return ""


def close_some(outbox: Outbox, ask: ev.CloseAll) -> None:
    """Close every trade that the ask means."""
    values = Valuation(outbox.state)

    def meant(trade: Trade) -> bool:
        won, waits = values.result(trade), is_pending(outbox.state, trade)
        holds = {
            "all": True,
            "winners": won > 0,
            "losers": won < 0,
            "long": trade.side > 0,
            "short": trade.side < 0,
            "pending": waits,
        }
        return holds[ask.which] and ask.symbol in ("", trade.symbol)

    trades = [trade for trade in outbox.state.live() if meant(trade)]
    if not trades:
        outbox.tell("refused", "nothing_meant", "There is no such trade open", ask_id=ask.ask_id)
    why = (
        Reason(rs.CANCELLED_BY_HAND)
        if ask.which == "pending"
        else Reason(rs.CLOSE_SOME, name=ask.which)
    )
    for trade in trades:
        _close(outbox, trade, why)


def close_all(outbox: Outbox, why: Reason) -> None:
    for trade in outbox.state.live():
        _close(outbox, trade, why)


def break_even(outbox: Outbox, ask: ev.StopToEntry) -> None:
    """The stop to the entry now, where that tightens it."""
    trade = _open_trade(outbox, ask.trade, ask.ask_id)
    if trade is None:
        return
    if not trade.open_steps:
        outbox.tell("refused", "not_open", "Nothing is open of this trade yet", trade, ask.ask_id)
        return
    level = trade.break_even_level
    if trade.side * (level - trade.stop) <= 0:
        outbox.tell(
            "refused",
            "stop_refused",
            "The stop is at the entry or better already",
            trade,
            ask.ask_id,
        )
        return
    move_stop(outbox, ev.MoveStop(time=ask.time, ask_id=ask.ask_id, trade=trade.id, level=level))


def turn_around(outbox: Outbox, ask: ev.TurnAround) -> None:
    """Close, and once that is done open the other side."""
    trade = _open_trade(outbox, ask.trade, ask.ask_id)
    if trade is None:
        return
    if is_pending(outbox.state, trade):
        outbox.tell(
            "refused", "turn_refused", "Nothing is open of this trade yet", trade, ask.ask_id
        )
        return
    if at_a_price(trade.plan):
        outbox.tell(
            "refused",
            "turn_refused",
            "A stop or target at a price cannot be turned around",
            trade,
            ask.ask_id,
        )
        return
    trade.progress.turn = ask.ask_id
    _close(outbox, trade, Reason(rs.TURNED))


def _close(outbox: Outbox, trade: Trade, why: Reason) -> None:
    leave(outbox, trade, why)
    converge(outbox, trade)


def halt(outbox: Outbox, ask: ev.Halt) -> None:
    """Latch first, then cancel and close everything."""
    if outbox.state.halt is None:
        outbox.state.halt = Halted(ask.time, ask.why)
        count = len(outbox.state.live())
        text = f"Flatten & halt: {ask.why}; closing {fg.counted(count, 'trade')}, entries closed"
        outbox.tell("alarm", "halted", text, ask_id=ask.ask_id)
    close_all(outbox, Reason(rs.HALTED))


def rearm(outbox: Outbox, ask: ev.Rearm) -> None:
    if outbox.state.halt is None:
        outbox.tell("refused", "not_halted", "Entries are not halted", ask_id=ask.ask_id)
    elif len(ask.reason.strip()) < 3:
        outbox.tell("refused", "no_reason", "Re-arming needs a reason in words", ask_id=ask.ask_id)
    else:
        outbox.state.halt = None
        outbox.tell(
            "caution", "rearmed", f"Entries re-armed: {ask.reason.strip()}", ask_id=ask.ask_id
        )


def change_account(outbox: Outbox, ask: ev.ChangeAccount) -> None:
    """What a person edited holds from the next decision on; open trades keep their stops and
    targets."""
    old, new = outbox.state.account, ask.account
    assert old is not None
    policy = take_policy(outbox, old.policy, new.policy, ask.ask_id)
    outbox.state.account = msgspec.structs.replace(
        old,
        size=new.size,
        costs=new.costs,
        policy=policy,
        rates=new.rates,
        days_per_year=new.days_per_year,
        name=new.name,
    )
    if old.rates != new.rates:
        outbox.state.rates_read = outbox.state.now
    held = outbox.state.account  # what is looser waits, and is told by itself
    changed = [
        name
        for name in ("size", "costs", "policy", "rates")
        if getattr(old, name) != getattr(held, name)
    ]
    what = ", ".join(changed) or "nothing"
    text = f"Account changed ({what}): holds from the next entry on, open trades keep their lines"
    outbox.tell("caution", "account_changed", text, ask_id=ask.ask_id)


def _open_trade(outbox: Outbox, trade_id: str, ask_id: str) -> Trade | None:
    trade = outbox.state.trades.get(trade_id)
    if trade is None or trade.state == states.ENDED:
        outbox.tell("refused", "no_trade", f"Trade {trade_id} is not open", ask_id=ask_id)
        return None
    return trade
