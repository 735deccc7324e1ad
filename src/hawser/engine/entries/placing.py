"""From a plan to an entry: size it, send it, move it while it waits, link entries so that one fill
cancels the others.

A plan comes to `Terms` at one level and one moment; a pending entry that is moved comes to new
ones, which hold once the venue has accepted the move. Refused with a sentence where the guards, the
reckoning or the level say no.
"""

from __future__ import annotations

import math
from decimal import Decimal

import msgspec

from hawser.core import figures as fg
from hawser.core.clock import timeframe_name
from hawser.core.entry import EntryRule
from hawser.core.errors import Refused
from hawser.core.hours import ever_closes
from hawser.core.indicator_values import own_atr
from hawser.core.instrument import Instrument
from hawser.core.levels import StopRule, TargetRule
from hawser.core.numbers import or_nan
from hawser.core.plan import Plan, bars_of
from hawser.core.rig import Ladder
from hawser.core.rules.entries import backstop_behind
from hawser.core.sizing import sized
from hawser.engine import events as ev
from hawser.engine.clearance.entries import entry_verdict
from hawser.engine.entries import fleets
from hawser.engine.model import reasons as rs
from hawser.engine.model import rig_levels
from hawser.engine.model import transitions as states
from hawser.engine.model.exposure import Exposure, Valuation
from hawser.engine.model.reasons import Reason
from hawser.engine.model.requests import account_now, need_equity, request_for
from hawser.engine.model.state import EngineState, EntryTerms, EntryValues, Rung, TargetLine, Trade
from hawser.engine.outbox import OVERDUE, Outbox
from hawser.engine.protection.converge import advance_trade, converge, leave


def terms_of(
    state: EngineState,
    plan: Plan,
    marks: EntryValues,
    without: Trade | None = None,
    beside: tuple[EntryTerms, ...] = (),
) -> EntryTerms:
    """What the plan comes to now, beside all that the account stakes but `without`; raises
    Refused."""
    # All refusals come from here, in the order of section 5, whether the plan is placed, moved or
    # only looked at.
    market, instrument = state.markets[plan.symbol], state.instruments[plan.symbol]
    atr, basis = atr_of(state, plan, marks), marks.basis
    check_rig(plan, instrument, state.spans.get(plan.symbol, ()))
    staked = Valuation(state).exposure(without)
    staked = _with(staked, instrument, sum(terms.risk for terms in beside))
    count = sum(trade is not without for trade in state.live()) + len(beside)
    request = request_for(
        plan,
        account_now(state),
        instrument=instrument,
        quote=(market.bid, market.ask),
        atr=atr,
        staked=staked,
        held=count,
        basis=or_nan(basis),
    )
    need_equity(state.equity, request)
    sizing = sized(request)
    if sizing.rungs:  # one target for all, which no plan's line stands for
        lines: tuple[TargetLine, ...] = (TargetLine(1, sizing.rungs[0].target, 1.0),)
    else:
        lines = tuple(
            TargetLine(
                target.number,
                target.level,
                plan.targets[target.number - 1].share,
                rule=target.number,
            )
            for target in sizing.targets
            if target.r
        )
    # A level that was typed as a distance is a level from here on: it must not follow the market
    # while it waits.
    if plan.entry.pending:
        plan = msgspec.structs.replace(plan, entry=plan.entry.moved(sizing.ref, instrument))
    return EntryTerms(
        plan=plan,
        ref=sizing.ref,
        r_ticks=sizing.r_ticks,
        steps=sizing.steps,
        risk=sizing.risk_money,
        stop=sizing.stop,
        targets=lines,
        atr=None if math.isnan(atr) else atr,
        basis=basis,
        losses=rig_levels.loss_lines(plan, instrument, sizing.ref, sizing.r_ticks),
        rungs=tuple(
            Rung(rung.number, rung.level, rung.steps) for rung in sizing.rungs[1:] if rung.steps
        ),
    )


def _with(staked: Exposure, instrument: Instrument, risk: float) -> Exposure:
    """What is staked with a further risk in one instrument."""
    by_currency = {**staked.by_currency}
    for name in instrument.exposure:
        by_currency[name] = by_currency.get(name, 0.0) + risk
    return msgspec.structs.replace(staked, heat=staked.heat + risk, by_currency=by_currency)


