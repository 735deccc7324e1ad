"""What the engine is told. Frozen records; time is UTC ns, levels in ticks, quantities in steps,
money in the account's currency. Everything the engine knows came in one of these, so that a record
of them replays it.
"""

from __future__ import annotations

import math
from typing import Literal

import msgspec

from hawser.core.account import Account
from hawser.core.entry import HeldRule
from hawser.core.guards.declared import Guards
from hawser.core.guards.news import Calendar
from hawser.core.instrument import Instrument
from hawser.core.plan import Plan
from hawser.core.rig import Basket


class Event(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Base of all events. `tag` is what the record calls one, for ever: a class may be renamed, its
    tag not."""

    time: int


class Opened(Event, frozen=True, tag="Opened"):
    """A session begins: who trades what. `prefix` begins every client order id of this ledger,
    `serial` tells its sessions apart: what a session sent and could not write down is never taken
    for an order of another. `suspect`: why the state may not be what it was; then nothing is sent
    before the venue has told what it holds. `spans`: the bar lengths in which each instrument can
    be tended, ns. `lost`: lines that the record had, or was to have, and has not: an older copy of
    it, or a disk that did not take them; then entries are closed until a person re-arms."""

    prefix: str
    account: Account
    instruments: tuple[Instrument, ...]
    serial: int = 0
    suspect: str = ""
    spans: dict[str, tuple[int, ...]] = {}
    lost: int = 0


class InstrumentsChanged(Event, frozen=True, tag="InstrumentsChanged"):
    """The venue trades others than when the session began, or the same on another grid. `spans` as
    in `Opened`."""

    instruments: tuple[Instrument, ...]
    spans: dict[str, tuple[int, ...]]


class Quote(Event, frozen=True, tag="Quote"):
    """A quote, or several in one: the last bid and ask, the highest bid and the lowest ask since
    the one before."""

    symbol: str
    bid: int
    ask: int
    high_bid: int
    low_ask: int

    def __post_init__(self) -> None:
        if not 0 < self.bid <= self.ask:
            raise ValueError(f"a quote needs 0 < bid <= ask, got {self.bid} {self.ask}")


class BarCompleted(Event, frozen=True, tag="BarCompleted"):
    """A bar of `span` ns that opened at `opened` is complete. Bid prices in price units, `spread`
    in ticks; `atr` is NaN until it has its look-back; `values` are those that open trades need
    beside it (`core/indicator_values.py`). `base`: as the venue told it; a joined bar has the
    spread of its last part only. `low_ask`: the lowest ask in it, 0: the low and the spread tell
    it."""

    symbol: str
    span: int
    opened: int
    open: float
    high: float
    low: float
    close: float
    spread: float
    atr: float
    values: dict[str, float] = {}
    base: bool = True
    low_ask: float = 0.0


class RateSeen(Event, frozen=True, tag="RateSeen"):
    """A conversion rate: units of BBB for one AAA."""

    pair: str
    mid: float


class Figures(Event, frozen=True, tag="Figures"):
    """The account as the venue keeps it. `transferred`: all that was paid in since the account
    exists, less what was paid out, resets of the balance among it; None: the venue does not say.
    `high`: of an older record, the highest equity of those that it stands for."""

    balance: float
    equity: float
    margin_used: float
    high: float = -math.inf
    transferred: float | None = None


class SeenMarket(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """An instrument's last quote."""

    symbol: str
    bid: int
    ask: int
    time: int


class SeenMoney(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The account's last figures."""

    balance: float
    equity: float
    margin_used: float
    time: int


class Seen(Event, frozen=True, tag="Seen"):
    """What quotes, rates and figures had come to that nothing followed from: the values themselves,
    as the engine had them. Folding it decides nothing, so that a record of it cannot come to
    anything that was not decided then.

    `best`: the best exit-side price of trades, by id; `highs`: the highest equity that guards
    remember, by their key.
    """

    markets: tuple[SeenMarket, ...] = ()
    best: dict[str, int] = {}
    rates: dict[str, tuple[float, int]] = {}
    money: SeenMoney | None = None
    highs: dict[str, float] = {}


class SetAside(Event, frozen=True, tag="SetAside"):
    """Something the venue told that cannot be so, or cannot be read: it is left out, and counted.
    `what`: crossed, one_sided, unreadable or foreign; told again each time the count has grown
    tenfold."""

    what: Literal["crossed", "one_sided", "unreadable", "foreign"]
    symbol: str
    count: int


class RecordFailed(Event, frozen=True, tag="RecordFailed"):
    """The record cannot be written."""

    why: str


class RecordHealed(Event, frozen=True, tag="RecordHealed"):
    """All is written down again. `kept`: lines that were kept in memory meanwhile."""

    kept: int


class InstrumentState(Event, frozen=True, tag="InstrumentState"):
    """An instrument opens or closes; `until` is when that changes, 0 where it is not known."""

    symbol: str
    open: bool
    until: int


class CalendarChanged(Event, frozen=True, tag="CalendarChanged"):
    """The news calendars as read now."""

    calendars: tuple[Calendar, ...]


class VenueUp(Event, frozen=True, tag="VenueUp"):
    """The link to the venue stands."""


class VenueDown(Event, frozen=True, tag="VenueDown"):
    """The link to the venue is lost."""

    why: str


class OrderAccepted(Event, frozen=True, tag="OrderAccepted"):
    """`level`: where the venue has it rest, ticks, where it says so."""

    order: str
    level: int | None = None


class OrderRejected(Event, frozen=True, tag="OrderRejected"):
    order: str
    code: str
    text: str


class Fill(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One fill. `price` in ticks; `profit` and `commission` in the account's currency."""

    id: str
    time: int
    steps: int
    price: int
    profit: float
    commission: float


class OrderFilled(Event, frozen=True, tag="OrderFilled"):
    order: str
    fill: Fill


class OrderCancelled(Event, frozen=True, tag="OrderCancelled"):
    """`filled`: all that the order had filled before, steps."""

    order: str
    why: str
    filled: int = 0


class AmendAccepted(Event, frozen=True, tag="AmendAccepted"):
    """`token`: the change's; 0 where it was another hand's, or in records of before answers were
    numbered."""

    order: str
    level: int
    steps: int
    token: int = 0


class AmendRejected(Event, frozen=True, tag="AmendRejected"):
    """`token` as of AmendAccepted."""

    order: str
    code: str
    text: str
    token: int = 0


class CancelRejected(Event, frozen=True, tag="CancelRejected"):
    order: str
    code: str
    text: str


class OrderReport(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What the venue knows of one order. `status`: resting, filled, cancelled, rejected or
    missing."""

    order: str
    status: str
    level: int
    steps: int
    fills: tuple[Fill, ...] = ()


class OrderStatus(Event, frozen=True, tag="OrderStatus"):
    """The answer to a query; `token` is its number, 0 where the venue does not tell it."""

    known: OrderReport
    token: int = 0


class VenuePosition(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A position at the venue, named by the order that opened it."""

    id: str
    symbol: str
    side: int
    steps: int
    entry: float = 0.0  # average, ticks


class Holdings(Event, frozen=True, tag="Holdings"):
    """All the venue held at `as_of` of its clock: the orders asked for, every resting order's id,
    every position; `closing`: which of them the resting orders close, None where the venue does not
    tell."""

    token: int
    asked: tuple[OrderReport, ...]
    resting: tuple[str, ...]
    positions: tuple[VenuePosition, ...]
    as_of: int = 0
    closing: dict[str, str] | None = None


class Checked(Event, frozen=True, tag="Checked"):
    """What the venue holds, asked for while the link stands; told only where something differs.
    `quiet`: the trades about which nothing was under way meanwhile, so that a difference is one."""

    asked: tuple[OrderReport, ...]
    resting: tuple[str, ...]
    positions: tuple[VenuePosition, ...]
    quiet: tuple[str, ...]
    closing: dict[str, str] | None = None


class TimerFired(Event, frozen=True, tag="TimerFired"):
    """`basis` and `atr` as in PlaceTrade, where a trade is to follow."""

    name: str
    basis: float | None = None
    atr: float | None = None


class ClosesKnown(Event, frozen=True, tag="ClosesKnown"):
    """All members of a fleet with a bar that is complete now have told its close."""

    fleet: str


class Ask(Event, frozen=True, rename={"ask_id": "ask"}):
    """Something a person or a program asks for; its answers name `ask_id`."""

    ask_id: str


class PlaceTrade(Ask, frozen=True, tag="PlaceTrade"):
    """`basis`: the level a stop taken from bars stands on at this moment, price units; None: no
    value. `seen`: the price a person saw for a market entry, ticks; a bound on its fill is measured
    from there (0: from the quote). `atr`: the rig's, price units, where it is another than the one
    bars carry. `chain`: how many follow-ons led here."""

    plan: Plan
    basis: float | None = None
    seen: int = 0
    atr: float | None = None
    chain: int = 0


class PlaceStraddle(Ask, frozen=True, tag="PlaceStraddle"):
    """A buy stop above and a sell stop below, each `atr` ATR from the quote, in one OCO group; the
    plan's side and entry do not count. `bases` as in PlaceTrade, for the long and the short."""

    plan: Plan
    atr: float
    bases: tuple[float | None, float | None] = (None, None)
    own_atr: float | None = None

    def __post_init__(self) -> None:
        if not 0 < self.atr < math.inf:
            raise ValueError(f"a straddle's distance is more than 0 ATR, got {self.atr}")


class MoveEntry(Ask, frozen=True, tag="MoveEntry"):
    """Move a pending entry; stop, targets and size follow by the plan. `basis` as in PlaceTrade."""

    trade: str
    level: int
    basis: float | None = None
    atr: float | None = None


class LinkEntries(Ask, frozen=True, tag="LinkEntries"):
    """Make pending entries one OCO group: the first fill cancels the others. One trade: it leaves
    its group."""

    trades: tuple[str, ...]


class FormBasket(Ask, frozen=True, tag="FormBasket"):
    """Lay one basket over open trades: reached, all of them are closed."""

    trades: tuple[str, ...]
    basket: Basket


class DissolveBasket(Ask, frozen=True, tag="DissolveBasket"):
    """Take a basket off its trades."""

    name: str


class MoveStop(Ask, frozen=True, tag="MoveStop"):
    """A stop moved by hand. A looser level needs `widen`."""

    trade: str
    level: int
    widen: bool = False


class MoveTarget(Ask, frozen=True, tag="MoveTarget"):
    trade: str
    number: int
    level: int


class SetTarget(Ask, frozen=True, tag="SetTarget"):
    """Set target `number` of a trade (0: a new one): `share` of the whole position at `level`;
    share 0 removes it."""

    trade: str
    number: int
    level: int
    share: float

    def __post_init__(self) -> None:
        if not 0 <= self.share <= 1:
            raise ValueError(f"a target's share is from 0 to 1, got {self.share}")


class ChangeRules(Ask, frozen=True, tag="Reequip"):
    """Tend a trade by another plan's rules from now on: its targets for what is left, its trail,
    its held lines; its stop only where it is tighter. `basis` and `atr` as in PlaceTrade."""

    trade: str
    plan: Plan
    basis: float | None = None
    atr: float | None = None


class HoldLines(Ask, frozen=True, tag="HoldLines"):
    """Keep a trade's lines here behind a backstop, or (None) let them rest at the venue again."""

    trade: str
    held: HeldRule | None


class Adopt(Ask, frozen=True, tag="Adopt"):
    """Take a position that the venue holds and no trade explains as a trade, with a stop by this
    plan at once."""

    position: str
    plan: Plan
    basis: float | None = None
    atr: float | None = None


class CloseTrade(Ask, frozen=True, tag="CloseTrade"):
    """Close a trade at market, or only a `share` of what is open (more than 0, at most 1);
    `entry_only`: take its entry back where that still waits, and close nothing that has filled by
    now."""

    trade: str
    share: float = 1.0
    entry_only: bool = False

    def __post_init__(self) -> None:
        if not 0 < self.share <= 1:
            raise ValueError(f"a share is more than 0 and at most 1, got {self.share}")


class CloseAll(Ask, frozen=True, tag="CloseAll"):
    """Close all trades, or those with a profit or a loss now, of one side, in one instrument, or
    not yet entered."""

    which: Literal["all", "winners", "losers", "long", "short", "pending"] = "all"
    symbol: str = ""


class StopToEntry(Ask, frozen=True, tag="BreakEven"):
    """Move the stop to the entry now."""

    trade: str


class TurnAround(Ask, frozen=True, tag="TurnAround"):
    """Close a trade and open the other side by the same plan, sized anew."""

    trade: str


class Halt(Ask, frozen=True, tag="Halt"):
    """Flatten & halt: cancel all, close all, no entries until re-armed."""

    why: str


class Rearm(Ask, frozen=True, tag="Rearm"):
    reason: str


class ChangeGuards(Ask, frozen=True, tag="ChangeGuards"):
    """Another policy of guards. `measures`: what its filters look at, by instrument, as of the last
    completed bars; `calendars`: its news as read now, None: as known."""

    guards: Guards
    measures: dict[str, dict[str, float]] = {}
    calendars: tuple[Calendar, ...] | None = None


class RearmGuard(Ask, frozen=True, tag="RearmGuard"):
    """Let entries pass a kill switch again that has latched for `subject` (an instrument, a source;
    empty: all)."""

    guard: str
    reason: str
    subject: str = ""


class Drill(Ask, frozen=True, tag="Drill"):
    """Set a guard off on purpose for `subject` (an instrument, a source; empty: all). `watch_only`:
    tell what would follow, and do nothing. A filter stays closed for `seconds`; a kill switch
    latches as ever."""

    guard: str
    subject: str = ""
    seconds: float = 30.0
    watch_only: bool = False

    def __post_init__(self) -> None:
        if not 0 < self.seconds <= 3600:
            raise ValueError(f"a drill lasts more than 0 and at most 3600 s, got {self.seconds}")


class ChangeAccount(Ask, frozen=True, tag="ChangeAccount"):
    """Size, costs, policy and rates as a person edited them; what the venue keeps (money, currency)
    stays."""

    account: Account


VenueEvent = (
    Quote
    | BarCompleted
    | RateSeen
    | CalendarChanged
    | Figures
    | InstrumentState
    | VenueUp
    | VenueDown
    | OrderAccepted
    | OrderRejected
    | OrderFilled
    | OrderCancelled
    | AmendAccepted
    | AmendRejected
    | CancelRejected
    | OrderStatus
    | Holdings
    | Checked
    | SetAside
    | InstrumentsChanged
)
AskEvent = (
    PlaceTrade
    | PlaceStraddle
    | MoveEntry
    | LinkEntries
    | FormBasket
    | DissolveBasket
    | MoveStop
    | MoveTarget
    | SetTarget
    | ChangeRules
    | HoldLines
    | Adopt
    | CloseTrade
    | CloseAll
    | StopToEntry
    | TurnAround
    | Halt
    | Rearm
    | ChangeAccount
    | ChangeGuards
    | RearmGuard
    | Drill
)
AnyEvent = (
    Opened | VenueEvent | TimerFired | ClosesKnown | Seen | RecordFailed | RecordHealed | AskEvent
)
