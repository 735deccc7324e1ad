"""Parity: the live engine and the rehearsal over the same bars and signals, compared trade by trade
(section 11).

The engine runs behind a real session and Quay's book, walked bar by bar without latency; what is
the rehearsal's own part, reading signals and choosing the way through a bar, is done here.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import msgspec

from hawser.core.account import Account
from hawser.core.bars import Bars, span_of
from hawser.core.clock import TIMEFRAMES, timeframe_name
from hawser.core.errors import BadInput
from hawser.core.guards.declared import Filter, RegimeGuard
from hawser.core.instrument import Instrument
from hawser.core.joined_bars import Joined, alone
from hawser.core.plan import Plan
from hawser.core.rig import Rig
from hawser.core.rules.bar_close import BREAK_EVEN, leaves, move_name
from hawser.core.rules.inside_bar import favourable_first
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.entries.follow_on import following
from hawser.engine.model import reasons as rs
from hawser.engine.model.state import Trade
from hawser.ledger.ledger import Entry
from hawser.rehearsal.run import Outcome, Played, Rehearsal, Signals, exit_name
from hawser.rehearsal.watch import HistoryPolicy
from hawser.service.rehearsing import ORDERS, Files, Read, made, read
from hawser.service.runtime.session import Session
from hawser.venue.quay.barwalk import BarWalk

SHOWN = 20  # differences that are told one by one
MONEY = 1e-6
# amends that no rule decides
NO_MOVES = {rs.QTY, rs.INITIAL, rs.KEPT, rs.PLAN, rs.HAND, rs.HELD_HERE, rs.RESTS}
AT_ONE_CLOSE = {("guard", "basket"), ("guard", "time")}


class Compared(msgspec.Struct):
    """A trade as both sides tell it: fills (row of prices, what, price in ticks, steps) and moves
    (row of prices, level, rule)."""

    side: int
    first: int
    last: int
    stop: int
    risk: float
    net: float
    fills: list[tuple[int, str, float, int]]
    moves: list[tuple[int, int, str]]


def check_parity(found: Read) -> None:
    """What the engine does not do, or not in whole ticks, is refused; raises BadInput."""
    instrument, account = found.instrument, found.account
    if found.rates is not None:
        sentence = "rates: the engine knows one rate here; expected none that moves"
        raise BadInput("bad_account", sentence)
    for guard in found.policy.guards.guard if found.policy is not None else ():
        if isinstance(guard, RegimeGuard) and guard.reference != instrument.symbol:
            sentence = (
                f"guard '{guard.name}': reference: only {instrument.symbol} trades here, "
                f"not {guard.reference}"
            )
            raise BadInput("bad_guard", sentence)
    if found.joined is not None and found.joined.finer:
        check_inside(found.rig, found.policy, found.joined)
    for key in ("entry_slippage_ticks", "exit_slippage_ticks"):
        if getattr(account.costs, key) != round(getattr(account.costs, key)):
            raise BadInput(
                "bad_account", f"costs.{key}: expected whole ticks, as a venue fills on them"
            )
    pair = {instrument.base, instrument.quote}
    if (
        instrument.kind == "fx"
        and account.currency in pair
        and account.currency != instrument.quote
    ):
        sentence = (
            "currency: this pair's own price is its rate to the account, which a rehearsal keeps "
            "and a venue moves"
        )
        raise BadInput("bad_account", sentence)


def check_inside(rig: Rig, policy: HistoryPolicy | None, joined: Joined) -> None:
    """What the two do otherwise where finer bars lie inside those that are decided on; raises
    BadInput. The engine is told the latter alone, and joins of them what a trail or a guard needs;
    and a filter that closes within one acts at once, in a rehearsal when it is over."""
    text = rig.trail.timeframe if rig.trail is not None else None
    wide = TIMEFRAMES[text] if text else 0
    if wide > joined.span and wide % joined.span:
        sentence = (
            f"trail.timeframe: bars of {text} cannot be joined of those that are decided on, "
            f"{timeframe_name(joined.span)}"
        )
        raise BadInput("bad_rig", sentence)
    for guard in policy.guards.guard if policy is not None else ():
        if not isinstance(guard, Filter):
            continue
        wide = guard.bars_span(joined.span)
        if not guard.BY_CLOCK and wide % joined.span:
            sentence = (
                f"guard '{guard.name}': timeframe: {timeframe_name(wide)} cannot be joined of the "
                f"bars that are decided on, {timeframe_name(joined.span)}"
            )
            raise BadInput("bad_guard", sentence)
        if guard.leads_to:
            sentence = (
                f"guard '{guard.name}': then: it acts at once, in a rehearsal at the close of the "
                "bar that is decided on; expected nothing, or no finer bars inside"
            )
            raise BadInput("bad_guard", sentence)


class Walk:
    """Drives the engine over a history."""

    def __init__(
        self,
        bars: Bars,
        signals: Signals,
        instrument: Instrument,
        account: Account,
        rig: Rig,
        order: int,
        policy: HistoryPolicy | None = None,
        joined: Joined | None = None,
    ) -> None:
        history = Rehearsal(bars, signals, instrument, account, rig, joined=joined).history
        decided = joined or alone(bars)
        self._time, self._fine_span = bars.time.tolist(), span_of(bars.time)
        self._opened, self._span = decided.bars.time.tolist(), decided.span
        self._ends = decided.ends.tolist()
        self._prices = history.prices[["open", "high", "low", "close"]].tolist()
        self._spread = history.prices["spread"].tolist()
        self._signal, self._leave = history.signal.tolist(), history.bars["leave"].tolist()
        self._rig, self._order, self._symbol = rig, order, instrument.symbol
        self._plan = Plan(
            symbol=instrument.symbol,
            side=1,
            size=account.size,
            stop=rig.stop,
            targets=rig.target,
            trail=rig.trail,
            rig=rig,
            timeframe_ns=self._span,
            source=policy.source if policy is not None else "",
        )
        self._policy = policy
        self.venue = BarWalk(instrument, account, self._span)
        # the row of prices; a move holds from the row `_from` on
        self._bar, self._from, self.found = 0, 0, dict[str, Compared]()
        self.session = Session(account, self.venue, None, self._heard)
        self._signalled: set[str] = set()  # trades that a signal closed
        self._want, self._asks = 0, 0  # the side a signal asks for at the next open

    # What the engine did

    def _heard(self, entry: Entry) -> None:
        event, commands = entry
        if isinstance(event, ev.OrderFilled):
            state = self.session.engine.state
            order = state.orders[event.order]
            self._filled(state.trades[order.trade], order.role, order.number, event.fill)
        for command in commands:
            if (
                isinstance(command, cm.Amend)
                and command.role == "stop"
                and command.code not in NO_MOVES
            ):
                name = move_name(BREAK_EVEN) if command.code == rs.GUARD_EVEN else command.code
                moves = self.found[command.trade].moves
                if moves and moves[-1][0] == self._from:
                    moves.pop()  # it never held
                moves.append((self._from, command.level, name))

    def _filled(self, trade: Trade, role: str, number: int, fill: ev.Fill) -> None:
        if trade.id not in self.found:
            self.found[trade.id] = Compared(
                side=trade.side,
                first=self._bar,
                last=self._bar,
                stop=trade.cover.initial_stop,
                risk=trade.entry.planned_risk,
                net=0.0,
                fills=[],
                moves=[],
            )
        compared = self.found[trade.id]
        compared.last = self._bar
        what = {
            "entry": "entry",
            "rung": "entry",
            "stop": "stop",
            "target": f"target_{number}",
            "loss": f"loss_step_{number}",
        }.get(role)
        if what is None:
            what = "signal" if trade.id in self._signalled else _left_by(trade)
        compared.fills.append((self._bar, what, float(fill.price), fill.steps))
        compared.net += fill.profit - fill.commission

    # The walk

    def run(self) -> list[Compared]:
        """Every trade the engine made, in order."""
        self.venue.greet(self._time[0] - self._span)
        self._hear()
        if self._policy is not None:
            self.session.set_guards(self._policy.guards, "guards", self._policy.calendars)
        first = 0
        for bar, end in enumerate(self._ends):
            for row in range(first, end):
                self._bar = self._from = row
                self._open(row == first)
                self._from = end
                self._inside(row == end - 1)
            if bar < len(self._ends) - 1:
                self._close(bar, first)
            first = end
        self._end()
        return list(self.found.values())

    def _hear(self) -> None:
        while (message := self.venue.next_message(0)) is not None:
            self.session.message(message, self.venue.now)
        self.session.flush()

    def _trade(self) -> Trade | None:
        return next(iter(self.session.engine.state.live()), None)

    def _open(self, first: bool) -> None:
        """A row of prices opens; `first`: so does a bar that is decided on."""
        time = self._time[self._bar]
        prices = self._prices[self._bar]
        spread = self._spread[self._bar]
        self.venue.open_at(time, prices[0], spread)
        self._hear()
        self.session.run_until(time)  # a follow-on is a timer's
        self._hear()
        if first:
            if self._want and self._trade() is None:
                self._enter()
            self._want = 0
        self.venue.leave_open()

    def _enter(self) -> None:
        rig, time = self._rig, self._time[self._bar]
        within = (rig.from_ is None or time >= rig.from_) and (rig.to is None or time < rig.to)
        if within and rig.allows(self._want):
            self._asks += 1
            plan = msgspec.structs.replace(self._plan, side=self._want)
            self.session.ask(ev.PlaceTrade(time=time, ask_id=f"s{self._asks}", plan=plan))
            self._hear()

    def _inside(self, last: bool) -> None:
        """A row of prices goes by; `last`: an account is valued at its close."""
        open_, high, low, close = self._prices[self._bar]
        spread, trade = self._spread[self._bar], self._trade()
        # A bar does not say when it came to what is inside. As in a rehearsal, what leaves a part
        # comes before all that time decides within the bar, and what leaves the rest just before
        # the bar's end: a cool-down begins there.
        self.venue.now = self._time[self._bar] + 1
        self._sweep(open_, spread, gap=True)
        side = trade.side if trade is not None else 1
        adverse, favourable = (low, high) if side > 0 else (high, low)
        up = favourable_first(self._order, side * open_, side * favourable, side * adverse)
        for bid in (favourable, adverse) if up else (adverse, favourable):
            self._sweep(bid, spread, gap=False)
        self.venue.now = self._before_end()
        self.venue.stand_at(close, spread, high, low)
        if last:
            self.venue.mark()
        self._hear()

    def _sweep(self, bid: int, spread: int, gap: bool) -> None:
        while self.venue.next_reached(bid, spread, gap):
            if not self.venue.book.positions():
                self.venue.now = self._before_end()
            self._hear()
        self.venue.stand_at(bid, spread, bid, bid)
        self._hear()

    def _before_end(self) -> int:
        return int(self._time[self._bar]) + self._fine_span - 1

    def _close(self, bar: int, first: int) -> None:
        """The bar whose rows of prices begin with `first` is complete."""
        trade, opened, rows = self._trade(), self._opened[bar], self._prices[first : self._bar + 1]
        opens, highs, lows, closes = zip(*rows, strict=True)
        whole = (opens[0], max(highs), min(lows), closes[-1])
        spreads = self._spread[first : self._bar + 1]
        low_ask = min(low + spread for low, spread in zip(lows, spreads, strict=True))
        self.venue.complete(opened + self._span, opened, whole, spreads[-1], low_ask)
        self._hear()
        signal = self._signal[bar]
        if trade is None:
            ended = self._last_ended()
            if ended is None or following(self.session.engine.state, ended) is None:
                self._want = signal
            return
        turns = self._rig.reverse and signal == -trade.side
        if turns or leaves(self._leave[bar], trade.side):
            self._signalled.add(trade.id)
            self.session.ask(ev.CloseTrade(time=self.venue.now, ask_id=f"x{bar}", trade=trade.id))
            self._hear()
            self._want = signal if turns else 0

    def _last_ended(self) -> Trade | None:
        """The trade that ended inside the last row of prices: what follows it waits for the
        next."""
        state, last = self.session.engine.state, next(reversed(self.found), None)
        if last is None or last not in state.trades or self.found[last].last != self._bar:
            return None
        return None if state.trades[last].leave else state.trades[last]

    def _end(self) -> None:
        trade = self._trade()
        before = len(self.found[trade.id].fills) if trade is not None else 0
        self.venue.end()
        self._hear()
        if trade is not None:
            self.session.ask(ev.CloseTrade(time=self.venue.now, ask_id="end", trade=trade.id))
            self._hear()
            fills = self.found[trade.id].fills
            fills[before:] = [(bar, "end", price, steps) for bar, _, price, steps in fills[before:]]


def _left_by(trade: Trade) -> str:
    """Why a trade is being closed, as a rehearsal names it."""
    code = trade.leave.code if trade.leave is not None else rs.CLOSED
    names = [("basket", rs.BY_BASKET), ("time", rs.BY_TIME), ("guard", {rs.GUARD})]
    return next((name for name, codes in names if code in codes), code)


def rehearsed(outcome: Outcome) -> list[Compared]:
    """The rehearsal's trades in the same form."""
    return [_compared(one) for one in outcome.trades]