def check_rig(plan: Plan, instrument: Instrument, spans: tuple[int, ...] = ()) -> None:
    """Refuse a plan that could not be tended; raises Refused. `spans`: the bar lengths there are,
    none where nobody says."""
    rig = plan.rig
    for span in bars_of(plan) if spans else ():
        if span not in spans:
            there = ", ".join(map(timeframe_name, spans))
            sentence = (
                f"Bars of {timeframe_name(span)} cannot be made of this history; there are {there}."
            )
            raise Refused("no_timeframe", sentence, span=span)
    if rig is None:
        return
    timed = rig.time_exit
    if timed is not None and timed.session_end and not ever_closes(instrument.sessions):
        raise Refused(
            "no_session_end",
            f"{instrument.symbol} has no sessions, so the rig's time exit never comes.",
        )


def no_ladder(plan: Plan) -> None:
    """Refuse a ladder on what is open already: its entries are sized before the first is sent.
    Raises Refused."""
    if plan.rig is not None and plan.rig.ladder is not None:
        raise Refused(
            "ladder",
            "A ladder is sized before its first entry: it cannot be put on what is open already.",
        )


def atr_of(state: EngineState, plan: Plan, marks: EntryValues) -> float:
    """The ATR that the plan means, price units; NaN where it has no value. Raises Refused where
    steps need it."""
    if own_atr(plan):
        atr = or_nan(marks.atr)
    else:
        atr = state.atr(plan.symbol, plan.timeframe_ns)
    steps = plan.rig.step if plan.rig is not None else ()
    if not atr > 0 and any(
        measure.atr is not None for one in steps for measure in (one.at, one.to)
    ):
        raise Refused("indicator_not_ready", "The ATR has no value yet: the rig's steps need it.")
    return atr


def _may_enter(
    outbox: Outbox, plan: Plan, ask_id: str, side: int = 0, r_ticks: float = math.nan
) -> bool:
    state, symbol = outbox.state, plan.symbol
    if symbol not in state.instruments:
        outbox.tell(
            "refused",
            "no_instrument",
            f"{symbol} is not an instrument of this venue",
            ask_id=ask_id,
        )
        return False
    closed = entry_verdict(state, symbol, side, plan.source, r_ticks)
    if closed:
        text = "; ".join(reason.text for reason in closed)
        outbox.tell("refused", closed[0].code, f"Entries closed: {text}", ask_id=ask_id)
    return not closed


def _asked_before(outbox: Outbox, ask_id: str) -> bool:
    """One ask gives at most one trade."""
    twice = any(trade.ask_id == ask_id for trade in outbox.state.trades.values())
    if twice:
        outbox.tell("info", "asked_twice", "This request was already carried out", ask_id=ask_id)
    return twice


def place(outbox: Outbox, ask: ev.PlaceTrade) -> None:
    """Size the plan at this moment's quote and send its entry."""
    state, plan = outbox.state, ask.plan
    if _asked_before(outbox, ask.ask_id) or not _may_enter(outbox, plan, ask.ask_id, plan.side):
        return
    try:
        terms = terms_of(state, plan, EntryValues(ask.basis, ask.atr))
        bound = plan.entry.bound(
            ask.seen if ask.seen and not plan.entry.pending else terms.ref, plan.side
        )
        if bound is not None and plan.side * (terms.ref - bound) > 0:
            price = state.instruments[plan.symbol].price
            sentence = (
                f"The market at {price(terms.ref)} is beyond {price(bound)}, the worst price the "
                "entry may fill at."
            )
            raise Refused("slippage", sentence)
        until = plan.entry.good.until(state.now, state.markets[plan.symbol].until)
    except Refused as refusal:
        outbox.tell("refused", refusal.code, f"Not placed: {refusal.sentence}", ask_id=ask.ask_id)
        return
    if _may_enter(outbox, plan, ask.ask_id, plan.side, terms.r_ticks):
        trade = enter(outbox, ask.ask_id, terms, bound, until)
        trade.entry.chain = ask.chain
        fleets.join(outbox, trade)


