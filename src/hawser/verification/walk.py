"""The live engine over the bars of a fleet: what section 11 compares with the rehearsal.

The engine runs behind a real session and Quay's book, walked opening by opening without latency;
what is the rehearsal's own part is done here: reading signals, choosing the way through a bar, and
bringing entries that are due at one time in the order of their ranks (section 13). Each member is
traded under its own name, so that two members may have one instrument.
"""

from __future__ import annotations

from typing import NamedTuple

import msgspec

from hawser.core.bars import span_of
from hawser.core.plan import FleetPlace, Plan
from hawser.core.rules.bar_close import BREAK_EVEN, leaves, move_name
from hawser.core.rules.inside_bar import favourable_first
from hawser.core.rules.refusals import Refusal
from hawser.core.sources.compare import ranks_before
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.entries.follow_on import following
from hawser.engine.model import reasons as rs
from hawser.engine.model import transitions as states
from hawser.engine.model.state import Trade
from hawser.ledger.ledger import Entry
from hawser.rehearsal.fleet.run import FleetMember, FleetRehearsal
from hawser.service.runtime.session import Session
from hawser.venue.quay.barwalk import BarWalk
from hawser.venue.quay.book import BookOrder
from hawser.verification.walk_members import (
    ComparedTrade,
    MemberWalk,
    RefusedEntry,
    guards_for,
    names_of,
)

FLEET = "fleet"
# amends that no rule decides
NO_MOVES = {rs.QTY, rs.INITIAL, rs.KEPT, rs.PLAN, rs.HAND, rs.HELD_HERE, rs.RESTS}
SIZED = {one.code for one in Refusal if one not in (Refusal.NONE, Refusal.GUARD)}


class ReachedOrder(NamedTuple):
    """An order that a move to `bid` fills; `gap`: the open jumped there."""

    order: BookOrder
    bid: int
    spread: int
    gap: bool


