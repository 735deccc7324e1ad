"""The judge of a storm: what was promised, reckoned by itself from the venue's books and from what
was sent there.

Of the engine it takes what it shows (a trade's state) and which line of which trade an order was
sent for; the rest is the venue's: what rests, what is held, what has filled.
"""

from __future__ import annotations

from collections import Counter, deque
from collections.abc import Callable, Iterator
from decimal import Decimal

import msgspec

from hawser.core.clock import MINUTE, SECOND
from hawser.engine.commands import Amend, Submit, Tell
from hawser.engine.events import AnyEvent, Checked, MoveStop
from hawser.engine.model import transitions as states
from hawser.engine.model.reasons import HAND, HELD_HERE, INITIAL, PLAN, RESTS, words
from hawser.engine.model.state import EngineState, Trade
from hawser.ledger.ledger import Entry
from hawser.venue import port
from hawser.venue.quay.book import BookOrder, Position
from hawser.venue.quay.quay import Quay
from hawser.verification.places import place_of
from hawser.verification.world import DEADLINE_S

# for how long a venue that has refused a quantity as too large is asked for less
LESSON = 11 * MINUTE
EMPTY_CHECKS = 4  # in a row, recorded though nothing followed from them
FLOOD, FLOOD_ALL = 30, 700  # requests a minute for one line of a trade, and for all
SPLIT = 50  # orders at most for one position: one that would need more is closed, as many at a time
# how long "protected" may be shown of a position that has lost its cover untold
SHOWN_FALSELY = 45 * SECOND
# More than is held may rest for as long as a change that was refused waits (30 s,
# engine/pacing.py), after the two checks that finding it may take. What closes a position never
# fills beyond it: too much cover does no harm meanwhile.
FITS_AFTER = 75 * SECOND
# a person's wish, or where the fill has the lines laid
MAY_WIDEN = {HAND, HELD_HERE, INITIAL, PLAN, RESTS}
NOT_OURS = ("other-", "call-")


class Findings(msgspec.Struct):
    """What one storm did, and every promise it broke, by kind. Times in ns."""

    seed: int
    trades: int = 0
    requests: int = 0
    kills: int = 0
    simulated: int = 0
    faults: dict[str, int] = {}
    exposed: list[int] = []  # for each trade that was opened, its longest time without cover
    longest_exposed: int = 0  # as the engine knows it, while the venue could be acted on
    longest_naked: int = 0  # as it is at the venue, whatever the weather
    broken: dict[str, list[str]] = {}

    def broke(self, kind: str, what: str) -> None:
        found = self.broken.setdefault(kind, [])
        if len(found) < 5:
            found.append(what)

    def joined(self, other: Findings) -> Findings:
        """What both found, under the seed of this one; what the other broke says by which seed it
        is traced."""
        texts = {kind: list(found) for kind, found in self.broken.items()}
        for kind, found in other.broken.items():
            texts[kind] = [
                *texts.get(kind, ()),
                *(f"beside it, in storm {other.seed}: {text}" for text in found),
            ]
        counts = {
            kind: self.faults.get(kind, 0) + other.faults.get(kind, 0)
            for kind in self.faults | other.faults
        }
        return Findings(
            seed=self.seed,
            trades=self.trades + other.trades,
            requests=self.requests + other.requests,
            kills=self.kills + other.kills,
            simulated=self.simulated + other.simulated,
            faults=counts,
            exposed=[*self.exposed, *other.exposed],
            longest_exposed=max(self.longest_exposed, other.longest_exposed),
            longest_naked=max(self.longest_naked, other.longest_naked),
            broken=texts,
        )


