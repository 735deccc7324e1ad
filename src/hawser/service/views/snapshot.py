"""What the desk is shown: immutable pictures of the engine's state, made on the engine's thread."""

from __future__ import annotations

import math

import msgspec

from hawser.core.account import Account
from hawser.core.clock import DAY
from hawser.core.errors import Refused
from hawser.core.guards.context import Closed, EntryContext
from hawser.core.guards.declared import AnyGuard, Filter, SpreadGuard
from hawser.core.guards.filters.base import filter_verdict
from hawser.core.heat import heat, locked
from hawser.core.indicator_values import own_atr
from hawser.core.instrument import Instrument
from hawser.core.plan import BY_HAND, Plan
from hawser.core.size_terms import SizeRequest
from hawser.engine.clearance.entries import account_verdict, entry_verdict
from hawser.engine.entries.placing import account_now, is_pending, need_equity, request_for
from hawser.engine.events import VenuePosition
from hawser.engine.model import transitions as states
from hawser.engine.model.exposure import Exposure, Valuation, covered_steps, resting_level
from hawser.engine.model.reasons import words
from hawser.engine.model.rig_levels import Waiting, target_parts, waiting
from hawser.engine.model.state import EngineState, RestingLevel, Trade, TradeBasket
from hawser.engine.rigs.baskets import limits, members, won
from hawser.service.views.news import NewsMark, marks

NOT_TENDED = Closed("not_tended", "tending has stopped")


class InstrumentView(msgspec.Struct, frozen=True):
    """An instrument now. Levels in ticks (0: no quote); `atr` by timeframe span, price units."""

    instrument: Instrument
    bid: int
    ask: int
    time: int
    open: bool
    until: int
    atr: dict[int, float]
    closed: tuple[Closed, ...]
    news: tuple[NewsMark, ...] = ()  # what concerns it, in order

    def next_news(self, now: int) -> NewsMark | None:
        """The next event that closes entries in it."""
        return next((mark for mark in self.news if mark.closes and mark.time > now), None)


class TargetView(msgspec.Struct, frozen=True):
    """A target: `steps` it takes of the whole, `filled` of them; `resting` at the venue."""

    number: int
    level: int
    r: float
    steps: int
    filled: int
    resting: bool
    share: float


class TradeView(msgspec.Struct, frozen=True):
    """A trade now. `now_r`: the result so far in R; `price_r`: where the price stands on the R
    axis."""

    id: str
    ask_id: str
    symbol: str
    side: int
    state: str
    covered: bool
    exposed_since: int
    plan: Plan
    entry: float
    ref: int
    r_ticks: int
    steps: int
    open_steps: int
    stop: int
    resting_stop: int
    initial_stop: int
    trace: tuple[RestingLevel, ...]
    targets: tuple[TargetView, ...]
    opened: int
    ended: int
    best_exit: int
    break_even: int  # the entry as a stop
    money: float
    result_r: float
    price_r: float
    heat: float
    locked: float
    end_reason: str
    leaving: bool  # it is being closed
    trail: bool
    pending: bool  # its entry waits at `ref`
    until: int  # when a pending entry is given up, 0: never
    group: str  # its OCO group
    backstop: int  # with held lines: what rests at the venue; 0: the lines rest there themselves
    moving_to: int  # a pending entry is on its way to this level, 0: it is not
    rig: str  # the name of the rig that tends it
    basket: str  # the basket over several trades that it lies under
    # its rules that are still to act; only in the instrument that is watched
    waiting: tuple[Waiting, ...]

    def r_of(self, level: float) -> float:
        """A level on the R axis: 0 at the expected entry, -1 at the initial stop."""
        return self.side * (level - self.ref) / self.r_ticks


class BasketView(msgspec.Struct, frozen=True):
    """A basket over several trades: money since it was formed, what it may lose and is to win
    (infinite: no such)."""

    name: str
    won: float
    lose: float
    gain: float
    trades: int


