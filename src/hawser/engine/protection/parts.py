"""What rests beside the stop: targets and loss steps for their parts, the further entries of a
ladder."""

from __future__ import annotations

from hawser.engine.clearance.entries import entry_verdict
from hawser.engine.clearance.guards import cancels, taken_back_by
from hawser.engine.commands import Role
from hawser.engine.model import reasons as rs
from hawser.engine.model import transitions as states
from hawser.engine.model.reasons import words
from hawser.engine.model.rig_levels import loss_parts, target_parts
from hawser.engine.model.state import Order, TargetLine, Trade
from hawser.engine.outbox import Outbox
from hawser.engine.protection.covering import due, most_steps

PART_ROLES: tuple[Role, ...] = ("target", "loss")
ROLE_NAMES = {"target": "target", "loss": "loss step"}


def nearest(trade: Trade, role: Role) -> list[TargetLine]:
    """The targets or loss steps of a trade, that first which the market reaches first."""
    lines, way = (trade.targets, 1) if role == "target" else (trade.losses, -1)
    return sorted(lines, key=lambda line: way * trade.side * line.level)


def part_wants(trade: Trade, role: Role) -> dict[int, int]:
    """What each target or loss step has still to take of what is open, in steps, by number; the
    nearest first. A loss step at or beyond the stop is void, and so is a line where no price is:
    the target of a ladder far down."""
    parts = (
        target_parts(trade, trade.entered - trade.ladder.steps_this_bar)
        if role == "target"
        else loss_parts(trade)
    )
    # The nearest takes first, as the market will: what is left for the farther ones never adds up
    # to more than is open.
    room, wants = trade.open_steps, {}
    for line in nearest(trade, role):
        void = role == "loss" and trade.side * (line.level - trade.stop) <= 0
        wants[line.number] = (
            0 if void or line.level < 1 else min(room, max(0, parts[line.number] - line.filled))
        )
        room -= wants[line.number]
    return wants


def want_parts(outbox: Outbox, trade: Trade) -> None:
    """Targets and loss steps rest only beside a stop, and are taken back when the trade is leaving,
    or holds its lines itself."""
    _give_up(outbox, trade, "target", trade.targets)
    _give_up(outbox, trade, "loss", trade.losses)
    # Not before the stop rests: a target that fills first would leave a stop on its way for more
    # than is open.
    if trade.leave or trade.held or trade.state != states.PROTECTED:
        return
    most = most_steps(outbox, trade)
    for role in PART_ROLES:
        wants = part_wants(trade, role)
        resting_for = {order.number: order for order in outbox.state.orders_of(trade, role)}
        for line in nearest(trade, role):
            # what is more than one order may take follows when that has filled
            want = min(most, wants[line.number])
            _want_part(
                outbox, trade, role=role, line=line, order=resting_for.get(line.number), want=want
            )


def _give_up(outbox: Outbox, trade: Trade, role: Role, lines: list[TargetLine]) -> None:
    """Cancel what rests without a line, or beside a trade that is leaving."""
    numbers = {line.number for line in lines}
    for order in outbox.state.orders_of(trade, role):
        gone, held = order.number not in numbers, trade.held and order.kind != "market"
        if not (trade.leave or gone or held) or order.pending:
            continue
        if due(outbox, trade, role, order.number, order.retry_at):
            why = "the lines are held here" if held else f"no {ROLE_NAMES[role]} there any more"
            outbox.cancel(trade, order, "the trade is being closed" if trade.leave else why)


def _want_part(
    outbox: Outbox, trade: Trade, role: Role, line: TargetLine, order: Order | None, want: int
) -> None:
    why = f"{ROLE_NAMES[role]} {line.number}"
    if order is None:
        if not want or not due(outbox, trade, role, line.number, line.retry_at):
            return
        if role == "target":
            outbox.submit(
                trade, role, kind="limit", steps=want, level=line.level, why=why, number=line.number
            )
        else:
            _send_loss(outbox, trade, line, want)
    elif not order.pending and order.state == states.RESTING and order.kind != "market":
        if (order.level, order.left) == (line.level, want):
            return
        if not due(outbox, trade, role, line.number, max(line.retry_at, order.retry_at)):
            return
        if not want:
            outbox.cancel(trade, order, f"nothing left for this {role}")
        elif order.level != line.level and _passed(outbox, trade, role, line):
            # where a new one fills at once
            outbox.cancel(trade, order, "the market is beyond its new level")
        else:
            instrument, moved = outbox.state.instruments[trade.symbol], order.level != line.level
            why = why[0].upper() + why[1:]
            told = (
                f"to {instrument.price(line.level)}"
                if moved
                else f"follows the position: {instrument.qty(want)}"
            )
            outbox.amend(
                trade,
                order,
                level=line.level,
                steps=order.filled + want,
                why=f"{why} {told}",
                code=rs.PART,
            )


def _passed(outbox: Outbox, trade: Trade, role: Role, line: TargetLine) -> bool:
    """Whether the market is at a target or a loss step, or beyond it."""
    way = 1 if role == "target" else -1
    return (
        way * trade.side * (outbox.state.markets[trade.symbol].exit_side(trade.side) - line.level)
        >= 0
    )


def _send_loss(outbox: Outbox, trade: Trade, line: TargetLine, want: int) -> None:
    """A loss step rests as a stop; where the market is there already its part goes at market."""
    why = f"loss step {line.number}"
    if _passed(outbox, trade, "loss", line):
        outbox.submit(
            trade,
            "loss",
            kind="market",
            steps=want,
            level=None,
            why=f"{why}: the market is there",
            number=line.number,
        )
    else:
        outbox.submit(
            trade, "loss", kind="stop", steps=want, level=line.level, why=why, number=line.number
        )


def want_rungs(outbox: Outbox, trade: Trade) -> None:
    """The further entries of a ladder set out beside a stop, and are taken back when the trade is
    leaving."""
    if not trade.ladder.rungs:
        return
    none = bool(trade.leave) or cancels(outbox.state, trade)
    wants = {rung.number: 0 if none else rung.steps - rung.filled for rung in trade.ladder.rungs}
    live = outbox.state.orders_of(trade, "rung")
    for order in live:
        if (
            wants[order.number] > 0
            or order.pending
            or not due(outbox, trade, "rung", order.number, order.retry_at)
        ):
            continue
        why = words(trade.leave, outbox.currency)
        outbox.cancel(
            trade, order, why or (taken_back_by(trade) if none else "no rung there any more")
        )
    closed = entry_verdict(outbox.state, trade.symbol, trade.side, trade.plan.source)
    # A rung is part of an entry that was counted when it was made.
    if none or trade.state != states.PROTECTED or any(one.code != "trade_count" for one in closed):
        return
    # Also a rung that is over counts while the venue says that it had filled more than was told:
    # its fills are on their way, and one sent again would be a second of it.
    sent = [outbox.state.orders[name] for name in trade.order_ids]
    under_way = {
        order.number
        for order in sent
        if order.role == "rung" and (not order.over or order.told_filled > order.filled)
    }
    most = most_steps(outbox, trade)
    for rung in trade.ladder.rungs:
        want = min(most, wants[rung.number])
        if (
            want > 0
            and rung.number not in under_way
            and due(outbox, trade, "rung", rung.number, rung.retry_at)
        ):
            why = f"rung {rung.number} of {trade.ladder.rungs[-1].number}"
            outbox.submit(
                trade,
                "rung",
                kind="limit",
                steps=want,
                level=rung.level,
                why=why,
                number=rung.number,
            )