def place_straddle(outbox: Outbox, ask: ev.PlaceStraddle) -> None:
    """Both sides or none, one OCO group."""
    state, plan = outbox.state, ask.plan
    if any(_asked_before(outbox, f"{ask.ask_id}-{word}") for word in ("long", "short")):
        return
    if not all(_may_enter(outbox, plan, ask.ask_id, side) for side in (1, -1)):
        return
    found: list[EntryTerms] = []
    try:
        for side, basis in zip((1, -1), ask.bases, strict=True):
            entry = EntryRule(
                "stop", atr=ask.atr, within_ticks=plan.entry.within_ticks, good=plan.entry.good
            )
            one = msgspec.structs.replace(plan, side=side, entry=entry)
            found.append(terms_of(state, one, EntryValues(basis, ask.own_atr), beside=tuple(found)))
        until = plan.entry.good.until(state.now, state.markets[plan.symbol].until)
    except Refused as refusal:
        outbox.tell(
            "refused", refusal.code, f"Straddle not placed: {refusal.sentence}", ask_id=ask.ask_id
        )
        return
    if not all(
        _may_enter(outbox, plan, ask.ask_id, terms.plan.side, terms.r_ticks) for terms in found
    ):
        return
    trades = []
    for word, terms in zip(("long", "short"), found, strict=True):
        bound = terms.plan.entry.bound(terms.ref, terms.plan.side)
        trades.append(enter(outbox, f"{ask.ask_id}-{word}", terms, bound, until))
    _group(outbox, trades, ask.ask_id)


def enter(outbox: Outbox, ask: str, terms: EntryTerms, bound: int | None, until: int) -> Trade:
    """A trade on these terms, its entry on the way."""
    state, plan = outbox.state, terms.plan
    trade = new_trade(outbox, ask, terms)
    advance_trade(outbox, trade, "send")
    instrument = state.instruments[plan.symbol]
    assert state.account is not None
    share = 100.0 * terms.risk / state.equity if state.equity else 0.0
    why = (
        f"risk {fg.money(terms.risk, state.account.currency)} = {fg.percent(share, 3)} of equity, "
        f"stop {instrument.price(terms.stop)}, R {terms.r_ticks} t"
    )
    level = terms.ref if plan.entry.pending else None
    trade.entry.order_id = outbox.submit(
        trade,
        "entry",
        kind=plan.entry.kind,
        steps=terms.steps,
        level=level,
        why=why,
        bound=bound,
        until=until,
    ).id
    return trade


def session_ends(outbox: Outbox, symbol: str, at: int) -> None:
    """The venue says when the session ends: what waits until then waits no longer, where that is
    earlier than it was when it was placed. The venue may keep to the time it was given: it is taken
    back by our clock."""
    for trade in outbox.state.trades_in(symbol):
        waits = outbox.state.orders_of(trade, "entry") if trade.plan.entry.good.session_end else []
        for order in waits:
            if order.until > at:
                order.until = at
                outbox.later(f"until:{order.id}", at - outbox.state.now + OVERDUE)


def new_trade(outbox: Outbox, ask_id: str, terms: EntryTerms) -> Trade:
    """A trade on these terms in the state; nothing is sent."""
    state, plan = outbox.state, terms.plan
    trade = Trade(
        id=f"T{outbox.number()}",
        ask_id=ask_id,
        symbol=plan.symbol,
        side=plan.side,
        plan=plan,
        placed=state.now,
    )
    _apply(trade, terms)
    state.trades[trade.id] = trade
    state.by_symbol.setdefault(trade.symbol, []).append(trade.id)
    return trade


def _apply(trade: Trade, terms: EntryTerms) -> None:
    trade.plan, trade.ref, trade.r_ticks = terms.plan, terms.ref, terms.r_ticks
    trade.stop = trade.cover.initial_stop = terms.stop
    trade.entry.asked_steps, trade.entry.planned_risk = terms.steps, terms.risk
    trade.targets = [
        TargetLine(line.number, line.level, line.share, rule=line.rule) for line in terms.targets
    ]
    trade.losses = [
        TargetLine(line.number, line.level, line.share, rule=line.rule) for line in terms.losses
    ]
    trade.ladder.rungs = [Rung(rung.number, rung.level, rung.steps) for rung in terms.rungs]
    trade.entry.atr, trade.entry.basis = terms.atr, terms.basis
    lay_backstop(trade)


def lay_backstop(trade: Trade) -> None:
    """The wider stop of held lines, as far behind the stop as it began; it never moves away from
    the market."""
    if trade.plan.held is None:
        trade.cover.backstop = 0
        return
    behind = backstop_behind(trade.r_ticks, float(trade.plan.held.backstop_r))
    level = max(1, trade.stop - trade.side * behind)
    if not trade.cover.backstop or trade.side * (level - trade.cover.backstop) > 0:
        trade.cover.backstop = level


