"""A picture of the engine's state, taken on its thread."""

from __future__ import annotations

from hawser.core.clock import DAY
from hawser.core.guards.declared import Filter
from hawser.core.heat import heat, locked
from hawser.core.plan import BY_HAND
from hawser.engine.clearance.entries import account_verdict, entry_verdict
from hawser.engine.entries.placing import is_pending
from hawser.engine.model import transitions as states
from hawser.engine.model.exposure import Valuation, covered_steps, resting_level
from hawser.engine.model.reasons import words
from hawser.engine.model.requests import account_now
from hawser.engine.model.rig_levels import target_parts, waiting
from hawser.engine.model.state import EngineState, Trade, TradeBasket
from hawser.engine.rigs.baskets import limits, members, won
from hawser.service.views.news import marks
from hawser.service.views.snapshot import (
    BasketView,
    InstrumentView,
    Snapshot,
    TargetView,
    TradeView,
)


def taken(
    state: EngineState, forming: tuple[float, ...] | None = None, faults: int = 0, watched: str = ""
) -> Snapshot:
    """A picture of the state now; `forming` is the unfinished bar of the instrument and timeframe
    that are watched."""
    account = state.account
    values = Valuation(state)
    staked = values.exposure()
    today = [
        trade
        for trade in state.trades.values()
        if trade.state != states.ENDED or _ended_today(state, trade)
    ]
    shown = [trade for trade in state.trades.values() if trade.state != states.PLANNED]
    trades = tuple(_trade(state, trade, values, trade.symbol == watched) for trade in shown)
    day_r = sum(
        values.result(trade) / trade.entry.planned_risk
        for trade in today
        if trade.entry.planned_risk
    )
    return Snapshot(
        time=state.now,
        currency=account.currency if account else "",
        equity=state.equity,
        balance=state.balance,
        margin_used=state.margin_used,
        day_money=state.equity - state.day_equity if state.day else 0.0,
        day_r=day_r,
        heat=staked.heat,
        locked=staked.locked,
        max_heat_percent=account.policy.max_heat_percent if account else None,
        closed=tuple(account_verdict(state)),
        halted=state.halt is not None,
        halt_why=state.halt.why if state.halt else "",
        link_up=state.link_up,
        instruments=tuple(_instrument(state, symbol) for symbol in state.instruments),
        trades=trades,
        account=account_now(state) if account else None,
        settings=account,
        staked=staked,
        forming=forming,
        exposed=sum(trade.open_steps > 0 and not trade.covered for trade in trades),
        never_widen=account.policy.never_widen if account else False,
        unexplained=tuple(state.unexplained.values()),
        faults=faults,
        left=tuple(
            trade.entry.order_id
            for trade in state.trades.values()
            if trade.left and trade.entry.order_id in state.unexplained
        ),
        baskets=tuple(_basket(state, group) for group in state.baskets.values()),
        guards=tuple(
            one for one in state.guards.guard if isinstance(one, Filter) and one.BY_PLAN and one.on
        ),
        measures={symbol: dict(found) for symbol, found in state.measures.items()},
    )


def _basket(state: EngineState, group: TradeBasket) -> BasketView:
    live = sum(trade.state != states.ENDED for trade in members(state, group.name))
    return BasketView(group.name, won(state, group), *limits(group), live)


def _ended_today(state: EngineState, trade: Trade) -> bool:
    return trade.ended // DAY == state.day


def _instrument(state: EngineState, symbol: str) -> InstrumentView:
    market = state.markets.get(symbol)
    spans = {span: state.atr(symbol, span) for span in state.spans.get(symbol, ())}
    bid, ask, time = (market.bid, market.ask, market.time) if market else (0, 0, 0)
    return InstrumentView(
        instrument=state.instruments[symbol],
        bid=bid,
        ask=ask,
        time=time,
        open=market.open if market else False,
        until=market.until if market else 0,
        atr=spans,
        closed=tuple(entry_verdict(state, symbol, source=BY_HAND)),
        news=marks(state.calendars, state.instruments[symbol], state.guards),
    )


def _trade(state: EngineState, trade: Trade, values: Valuation, closely: bool) -> TradeView:
    money, held = values.result(trade), values.stake(trade)
    live = trade.state != states.ENDED
    market, entry = state.markets.get(trade.symbol), state.orders.get(trade.entry.order_id)
    price = market.exit_side(trade.side) if market else trade.ref
    return TradeView(
        id=trade.id,
        ask_id=trade.ask_id,
        symbol=trade.symbol,
        side=trade.side,
        state=trade.state,
        covered=covered_steps(state, trade) >= trade.open_steps,
        exposed_since=trade.cover.exposed_since,
        plan=trade.plan,
        entry=trade.entry_price,
        ref=trade.ref,
        r_ticks=trade.r_ticks,
        steps=trade.entered or trade.entry.asked_steps,
        open_steps=trade.open_steps,
        stop=trade.stop,
        resting_stop=resting_level(state, trade),
        initial_stop=trade.cover.initial_stop,
        trace=tuple(trade.cover.trace),
        targets=_targets(state, trade),
        opened=trade.opened,
        ended=trade.ended,
        best_exit=trade.progress.best_exit,
        break_even=trade.break_even_level,
        money=money,
        result_r=money / trade.entry.planned_risk if trade.entry.planned_risk else 0.0,
        price_r=trade.side * (price - trade.ref) / trade.r_ticks,
        heat=heat(held) if live else 0.0,
        locked=locked(held) if live else 0.0,
        end_reason=words(trade.end, values.currency),
        leaving=trade.leave is not None,
        trail=trade.plan.trail is not None,
        pending=is_pending(state, trade),
        until=entry.until if entry else 0,
        group=trade.entry.group,
        backstop=trade.cover.backstop if trade.held else 0,
        moving_to=trade.entry.moving.ref if trade.entry.moving else 0,
        rig=trade.plan.rig.name if trade.plan.rig else "",
        basket=trade.progress.basket,
        waiting=tuple(waiting(state, trade)) if closely and live and trade.open_steps else (),
    )


def _targets(state: EngineState, trade: Trade) -> tuple[TargetView, ...]:
    resting = {
        order.number for order in state.orders_of(trade, "target") if order.state == states.RESTING
    }
    parts = target_parts(trade, trade.entered or trade.entry.asked_steps)
    return tuple(
        TargetView(
            number=line.number,
            level=line.level,
            r=trade.side * (line.level - trade.ref) / trade.r_ticks,
            steps=parts[line.number],
            filled=line.filled,
            resting=line.number in resting,
            share=line.share,
        )
        for line in trade.targets
        if line.level > 0
    )
