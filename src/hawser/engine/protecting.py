"""Keeps what rests at the venue equal to what a trade needs: stop for all of it, targets for their parts, a close
when it is leaving. `converge` is called after everything that touches a trade; it compares wanted with known and
sends the difference, one request per order at a time. The deadline of an exposed trade lives here too.
"""

from __future__ import annotations

from hawser.core import figures as fg
from hawser.core.clock import MILLISECOND, SECOND, next_minute_end
from hawser.engine import reasons as rs
from hawser.engine import states
from hawser.engine.commands import Role
from hawser.engine.exposure import covered_steps
from hawser.engine.guarding import cancels
from hawser.engine.reasons import Reason, words
from hawser.engine.requests import Desk
from hawser.engine.rigging import loss_parts, target_parts
from hawser.engine.state import Order, TargetLine, Trade
from hawser.engine.verdict import entry_verdict

RETRY = 250 * MILLISECOND
EXPOSED_RETRY = 100 * MILLISECOND
TARGET_RETRY = 2 * SECOND
MOST_CLOSES = 4  # under way at once
EMERGENCY = 2  # times the least distance, for a stop that covers a trade while it is being closed
# Part of the policy's deadline given to attaching a stop; what is left is for getting out.
ATTACH_SHARE = 0.5
PART_ROLES: tuple[Role, ...] = ("target", "loss")
ROLE_NAMES = {"target": "target", "loss": "loss step"}


def signal(desk: Desk, trade: Trade, name: str) -> None:
    trade.state = states.next_trade_state(trade.state, name)


def converge(desk: Desk, trade: Trade) -> None:
    """Send whatever separates what the venue holds for `trade` from what it should hold."""
    if trade.state in (states.PLANNED, states.ENDED):
        _sweep(desk, trade)
        return
    _want_entry(desk, trade)
    if trade.open_steps == 0:
        _without_position(desk, trade)
        return
    _want_stop(desk, trade)
    _judge_cover(desk, trade)
    if trade.leave:
        _want_close(desk, trade)
    _want_parts(desk, trade)
    _want_rungs(desk, trade)
    _want_minute(desk, trade)


def _want_entry(desk: Desk, trade: Trade) -> None:
    """What still waits of the entry: to another level where it is being moved, away once anything was closed."""
    order = desk.state.orders.get(trade.entry)
    if order is None or order.over or order.pending or order.state != states.RESTING or not _due(desk, order.retry_at):
        return
    if trade.leave or trade.closed:
        desk.cancel(trade, order, words(trade.leave, desk.currency) or "the trade is being closed")
    elif cancels(desk.state, trade):
        desk.cancel(trade, order, "a guard is closed")
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
            if not order.pending:
                desk.cancel(trade, order, "no position left")


def _judge_cover(desk: Desk, trade: Trade) -> None:
    """Exposed or protected, and the deadline that goes with exposed."""
    covered = covered_steps(desk.state, trade) >= trade.open_steps
    if trade.state == states.EXPOSED and covered:
        signal(desk, trade, "cover")
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
        trade.stop_failures, trade.hurried = 0, False


def deadline(desk: Desk, trade: Trade, since: int) -> None:
    """The time to attach a stop is up."""
    if trade.exposed_since != since or not trade.open_steps:
        return
    desk.tell("alarm", "deadline", "No stop could be attached in time: closing at market", trade)
    leave(desk, trade, Reason(rs.NO_COVER))
    # Nothing waits for the end of an earlier pause now, and the stop is tried again beside the close.
    trade.hurried = True
    trade.close_retry_at = trade.stop_retry_at = 0
    converge(desk, trade)


def leave(desk: Desk, trade: Trade, why: Reason) -> None:
    """Decide to close `trade` at market; `converge` carries it out. The first reason counts."""
    trade.leave = trade.leave or why
    if trade.state in (states.EXPOSED, states.PROTECTED):
        signal(desk, trade, "leave")