# Moving what waits


def move_entry(outbox: Outbox, ask: ev.MoveEntry) -> None:
    """A pending entry to another level; the plan is sized anew from there."""
    trade = pending_trade(outbox, ask.trade, ask.ask_id)
    if trade is None:
        return
    instrument = outbox.state.instruments[trade.symbol]
    if ask.level <= 0:
        problem = f"Not moved: {instrument.price(ask.level)} is not a price"
        outbox.tell("refused", "not_positive", problem, trade, ask.ask_id)
        return
    plan = msgspec.structs.replace(
        latest_plan(trade), entry=trade.plan.entry.moved(ask.level, instrument)
    )
    marks = EntryValues(
        trade.entry.basis if ask.basis is None else ask.basis,
        trade.entry.atr if ask.atr is None else ask.atr,
    )
    replan(outbox, trade, plan, ask.ask_id, marks)


def latest_plan(trade: Trade) -> Plan:
    """The plan that a pending entry is on its way to."""
    latest = _latest(trade)
    return latest.plan if latest is not None else trade.plan


def _latest(trade: Trade) -> EntryTerms | None:
    return trade.entry.then or trade.entry.moving


def replan(
    outbox: Outbox, trade: Trade, plan: Plan, ask: str, marks: EntryValues | None = None
) -> None:
    """Size a pending entry anew by `plan`; its terms hold once the venue has accepted them."""
    marks = marks or EntryValues(trade.entry.basis, trade.entry.atr)
    try:
        terms = terms_of(outbox.state, plan, marks, without=trade)
    except Refused as refusal:
        outbox.tell("refused", refusal.code, f"Not moved: {refusal.sentence}", trade, ask)
        return
    if trade.entry.moving is not None and outbox.state.orders[trade.entry.order_id].pending:
        trade.entry.then = terms
    else:
        trade.entry.moving, trade.entry.then = (
            terms,
            None,
        )  # what was asked for earlier does not come after it
    outbox.state.orders[trade.entry.order_id].retry_at = 0
    converge(outbox, trade)


def resize(outbox: Outbox, trade: Trade, level: int) -> None:
    """The venue has a pending entry rest at another level than was asked: its lines are laid from
    there, and it is sized anew, or taken back where it cannot be. Where it fills before it is
    smaller, its stop is as near as was asked.
    """
    state, order = outbox.state, outbox.state.orders[trade.entry.order_id]
    entry = trade.plan.entry.moved(level, state.instruments[trade.symbol])
    plan = msgspec.structs.replace(latest_plan(trade), entry=entry)
    try:
        terms = terms_of(
            state, plan, EntryValues(trade.entry.basis, trade.entry.atr), without=trade
        )
    except Refused:
        leave(
            outbox,
            trade,
            Reason(rs.ENTRY_GONE, name="could not be sized where the venue has it rest"),
        )
        return
    share = order.steps / terms.steps
    trade.entry.moving = msgspec.structs.replace(terms, steps=order.steps, risk=terms.risk * share)
    moved(outbox, trade, level, order.steps)
    if terms.steps < order.steps:  # it may risk too much there: less of it
        trade.entry.moving = terms


def pending_trade(outbox: Outbox, trade_id: str, ask_id: str) -> Trade | None:
    """The trade where its entry waits and nothing has filled; told where not."""
    trade = outbox.state.trades.get(trade_id)
    entry = outbox.state.orders.get(trade.entry.order_id) if trade is not None else None
    if (
        trade is None
        or entry is None
        or entry.over
        or entry.kind == "market"
        or trade.entered
        or trade.leave
    ):
        outbox.tell(
            "refused",
            "not_pending",
            f"The entry of {trade_id} does not wait any more",
            ask_id=ask_id,
        )
        return None
    return trade


