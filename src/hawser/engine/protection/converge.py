"""Keeps what rests at the venue equal to what a trade needs: stop for all of it, targets for their
parts, a close when it is leaving. `converge` is called after everything that touches a trade; it
compares wanted with known and sends the difference, one request per order at a time. The deadline
of an exposed trade lives here too.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from hawser.core import figures as fg
from hawser.core.clock import SECOND, next_minute_end
from hawser.engine.clearance.guards import cancels, taken_back_by
from hawser.engine.model import reasons as rs
from hawser.engine.model import transitions as states
from hawser.engine.model.exposure import covered_steps
from hawser.engine.model.reasons import Reason, words
from hawser.engine.model.state import Trade
from hawser.engine.outbox import Outbox
from hawser.engine.protection.covering import (
    MOST_PARTS,
    due,
    most_steps,
    parts_of,
    want_close,
    want_stops,
)
from hawser.engine.protection.parts import want_parts, want_rungs
from hawser.engine.protection.regrid import left_with

# Part of the policy's deadline given to attaching a stop; what is left is for getting out. Half of
# each: a close takes one request and its answer, as a stop does, and both may have to be tried more
# than once.
ATTACH_SHARE = 0.5


def advance_trade(outbox: Outbox, trade: Trade, name: str) -> None:
    trade.state = states.next_trade_state(trade.state, name)


def converge(outbox: Outbox, trade: Trade) -> None:
    """Send whatever separates what the venue holds for `trade` from what it should hold."""
    if outbox.put_off is not None:
        outbox.put_off[trade.id] = trade
        return
    # A state that may be wrong sends nothing: an order that the record does not know would be laid
    # a second time. A trade whose instrument is another now is left as it rests, because its levels
    # would mean something else (section 2).
    if outbox.state.suspect or trade.left:
        return
    if trade.state in (states.PLANNED, states.ENDED):
        _sweep(outbox, trade)
        return
    # The order of these steps matters. What waits of the entry comes first: it may fill at any
    # moment, and what fills needs a stop. Stops come before everything that takes a part of the
    # position, so that a target never leaves while the stop for the same units is still missing. A
    # close is sent beside the stop and not instead of it: the stop stays until the position is
    # gone, because a close can be refused.
    _want_entry(outbox, trade)
    if trade.open_steps == 0:
        _without_position(outbox, trade)
        return
    want_stops(outbox, trade)
    _judge_cover(outbox, trade)
    if trade.leave:
        want_close(outbox, trade)
    want_parts(outbox, trade)
    want_rungs(outbox, trade)
    _want_minute(outbox, trade)


@contextmanager
def heard_out(outbox: Outbox) -> Iterator[None]:
    """While one answer of the venue is gone through nothing follows for the trades that it touches:
    what it says first is no reason to make a stop smaller that it says is needed after all."""
    if outbox.put_off is not None:
        yield
        return
    outbox.put_off = {}
    yield
    touched, outbox.put_off = outbox.put_off, None
    for trade in touched.values():
        converge(outbox, trade)


def _want_entry(outbox: Outbox, trade: Trade) -> None:
    """What still waits of the entry: to another level where it is being moved, away once anything
    was closed."""
    order = outbox.state.orders.get(trade.entry.order_id)
    if order is None or order.over or order.pending or order.state != states.RESTING:
        return
    why = ""
    # Once a part was closed the rest of the entry is not wanted any more: it would fill into a
    # trade that is ending.
    if trade.leave or trade.closed:
        why = words(trade.leave, outbox.currency) or "the trade is being closed"
    elif cancels(outbox.state, trade):
        why = taken_back_by(trade)
    if not (why or trade.entry.moving is not None) or not due(
        outbox, trade, "entry", 0, order.retry_at
    ):
        return
    if why:
        outbox.cancel(trade, order, why)
    elif trade.entry.moving is not None:
        terms = trade.entry.moving
        qty = outbox.state.instruments[trade.symbol].qty(terms.steps)
        bound = terms.plan.entry.bound(terms.ref, trade.side)
        level = outbox.state.instruments[trade.symbol].price(terms.ref)
        outbox.amend(
            trade,
            order,
            level=terms.ref,
            steps=terms.steps,
            why=f"Entry moved to {level} for {qty}",
            code=rs.ENTRY,
            bound=bound,
        )


def _without_position(outbox: Outbox, trade: Trade) -> None:
    entry = outbox.state.orders.get(trade.entry.order_id)
    if (entry is not None and not entry.over) or outbox.state.orders_of(trade, "rung"):
        # A stop that is left would open a position the other way if it filled; the entry or a rung
        # may still fill, and the trade goes on then.
        if trade.entered:
            _sweep(outbox, trade)
        _note_exposed(outbox, trade, False)
        return
    _sweep(outbox, trade)
    trade.ended = outbox.state.now
    outbox.ended.append(trade)
    if trade.entered:
        advance_trade(outbox, trade, "flat")
        trade.end = trade.end or trade.leave or Reason(rs.CLOSED)
        net, currency = trade.profit - trade.commission, outbox.currency
        r = net / trade.entry.planned_risk if trade.entry.planned_risk else 0.0
        text = (
            f"Trade ended by {words(trade.end, currency)}: "
            f"{fg.money(net, currency, sign=True)}, {fg.r(r)}"
        )
        outbox.tell("info", "trade_ended", text, trade)
        follows = trade.plan.rig is not None and trade.plan.rig.follow_on is not None
        trade.progress.due = "turn" if trade.progress.turn else "follow" if follows else ""
        # What follows is an event of its own, so that it is recorded, and sized by the equity after
        # this end.
        if trade.progress.due:
            outbox.later(f"{trade.progress.due}:{trade.id}", 0)
    else:
        advance_trade(outbox, trade, "void")
        trade.end = trade.end or trade.leave or Reason(rs.ENTRY_GONE, name="not filled")
        outbox.tell(
            "caution",
            "entry_void",
            f"Nothing was opened: {words(trade.end, outbox.currency)}",
            trade,
        )
    _note_exposed(outbox, trade, False)


def _sweep(outbox: Outbox, trade: Trade) -> None:
    """Cancel what is left at the venue of a trade without a position."""
    for role in ("rung", "stop", "target", "loss", "close"):
        for order in outbox.state.orders_of(trade, role):
            if not order.pending and due(outbox, trade, role, order.number, order.retry_at):
                outbox.cancel(trade, order, "no position left")


def _judge_cover(outbox: Outbox, trade: Trade) -> None:
    """Exposed or protected, and the deadline that goes with exposed."""
    # Only what the venue has accepted counts: a stop that was sent may have been lost, or refused.
    covered = covered_steps(outbox.state, trade) >= trade.open_steps
    if trade.state == states.EXPOSED and covered:
        advance_trade(outbox, trade, "cover")
        # what rests of it is taken back now that another stop covers all
        for other in left_with(outbox.state, trade):
            other.left = ""
            converge(outbox, other)
        price = outbox.state.instruments[trade.symbol].price
        text = f"Protected: the stop rests at {price(trade.stop)}"
        if trade.held:
            text = (
                f"Protected: the backstop rests at {price(trade.cover.backstop)}, the stop "
                f"{price(trade.stop)} is held here"
            )
        outbox.tell("info", "protected", text, trade)
    elif trade.state == states.PROTECTED and not covered:
        advance_trade(outbox, trade, "uncover")
        outbox.tell("caution", "exposed", "Exposed: no stop rests for all of the position", trade)
    _note_exposed(outbox, trade, not covered)


def _note_exposed(outbox: Outbox, trade: Trade, exposed: bool) -> None:
    now, policy = outbox.state.now, outbox.state.account.policy if outbox.state.account else None
    if exposed and not trade.cover.exposed_since:
        trade.cover.exposed_since = now
        # The timer carries the moment: one that was started for an earlier stretch without cover
        # means nothing now.
        deadline_s = policy.exposed_deadline_s if policy else 5.0
        outbox.later(f"deadline:{trade.id}:{now}", int(deadline_s * ATTACH_SHARE * SECOND))
    elif not exposed and trade.cover.exposed_since:
        trade.cover.longest_exposed = max(
            trade.cover.longest_exposed, now - trade.cover.exposed_since
        )
        trade.cover.exposed_since = 0
        trade.cover.failures, trade.cover.hurried, trade.cover.emergency = 0, False, 0


def deadline(outbox: Outbox, trade: Trade, since: int) -> None:
    """The time to attach a stop is up."""
    if trade.cover.exposed_since != since or not trade.open_steps:
        return
    text, orders = "No stop could be attached in time: closing at market", parts_of(outbox, trade)
    if orders > MOST_PARTS:
        most = outbox.state.instruments[trade.symbol].qty(most_steps(outbox, trade))
        text = (
            f"One order takes {most} at most, and the position would need {orders} stops: "
            "closing at market"
        )
    outbox.tell("alarm", "deadline", text, trade)
    leave(outbox, trade, Reason(rs.NO_COVER))
    # Nothing waits for the end of an earlier pause now, and the stop is tried again beside the
    # close.
    trade.cover.hurried = True
    trade.closing.retry_at = trade.cover.retry_at = 0
    converge(outbox, trade)
    if outbox.state.reconciled:
        outbox.compare()  # a fill or an answer may have been lost without a word


def leave(outbox: Outbox, trade: Trade, why: Reason) -> None:
    """Decide to close `trade` at market; `converge` carries it out. The first reason counts."""
    # A second reason would change what is told and what follows (section 8: a follow-on goes by why
    # a trade ended).
    trade.leave = trade.leave or why
    if trade.state in (states.EXPOSED, states.PROTECTED):
        advance_trade(outbox, trade, "leave")


def without_waiting(outbox: Outbox, trade: Trade) -> None:
    """Whatever waits for a pause to end is tried now: the market has opened, the venue answers
    again."""
    trade.cover.retry_at = trade.closing.retry_at = 0
    trade.cover.failures = trade.closing.failures = 0
    for line in (*trade.targets, *trade.losses):
        line.retry_at = line.failures = 0
    for rung in trade.ladder.rungs:
        rung.retry_at = rung.failures = 0
    for name in trade.order_ids:
        order = outbox.state.orders[name]
        order.retry_at = order.refusals = 0
    converge(outbox, trade)


def _want_minute(outbox: Outbox, trade: Trade) -> None:
    """A basket that counts at each minute's end has its own timer: a quiet market has no quote in
    that second."""
    rig = trade.plan.rig
    if (
        rig is None
        or rig.basket is None
        or rig.basket.basis != "minute_end"
        or trade.progress.minute_at > outbox.state.now
    ):
        return
    now = outbox.state.now
    trade.progress.minute_at = next_minute_end(now)
    outbox.later(f"minute:{trade.id}", trade.progress.minute_at - now)
