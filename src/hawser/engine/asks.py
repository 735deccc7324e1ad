"""What a person asks for: place, move, close, halt, re-arm. Each is answered, and a refusal says why."""

from __future__ import annotations

import math

import msgspec

from hawser.core import figures as fg
from hawser.core.account import Account
from hawser.core.errors import Refused
from hawser.core.instrument import Instrument
from hawser.core.plan import Plan
from hawser.core.rules.rounding import ceil_whole, floor_whole
from hawser.core.sizing import SizeRequest, Sizing, sized
from hawser.engine import events as ev
from hawser.engine import states
from hawser.engine.exposure import Exposure, Valuation
from hawser.engine.protecting import converge, leave, signal
from hawser.engine.requests import Desk
from hawser.engine.state import EngineState, Halted, TargetLine, Trade
from hawser.engine.verdict import entry_verdict


def account_now(state: EngineState) -> Account:
    """The account with the venue's figures and the rates of this moment."""
    assert state.account is not None
    return msgspec.structs.replace(
        state.account, equity=max(state.equity, 0.01), balance=max(state.balance, 0.0),
        margin_used=max(state.margin_used, 0.0), rates=state.current_rates(),
    )  # fmt: skip


def request_for(
    plan: Plan,
    account: Account,
    instrument: Instrument,
    quote: tuple[int, int],
    atr: float,
    staked: Exposure,
    held: int,
    basis: float,
) -> SizeRequest:
    """A plan as a request to the core, for the engine and for the screen alike."""
    return SizeRequest(
        instrument=instrument, account=msgspec.structs.replace(account, size=plan.size), side=plan.side, bid=quote[0],
        ask=quote[1], atr=atr, basis=basis, stop=plan.stop, targets=plan.targets, open_heat=staked.heat,
        open_heat_by_currency=staked.by_currency, positions=held,
    )  # fmt: skip


def size_request(state: EngineState, plan: Plan, basis: float) -> SizeRequest:
    """The plan against all that the account stakes now."""
    market = state.markets[plan.symbol]
    return request_for(
        plan, account_now(state), state.instruments[plan.symbol], (market.bid, market.ask),
        state.atr(plan.symbol, plan.timeframe_ns), Valuation(state).exposure(), len(state.live()), basis,
    )  # fmt: skip


def place(desk: Desk, ask: ev.PlaceTrade) -> None:
    """Size the plan at this moment's quote and send its entry; one ask gives at most one trade."""
    state, plan = desk.state, ask.plan
    if any(trade.ask == ask.ask for trade in state.trades.values()):
        desk.tell("info", "asked_twice", "This request was already carried out", ask=ask.ask)
        return
    closed = entry_verdict(state, plan.symbol) if plan.symbol in state.instruments else []
    if closed or plan.symbol not in state.instruments:
        text = "; ".join(reason.text for reason in closed) or f"{plan.symbol} is not an instrument of this venue"
        desk.tell("refused", closed[0].code if closed else "no_instrument", f"Entries closed: {text}", ask=ask.ask)
        return
    try:
        sizing = sized(size_request(state, plan, math.nan if ask.basis is None else ask.basis))
    except Refused as refusal:
        desk.tell("refused", refusal.code, f"Not placed: {refusal.sentence}", ask=ask.ask)
        return
    _enter(desk, ask, sizing)


def _enter(desk: Desk, ask: ev.PlaceTrade, sizing: Sizing) -> None:
    state, plan = desk.state, ask.plan
    lines = [
        TargetLine(target.number, target.level, plan.targets[target.number - 1].share)
        for target in sizing.targets
        if target.r
    ]
    trade = Trade(
        id=f"T{desk.number()}", ask=ask.ask, symbol=plan.symbol, side=plan.side, plan=plan, ref=sizing.ref,
        r_ticks=sizing.r_ticks, asked_steps=sizing.steps, planned_risk=sizing.risk_money, stop=sizing.stop,
        initial_stop=sizing.stop, targets=lines, placed=state.now,
    )  # fmt: skip
    state.trades[trade.id] = trade
    state.by_symbol.setdefault(trade.symbol, []).append(trade.id)
    signal(desk, trade, "send")
    instrument = state.instruments[plan.symbol]
    assert state.account is not None
    why = (
        f"risk {fg.money(sizing.risk_money, state.account.currency)} = {fg.percent(sizing.risk_percent, 3)} of equity, "
        f"stop {instrument.price(sizing.stop)}, R {sizing.r_ticks} t"
    )
    trade.entry = desk.submit(trade, "entry", "market", sizing.steps, None, why).id


