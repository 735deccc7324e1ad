"""What comes after a trade has ended: the other side where it was turned around, a follow-on where
its rig says so.

Both are new entries like any other: sized and levelled afresh, and refused where a guard is closed.
"""

from __future__ import annotations

import msgspec

from hawser.core import figures as fg
from hawser.core.entry import EntryRule
from hawser.core.hours import opened_since
from hawser.core.plan import Plan
from hawser.core.rules.bar_close import follow_on
from hawser.core.rules.inside_bar import LOSS_STEP, STOP, TARGET
from hawser.engine import events as ev
from hawser.engine.entries.placing import place
from hawser.engine.model import reasons as rs
from hawser.engine.model import transitions as states
from hawser.engine.model.rig_levels import setup_for
from hawser.engine.model.state import EngineState, Trade, bar_key
from hawser.engine.outbox import Outbox


def at_a_price(plan: Plan) -> bool:
    """Whether a line of the plan stands at a price, which another trade could not use."""
    return any(rule is not None and rule.price is not None for rule in (plan.stop, *plan.targets))


def _again(trade: Trade, side: int) -> Plan:
    return msgspec.structs.replace(trade.plan, side=side, entry=EntryRule())


def turned_plan(trade: Trade) -> Plan:
    """The plan for the other side."""
    return _again(trade, -trade.side)


def turned(outbox: Outbox, trade: Trade, event: ev.TimerFired) -> None:
    """The trade that was turned around has ended: the other side, as any new entry."""
    if not _in_time(outbox, trade, "Turning around"):
        return
    ask_id = f"{trade.progress.turn}-turned"
    place(
        outbox,
        ev.PlaceTrade(
            time=outbox.state.now,
            ask_id=ask_id,
            plan=turned_plan(trade),
            basis=event.basis,
            atr=event.atr,
        ),
    )


def _in_time(outbox: Outbox, trade: Trade, what: str) -> bool:
    """Whether what was to come after the trade still may: not before the two sides agree and the
    market is open, and not once a further bar has completed, or as much time has passed while the
    link was lost or Hawser did not run. A night without bars is no delay: a rehearsal enters at the
    next open too."""
    state, span = outbox.state, trade.plan.timeframe_ns
    market, last = state.markets.get(trade.symbol), state.bars.get(bar_key(trade.symbol, span))
    # a late fill may have opened it again
    if not trade.progress.due or trade.state != states.ENDED or not state.reconciled:
        return False
    late = last is not None and last.opened > trade.ended - trade.ended % span
    # out of touch meanwhile: the market may have gone on without a bar told
    if state.linked_at > trade.ended:
        opened = opened_since(state.instruments[trade.symbol].sessions, state.now)
        late = late or state.now - max(trade.ended, opened) > span
    if not late and (market is None or not market.open):
        return False  # it opens again, and says so
    trade.progress.due = ""
    if late:
        outbox.tell(
            "caution",
            "lapsed",
            f"{what} lapsed: more than a bar has passed since the trade ended",
            trade,
        )
    return not late


def following(state: EngineState, trade: Trade) -> Plan | None:
    """The plan that follows a trade by its rig; None: there is no such."""
    rig = trade.plan.rig
    if rig is None or rig.follow_on is None or trade.progress.turn or state.halt is not None:
        return None
    setup = setup_for(trade.plan, state.instruments[trade.symbol])
    allowed = setup.entry
    side = follow_on(
        setup,
        trade.side,
        ref=trade.ref,
        last=_last(trade),
        stop=trade.stop,
        chain=trade.entry.chain,
    )
    if (
        not side
        or at_a_price(trade.plan)
        or not allowed.first_time <= state.now < allowed.last_time
    ):
        return None
    return _again(trade, side)


def _last(trade: Trade) -> int:
    """What closed the last of it, as the rules name it."""
    code = trade.end.code if trade.end is not None else ""
    return STOP if code in rs.BY_STOP else TARGET if code == rs.TARGET else LOSS_STEP


def followed(outbox: Outbox, trade: Trade, event: ev.TimerFired) -> None:
    """The trade has ended by a target or its stop: its follow-on."""
    if not _in_time(outbox, trade, "The follow-on"):
        return
    plan = following(outbox.state, trade)
    if plan is None:
        return
    text = f"Follow-on {trade.entry.chain + 1} after {trade.id}: {fg.side_word(plan.side)}"
    outbox.tell("info", "follow_on", text, trade)
    ask = ev.PlaceTrade(
        time=outbox.state.now,
        ask_id=f"{trade.id}-follow",
        plan=plan,
        basis=event.basis,
        atr=event.atr,
        chain=trade.entry.chain + 1,
    )
    place(outbox, ask)
