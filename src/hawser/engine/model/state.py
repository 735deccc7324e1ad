"""All the engine knows, as plain records: the fold of the events. Times UTC ns, levels ticks,
quantities steps."""

from __future__ import annotations

import math
from typing import NamedTuple

import msgspec

from hawser.core.account import Account, Policy, Rate
from hawser.core.clock import SECOND
from hawser.core.fx import with_filed
from hawser.core.guards.declared import AnyGuard, Guards, Loosen, NewsSources, Weekday
from hawser.core.guards.memory import GuardMemory
from hawser.core.guards.news import Calendar
from hawser.core.instrument import Instrument
from hawser.core.plan import Plan
from hawser.core.rig import Basket
from hawser.core.rules.moving import even_level
from hawser.engine.commands import OrderKind, Role
from hawser.engine.events import VenuePosition
from hawser.engine.model import transitions as states
from hawser.engine.model.reasons import INITIAL, Reason


class Order(
    msgspec.Struct,
    forbid_unknown_fields=True,
    rename={"told_filled": "owed", "steps_under_way": "hoped"},
):
    """One order of ours. `level` and `steps` are what the venue last confirmed (or was first
    asked)."""

    id: str
    trade: str
    role: Role
    side: int
    kind: OrderKind
    steps: int
    level: int | None
    number: int = 0
    bound: int | None = None  # the worst price it may fill at
    until: int = 0  # when the venue gives it up
    state: str = states.SENDING
    filled: int = 0
    unwanted: bool = False  # a cancel was sent
    # what the venue says it has filled, where that was told before the fills were
    told_filled: int = 0
    fills: list[str] = []
    pending: str = "submit"  # the request under way: submit, amend, cancel, query, or ""
    token: int = 0  # tells that request's time-out from older ones
    silences: int = 0
    retry_at: int = 0
    seen: int = 0  # the quote that it was to fill at when it was sent
    # steps that a change under way would give it: it may have them already
    steps_under_way: int = 0
    # levels and steps it was asked to rest at, the last few: others are the venue's
    asked: list[tuple[int, int]] = []
    refusals: int = 0  # of changes, in a row
    # of one stop of several: the level wanted that the venue won't have it rest at; not asked again
    given_up: int = 0
    # the number of the last request that may have changed it: what was asked before that is older
    changed: int = 0
    # a level that an answer named and nobody had asked for; the venue is being asked where it rests
    elsewhere: int = 0
    # it came while a change was under way, which may have been carried out so
    elsewhere_by_venue: bool = False

    @property
    def over(self) -> bool:
        return states.is_over(self.state)

    @property
    def left(self) -> int:
        return max(0, self.steps - self.filled)

    @property
    def surely_left(self) -> int:
        """The same where a change to less may have been carried out: a refusal does not say which
        change it is for."""
        return max(0, min(self.steps, self.steps_under_way or self.steps) - self.filled)


class TargetLine(msgspec.Struct, forbid_unknown_fields=True):
    """A target or a loss step of a trade: its number, level, share of the whole, and what it has
    filled."""

    number: int
    level: int
    share: float
    filled: int = 0
    retry_at: int = 0
    failures: int = 0
    rule: int = 0  # which of the rig's it is, from 1; 0: set by hand, or of an earlier rig
    whole: bool = False  # of a ladder: it has closed all that was held before a rung filled


class Rung(msgspec.Struct, forbid_unknown_fields=True):
    """A further entry of a ladder, from 2: where it waits, what it is to fill and has filled."""

    number: int
    level: int
    steps: int
    filled: int = 0
    retry_at: int = 0
    failures: int = 0