class Judge:
    """Watches one storm. `state` and `venue` give what there is now: both change hands with every
    kill."""

    def __init__(
        self, found: Findings, state: Callable[[], EngineState], venue: Callable[[], Quay]
    ) -> None:
        self.found, self._state, self._venue = found, state, venue
        self._begun = place_of(found.seed).start
        # instruments that have changed or gone: their trades may be left as they rest
        self.gone: set[str] = set()
        self._line: dict[str, tuple[str, str, int]] = {}  # order -> trade, role, number
        self._sent: dict[tuple[str, str, int, str], deque[int]] = {}
        self._all: deque[int] = deque()
        # position -> when it last was more than one order may be
        self._lowered: dict[str, int] = {}
        self._split: dict[str, int] = {}  # trade -> its most parts so far
        self._blocked: dict[str, int] = {}  # symbol -> when the venue could last not be acted on
        self._covered: dict[str, int] = {}  # position -> when the venue last held a stop of it
        # By the entry's order, which no other has: an older copy of the record gives a trade's name
        # once more.
        # entry -> when its cover was last whole, or not claimed to be
        self._whole: dict[str, int] = {}
        self._placed: dict[str, int] = {}  # entry -> when it last waited where it was sized for
        self._fitting: dict[str, int] = {}  # position -> when what rests last did not exceed it
        self._unknown_until = 0  # of orders placed earlier the record may know nothing
        # position that an older record may not have -> its cover then
        self._bared: dict[str, int] = {}
        self._asks: dict[str, str] = {}  # trade -> the ask it came from
        # trade, number -> the most units it was to have
        self._rungs: dict[tuple[str, int], Decimal] = {}
        self._worth: dict[str, float] = {}  # order -> what a unit was worth when it was sent
        # order -> its quantity as placed, or as last told
        self._quantities: dict[str, Decimal] = {}
        # order -> its level as last asked for, and as last told
        self._levels: dict[str, dict[str, str]] = {}
        # order -> the level that a person wished and the venue has not confirmed yet
        self._wished: dict[str, int] = {}
        self._empty = 0  # checks in a row from which nothing has followed
        self._closed = False  # an older copy of the record is in its place, and nobody has re-armed

    @property
    def now(self) -> int:
        return self._venue().now

    def broke(self, kind: str, what: str) -> None:
        self.found.broke(kind, f"{(self.now - self._begun) / SECOND:.1f} s: {what}")

    # What is heard

    def sent(self, request: port.Request) -> None:
        """A request on its way to the venue."""
        now, state = self.now, self._state()
        self._count(self._all, now)
        for each in state.live():
            self._parts(state, each.id)
        split = sum(parts - 1 for parts in self._split.values())
        if len(self._all) > FLOOD_ALL + FLOOD * split:
            self.broke("floods", f"{len(self._all)} requests within a minute, the last {request}")
        name = "" if isinstance(request, port.AskHoldings) else request.id
        if isinstance(request, (port.NewOrder, port.AmendOrder)) and request.level is not None:
            self._levels.setdefault(name, {})["asked"] = request.level
        if isinstance(request, port.NewOrder):
            self._quantities[name] = Decimal(request.qty)
            if request.symbol in self._venue().instruments:
                self._worth[name] = self._venue().instruments[request.symbol].multiplier
        if isinstance(request, (port.CancelOrder, port.AmendOrder)):
            self._taken_away(state, request)
        line = self._line_of(state, name)
        # One line may be many orders: where the venue takes smaller ones, and each time one has to
        # be sent anew.
        of, most = ((*line, ""), FLOOD * self._parts(state, line[0]))
        if not isinstance(request, port.NewOrder):
            of, most = (*line, name), FLOOD
        times = self._sent.setdefault(of, deque())
        self._count(times, now)
        if len(times) > most:
            self.broke(
                "floods", f"{len(times)} requests within a minute for {of}, the last {request}"
            )
        trade = state.trades.get(line[0])
        if trade is not None:
            self._asks[trade.id] = trade.ask_id
            for rung in trade.ladder.rungs:  # another rig may make less of it
                key = (trade.id, rung.number)
                units = rung.steps * state.instruments[trade.symbol].qty_step
                self._rungs[key] = max(units, self._rungs.get(key, units))

    def _taken_away(self, state: EngineState, request: port.CancelOrder | port.AmendOrder) -> None:
        """No stop is taken back, or made smaller, while what is open needs it."""
        venue = self._venue()
        order = venue.book.state.orders.get(request.id)
        position = (
            venue.book.state.positions.get(order.closes)
            if order is not None and order.closes
            else None
        )
        if (
            order is None
            or position is None
            or order.status != "resting"
            or self._role(order) != "stop"
        ):
            return
        trade = self._trade_of(state, position.id)
        if trade is None or trade.side != position.side or order.side == position.side:
            return
        if isinstance(request, port.AmendOrder) and Decimal(request.qty) >= self._quantities.get(
            order.id, Decimal(0)
        ):
            # no less than Hawser has been told: an amend that it had no answer to has made it
            # larger
            return
        rests = self._lost_untold(state, trade)
        cover = self._cover(position.id, position.symbol) + sum(rests.values())
        left = cover - (order.steps - order.filled + rests.get(order.id, 0))
        if isinstance(request, port.AmendOrder):
            left += (
                int(Decimal(request.qty) / venue.instruments[order.symbol].qty_step) - order.filled
            )
        if left < min(cover, position.steps, trade.open_steps - self._untold(state, trade)):
            self.broke(
                "stripped", f"{request} leaves {left} of {position.steps} covered, {cover} were"
            )

    def _untold(self, state: EngineState, trade: Trade) -> int:
        """Steps of a trade that its own orders have closed at the venue, of which nobody has told
        Hawser yet."""
        ours = (self._venue().book.state.orders.get(name) for name in trade.live_ids)
        return sum(
            one.filled - state.orders[one.id].filled
            for one in ours
            if one is not None and one.closes
        )

    def _lost_untold(self, state: EngineState, trade: Trade) -> dict[str, int]:
        """By stop, steps that another hand has taken back or made smaller, of which nobody has told
        Hawser yet: by all that it can know they rest."""
        venue, lost = self._venue(), {}
        for own in state.orders_of(trade, "stop"):
            order = venue.book.state.orders.get(own.id)
            if order is not None and own.id in venue.meddled:
                rests = order.steps - order.filled if order.status == "resting" else 0
                lost[own.id] = max(0, own.surely_left - rests)
        return lost

    def told(self, message: port.VenueMessage) -> None:
        """A message that has reached Hawser."""
        match message:
            case port.Accepted(id=name, level=str(level)) | port.Amended(id=name, level=level):
                self._levels.setdefault(name, {})["told"] = level
                self._wished.pop(name, None)
                if isinstance(message, port.Amended):
                    self._quantities[name] = Decimal(message.qty)
            case port.StatusTold(order=order):
                self._known(order)
            case port.HoldingsTold(asked=asked):
                for order in asked:
                    self._known(order)

    def _known(self, order: port.OrderTold) -> None:
        if order.qty:
            self._quantities[order.id] = Decimal(order.qty)
        if order.level is not None:
            self._levels.setdefault(order.id, {})["told"] = order.level

    def _parts(self, state: EngineState, name: str) -> int:
        """Into how many orders what was open of a trade has had to be split at the venue; `SPLIT`
        at most at once."""
        trade = state.trades.get(name)
        if trade is None or trade.symbol not in self._venue().book.instruments:
            return 1
        parts = 1 + trade.open_steps // max(
            1, self._venue().book.instruments[trade.symbol].qty_max_steps
        )
        self._split[name] = min(SPLIT, max(parts, self._split.get(name, 0)))
        return self._split[name]

    def _line_of(self, state: EngineState, name: str) -> tuple[str, str, int]:
        """Which line of which trade an order is for."""
        order = state.orders.get(name)
        if order is not None:
            self._line[name] = (order.trade, order.role, order.number)
        return self._line.get(name, ("", "all", 0))

    @staticmethod
    def _count(times: deque[int], now: int) -> None:
        times.append(now)
        while times[0] <= now - MINUTE:
            times.popleft()

    def away(self) -> None:
        """Hawser is not there, or starts: nothing can be acted on."""
        for symbol in self._venue().instruments:
            self._blocked[symbol] = self.now

    def slept(self) -> None:
        """The machine has slept: what is wrong by now could not be seen earlier."""
        self.away()
        for since in (self._whole, self._fitting, self._placed):
            since.update(dict.fromkeys(since, self.now))

    def lacks(self, something: bool) -> None:
        """A record is opened. Where it lacks something nothing is entered before somebody
        re-arms."""
        self._closed = self._closed or something

    def put_back(self) -> None:
        """An older copy of the record has taken its place: of what has come since nothing is known,
        and nothing is taken from it."""
        self._unknown_until = self.now
        for position in self._venue().book.state.positions.values():
            self._bared[position.id] = self._cover(position.id, position.symbol) + self._left(
                position.id
            )

    def entered(self, entry: Entry) -> Iterator[str]:
        """What is entered by an older copy of the record before a person has seen to it."""
        for command in entry[1]:
            if isinstance(command, Tell) and command.code == "rearmed":
                self._closed = False
            if self._closed and isinstance(command, Submit) and command.role in ("entry", "rung"):
                yield f"{command.role} {command.order} by an older copy of the record"

    def widened(self, entry: Entry) -> Iterator[str]:
        """What moves a stop away from the market, farther than a person wished; a backstop moves as
        its stop does."""
        book = self._venue().book
        self._note_wish(entry[0])
        for command in entry[1]:
            if not isinstance(command, Amend) or command.role != "stop":
                continue
            order, trade = book.state.orders.get(command.order), self._state().trades[command.trade]
            if command.code in MAY_WIDEN:
                self._wished[command.order] = command.level
            if order is None or order.level is None or order.status != "resting" or trade.held:
                continue
            wished = self._wished.get(order.id, order.level)
            known = order.level in self._known_levels(order)  # else nobody could know
            if (
                known
                and trade.side * (command.level - order.level) < 0
                and trade.side * (command.level - wished) < 0
            ):
                yield f"{trade.id} from {order.level} to {command.level}: {command.why}"

    def _note_wish(self, event: AnyEvent) -> None:
        """A wish counts from when it is asked: without a line nothing is sent, and a trail may move
        the stop first."""
        if not isinstance(event, MoveStop):
            return
        trade = self._state().trades.get(event.trade)
        if trade is not None and (trade.stop, trade.cover.code) == (event.level, HAND):
            for order in self._state().orders_of(trade, "stop"):
                self._wished[order.id] = trade.venue_stop

    def checked(self, entry: Entry) -> None:
        """The record does not grow by what says nothing new."""
        if isinstance(entry[0], Checked):
            self._empty = 0 if entry[1] else self._empty + 1
            if self._empty > EMPTY_CHECKS:
                self.broke(
                    "floods", f"{self._empty} checks in a row were recorded, and nothing followed"
                )

    # At every moment

    def look(self) -> None:
        state = self._state()
        for symbol in self._venue().instruments:
            market = state.markets.get(symbol)
            shut = symbol in self._venue().book.closed  # which Hawser may not have been told
            if (
                not state.link_up
                or not state.reconciled
                or market is None
                or not market.open
                or shut
            ):
                self._blocked[symbol] = self.now  # nobody could cover anything
        self._exposed(state)
        self._waits(state)
        self._shown(state)
        self._rests(state)

    def _exposed(self, state: EngineState) -> None:
        """What the engine knows to be without cover has a deadline, where the venue's books say the
        same."""
        for trade in state.live():
            beyond = self._parts(state, trade.id) >= SPLIT  # closing it takes as long as it takes
            if (
                trade.cover.exposed_since
                and trade.open_steps
                and not (trade.left or beyond)
                and self._bare(trade)
            ):
                exposed = state.now - max(
                    trade.cover.exposed_since, self._blocked.get(trade.symbol, 0)
                )
                self.found.longest_exposed = max(self.found.longest_exposed, exposed)
                if exposed > DEADLINE_S * SECOND:
                    self.broke(
                        "naked",
                        f"{trade.id} exposed for {exposed / SECOND:.1f} s ({words(trade.leave)})",
                    )

    def _waits(self, state: EngineState) -> None:
        """An entry waits where it was sized for, and for the contract that it was; where another
        hand or the venue has made it another, it is put right within a while."""
        for trade in state.live():
            order = self._venue().book.state.orders.get(trade.entry.order_id)
            known = (
                order is None
                or order.status != "resting"
                or order.filled
                or trade.left
                or trade.entry.moving is not None
                or order.kind == "market"
                or (
                    order.level == trade.ref
                    and order.steps <= trade.entry.asked_steps
                    and self._same_worth(order)
                )
            )
            if known or self._blocked.get(trade.symbol, 0) == self.now:
                self._placed[trade.entry.order_id] = self.now
            elif (
                order is not None
                and self.now - self._placed.setdefault(trade.entry.order_id, self.now)
                > SHOWN_FALSELY
            ):
                text = (
                    f"{trade.id} was sized for {trade.entry.asked_steps} at {trade.ref}, "
                    f"{order.steps} "
                    f"wait at {order.level}"
                )
                self.broke("oversized", text)

    def _same_worth(self, order: BookOrder) -> bool:
        """Whether a unit of what an order is for is worth what it was when the order was sent."""
        instrument = self._venue().instruments.get(order.symbol)
        return (
            instrument is None
            or self._worth.get(order.id, instrument.multiplier) == instrument.multiplier
        )

    def _bare(self, trade: Trade) -> bool:
        held = self._venue().book.state.positions.get(trade.entry.order_id)
        return held is not None and self._cover(held.id, held.symbol) < held.steps

    def _shown(self, state: EngineState) -> None:
        """A trade that is shown as protected has its cover at the venue; what nobody told is found
        within a while."""
        book = self._venue().book
        for trade in state.live():
            held = book.state.positions.get(trade.entry.order_id)
            whole = (
                trade.state != states.PROTECTED
                or trade.left
                or held is None
                or held.side != trade.side
                or self._cover(held.id, held.symbol) >= held.steps
            )
            if whole or self._blocked.get(trade.symbol, 0) == self.now:
                self._whole[trade.entry.order_id] = self.now
            elif self.now - self._whole.setdefault(trade.entry.order_id, self.now) > SHOWN_FALSELY:
                cover = self._cover(trade.entry.order_id, trade.symbol)
                text = (
                    f"{trade.id} is shown as protected, {cover} of {held.steps if held else 0} "
                    "steps are covered"
                )
                self.broke("uncovered", text)

    def _stripped(self, state: EngineState, position: Position) -> None:
        """What protects a position that the record does not have stays, until somebody adopts
        it."""
        if position.id not in self._bared or position.symbol not in self._venue().instruments:
            return
        if self._by_others(position) or self._trade_of(state, position.id) is not None:
            self._bared.pop(position.id)
            return
        cover = self._cover(position.id, position.symbol)
        kept = min(self._bared[position.id] - self._left(position.id), position.steps)
        if cover < kept:
            self.broke(
                "naked",
                (
                    f"{position.id} has no trade in the record, and cover for {cover} "
                    f"of {kept} steps"
                ),
            )

    def _left(self, position: str) -> int:
        """Steps of a position that have left by any order."""
        return sum(
            order.filled
            for order in self._venue().book.state.orders.values()
            if order.closes == position
        )

    def _by_others(self, position: Position) -> bool:
        """Whether another hand has changed a position or what rests for it, or the venue its
        instrument."""
        venue = self._venue()
        orders = (venue.book.state.orders.get(name) for name in venue.meddled)
        touched = any(order is not None and order.closes == position.id for order in orders)
        return touched or position.id in venue.meddled or bool({position.symbol, "all"} & self.gone)

    def _rests(self, state: EngineState) -> None:
        """No more rests than is held; by another hand, or by a fill untold, it may for a while."""
        for position in self._venue().book.state.positions.values():
            self._stripped(state, position)
            if position.id.startswith(NOT_OURS):
                continue  # nobody has adopted it
            cover = self._cover(position.id, position.symbol)
            since = self._covered.setdefault(position.id, self.now)
            if cover:
                self._covered[position.id] = self.now
            self.found.longest_naked = max(self.found.longest_naked, self.now - since)
            trade = self._trade_of(state, position.id)
            fits = (
                cover <= position.steps
                or trade is None
                or trade.left
                or trade.side != position.side
            )
            fits = fits or (
                trade is not None
                and trade.state == states.ENDED
                and position.id in state.unexplained
            )
            # A large stop stays beside others while more than 50 parts are closed under it.
            closing = trade is not None and trade.leave is not None
            fits = fits or (closing and len(self.stops(position.id, position.symbol)) > 1)
            if (
                fits
                or self._blocked.get(position.symbol, 0) == self.now
                or self._is_split(position)
            ):
                self._fitting[position.id] = self.now
            elif self.now - self._fitting.setdefault(position.id, self.now) > FITS_AFTER:
                self.broke(
                    "overcovered",
                    f"stops for {cover} of {position.steps} steps rest for {position.id}",
                )

    def _is_split(self, position: Position) -> bool:
        """Whether one order may cover less than the position, now or a moment ago: what rested for
        more stays until smaller ones do."""
        instrument = self._venue().book.instruments.get(position.symbol)
        if instrument is not None and instrument.qty_max_steps < self._largest(position):
            self._lowered[position.id] = self.now
        since = self.now - self._lowered.get(position.id, 0)
        return since < MINUTE or (
            since < LESSON and self._beside_a_large_one(position.id, position.steps)
        )

    def _beside_a_large_one(self, position: str, steps: int) -> bool:
        """Whether one stop covers all, of which nothing can be moved while too many smaller ones
        would have to take its place: those there are rest beside it."""
        symbol = self._venue().book.state.positions[position].symbol
        stops = self.stops(position, symbol)
        return len(stops) > 1 and any(one.steps - one.filled >= steps for one in stops)

    def _largest(self, position: Position) -> int:
        """The greatest of what is held and of each order that rests for it."""
        resting = self._resting(position.id, position.symbol)
        return max([position.steps, *(order.steps - order.filled for order in resting)])

    def _trade_of(self, state: EngineState, position: str) -> Trade | None:
        """The trade that has a position: the last, where one that had ended was followed by an
        adopted one."""
        found = [trade for trade in state.trades.values() if trade.entry.order_id == position]
        return found[-1] if found else None

    def _resting(self, position: str, symbol: str) -> list[BookOrder]:
        if symbol not in self._venue().instruments:
            return []
        return [order for order in self._venue().book.resting(symbol) if order.closes == position]

    def _cover(self, position: str, symbol: str) -> int:
        """Steps that stops at the venue close, loss steps apart."""
        return sum(order.steps - order.filled for order in self.stops(position, symbol))

    def stops(self, position: str, symbol: str) -> list[BookOrder]:
        """The stops that rest for a position, loss steps apart. One on its own side, left over from
        before another hand turned it round, covers nothing."""
        held = self._venue().book.state.positions.get(position)
        rests = [order for order in self._resting(position, symbol) if self._role(order) == "stop"]
        return [order for order in rests if held is None or order.side != held.side]

    def stop_levels(self, position: str, symbol: str) -> list[int]:
        """Where the stops rest that a position has. One that the venue or another hand has put
        elsewhere counts there only once Hawser has been told."""
        levels = []
        for order in self.stops(position, symbol):
            known = self._known_levels(order)
            if order.level is not None:
                farthest = max(known, key=lambda level: level * order.side, default=order.level)
                levels.append(order.level if order.level in known else farthest)
        return levels

    def _known_levels(self, order: BookOrder) -> list[int]:
        """Where an order was last asked to rest, and where it was last told to."""
        instrument = self._venue().instruments[order.symbol]
        return [
            instrument.ticks(Decimal(level)) for level in self._levels.get(order.id, {}).values()
        ]

    def _role(self, order: BookOrder) -> str:
        """What a resting order is to its trade: stop, loss (step), target, or market: one that
        fills in parts rests too, and covers nothing."""
        role = self._line.get(order.id, ("", "", 0))[1]
        by_kind = {"limit": "target", "market": "market"}
        return by_kind.get(order.kind, "loss" if role == "loss" else "stop")

    # At the end

    def settled(self) -> None:
        """The air is clear: the two sides agree."""
        self._entries()
        self._agree()
        self._left_over()
        self._fills()

    def _entries(self) -> None:
        """One ask, one entry: of all that was sent for it, one order at most has opened anything at
        the venue."""
        book, state = self._venue().book, self._state()
        opened: Counter[str] = Counter()
        older: set[str] = set()
        for order in book.state.orders.values():
            trade, role, _ = self._line.get(order.id, ("", "", 0))
            if role == "entry" and order.filled:
                ask = (
                    state.trades[trade].ask_id
                    if trade in state.trades
                    else self._asks.get(trade, trade)
                )
                opened[ask] += 1
                if order.placed < self._unknown_until and order.id not in state.orders:
                    # what follows a trade by itself follows once more, or its name is another's now
                    older.add(ask)
        for ask, count in opened.items():
            if count > 1 + (ask in older):
                self.broke("doubled", f"{count} entries for {ask}")
        for one in state.trades.values():
            for rung in one.ladder.rungs:
                sent = [state.orders[name] for name in one.order_ids]
                sent = [each for each in sent if (each.role, each.number) == ("rung", rung.number)]
                filled = sum(each.filled for each in sent)
                step = state.instruments[one.symbol].qty_step  # another may have come since
                asked = sent[0].steps * step if sent else 0
                most = self._rungs.get((one.id, rung.number), asked)
                # an ended trade is not carried over to another step
                counts = not self.gone & {one.symbol, "all"}
                if filled != rung.filled or (sent and counts and filled * step > most):
                    self.broke(
                        "doubled",
                        f"{one.id}: rung {rung.number} filled {filled}, known {rung.filled}",
                    )

    def _agree(self) -> None:
        """Every position has exactly its cover."""
        book, state = self._venue().book, self._state()
        held = {one.entry.order_id: one for one in state.live() if one.open_steps and not one.left}
        for position in book.state.positions.values():
            trade = self._trade_of(state, position.id)
            if (
                trade is None
                and not position.id.startswith(NOT_OURS)
                and not self._older(position.id)
            ):
                self.broke("lost_fills", f"the venue holds {position}, and no trade has it")
            if trade is None or trade.left or trade.side != position.side:  # another hand's by now
                continue
            if (
                position.id not in held
                and position.id in state.unexplained
                and position.id in self._venue().meddled
            ):
                continue  # turned about by another hand, and shown as such
            if position.id not in held:
                self.broke("lost_fills", f"{trade.id} has ended, the venue holds {position}")
                continue
            del held[position.id]
            self._covered_exactly(trade, position.id, position.steps)
        for name, trade in held.items():
            if trade.symbol not in self.gone:
                self.broke(
                    "lost_fills",
                    f"{trade.id}: open {trade.open_steps}, the venue holds no {name}",
                )

    def _older(self, position: str) -> bool:
        """Whether a position was asked for before an older copy of the record took its place."""
        return self._venue().book.state.orders[position].placed < self._unknown_until

    def _covered_exactly(self, trade: Trade, position: str, steps: int) -> None:
        rests: Counter[str] = Counter()
        for order in self._resting(position, trade.symbol):
            rests[self._role(order)] += order.steps - order.filled
        if trade.open_steps != steps:
            self.broke("lost_fills", f"{trade.id}: open {trade.open_steps}, venue {steps}")
        if self._blocked.get(trade.symbol, 0) > self.now - MINUTE:
            return  # an instrument that is halted cannot be put in order
        if trade.leave and self._split.get(trade.id, 0) >= SPLIT:
            return  # closing it takes as long as it takes
        if rests["stop"] < steps or trade.state != states.PROTECTED:
            self.broke("naked", f"{trade.id}: {rests['stop']} of {steps} covered, {trade.state}")
        lesson = self.now - self._lowered.get(position, 0) < LESSON and self._beside_a_large_one(
            position, steps
        )
        if max(rests.values(), default=0) > steps and not lesson:
            self.broke("overcovered", f"{trade.id}: {dict(rests)} of {steps}")

    def _left_over(self) -> None:
        """Nothing of ours rests without a position, but what opens one."""
        book, state = self._venue().book, self._state()
        for symbol in self._venue().instruments:
            for order in book.resting(symbol):
                of = order.closes or order.adds
                trade = state.trades.get(self._line.get(order.id, ("", "", 0))[0])
                opens = self._line.get(order.id, ("", "", 0))[1] in ("entry", "rung")
                if trade is not None and trade.left and opens:
                    self.broke("oversized", f"{order.id} may still open what nobody tends")
                if (
                    of is not None
                    and of not in book.state.positions
                    and not (trade is not None and trade.left)
                ):
                    self.broke("overcovered", f"{order.id} rests without a position")
        for one in state.trades.values():
            # Another hand may have added, or a rung that an older record does not have.
            known = (
                one.entry.order_id not in self._venue().meddled
                and self._all_known(state, one)
                and not one.left
            )
            if one.closed > one.entered and known:
                self.broke("overcovered", f"{one.id}: {one.closed} closed of {one.entered}")

    def _fills(self) -> None:
        """Every fill of the venue is known here."""
        state = self._state()
        for order in state.orders.values():
            theirs = self._venue().book.state.orders.get(order.id)
            missing = (
                {fill.id for fill in theirs.fills} - set(order.fills)
                if theirs is not None
                else set()
            )
            if missing and not state.trades[order.trade].left:
                self.broke("lost_fills", f"{order.role} {order.id}: {sorted(missing)}")
        for trade in state.trades.values():
            own = trade.entry.order_id not in self._venue().meddled and not self.gone & {
                trade.symbol,
                "all",
            }
            if trade.entered and own and not trade.left:
                self._money(state, trade)

    def _all_known(self, state: EngineState, trade: Trade) -> bool:
        """Whether every order that was sent for a trade's position is in the record."""
        sent = (
            one.id
            for one in self._venue().book.state.orders.values()
            if trade.entry.order_id in (one.closes, one.adds)
        )
        return all(name in state.orders for name in sent)

    def _money(self, state: EngineState, trade: Trade) -> None:
        """What a trade has come to is what the venue has booked for its orders; where one of them
        was lost to the record with a full disk and a kill, the present quote had to do.
        """
        if not self._all_known(state, trade):
            return
        theirs = [self._venue().book.state.orders.get(name) for name in trade.order_ids]
        fills = [fill for order in theirs if order is not None for fill in order.fills]
        profit, fees = sum(fill.profit for fill in fills), sum(fill.commission for fill in fills)
        if abs(profit - trade.profit) > 0.01 or abs(fees - trade.commission) > 0.01:
            text = (
                f"{trade.id}: {trade.profit:.2f} less {trade.commission:.2f}, the venue "
                f"{profit:.2f} less {fees:.2f}"
            )
            self.broke("lost_fills", text)
