"""Held lines: stop and targets that Hawser keeps and the venue does not see, watched on every
quote.

A wider backstop rests at the venue all the while (`converge.py`); where the link is lost it alone
protects. A held stop that only a spread spike reaches may wait `settle_ms`, never longer.
"""

from __future__ import annotations

from hawser.core.clock import MILLISECOND
from hawser.core.rules.entries import HELD_QUIET, HELD_SPIKE, held_stop
from hawser.engine.commands import Role
from hawser.engine.model import reasons as rs
from hawser.engine.model.reasons import Reason
from hawser.engine.model.state import EngineState, TargetLine, Trade, bar_key
from hawser.engine.outbox import Outbox
from hawser.engine.pacing import free_at
from hawser.engine.protection.converge import converge, leave
from hawser.engine.protection.covering import due, most_steps
from hawser.engine.protection.parts import PART_ROLES, ROLE_NAMES, nearest, part_wants


def _verdict(state: EngineState, trade: Trade) -> int:
    market = state.markets[trade.symbol]
    bar = state.bars.get(bar_key(trade.symbol, trade.plan.timeframe_ns))
    usual = bar.spread if bar is not None else float(market.ask - market.bid)
    return int(held_stop(trade.stop, market.bid, market.ask, usual, trade.side))


def _watched(trade: Trade) -> bool:
    return trade.leave is None and trade.open_steps > 0 and trade.plan.held is not None


def acts(state: EngineState, trade: Trade) -> bool:
    """Whether the present quote makes a trade with held lines do anything."""
    if not _watched(trade):
        return False
    verdict = _verdict(state, trade)
    if verdict == HELD_QUIET:
        return bool(trade.cover.reached_since) or bool(_parts_reached(state, trade))
    assert trade.plan.held is not None  # it is watched
    settles = verdict == HELD_SPIKE and trade.plan.held.settle_ms > 0
    return not (
        settles
        and 0 < trade.cover.reached_since <= state.now < trade.cover.reached_since + _wait(trade)
    )


def _wait(trade: Trade) -> int:
    """How long a spread spike may last, ns."""
    return trade.plan.held.settle_ms * MILLISECOND if trade.plan.held is not None else 0


def watch(outbox: Outbox, trade: Trade) -> None:
    """Look at a trade with held lines at the present quote."""
    if not _watched(trade):
        return
    verdict = _verdict(outbox.state, trade)
    if verdict == HELD_QUIET:
        trade.cover.reached_since = 0
        _take_parts(outbox, trade)
    elif verdict == HELD_SPIKE and _wait(trade):
        _settle(outbox, trade, _wait(trade))
    else:
        _reached(outbox, trade, "the quote reached it")


def _settle(outbox: Outbox, trade: Trade, wait: int) -> None:
    now = outbox.state.now
    if not trade.cover.reached_since:
        trade.cover.reached_since = now
        outbox.later(f"settle:{trade.id}:{now}", wait)
        outbox.tell(
            "caution",
            "held_waits",
            f"A spread spike reaches the held stop: waiting {wait // MILLISECOND} ms",
            trade,
        )
    elif now - trade.cover.reached_since >= wait:
        _reached(outbox, trade, "the spread spike did not pass")


def settled(outbox: Outbox, trade: Trade, since: int) -> None:
    """The time a spike may last is up."""
    # The timer is for one spike: the quote may have been back since, and this may be another.
    if (
        trade.cover.reached_since != since
        or not _watched(trade)
        or not outbox.state.markets[trade.symbol].bid
    ):
        return
    if _verdict(outbox.state, trade) == HELD_QUIET:  # the stop has been moved meanwhile
        trade.cover.reached_since = 0
    else:
        _reached(outbox, trade, "the spread spike did not pass")


def _reached(outbox: Outbox, trade: Trade, how: str) -> None:
    # At market and at once: the price that a trader chose has been reached, and waiting could only
    # make it worse.
    level = outbox.state.instruments[trade.symbol].price(trade.stop)
    outbox.tell("info", "held_stop", f"Held stop {level}: {how}; closing at market", trade)
    leave(outbox, trade, Reason(rs.HELD_STOP))
    converge(outbox, trade)


def _parts_reached(state: EngineState, trade: Trade) -> list[tuple[Role, TargetLine, int]]:
    """What the quote has reached of targets and loss steps that is not under way, in steps; of a
    line whose time has not come, only until the trade is set to be looked at then."""
    exit_side, found = state.markets[trade.symbol].exit_side(trade.side), []
    for role in PART_ROLES:
        way = trade.side if role == "target" else -trade.side
        reached = [line for line in nearest(trade, role) if way * (exit_side - line.level) >= 0]
        if not reached:
            continue
        under_way = {order.number for order in state.orders_of(trade, role)}
        wants = part_wants(trade, role)
        for line in reached:
            waits = max(line.retry_at, free_at(state, trade, role, line.number)) > state.now
            if (
                wants[line.number]
                and line.number not in under_way
                and not (waits and trade.wake_at > state.now)
            ):
                found.append((role, line, wants[line.number]))
    return found


def _take_parts(outbox: Outbox, trade: Trade) -> None:
    """Take what the quote has reached of targets and loss steps, at market."""
    most = most_steps(outbox, trade)
    for role, line, want in _parts_reached(outbox.state, trade):
        if due(outbox, trade, role, line.number, line.retry_at):
            why = f"held {ROLE_NAMES[role]} {line.number}"
            outbox.submit(
                trade,
                role,
                kind="market",
                steps=min(most, want),
                level=None,
                why=why,
                number=line.number,
            )
