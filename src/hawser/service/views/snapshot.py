"""What the desk is shown: immutable pictures of the engine's state. `taking.py` makes them, on the
engine's thread."""

from __future__ import annotations

import math

import msgspec

from hawser.core.account import Account
from hawser.core.errors import Refused
from hawser.core.guards.context import Closed, EntryContext
from hawser.core.guards.declared import AnyGuard, SpreadGuard
from hawser.core.guards.filters.base import filter_verdict
from hawser.core.indicator_values import own_atr
from hawser.core.instrument import Instrument
from hawser.core.plan import BY_HAND, Plan
from hawser.core.size_terms import SizeRequest
from hawser.engine.events import VenuePosition
from hawser.engine.model import transitions as states
from hawser.engine.model.exposure import Exposure
from hawser.engine.model.requests import need_equity, request_for
from hawser.engine.model.rig_levels import Waiting
from hawser.engine.model.state import RestingLevel
from hawser.service.views.news import NewsMark

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
