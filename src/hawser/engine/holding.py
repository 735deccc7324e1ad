"""Held lines: stop and targets that Hawser keeps and the venue does not see, watched on every quote.

A wider backstop rests at the venue all the while (`protecting.py`); where the link is lost it alone protects. A held
stop that only a spread spike reaches may wait `settle_ms`, never longer.
"""

from __future__ import annotations

from hawser.core.clock import MILLISECOND
from hawser.core.rules.entries import HELD_QUIET, HELD_SPIKE, held_stop
from hawser.engine import reasons as rs
from hawser.engine.covering import due, most_steps
from hawser.engine.parts import PART_ROLES, ROLE_NAMES, nearest, part_wants
from hawser.engine.protecting import converge, leave
from hawser.engine.reasons import Reason
from hawser.engine.requests import Desk
from hawser.engine.state import Trade, bar_key


def watch(desk: Desk, trade: Trade) -> None:
    """Look at a trade with held lines at the present quote."""
    if trade.leave or not trade.open_steps or trade.plan.held is None:
        return
    state, rule = desk.state, trade.plan.held
    market = state.markets[trade.symbol]
    bar = state.bars.get(bar_key(trade.symbol, trade.plan.timeframe_ns))
    usual = bar.spread if bar is not None else float(market.ask - market.bid)
    verdict = held_stop(trade.stop, market.bid, market.ask, usual, trade.side)
    if verdict == HELD_QUIET:
        trade.reached_since = 0
        _parts(desk, trade)
    elif verdict == HELD_SPIKE and rule.settle_ms:
        _settle(desk, trade, rule.settle_ms * MILLISECOND)
    else:
        _reached(desk, trade, "the quote reached it")


def _settle(desk: Desk, trade: Trade, wait: int) -> None:
    now = desk.state.now
    if not trade.reached_since:
        trade.reached_since = now
        desk.later(f"settle:{trade.id}:{now}", wait)
        desk.tell(
            "caution", "held_waits", f"A spread spike reaches the held stop: waiting {wait // MILLISECOND} ms", trade
        )
    elif now - trade.reached_since >= wait:
        _reached(desk, trade, "the spread spike did not pass")


def settled(desk: Desk, trade: Trade, since: int) -> None:
    """The time a spike may last is up."""
    if trade.reached_since == since and trade.open_steps and not trade.leave:
        _reached(desk, trade, "the spread spike did not pass")


def _reached(desk: Desk, trade: Trade, how: str) -> None:
    level = desk.state.instruments[trade.symbol].price(trade.stop)
    desk.tell("info", "held_stop", f"Held stop {level}: {how}; closing at market", trade)
    leave(desk, trade, Reason(rs.HELD_STOP))
    converge(desk, trade)


def _parts(desk: Desk, trade: Trade) -> None:
    """Take what the quote has reached of targets and loss steps, at market."""
    exit_side = desk.state.markets[trade.symbol].exit_side(trade.side)
    for role in PART_ROLES:
        way = trade.side if role == "target" else -trade.side
        reached = [line for line in nearest(trade, role) if way * (exit_side - line.level) >= 0]
        if not reached:
            continue
        under_way = {order.number for order in desk.state.orders_of(trade, role)}
        most, wants = most_steps(desk, trade), part_wants(trade, role)
        for line in reached:
            want = min(most, wants[line.number])
            if want and line.number not in under_way and due(desk, trade, role, line.number, line.retry_at):
                desk.submit(trade, role, "market", want, None, f"held {ROLE_NAMES[role]} {line.number}", line.number)