def _compared(one: Played) -> Compared:
    fills = [
        (int(row[0]), "entry" if row[1] > 0 else exit_name(row), float(row[4]), int(row[5]))
        for row in one.fills
    ]
    moves = [(bar, level, move_name(why)) for bar, level, why in one.moves]
    return Compared(
        side=one.side,
        first=one.first,
        last=one.last,
        stop=one.stop,
        risk=one.planned_risk,
        net=one.net,
        fills=fills,
        moves=moves,
    )


def differences(live: list[Compared], other: list[Compared]) -> list[str]:
    """Each difference in words: the live engine's first."""
    found = []
    for number, (one, two) in enumerate(zip(live, other, strict=False), start=1):
        for key in Compared.__struct_fields__:
            ours, theirs = getattr(one, key), getattr(two, key)
            if key in ("risk", "net"):
                same = abs(ours - theirs) <= MONEY * max(1.0, abs(theirs))
            elif key == "fills":
                same = len(ours) == len(theirs) and all(map(_alike, ours, theirs))
            else:
                same = ours == theirs
            if not same:
                found.append(f"trade {number}, {key}: live {_short(ours, theirs)}")
    if len(live) != len(other):
        found.append(f"live {len(live)} trades, rehearsed {len(other)}")
    return found


LEFT = {"signal", "basket", "time", "guard"}


