"""Keeps what rests at the venue equal to what a trade needs: stop for all of it, targets for their parts, a close
when it is leaving. `converge` is called after everything that touches a trade; it compares wanted with known and
sends the difference, one request per order at a time. The deadline of an exposed trade lives here too.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from hawser.core import figures as fg
from hawser.core.clock import SECOND, next_minute_end
from hawser.engine import reasons as rs
from hawser.engine import states
from hawser.engine.covering import MOST_PARTS, due, most_steps, parts_of, want_close, want_stops
from hawser.engine.exposure import covered_steps
from hawser.engine.guarding import cancels, taken_back_by
from hawser.engine.parts import want_parts, want_rungs
from hawser.engine.reasons import Reason, words
from hawser.engine.regrid import left_with
from hawser.engine.requests import Desk
from hawser.engine.state import Trade

# Part of the policy's deadline given to attaching a stop; what is left is for getting out.
ATTACH_SHARE = 0.5


def signal(desk: Desk, trade: Trade, name: str) -> None:
    trade.state = states.next_trade_state(trade.state, name)


def converge(desk: Desk, trade: Trade) -> None:
    """Send whatever separates what the venue holds for `trade` from what it should hold."""
    if desk.put_off is not None:
        desk.put_off[trade.id] = trade
        return
    if desk.state.suspect or trade.left:
        return
    if trade.state in (states.PLANNED, states.ENDED):
        _sweep(desk, trade)
        return
    _want_entry(desk, trade)
    if trade.open_steps == 0:
        _without_position(desk, trade)
        return
    want_stops(desk, trade)
    _judge_cover(desk, trade)
    if trade.leave:
        want_close(desk, trade)
    want_parts(desk, trade)
    want_rungs(desk, trade)
    _want_minute(desk, trade)


@contextmanager
def heard_out(desk: Desk) -> Iterator[None]:
    """While one answer of the venue is gone through nothing follows for the trades that it touches: what it says first
    is no reason to make a stop smaller that it says is needed after all."""
    if desk.put_off is not None:
        yield
        return
    desk.put_off = {}
    yield
    touched, desk.put_off = desk.put_off, None
    for trade in touched.values():
        converge(desk, trade)


def _want_entry(desk: Desk, trade: Trade) -> None:
    """What still waits of the entry: to another level where it is being moved, away once anything was closed."""
    order = desk.state.orders.get(trade.entry)
    if order is None or order.over or order.pending or order.state != states.RESTING:
        return
    why = ""
    if trade.leave or trade.closed:
        why = words(trade.leave, desk.currency) or "the trade is being closed"
    elif cancels(desk.state, trade):
        why = taken_back_by(trade)
    if not (why or trade.moving is not None) or not due(desk, trade, "entry", 0, order.retry_at):
        return
    if why:
        desk.cancel(trade, order, why)
    elif trade.moving is not None:
        terms = trade.moving
        qty = desk.state.instruments[trade.symbol].qty(terms.steps)
        bound = terms.plan.entry.bound(terms.ref, trade.side)
        level = desk.state.instruments[trade.symbol].price(terms.ref)
        desk.amend(trade, order, terms.ref, terms.steps, f"Entry moved to {level} for {qty}", rs.ENTRY, bound)


def _without_position(desk: Desk, trade: Trade) -> None:
    entry = desk.state.orders.get(trade.entry)
    if (entry is not None and not entry.over) or desk.state.orders_of(trade, "rung"):
        if trade.entered:
            _sweep(desk, trade)
        _note_exposed(desk, trade, False)
        return  # the entry or a rung may still fill
    _sweep(desk, trade)
    trade.ended = desk.state.now
    desk.ended.append(trade)
    if trade.entered:
        signal(desk, trade, "flat")
        trade.end = trade.end or trade.leave or Reason(rs.CLOSED)
        net, currency = trade.profit - trade.commission, desk.currency
        r = net / trade.planned_risk if trade.planned_risk else 0.0
        text = f"Trade ended by {words(trade.end, currency)}: {fg.money(net, currency, sign=True)}, {fg.r(r)}"
        desk.tell("info", "trade_ended", text, trade)
        follows = trade.plan.rig is not None and trade.plan.rig.follow_on is not None
        trade.due = "turn" if trade.turn else "follow" if follows else ""
        if trade.due:
            desk.later(f"{trade.due}:{trade.id}", 0)
    else:
        signal(desk, trade, "void")
        trade.end = trade.end or trade.leave or Reason(rs.ENTRY_GONE, name="not filled")
        desk.tell("caution", "entry_void", f"Nothing was opened: {words(trade.end, desk.currency)}", trade)
    _note_exposed(desk, trade, False)


def _sweep(desk: Desk, trade: Trade) -> None:
    """Cancel what is left at the venue of a trade without a position."""
    for role in ("rung", "stop", "target", "loss", "close"):
        for order in desk.state.orders_of(trade, role):
            if not order.pending and due(desk, trade, role, order.number, order.retry_at):
                desk.cancel(trade, order, "no position left")


def _judge_cover(desk: Desk, trade: Trade) -> None:
    """Exposed or protected, and the deadline that goes with exposed."""
    covered = covered_steps(desk.state, trade) >= trade.open_steps
    if trade.state == states.EXPOSED and covered:
        signal(desk, trade, "cover")
        for other in left_with(desk.state, trade):  # what rests of it is taken back now that another stop covers all
            other.left = ""
            converge(desk, other)
        price = desk.state.instruments[trade.symbol].price
        text = f"Protected: the stop rests at {price(trade.stop)}"
        if trade.held:
            text = (
                f"Protected: the backstop rests at {price(trade.backstop)}, the stop {price(trade.stop)} is held here"
            )
        desk.tell("info", "protected", text, trade)
    elif trade.state == states.PROTECTED and not covered:
        signal(desk, trade, "uncover")
        desk.tell("caution", "exposed", "Exposed: no stop rests for all of the position", trade)
    _note_exposed(desk, trade, not covered)


def _note_exposed(desk: Desk, trade: Trade, exposed: bool) -> None:
    now, policy = desk.state.now, desk.state.account.policy if desk.state.account else None
    if exposed and not trade.exposed_since:
        trade.exposed_since = now
        deadline_s = policy.exposed_deadline_s if policy else 5.0
        desk.later(f"deadline:{trade.id}:{now}", int(deadline_s * ATTACH_SHARE * SECOND))
    elif not exposed and trade.exposed_since:
        trade.longest_exposed = max(trade.longest_exposed, now - trade.exposed_since)
        trade.exposed_since = 0
        trade.stop_failures, trade.hurried, trade.emergency = 0, False, 0


def deadline(desk: Desk, trade: Trade, since: int) -> None:
    """The time to attach a stop is up."""
    if trade.exposed_since != since or not trade.open_steps:
        return
    text, orders = "No stop could be attached in time: closing at market", parts_of(desk, trade)
    if orders > MOST_PARTS:
        most = desk.state.instruments[trade.symbol].qty(most_steps(desk, trade))
        text = f"One order takes {most} at most, and the position would need {orders} stops: closing at market"
    desk.tell("alarm", "deadline", text, trade)
    leave(desk, trade, Reason(rs.NO_COVER))
    # Nothing waits for the end of an earlier pause now, and the stop is tried again beside the close.
    trade.hurried = True
    trade.close_retry_at = trade.stop_retry_at = 0
    converge(desk, trade)
    if desk.state.reconciled:
        desk.compare()  # a fill or an answer may have been lost without a word


def leave(desk: Desk, trade: Trade, why: Reason) -> None:
    """Decide to close `trade` at market; `converge` carries it out. The first reason counts."""
    trade.leave = trade.leave or why
    if trade.state in (states.EXPOSED, states.PROTECTED):
        signal(desk, trade, "leave")


def without_waiting(desk: Desk, trade: Trade) -> None:
    """Whatever waits for a pause to end is tried now: the market has opened, the venue answers again."""
    trade.stop_retry_at = trade.close_retry_at = 0
    trade.stop_failures = trade.close_failures = 0
    for line in (*trade.targets, *trade.losses):
        line.retry_at = line.failures = 0
    for rung in trade.rungs:
        rung.retry_at = rung.failures = 0
    for name in trade.order_ids:
        order = desk.state.orders[name]
        order.retry_at = order.refusals = 0
    converge(desk, trade)


def _want_minute(desk: Desk, trade: Trade) -> None:
    """A basket that counts at each minute's end has its own timer: a quiet market has no quote in that second."""
    rig = trade.plan.rig
    if rig is None or rig.basket is None or rig.basket.basis != "minute_end" or trade.minute_at > desk.state.now:
        return
    now = desk.state.now
    trade.minute_at = next_minute_end(now)
    desk.later(f"minute:{trade.id}", trade.minute_at - now)