def moved(outbox: Outbox, trade: Trade, level: int, steps: int) -> None:
    """The venue says where the entry rests: the terms it was moved to hold from now on."""
    terms = trade.entry.moving
    if terms is None or (terms.ref, terms.steps) != (level, steps):
        return
    trade.entry.moving, trade.entry.then = trade.entry.then, None
    if trade.entered:  # it filled on its way: the stop that may rest already is not loosened
        return
    instrument, old = outbox.state.instruments[trade.symbol], trade.ref
    trade.cover.backstop = 0
    _apply(trade, terms)
    at = instrument.price(terms.ref)
    where = f"{instrument.price(old)} \u2192 {at}" if old != terms.ref else f"stays at {at}, now"
    text = f"Entry {where} for {instrument.qty(terms.steps)}, stop {instrument.price(terms.stop)}"
    outbox.tell("info", "entry_moved", text, trade)


def pinned_stop(trade: Trade, level: int, instrument: Instrument) -> Plan:
    """The pending trade's plan with its stop at a price; raises Refused where a ladder's would not
    lie beyond it."""
    rig, stop = latest_plan(trade).rig, (_latest(trade) or trade).stop
    if rig is not None and rig.ladder is not None:
        behind = (rig.ladder.stop_ticks or 0.0) + trade.side * (stop - level)
        if behind < 1:
            raise Refused("stop_in_ladder", "A ladder's stop stays beyond its last rung.")
        return _reladdered(trade, msgspec.structs.replace(rig.ladder, stop_ticks=behind))
    return msgspec.structs.replace(
        latest_plan(trade), stop=StopRule(price=Decimal(instrument.price(level)))
    )


def pinned_target(trade: Trade, number: int, level: int, instrument: Instrument) -> Plan | None:
    """The pending trade's plan with one target at a price; None where what it is moved to has no
    such target."""
    plan = latest_plan(trade)
    if plan.rig is not None and plan.rig.ladder is not None:
        beyond = float(trade.side * (level - (_latest(trade) or trade).ref))
        if beyond <= 0:
            return None
        return _reladdered(trade, msgspec.structs.replace(plan.rig.ladder, target_ticks=beyond))
    if level <= 0 or number > len(plan.targets):
        return None
    rules = list(plan.targets)
    rules[number - 1] = TargetRule(
        share=rules[number - 1].share, price=Decimal(instrument.price(level))
    )
    return msgspec.structs.replace(plan, targets=tuple(rules))


def _reladdered(trade: Trade, ladder: Ladder) -> Plan:
    plan = latest_plan(trade)
    assert plan.rig is not None
    return msgspec.structs.replace(plan, rig=msgspec.structs.replace(plan.rig, ladder=ladder))


# OCO groups


def link(outbox: Outbox, ask: ev.LinkEntries) -> None:
    """Pending entries become one group."""
    names = tuple(dict.fromkeys(ask.trades))
    trades = [pending_trade(outbox, name, ask.ask_id) for name in names]
    found = [trade for trade in trades if trade is not None]
    if len(found) < len(names) or not found:
        return
    if len(found) == 1:
        found[0].entry.group = ""
        outbox.tell("info", "unlinked", "The entry stands alone now", found[0], ask.ask_id)
        return
    _group(outbox, found, ask.ask_id)


def _group(outbox: Outbox, trades: list[Trade], name: str) -> None:
    for trade in trades:
        trade.entry.group = name
    outbox.state.groups[name] = ""
    names = ", ".join(trade.id for trade in trades)
    outbox.tell("info", "linked", f"One cancels the others: {names}", ask_id=name)


def first_fill(outbox: Outbox, trade: Trade) -> None:
    """An entry of a group has filled, even in part: the others are cancelled; a second one is
    closed at once."""
    state = outbox.state
    if not trade.entry.group:
        return
    first = state.groups.get(trade.entry.group, "")
    if first and first != trade.id:
        text = (
            f"Two entries of an OCO group filled, {first} before this one: this one is closed "
            "at once"
        )
        outbox.tell("alarm", "oco_second", text, trade)
        leave(outbox, trade, Reason(rs.OCO, name=first))
        return
    state.groups[trade.entry.group] = trade.id
    for other in state.live():
        if other.entry.group == trade.entry.group and other is not trade and not other.leave:
            leave(outbox, other, Reason(rs.OCO, name=trade.id))
            converge(outbox, other)


def is_pending(state: EngineState, trade: Trade) -> bool:
    """Its entry waits at a level and nothing has filled."""
    entry = state.orders.get(trade.entry.order_id)
    return (
        trade.state == states.ENTERING
        and not trade.entered
        and entry is not None
        and entry.kind != "market"
    )