class RestingLevel(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """From `time` on the stop rested at `level`."""

    time: int
    level: int


class EntryValues(NamedTuple):
    """What a plan stands on at one moment, price units (None: no value): the level under a stop
    taken from bars, and the ATR of its rig where that is another than the one bars carry."""

    basis: float | None = None
    atr: float | None = None


class TradeBasket(msgspec.Struct, forbid_unknown_fields=True):
    """Trades under one basket, and the equity when it was formed. `fleet`: the fleet whose trades
    come under it as they are entered; it is looked at when all closes of one time are known, and
    again at the next (section 13)."""

    name: str
    basket: Basket
    equity: float
    minute_at: int = 0  # where it counts at each minute's end: when it is looked at next
    reached: bool = False
    fleet: str = ""


class EntryTerms(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a plan comes to at one entry level: levels in ticks, `steps` to enter, `risk` in money,
    `atr` and `basis` of that moment in price units (None: no value)."""

    plan: Plan
    ref: int
    r_ticks: int
    steps: int
    risk: float
    stop: int
    targets: tuple[TargetLine, ...]
    atr: float | None = None
    basis: float | None = None
    losses: tuple[TargetLine, ...] = ()
    rungs: tuple[Rung, ...] = ()


class TradeEntry(msgspec.Struct, forbid_unknown_fields=True):
    """How a trade is entered: what was asked, on what it stands, and what becomes of it while it
    waits."""

    order_id: str = ""
    asked_steps: int = 0
    planned_risk: float = 0.0
    atr: float | None = None  # at the entry, price units
    basis: float | None = None  # what a stop taken from bars stood on then
    equity: float = 0.0  # of the account when it was filled
    group: str = ""  # its OCO group
    chain: int = 0  # how many follow-ons led to it
    moving: EntryTerms | None = None  # a pending entry is on its way to these
    then: EntryTerms | None = None  # and from there to these, asked for meanwhile
    over: bool = False  # a person has taken back what waits of it
    # it was sized for a contract that is worth another amount now: what waits is taken back
    outsized: bool = False


class TradeCover(msgspec.Struct, forbid_unknown_fields=True):
    """What protects a trade: where its stop came from, and how far it is from resting at the venue.
    Levels in ticks."""

    initial_stop: int = 0
    backstop: int = 0  # with held lines: what rests at the venue instead of the stop
    reached_since: int = 0  # a held stop waits since then for a spread spike to pass
    why: str = "initial stop"
    code: str = INITIAL
    by_hand: bool = False
    retry_at: int = 0
    failures: int = 0
    trace: list[RestingLevel] = []
    exposed_since: int = 0
    longest_exposed: int = 0
    # of one order of it, as the venue has taught; 0: what its instrument says
    most_steps: int = 0
    most_at: int = 0  # since when
    # where a stop rests that may not rest where it should, while the trade is being closed
    emergency: int = 0
    # the time to attach a stop is up: everything that may cover it is tried at once
    hurried: bool = False


class TradeLadder(msgspec.Struct, forbid_unknown_fields=True):
    """The rungs of a ladder beside the entry."""

    rungs: list[Rung] = []
    # filled by rungs since the last completed bar: the target leaves them alone
    steps_this_bar: int = 0


class RigProgress(msgspec.Struct, forbid_unknown_fields=True):
    """How far a rig has come with a trade."""

    bars: int = 0  # completed since the entry, its own included
    best_exit: int = 0
    hours_at: int = 0  # when a time exit by the hours leaves it
    minute_at: int = 0  # when a basket that counts at each minute's end is looked at next
    basket: str = ""  # the basket it lies under with others
    basket_before: float = 0.0  # money it had won when it came under it
    basket_quoted: bool = False  # which looks at every quote
    turn: str = ""  # the ask that wants the other side once this has ended
    due: str = ""  # what is to come after its end: turn or follow


class CloseTries(msgspec.Struct, forbid_unknown_fields=True):
    """Closes of a trade that the venue has refused."""

    retry_at: int = 0
    failures: int = 0


class Trade(msgspec.Struct, forbid_unknown_fields=True, rename={"ask_id": "ask"}):
    """One trade from plan to end."""

    id: str
    ask_id: str
    symbol: str
    side: int
    plan: Plan
    placed: int
    ref: int = 0
    r_ticks: int = 0
    stop: int = 0
    state: str = states.PLANNED
    entry: TradeEntry = msgspec.field(default_factory=TradeEntry)
    cover: TradeCover = msgspec.field(default_factory=TradeCover)
    ladder: TradeLadder = msgspec.field(default_factory=TradeLadder)
    progress: RigProgress = msgspec.field(default_factory=RigProgress)
    closing: CloseTries = msgspec.field(default_factory=CloseTries)
    targets: list[TargetLine] = []
    losses: list[TargetLine] = []  # loss steps
    order_ids: list[str] = []
    live_ids: list[str] = []  # of those that are not over
    entered: int = 0  # steps filled by the entry and by rungs
    closed: int = 0  # steps closed since
    entry_value: float = 0.0  # sum of steps * price (ticks)
    profit: float = 0.0  # realised, without commissions
    commission: float = 0.0
    opened: int = 0
    ended: int = 0
    leave: Reason | None = None  # why it is being closed
    end: Reason | None = None  # what ended it
    # when the requests of each line left, of the last minute (`pacing.py`)
    sent: dict[str, list[int]] = {}
    # why it is left as it rests at the venue: its instrument is another now, or gone
    left: str = ""
    wake_at: int = 0  # when it is looked at again, where something waits for its time

    @property
    def original(self) -> int:
        """What the entry itself has filled."""
        return self.entered - sum(rung.filled for rung in self.ladder.rungs)

    @property
    def open_steps(self) -> int:
        return max(0, self.entered - self.closed)

    @property
    def under_way(self) -> bool:
        """It has not ended, or an order of it may still rest at the venue against our will."""
        return self.state != states.ENDED or (bool(self.live_ids) and not self.left)

    @property
    def held(self) -> bool:
        """Its lines are kept here; the venue has the backstop."""
        return self.plan.held is not None

    @property
    def venue_stop(self) -> int:
        """The stop that should rest at the venue."""
        return self.cover.backstop if self.held else self.stop

    @property
    def entry_price(self) -> float:
        """Average entry in ticks; the expected one until there is a fill."""
        return self.entry_value / self.entered if self.entered else float(self.ref)

    @property
    def break_even_level(self) -> int:
        """The entry as a stop: the average of its fills, rounded to the profitable side."""
        return int(even_level(self.side, float(self.entry_price)))


class Market(msgspec.Struct, forbid_unknown_fields=True):
    """An instrument as last seen."""

    bid: int = 0
    ask: int = 0
    time: int = 0
    open: bool = True
    until: int = 0
    opened: int = 0  # when it was last told to have opened, where it had been closed

    def exit_side(self, side: int) -> int:
        return self.bid if side > 0 else self.ask


class LastBar(msgspec.Struct, forbid_unknown_fields=True):
    """The last completed bar of a timeframe."""

    opened: int
    close: float
    spread: float
    atr: float


class Halted(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    time: int
    why: str


class LaterGuard(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a guard becomes at a moment, at the earliest; None: it goes."""

    at: int
    guard: AnyGuard | None


class LaterRules(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What holds for all guards from a moment on: periods, news, how loosening waits."""

    at: int
    zone: str
    day_starts: str
    week_starts: Weekday
    loosen: Loosen
    news: NewsSources


class LaterPolicy(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The account's limits from a moment on."""

    at: int
    policy: Policy


class EngineState(msgspec.Struct, forbid_unknown_fields=True):
    """Everything. `counter` numbers trades, orders and tokens."""

    now: int = 0
    counter: int = 0
    prefix: str = ""
    account: Account | None = None
    # as the file or the demo has it; an edit holds while that stays the same
    declared: Account | None = None
    instruments: dict[str, Instrument] = {}
    spans: dict[str, tuple[int, ...]] = {}  # the bar lengths of each instrument, ns
    gone: tuple[str, ...] = ()  # instruments of trades that the venue does not have any more
    markets: dict[str, Market] = {}
    rates: dict[str, tuple[float, int]] = {}
    rates_read: int = 0  # when those of the account were
    bars: dict[str, LastBar] = {}
    balance: float = 0.0
    equity: float = 0.0
    margin_used: float = 0.0
    figures_at: int = 0
    # the venue has told figures at least once: before that, equity is what the file says
    figured: bool = False
    # all that was paid in, less what was paid out, as the venue told it last
    transferred: float | None = None
    day: int = 0
    day_equity: float = 0.0
    link_up: bool = False
    link_why: str = "not connected yet"
    holdings_token: int = 0
    reconciled: bool = False
    numbered: bool = False  # the venue tells the numbers of changes and questions with its answers
    halt: Halted | None = None
    trades: dict[str, Trade] = {}
    # the same trades' ids by instrument: a quote looks at its own only
    by_symbol: dict[str, list[str]] = {}
    orders: dict[str, Order] = {}
    baskets: dict[str, TradeBasket] = {}  # over several trades, by name
    groups: dict[str, str] = {}  # OCO groups: the trade that filled first, or nothing
    guards: Guards = Guards()
    guards_later: dict[
        str, LaterGuard
    ] = {}  # looser ones, by name, that wait for their next period
    rules_later: LaterRules | None = None  # looser ones that wait
    policy_later: LaterPolicy | None = None  # the account's
    memory: dict[str, GuardMemory] = {}  # by guard and subject
    calendars: tuple[Calendar, ...] = ()
    measures: dict[str, dict[str, float]] = {}  # what filters look at, by instrument
    guards_at: int = 0  # when guards are looked at next
    linked_at: int = 0
    serial: int = 0  # of the session: the ids of its orders have it
    # why the state may be wrong: nothing is sent until the venue has told what it holds
    suspect: str = ""
    record_down: str = ""  # why the record cannot be written: no entries
    # orders of ours at the venue that no record has: of a session that could not write
    strays: tuple[str, ...] = ()
    compares: int = 0  # comparisons in a row that settled nothing
    sent_minute: int = 0  # the last minute in which a request left, and how many did
    sent_count: int = 0
    # orders that rest at the venue though they are over: each is told once
    left_over: tuple[str, ...] = ()
    foreign: tuple[str, ...] = ()  # orders at the venue that are another's
    unexplained: dict[str, VenuePosition] = {}  # positions at the venue that no trade explains

    def base_span(self, symbol: str) -> int:
        """The length of an instrument's own bars, ns; 0 where nobody has said."""
        return self.spans.get(symbol, (0,))[0]

    def atr(self, symbol: str, span: int) -> float:
        bar = self.bars.get(bar_key(symbol, span))
        return bar.atr if bar else math.nan

    def trades_in(self, symbol: str) -> list[Trade]:
        """All trades kept of one instrument."""
        return [self.trades[name] for name in self.by_symbol.get(symbol, ())]

    def live(self) -> list[Trade]:
        """Trades that have not ended."""
        return [trade for trade in self.trades.values() if trade.state != states.ENDED]

    def under_way(self) -> list[Trade]:
        """Trades of which something is to be seen to."""
        return [trade for trade in self.trades.values() if trade.under_way]

    def orders_of(self, trade: Trade, role: str) -> list[Order]:
        """The orders of a trade in one role that are not over."""
        orders = map(self.orders.__getitem__, trade.live_ids)
        return [order for order in orders if order.role == role]

    def advance(self, order: Order, signal: str) -> None:
        """Carry an order to its next state; what its trade has live follows."""
        order.state = states.next_order_state(order.state, signal)
        self.list_live(self.trades[order.trade], order)

    def list_live(self, trade: Trade, order: Order) -> None:
        """List an order of a trade among its live ones where it is, and only there."""
        listed = order.id in trade.live_ids
        if listed and order.over:
            trade.live_ids.remove(order.id)
        elif not listed and not order.over:
            trade.live_ids.append(order.id)

    def is_ours(self, order_id: str) -> bool:
        """Whether an order id is one that Hawser gives for this record, of whatever session."""
        return order_id.startswith((f"{self.prefix}.", f"{self.prefix}-"))

    def current_rates(self) -> dict[str, float | Rate]:
        """Those seen on the feed with their ages; the account's own where the feed has none that
        would do."""
        live = {
            pair: Rate(mid, max(0, self.now - seen) / SECOND)
            for pair, (mid, seen) in self.rates.items()
        }
        filed = self.account.rates if self.account else {}
        return with_filed(live, filed, max(0, self.now - self.rates_read) / SECOND)


def bar_key(symbol: str, span: int) -> str:
    return f"{symbol}@{span}"