def _meant(one: Compared) -> Compared:
    """Without the moves that a guard, or the rig beside one, still decided at the close at which
    the trade was left: the engine moves no stop of a trade that it is leaving, the reckoning writes
    such a move, and it never held."""
    if not one.fills or one.fills[-1][1] not in LEFT:
        return one
    return msgspec.structs.replace(one, moves=[move for move in one.moves if move[0] < one.last])


def _alike(live: tuple[int, str, float, int], other: tuple[int, str, float, int]) -> bool:
    """Whether two fills are the same. Where a guard, a basket and the time decide at one close, the
    engine names what it heard first, the reckoning has an order of its own."""
    told = (live[1], other[1])
    return (
        live[::2] == other[::2]
        and live[3] == other[3]
        and (told[0] == told[1] or told in AT_ONE_CLOSE)
    )


def _short(ours: Any, theirs: Any) -> str:
    if isinstance(ours, list):
        at = next(
            (i for i, pair in enumerate(zip(ours, theirs, strict=False)) if pair[0] != pair[1]),
            None,
        )
        at = min(len(ours), len(theirs)) if at is None else at
        return (
            f"{ours[at : at + 1]}, rehearsed {theirs[at : at + 1]}, at {at + 1} of {len(ours)} "
            f"and {len(theirs)}"
        )
    return f"{ours}, rehearsed {theirs}"