def move_stop(desk: Desk, ask: ev.MoveStop) -> None:
    """Move a stop by hand. Looser only where it is confirmed and the policy lets it."""
    trade = _open_trade(desk, ask.trade, ask.ask)
    if trade is None:
        return
    state, instrument = desk.state, desk.state.instruments[trade.symbol]
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
    old, trade.stop = trade.stop, ask.level
    word = "widened by hand" if looser else "by hand"
    trade.stop_why = f"Stop {instrument.price(old)} \u2192 {instrument.price(ask.level)}: {word}"
    trade.stop_by_hand = True
    converge(desk, trade)


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


def close_trade(desk: Desk, ask: ev.CloseTrade) -> None:
    trade = _open_trade(desk, ask.trade, ask.ask)
    if trade is None:
        return
    if ask.share == 1.0:
        _close(desk, trade, "closed by hand")
        return
    steps = floor_whole(ask.share * trade.open_steps)
    problem = ""
    if steps < 1:
        problem = f"{ask.share:.0%} of what is open is less than one step"
    elif desk.state.orders_of(trade, "close"):
        problem = "A close is under way already"
    if problem:
        desk.tell("refused", "share_refused", problem, trade, ask.ask)
    elif steps >= trade.open_steps:
        _close(desk, trade, "closed by hand")
    else:
        desk.submit(trade, "close", "market", steps, None, f"{ask.share:.0%} closed by hand")


def close_some(desk: Desk, ask: ev.CloseAll) -> None:
    """Close every trade that the ask means."""
    values = Valuation(desk.state)

    def meant(trade: Trade) -> bool:
        won = values.result(trade)
        holds = {"all": True, "winners": won > 0, "losers": won < 0, "long": trade.side > 0, "short": trade.side < 0}
        return holds[ask.which] and ask.symbol in ("", trade.symbol)

    trades = [trade for trade in desk.state.live() if meant(trade)]
    if not trades:
        desk.tell("refused", "nothing_meant", "There is no such trade open", ask=ask.ask)
    for trade in trades:
        _close(desk, trade, "close all" if ask.which == "all" else f"close {ask.which}")


def close_all(desk: Desk, why: str) -> None:
    for trade in desk.state.live():
        _close(desk, trade, why)


def break_even_level(trade: Trade) -> int:
    """The entry as a stop: the average of its fills, rounded to the profitable side."""
    return trade.side * ceil_whole(trade.side * trade.entry_price)


def break_even(desk: Desk, ask: ev.BreakEven) -> None:
    """The stop to the entry now, where that tightens it."""
    trade = _open_trade(desk, ask.trade, ask.ask)
    if trade is None:
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
    plan = trade.plan
    if any(rule is not None and rule.price is not None for rule in (plan.stop, *plan.targets)):
        desk.tell("refused", "turn_refused", "A stop or target at a price cannot be turned around", trade, ask.ask)
        return
    trade.turn = ask.ask
    _close(desk, trade, "turned around")


def turned(desk: Desk, trade: Trade) -> None:
    """The trade has ended: the other side, as any new entry."""
    plan, stop = trade.plan, trade.plan.stop
    if stop is not None and stop.from_bars:
        desk.tell("refused", "turn_refused", "A stop taken from bars must be planned anew: not turned", trade)
        return
    other = msgspec.structs.replace(plan, side=-plan.side)
    place(desk, ev.PlaceTrade(time=desk.state.now, ask=f"{trade.turn}-turned", plan=other))


def _close(desk: Desk, trade: Trade, why: str) -> None:
    entry = desk.state.orders.get(trade.entry)
    if entry is not None and not entry.over and not entry.pending:
        desk.cancel(trade, entry, why)
    leave(desk, trade, why)
    converge(desk, trade)


def halt(desk: Desk, ask: ev.Halt) -> None:
    """Latch first, then cancel and close everything."""
    if desk.state.halt is None:
        desk.state.halt = Halted(ask.time, ask.why)
        count = len(desk.state.live())
        desk.tell("alarm", "halted", f"Flatten & halt: {ask.why}; closing {count} trades, entries closed", ask=ask.ask)
    close_all(desk, "flatten & halt")


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
    desk.state.account = msgspec.structs.replace(
        old, size=new.size, costs=new.costs, policy=new.policy, rates=new.rates, days_per_year=new.days_per_year,
        name=new.name,
    )  # fmt: skip
    changed = [name for name in ("size", "costs", "policy", "rates") if getattr(old, name) != getattr(new, name)]
    what = ", ".join(changed) or "nothing"
    text = f"Account changed ({what}): holds from the next entry on, open trades keep their lines"
    desk.tell("caution", "account_changed", text, ask=ask.ask)


def _open_trade(desk: Desk, trade_id: str, ask: str) -> Trade | None:
    trade = desk.state.trades.get(trade_id)
    if trade is None or trade.state == states.ENDED:
        desk.tell("refused", "no_trade", f"Trade {trade_id} is not open", ask=ask)
        return None
    return trade
