"""A position at the venue that Hawser did not open: taken over as a trade, protected at once.

R begins at the price of that moment; profit and loss count from the position's own entry. No guard
is asked: what is done here only protects.
"""

from __future__ import annotations

import math

from hawser.core import figures as fg
from hawser.core.errors import Refused
from hawser.core.numbers import or_nan
from hawser.core.rules.stops import STOP_OK, stop_verdict
from hawser.engine import events as ev
from hawser.engine.entries.placing import atr_of, check_rig, new_trade, no_ladder
from hawser.engine.model import rig_levels
from hawser.engine.model.exposure import Valuation
from hawser.engine.model.state import EngineState, EntryTerms, EntryValues, TargetLine
from hawser.engine.outbox import Outbox
from hawser.engine.protection.converge import advance_trade, converge
from hawser.engine.protection.covering import MOST_PARTS


def adopt(outbox: Outbox, ask: ev.Adopt) -> None:
    """Take `position` over with the plan's stop, targets, trail and held lines; its size is what it
    is."""
    state = outbox.state
    position = state.unexplained.get(ask.position)
    if position is None:
        outbox.tell(
            "refused",
            "no_position",
            f"There is no unexplained position {ask.position}",
            ask_id=ask.ask_id,
        )
        return
    try:
        terms = _terms(state, position, ask)
    except Refused as refusal:
        outbox.tell("refused", refusal.code, f"Not adopted: {refusal.sentence}", ask_id=ask.ask_id)
        return
    del state.unexplained[ask.position]
    trade = new_trade(outbox, ask.ask_id, terms)
    trade.entry.order_id, trade.opened = position.id, state.now
    trade.entered, trade.entry_value = (
        position.steps,
        position.steps * (position.entry or terms.ref),
    )
    trade.progress.best_exit = state.markets[trade.symbol].exit_side(trade.side)
    trade.entry.equity = state.equity
    risk = Valuation(state).money(trade.symbol, terms.r_ticks, position.steps)
    # a rate is missing: its result in R stays unknown
    trade.entry.planned_risk = 0.0 if math.isnan(risk) else risk
    advance_trade(outbox, trade, "send")
    advance_trade(outbox, trade, "open")
    instrument = state.instruments[trade.symbol]
    currency = state.account.currency if state.account else ""
    text = (
        f"Adopted {fg.side_word(trade.side)} {instrument.qty(position.steps)} {trade.symbol}: stop "
        f"{instrument.price(terms.stop)}, {fg.money(trade.entry.planned_risk, currency)} from here"
    )
    outbox.tell("caution", "adopted", text, trade, ask.ask_id)
    converge(outbox, trade)


def _terms(state: EngineState, position: ev.VenuePosition, ask: ev.Adopt) -> EntryTerms:
    plan, market = ask.plan, state.markets.get(position.symbol)
    no_ladder(plan)
    instrument = state.instruments[position.symbol]
    if (plan.symbol, plan.side) != (position.symbol, position.side):
        raise Refused("other_position", "The plan is not for this position's instrument and side.")
    if market is None or not market.bid:
        raise Refused("no_quote", f"{position.symbol} has no quote yet.")
    rule, atr = plan.stop, atr_of(state, plan, EntryValues(ask.basis, ask.atr))
    check_rig(plan, instrument, state.spans.get(plan.symbol, ()))
    if rule is None or rule.money is not None:
        raise Refused("bad_request", "Adopting needs a stop by distance, price or bars.")
    if (rule.kind == "atr" and not atr > 0) or (rule.from_bars and ask.basis is None):
        raise Refused(
            "indicator_not_ready", "The stop has no value yet: more completed bars are needed."
        )
    side, ref = plan.side, market.exit_side(plan.side)
    basis = or_nan(ask.basis)
    stop = rule.level(
        instrument, ref, atr=atr, side=side, basis=basis, spread=market.ask - market.bid
    )
    if stop_verdict(stop, ref, ref, side, instrument.min_stop_ticks) != STOP_OK:
        raise Refused(
            "stop_too_near",
            f"A stop at {instrument.price(max(stop, 0))} cannot stand at this market.",
        )
    if position.steps > MOST_PARTS * max(1, instrument.qty_max_steps):
        most = instrument.qty(instrument.qty_max_steps)
        text = (
            f"It would need more than {MOST_PARTS} stops, because one order takes {most} at most."
        )
        raise Refused("too_large", f"{text} Close a part of it first.")
    r_ticks = abs(ref - stop)
    lines = []
    for number, target in enumerate(plan.targets, start=1):
        needs_atr = target.kind == "atr" and not atr > 0
        level = 0 if target.off or needs_atr else target.level(instrument, ref, r_ticks, atr, side)
        if level > 0 and side * (level - ref) > 0:
            lines.append(TargetLine(number, level, target.share, rule=number))
    known = None if math.isnan(atr) else atr
    losses = rig_levels.loss_lines(plan, instrument, ref, r_ticks)
    return EntryTerms(
        plan=plan,
        ref=ref,
        r_ticks=r_ticks,
        steps=position.steps,
        risk=0.0,
        stop=stop,
        targets=tuple(lines),
        atr=known,
        basis=ask.basis,
        losses=losses,
    )