class Report(NamedTuple):
    """What a comparison came to."""

    bars: int
    trades: int
    fills: int
    moves: int
    differences: list[str]


def compare(
    bars: Bars,
    signals: Signals,
    instrument: Instrument,
    account: Account,
    rig: Rig,
    order: int,
    policy: HistoryPolicy | None = None,
    joined: Joined | None = None,
) -> Report:
    """Run both over the same bars; raises BadInput."""
    outcome = Rehearsal(
        bars=bars,
        signals=signals,
        instrument=instrument,
        account=account,
        rig=rig,
        policy=policy,
        joined=joined,
    ).run(order)
    live = Walk(
        bars=bars,
        signals=signals,
        instrument=instrument,
        account=account,
        rig=rig,
        order=order,
        policy=policy,
        joined=joined,
    ).run()
    other = rehearsed(outcome)
    if policy is not None:
        live, other = list(map(_meant, live)), list(map(_meant, other))
    fills, moves = sum(len(one.fills) for one in other), sum(len(one.moves) for one in other)
    count = bars.time.size if joined is None else joined.bars.time.size
    return Report(count, len(other), fills, moves, differences(live, other))


def parity(files: Files, order: str) -> Report:
    """Compare over files; raises BadInput."""
    found = read(files)
    made(files, found)  # a missing rate is told as of its file
    try:
        check_parity(found)
    except BadInput as error:
        at = {"bad_guard": files.guards, "bad_rig": files.rig}.get(error.code, files.account)
        raise BadInput(error.code, f"{at}: {error.sentence}") from None
    return compare(
        found.bars,
        found.signals,
        instrument=found.instrument,
        account=found.account,
        rig=found.rig,
        order=ORDERS[order],
        policy=found.policy,
        joined=found.joined,
    )


def written(report: Report) -> str:
    """The report in words."""
    head = (
        f"{report.bars} bars, {report.trades} trades, {report.fills} fills, {report.moves} stop "
        "moves: "
    )
    if not report.differences:
        return head + "no difference"
    more = len(report.differences) - SHOWN
    tail = [f"... and {more} more"] if more > 0 else []
    return "\n".join(
        [f"{head}{len(report.differences)} differences", *report.differences[:SHOWN], *tail]
    )