class Walk:
    """Drives the engine over the histories of a fleet."""

    def __init__(self, fleet: FleetRehearsal, order: int) -> None:
        self._fleet, self._order, self._names = fleet, order, names_of(fleet)
        self._span = max(span_of(one.rehearsal.time) for one in fleet.members)
        joined = fleet.members[0].rehearsal.joined
        if joined is not None:
            self._span = joined.span
        self.members = [
            MemberWalk(number, one, self._names, self._plan(number, one))
            for number, one in enumerate(fleet.members)
        ]
        self._of = {one.symbol: one for one in self.members}
        self.venue = BarWalk([one.instrument for one in self.members], fleet.account, self._span)
        self.found: dict[str, ComparedTrade] = {}
        self.refused: list[RefusedEntry] = []
        self._last: dict[int, str] = {}  # of each member its last trade
        self.session = Session(fleet.account, self.venue, None, self._heard)
        self._signalled: set[str] = set()  # trades that a signal closed
        self._asks = 0
        # a move holds from the row `_from` on; the entry that is being asked for, and when
        self._from: dict[int, int] = {}
        self._asked: tuple[int, MemberWalk, int] | None = None
        self._ended = False  # a trade has, since this was looked at last

    def _plan(self, number: int, member: FleetMember) -> Plan:
        of = member.rehearsal
        return Plan(
            symbol=self._names.symbols[number],
            side=1,
            size=of.account.size,
            stop=of.rig.stop,
            targets=of.rig.target,
            trail=of.rig.trail,
            rig=of.rig,
            timeframe_ns=self._span,
            source=self._names.sources[number],
            fleet=FleetPlace(FLEET, self._fleet.basket),
        )

    # What the engine did

    def _heard(self, entry: Entry) -> None:
        event, commands = entry
        if isinstance(event, ev.OrderFilled):
            state = self.session.engine.state
            order = state.orders[event.order]
            self._filled(state.trades[order.trade], order.role, order.number, event.fill)
        for command in commands:
            if isinstance(command, cm.Tell):
                self._told(command)
            elif (
                isinstance(command, cm.Amend)
                and command.role == "stop"
                and command.code not in NO_MOVES
            ):
                name = move_name(BREAK_EVEN) if command.code == rs.GUARD_EVEN else command.code
                member = self._of[command.symbol].number
                moves, row = self.found[command.trade].moves, self._from[member]
                if moves and moves[-1][0] == row:
                    moves.pop()  # it never held
                moves.append((row, command.level, name))

    def _told(self, told: cm.Tell) -> None:
        if told.code == "trade_ended":
            self._ended = True
        elif told.weight == "refused" and self._asked is not None:
            time, member, side = self._asked
            code = told.code if told.code in SIZED else Refusal.GUARD.code
            self.refused.append(RefusedEntry(time, member.number, side, code))

    def _filled(self, trade: Trade, role: str, number: int, fill: ev.Fill) -> None:
        member = self._of[trade.symbol]
        if trade.id not in self.found:
            self._last[member.number] = trade.id
            self.found[trade.id] = ComparedTrade(
                member=member.number,
                time=member.times[member.row],
                side=trade.side,
                first=member.row,
                last=member.row,
                stop=trade.cover.initial_stop,
                risk=trade.entry.planned_risk,
                net=0.0,
                fills=[],
                moves=[],
            )
        compared = self.found[trade.id]
        compared.last = member.row
        what = {
            "entry": "entry",
            "rung": "entry",
            "stop": "stop",
            "target": f"target_{number}",
            "loss": f"loss_step_{number}",
        }.get(role)
        if what is None:
            what = "signal" if trade.id in self._signalled else _left_by(trade)
        compared.fills.append((member.row, what, float(fill.price), fill.steps))
        compared.net += fill.profit - fill.commission

    # The walk

    def run(self) -> list[ComparedTrade]:
        """Every trade the engine made, by the time of its entry and the members' order."""
        times = self._fleet.time.tolist()
        self.venue.greet(times[0] - self._span)
        self._hear()
        if self._fleet.policy is not None:
            policy = self._fleet.policy
            guards = guards_for(self._fleet, self._names)
            self.session.set_guards(guards, "guards", policy.calendars)
        for number, opening in enumerate(times):
            here = [one for one in self.members if one.opens_next == opening]
            for one in here:
                one.first = one.row
            while now := _next_rows(here):
                self._at_rows(now)
            self._all_close(here, opening, times[number + 1] if number + 1 < len(times) else None)
        return sorted(self.found.values(), key=lambda one: (one.time, one.member))

    def _hear(self) -> None:
        while (message := self.venue.next_message(0)) is not None:
            self.session.message(message, self.venue.now)
        self.session.flush()

    def _trade(self, member: MemberWalk) -> Trade | None:
        trade = self.session.engine.state.trades.get(self._last.get(member.number, ""))
        return trade if trade is not None and trade.state != states.ENDED else None

    def _at_rows(self, now: list[MemberWalk]) -> None:
        """The rows of prices that open next: exits, entries, and what the prices fill."""
        time = now[0].times[now[0].row]
        self._ended = False
        for one in now:
            self._from[one.number] = one.row
            if one.rates is not None:
                one.rate = one.rates[one.row]
        for one in now:
            opens = one.prices[one.row][0]
            self.venue.open_at(one.symbol, time, opens, one.spread[one.row])
        self._tell_rates(now)
        self._hear()
        for one in now:
            self.venue.fill_waiting(one.symbol)
            self._hear()
        follow = self.session.take_timers("follow")
        self.session.run_until(time)
        self._hear()
        self._mark_if_ended()
        self._entries(now, time, follow)
        self.venue.leave_open()
        self._hear()
        for one in now:
            self._from[one.number] = one.end
        self._inside(now)
        self._mark_if_ended()
        for one in now:
            one.row += 1

    def _tell_rates(self, now: list[MemberWalk]) -> None:
        """What the quote currencies are worth, as the rehearsal has it; a rate that is told grows
        no older. It comes after the prices: any event but a quote makes guards look at them."""
        rates = {one.pair: one.rate for one in self.members}
        rates |= {one.pair: one.rate for one in now}
        for pair, rate in rates.items():
            if pair.partition("/")[0] != self._fleet.account.currency:
                self.venue.tell_rate(pair, rate)

    def _mark_if_ended(self) -> None:
        """An account is valued at each close and when trades have ended; and again, where guards
        have closed others for it."""
        while self._ended:
            self._ended = False
            self.venue.mark()
            self._hear()

    # Entries

    def _entries(self, now: list[MemberWalk], time: int, follow: list[str]) -> None:
        """Those that are due, by their ranks; each is sized on what the ones before it left."""
        timers = self._follow_ons(follow)
        due = [
            one
            for one in now
            if self._trade(one) is None
            and (one.number in timers or (one.want and one.row == one.first))
        ]
        state = self.session.engine.state
        known = state.balance, state.equity, state.margin_used
        for one in ranked(due):
            self._know(*self.venue.figures())
            if one.number in timers:
                self._follow(one, time, timers.pop(one.number))
            else:
                self._enter(one, time)
        if due:
            self._know(*known)
        for name in timers.values():  # whose member has no row of prices now
            self.session.put_back(name)
        for one in now:
            one.want, one.lapses = 0, False

    def _follow_ons(self, timers: list[str]) -> dict[int, str]:
        """Of each member the timer that brings its follow-on; those that bring nothing are over."""
        state, found = self.session.engine.state, dict[int, str]()
        for name in timers:
            trade = state.trades.get(name.partition(":")[2])
            if trade is None or not trade.progress.due or following(state, trade) is None:
                self.session.fire(name)
            else:
                found[self._of[trade.symbol].number] = name
        return found

    def _know(self, balance: float, equity: float, margin: float) -> None:
        """The account's figures as known from now on. Nothing follows from them: an entry is sized
        on the equity at its open, kill switches judge at closes only."""
        money = ev.SeenMoney(balance, equity, margin, self.venue.now)
        self.session.take(ev.Seen(time=self.venue.now, money=money))

    def _follow(self, member: MemberWalk, time: int, timer: str) -> None:
        trade = self.session.engine.state.trades[timer.partition(":")[2]]
        plan = following(self.session.engine.state, trade)
        self._asked = (time, member, plan.side if plan is not None else 0)
        self.session.fire(timer)
        self._hear()
        self._asked = None

    def _enter(self, member: MemberWalk, time: int) -> None:
        rig, side = member.rig, member.want
        within = (rig.from_ is None or time >= rig.from_) and (rig.to is None or time < rig.to)
        if not within or not rig.allows(side):
            return
        if member.lapses:
            self.refused.append(RefusedEntry(time, member.number, side, Refusal.BASKET.code))
            return
        self._asks += 1
        self._asked = (time, member, side)
        plan = msgspec.structs.replace(member.plan, side=side)
        self.session.ask(ev.PlaceTrade(time=time, ask_id=f"s{self._asks}", plan=plan))
        self._hear()
        self._asked = None

    # Inside

    def _inside(self, now: list[MemberWalk]) -> None:
        """Rows of prices go by."""
        # A bar does not say when it came to what is inside. As in a rehearsal, what leaves a part
        # comes before all that time decides within the bar, and what leaves the rest just before
        # the bar's end: a cool-down begins there. So the first is done for all members, then the
        # second.
        ends = [(one, self._goes_by(one)) for one in now]
        for one, end in ends:
            if end is None:
                self._stand_at_close(one)
        for one, end in ends:
            if end is not None:
                self.venue.now = self._before_end(one)
                self.venue.fill(*end)
        self._hear()
        for one, end in ends:
            if end is not None:
                self._stand_at_close(one)

    def _stand_at_close(self, member: MemberWalk) -> None:
        _, high, low, close = member.prices[member.row]
        self.venue.now = self._before_end(member)
        self.venue.stand_at(member.symbol, close, member.spread[member.row], high, low)
        self._hear()

    def _goes_by(self, member: MemberWalk) -> ReachedOrder | None:
        """The way through a row of prices, up to what leaves nothing of the trade; None: it lives
        on."""
        open_, high, low, _ = member.prices[member.row]
        trade = self._trade(member)
        self.venue.now = member.times[member.row] + 1
        side = trade.side if trade is not None else 1
        adverse, favourable = (low, high) if side > 0 else (high, low)
        up = favourable_first(self._order, side * open_, side * favourable, side * adverse)
        first, second = (favourable, adverse) if up else (adverse, favourable)
        for bid, gap in ((open_, True), (first, False), (second, False)):
            end = self._sweep(member, bid, gap)
            if end is not None:
                return end
        return None

    def _sweep(self, member: MemberWalk, bid: int, gap: bool) -> ReachedOrder | None:
        symbol, spread = member.symbol, member.spread[member.row]
        while (order := self.venue.next_reached(symbol, bid, spread, gap)) is not None:
            reached = ReachedOrder(order, bid, spread, gap)
            if self.venue.closes_all(order):
                return reached
            self.venue.fill(*reached)
            self._hear()
        self.venue.stand_at(symbol, bid, spread, bid, bid)
        self._hear()
        return None

    @staticmethod
    def _before_end(member: MemberWalk) -> int:
        return int(member.times[member.row]) + member.fine_span - 1

    # Closes

    def _all_close(self, here: list[MemberWalk], opening: int, until: int | None) -> None:
        """The bars of `here` are complete; the next of any member opens at `until`."""
        self.venue.mark()
        self._hear()
        if until is not None:
            # bars that do not stand on one grid overlap: the next opens before these are over
            time = min(opening + self._span, until)
            for one in here:
                if not one.is_last:
                    self._complete(one, time)
            for one in here:
                if not one.is_last:
                    self._signals(one)
            self._look_at_basket()
        for one in here:
            if one.is_last:
                self._end(one)
        for one in here:
            one.bar += 1

    def _complete(self, member: MemberWalk, time: int) -> None:
        rows = slice(member.first, member.row)
        opens, highs, lows, closes = zip(*member.prices[rows], strict=True)
        whole = (opens[0], max(highs), min(lows), closes[-1])
        spreads = member.spread[rows]
        low_ask = min(low + spread for low, spread in zip(lows, spreads, strict=True))
        opened = member.opened[member.bar]
        self.venue.complete(
            member.symbol, time, opened, prices=whole, spread=spreads[-1], low_ask=low_ask
        )
        self._hear()

    def _signals(self, member: MemberWalk) -> None:
        """What is signalled at a close."""
        signal, trade = member.signal[member.bar], self._trade(member)
        if trade is None:
            ended = self._last_ended(member)
            if ended is None or following(self.session.engine.state, ended) is None:
                member.want = signal
            return
        turns = member.rig.reverse and signal == -trade.side
        if turns or leaves(member.leave[member.bar], trade.side):
            self._signalled.add(trade.id)
            ask = f"x{member.number}.{member.bar}"
            close = ev.CloseTrade(time=self.venue.now, ask_id=ask, trade=trade.id)
            self.session.ask(close)
            self._hear()
            member.want = signal if turns else 0

    def _last_ended(self, member: MemberWalk) -> Trade | None:
        """The trade that ended inside the last row of prices: what follows it waits for the
        next."""
        state, last = self.session.engine.state, self._last.get(member.number)
        if last is None or last not in state.trades or self.found[last].last != member.row - 1:
            return None
        return None if state.trades[last].leave else state.trades[last]

    def _look_at_basket(self) -> None:
        """All closes are known: where the fleet's basket is reached, what is due next lapses."""
        state, pending = self.session.engine.state, list[tuple[MemberWalk, Trade, int]]()
        for one in self.members:
            trade = state.trades.get(self._last.get(one.number, ""))
            plan = following(state, trade) if trade is not None and trade.progress.due else None
            if trade is not None and plan is not None:
                pending.append((one, trade, plan.side))
        self.session.take(ev.ClosesKnown(time=self.venue.now, fleet=FLEET))
        self.session.flush()
        self._hear()
        if any(one.fleet == FLEET and one.reached for one in state.baskets.values()):
            for one in self.members:
                one.lapses = one.want != 0
        for one, trade, side in pending:
            if not trade.progress.due:
                one.want, one.lapses = side, True

    def _end(self, member: MemberWalk) -> None:
        """A member's bars are over."""
        trade = self._trade(member)
        before = len(self.found[trade.id].fills) if trade is not None else 0
        member.row -= 1  # that of its last close
        self.venue.end(member.symbol)
        self._hear()
        if trade is not None:
            close = ev.CloseTrade(
                time=self.venue.now, ask_id=f"end {member.number}", trade=trade.id
            )
            self.session.ask(close)
            self._hear()
            fills = self.found[trade.id].fills
            fills[before:] = [(row, "end", price, steps) for row, _, price, steps in fills[before:]]
        member.row += 1


def _next_rows(here: list[MemberWalk]) -> list[MemberWalk]:
    """Of members whose bars are under way, those with the row of prices that opens next."""
    left = [one for one in here if one.row < one.end]
    first = min((one.times[one.row] for one in left), default=0)
    return [one for one in left if one.times[one.row] == first]


def ranked(due: list[MemberWalk]) -> list[MemberWalk]:
    """Entries that are due, the highest rank first; ties as they stand."""
    found: list[MemberWalk] = []
    for one in due:
        at = len(found)
        while at and ranks_before(one.ranked, found[at - 1].ranked):
            at -= 1
        found.insert(at, one)
    return found


def _left_by(trade: Trade) -> str:
    """Why a trade is being closed, as a rehearsal names it."""
    code = trade.leave.code if trade.leave is not None else rs.CLOSED
    names = [("basket", rs.BY_BASKET), ("time", rs.BY_TIME), ("guard", {rs.GUARD})]
    return next((name for name, codes in names if code in codes), code)