class Snapshot(msgspec.Struct, frozen=True):
    """Everything a screen shows of one account at one moment. Times UTC ns, money in the account's
    currency."""

    time: int
    currency: str
    equity: float
    balance: float
    margin_used: float
    day_money: float
    day_r: float
    heat: float
    locked: float
    max_heat_percent: float | None
    closed: tuple[Closed, ...]
    halted: bool
    halt_why: str
    link_up: bool
    instruments: tuple[InstrumentView, ...]
    trades: tuple[TradeView, ...]
    account: Account | None  # with the venue's figures and rates of this moment, as a size uses it
    settings: Account | None  # as its file, or a person's edit, has it
    staked: Exposure
    forming: tuple[float, ...] | None
    exposed: int
    never_widen: bool
    unexplained: tuple[VenuePosition, ...] = ()  # positions at the venue that no trade explains
    # those of them that were ours: left as they rest, for their instrument is another now
    left: tuple[str, ...] = ()
    faults: int = 0
    baskets: tuple[BasketView, ...] = ()
    guards: tuple[AnyGuard, ...] = ()  # those that some plans meet and others do not
    measures: dict[str, dict[str, float]] = {}

    @property
    def tended(self) -> bool:
        """Whether anybody tends the trades that it shows."""
        return all(reason.code != NOT_TENDED.code for reason in self.closed)

    def left_alone(self) -> Snapshot:
        """The last that was known of an account whose tending has stopped: no line to its venue,
        and no entries."""
        views = tuple(
            msgspec.structs.replace(one, closed=(NOT_TENDED, *one.closed))
            for one in self.instruments
        )
        closed = (NOT_TENDED, *self.closed)
        return msgspec.structs.replace(self, link_up=False, closed=closed, instruments=views)

    def closed_for(self, plan: Plan, r_ticks: float) -> tuple[Closed, ...]:
        """Every reason that this plan may not enter now, with R once it is known (else NaN)."""
        view = self.instrument(plan.symbol)
        if view is None:
            return ()
        spread = float(view.ask - view.bid) if view.bid else math.nan
        context = EntryContext(
            at=self.time,
            instrument=view.instrument,
            spread=spread,
            measures=self.measures,
            calendars=(),
            side=plan.side,
            r_ticks=r_ticks,
        )
        known = {reason.guard for reason in view.closed}
        meant = (
            one
            for one in self.guards
            if one.name not in known and one.watches(plan.symbol, plan.source)
        )
        said = (filter_verdict(guard, context) for guard in meant)
        return (*view.closed, *(closed for closed in said if closed is not None))

    def spread_limit(self, symbol: str) -> float:
        """The widest spread that guards let pass in an instrument whatever the plan, ticks; NaN:
        any."""
        known = self.measures.get(symbol, {})
        limits = [
            guard.widest(known.get(guard.measure_key, math.nan))
            for guard in self.guards
            if isinstance(guard, SpreadGuard) and guard.watches(symbol, BY_HAND)
        ]
        return min((limit for limit in limits if not math.isnan(limit)), default=math.nan)

    def trade(self, trade_id: str) -> TradeView | None:
        return next((trade for trade in self.trades if trade.id == trade_id), None)

    def instrument(self, symbol: str) -> InstrumentView | None:
        return next((view for view in self.instruments if view.instrument.symbol == symbol), None)


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


def plan_request(
    snapshot: Snapshot, plan: Plan, basis: float = math.nan, atr: float = math.nan
) -> SizeRequest:
    """The plan as the engine would size it at this snapshot; raises Refused where there is no
    quote. `basis`: what a stop taken from bars stands on; `atr`: the rig's, where it is another
    than the one bars carry."""
    view = snapshot.instrument(plan.symbol)
    if view is None or not view.bid or snapshot.account is None:
        raise Refused("no_quote", f"{plan.symbol} has no quote yet.")
    live = sum(trade.state != states.ENDED for trade in snapshot.trades)
    atr = atr if own_atr(plan) else view.atr.get(plan.timeframe_ns, math.nan)
    quote = (view.bid, view.ask)
    request = request_for(
        plan,
        snapshot.account,
        instrument=view.instrument,
        quote=quote,
        atr=atr,
        staked=snapshot.staked,
        held=live,
        basis=basis,
    )
    need_equity(snapshot.equity, request)
    return request