def _want_stop(desk: Desk, trade: Trade) -> None:
    live = desk.state.orders_of(trade, "stop")
    if not live:
        if _due(desk, trade.stop_retry_at) and not _close_sets_out(desk, trade):
            desk.submit(trade, "stop", "stop", trade.open_steps, _restable(desk, trade), trade.stop_why)
        return
    order = next((order for order in live if order.state == states.RESTING), live[0])
    for other in live:
        if other is not order and other.state == states.RESTING and not other.pending:
            desk.cancel(trade, other, "another stop rests for the position")
    if order.pending or order.state != states.RESTING or not _due(desk, order.retry_at):
        return
    needed = order.filled + trade.open_steps
    level = trade.venue_stop
    if order.level != level or order.steps != needed:
        open_qty = desk.state.instruments[trade.symbol].qty(trade.open_steps)
        moves = order.level != level
        why = trade.stop_why if moves else f"Stop quantity follows the position: {open_qty}"
        desk.amend(trade, order, level, needed, why, trade.stop_code if moves else rs.QTY)


def _restable(desk: Desk, trade: Trade) -> int:
    """The stop's level; farther out where time is up and the market stands too near to it: some cover is better than
    none while the trade is being closed, and it is told."""
    wanted = trade.venue_stop
    if not trade.hurried:
        return wanted
    instrument, market = desk.state.instruments[trade.symbol], desk.state.markets[trade.symbol]
    nearest = market.exit_side(trade.side) - trade.side * EMERGENCY * max(1, instrument.min_stop_ticks)
    level = max(1, min(wanted, nearest) if trade.side > 0 else max(wanted, nearest))
    if level != wanted:
        text = f"The stop cannot rest so near: one at {instrument.price(level)} covers the trade while it is closed"
        desk.tell("alarm", "emergency_stop", text, trade)
    return level


def _close_sets_out(desk: Desk, trade: Trade) -> bool:
    """A close has just been sent, and before its time is up nothing says that it needs a stop beside it."""
    closes = desk.state.orders_of(trade, "close")
    return not trade.hurried and any(order.state == states.SENDING for order in closes)


def _want_close(desk: Desk, trade: Trade) -> None:
    """One close at a time; more beside it where the time without cover is up and nothing is heard of those sent: no
    close ever fills beyond the position, so that a second does no harm."""
    closes = desk.state.orders_of(trade, "close")
    unheard = trade.hurried and len(closes) < MOST_CLOSES and all(order.silences for order in closes)
    if (not closes or unheard) and _due(desk, trade.close_retry_at):
        desk.submit(trade, "close", "market", trade.open_steps, None, words(trade.leave, desk.currency))


def nearest(trade: Trade, role: Role) -> list[TargetLine]:
    """The targets or loss steps of a trade, that first which the market reaches first."""
    lines, way = (trade.targets, 1) if role == "target" else (trade.losses, -1)
    return sorted(lines, key=lambda line: way * trade.side * line.level)


def part_wants(trade: Trade, role: Role) -> dict[int, int]:
    """What each target or loss step has still to take of what is open, in steps, by number; the nearest first, and a
    loss step at or beyond the stop is void."""
    parts = target_parts(trade, trade.entered - trade.fresh) if role == "target" else loss_parts(trade)
    room, wants = trade.open_steps, {}
    for line in nearest(trade, role):
        void = role == "loss" and trade.side * (line.level - trade.stop) <= 0
        wants[line.number] = 0 if void else min(room, max(0, parts[line.number] - line.filled))
        room -= wants[line.number]
    return wants


def _want_parts(desk: Desk, trade: Trade) -> None:
    """Targets and loss steps rest only beside a stop, and are taken back when the trade is leaving, or holds its lines
    itself."""
    _give_up(desk, trade, "target", trade.targets)
    _give_up(desk, trade, "loss", trade.losses)
    if trade.leave or trade.held or trade.state != states.PROTECTED:
        return
    for role in PART_ROLES:
        wants = part_wants(trade, role)
        resting_for = {order.number: order for order in desk.state.orders_of(trade, role)}
        for line in nearest(trade, role):
            _want_part(desk, trade, role, line, resting_for.get(line.number), wants[line.number])


def _give_up(desk: Desk, trade: Trade, role: Role, lines: list[TargetLine]) -> None:
    """Cancel what rests without a line, or beside a trade that is leaving."""
    numbers = {line.number for line in lines}
    for order in desk.state.orders_of(trade, role):
        gone, held = order.number not in numbers, trade.held and order.kind != "market"
        if (trade.leave or gone or held) and not order.pending:
            why = "the lines are held here" if held else f"no {ROLE_NAMES[role]} there any more"
            desk.cancel(trade, order, "the trade is being closed" if trade.leave else why)


def _want_part(desk: Desk, trade: Trade, role: Role, line: TargetLine, order: Order | None, want: int) -> None:
    if not _due(desk, line.retry_at):
        return
    why = f"{ROLE_NAMES[role]} {line.number}"
    if order is None:
        if want and role == "target":
            desk.submit(trade, role, "limit", want, line.level, why, line.number)
        elif want:
            _send_loss(desk, trade, line, want)
    elif not order.pending and order.state == states.RESTING and order.kind != "market" and _due(desk, order.retry_at):
        if not want:
            desk.cancel(trade, order, f"nothing left for this {role}")
        elif order.level != line.level and _passed(desk, trade, role, line):
            desk.cancel(trade, order, "the market is beyond its new level")  # where a new one fills at once
        elif order.level != line.level or order.left != want:
            instrument, moved = desk.state.instruments[trade.symbol], order.level != line.level
            why = why[0].upper() + why[1:]
            told = f"to {instrument.price(line.level)}" if moved else f"follows the position: {instrument.qty(want)}"
            desk.amend(trade, order, line.level, order.filled + want, f"{why} {told}", rs.PART)


def _passed(desk: Desk, trade: Trade, role: Role, line: TargetLine) -> bool:
    """Whether the market is at a target or a loss step, or beyond it."""
    way = 1 if role == "target" else -1
    return way * trade.side * (desk.state.markets[trade.symbol].exit_side(trade.side) - line.level) >= 0


def _want_rungs(desk: Desk, trade: Trade) -> None:
    """The further entries of a ladder set out beside a stop, and are taken back when the trade is leaving."""
    if not trade.rungs:
        return
    none = bool(trade.leave) or cancels(desk.state, trade)
    wants = {rung.number: 0 if none else rung.steps - rung.filled for rung in trade.rungs}
    live = desk.state.orders_of(trade, "rung")
    for order in live:
        if wants[order.number] <= 0 and not order.pending:
            why = words(trade.leave, desk.currency)
            why = why or ("a guard is closed" if none else "no rung there any more")
            desk.cancel(trade, order, why)
    closed = entry_verdict(desk.state, trade.symbol, trade.side, trade.plan.source)
    # A rung is part of an entry that was counted when it was made.
    if none or trade.state != states.PROTECTED or any(one.code != "trade_count" for one in closed):
        return
    sent = [desk.state.orders[name] for name in trade.order_ids]
    under_way = {
        order.number for order in sent if order.role == "rung" and (not order.over or order.owed > order.filled)
    }
    for rung in trade.rungs:
        if wants[rung.number] > 0 and rung.number not in under_way and _due(desk, rung.retry_at):
            why = f"rung {rung.number} of {trade.rungs[-1].number}"
            desk.submit(trade, "rung", "limit", wants[rung.number], rung.level, why, rung.number)


def _want_minute(desk: Desk, trade: Trade) -> None:
    """A basket that counts at each minute's end has its own timer: a quiet market has no quote in that second."""
    rig = trade.plan.rig
    if rig is None or rig.basket is None or rig.basket.basis != "minute_end" or trade.minute_at > desk.state.now:
        return
    now = desk.state.now
    trade.minute_at = next_minute_end(now)
    desk.later(f"minute:{trade.id}", trade.minute_at - now)


def _send_loss(desk: Desk, trade: Trade, line: TargetLine, want: int) -> None:
    """A loss step rests as a stop; where the market is there already its part goes at market."""
    why = f"loss step {line.number}"
    if _passed(desk, trade, "loss", line):
        desk.submit(trade, "loss", "market", want, None, f"{why}: the market is there", line.number)
    else:
        desk.submit(trade, "loss", "stop", want, line.level, why, line.number)


def _due(desk: Desk, at: int) -> bool:
    return at <= desk.state.now


def retry_later(desk: Desk, trade: Trade, delay: int = RETRY) -> int:
    """Come back to `trade` after a pause, a short one while it is exposed; returns when."""
    if trade.exposed_since:
        delay = min(delay, EXPOSED_RETRY)
    return desk.later(f"retry:{trade.id}:{desk.number()}", delay)
