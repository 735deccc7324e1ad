"""Requests to the venue and their ends: sent once, timed, asked about when silent, never sent again
blindly."""

from __future__ import annotations

from hawser.core.clock import MILLISECOND, SECOND
from hawser.engine.commands import (
    Amend,
    AnyCommand,
    Cancel,
    OrderKind,
    Query,
    QueryAll,
    Role,
    StartTimer,
    Submit,
    Tell,
    Weight,
)
from hawser.engine.model import transitions as states
from hawser.engine.model.state import EngineState, Order, Trade
from hawser.engine.pacing import free_at, note_sent, silence_allowed

# Long enough for a venue's usual answer, short enough that half an exposed trade's deadline (2.5 s)
# leaves time to ask what became of a lost stop and to send it again.
REQUEST_TIMEOUT = 800 * MILLISECOND
EXPOSED_TIMEOUT = 400 * MILLISECOND  # where there is, or may be, open quantity without a stop
HOLDINGS_TIMEOUT = 2 * SECOND
LINK_AGAIN = 5 * SECOND  # between two looks at a request while there is no link
OVERDUE = 2 * SECOND  # after an order's own time: the venue should have given it up by then
ALARM_AFTER_SILENCES = 4
ASKED_KEPT = 8


# a retry by less is no time: of a restart, or of a record by an earlier version, which counted them
NO_MOMENT = 10**15


class Outbox:
    """The engine's outgoing side: the state and the commands of the event being handled."""

    def __init__(self, state: EngineState) -> None:
        self.state = state
        self.out: list[AnyCommand] = []
        self.ended: list[Trade] = []  # by the event being handled
        # trades that are looked at once all of an answer is known
        self.put_off: dict[str, Trade] | None = None
        self.looks_at = state.guards_at  # when guards are looked at, as the timer there is has it

    @property
    def currency(self) -> str:
        """The account's."""
        return self.state.account.currency if self.state.account else ""

    def number(self) -> int:
        # From the state and not drawn at random: the fold of a record has to give the same ids to
        # the byte.
        self.state.counter += 1
        return self.state.counter

    def tell(
        self,
        weight: Weight,
        code: str,
        text: str,
        trade: Trade | None = None,
        ask_id: str = "",
        guard: str = "",
        subject: str = "",
    ) -> None:
        name, symbol = (trade.id, trade.symbol) if trade else ("", "")
        self.out.append(
            Tell(
                weight=weight,
                code=code,
                text=text,
                trade=name,
                symbol=symbol,
                ask_id=ask_id,
                guard=guard,
                subject=subject,
            )
        )

    def submit(
        self,
        trade: Trade,
        role: Role,
        kind: OrderKind,
        steps: int,
        level: int | None,
        why: str,
        number: int = 0,
        bound: int | None = None,
        until: int = 0,
    ) -> Order:
        """A new order under a new client id. A rung adds to the entry's position, every other
        closes it."""
        side = trade.side if role in ("entry", "rung") else -trade.side
        session = f".{self.state.serial}" if self.state.serial else ""
        order_id = f"{self.state.prefix}{session}-{self.number()}"
        order = Order(
            id=order_id,
            trade=trade.id,
            role=role,
            side=side,
            kind=kind,
            steps=steps,
            level=level,
            number=number,
            bound=bound,
            until=until,
        )
        if level is not None:
            order.asked = [(level, steps)]
        market = self.state.markets.get(trade.symbol)
        order.seen = market.exit_side(-side) if market is not None else 0
        self.state.orders[order_id] = order
        trade.order_ids.append(order_id)
        self.state.list_live(trade, order)
        closes = None if role in ("entry", "rung") else trade.entry.order_id
        self.out.append(
            Submit(
                order=order_id,
                trade=trade.id,
                symbol=trade.symbol,
                role=role,
                side=side,
                kind=kind,
                steps=steps,
                level=level,
                closes=closes,
                why=why,
                bound=bound,
                until=until,
                adds=trade.entry.order_id if role == "rung" else None,
            )
        )
        self._time(trade, order, "submit")
        if until:  # the venue's clock may stand still: the order is taken back by ours
            self.later(f"until:{order_id}", max(0, until - self.state.now) + OVERDUE)
        return order

    def amend(
        self,
        trade: Trade,
        order: Order,
        level: int,
        steps: int,
        why: str,
        code: str,
        bound: int | None = None,
    ) -> None:
        token = self.number()
        self.out.append(
            Amend(
                order=order.id,
                trade=trade.id,
                symbol=trade.symbol,
                role=order.role,
                level=level,
                steps=steps,
                why=why,
                bound=bound,
                code=code,
                token=token,
            )
        )
        order.steps_under_way = steps
        if level != order.level:
            order.given_up = 0  # another level is wanted, which the venue may take
        order.asked = [*order.asked[-ASKED_KEPT + 1 :], (level, steps)]
        self._time(trade, order, "amend", token)

    def cancel(self, trade: Trade, order: Order, why: str) -> None:
        self.out.append(Cancel(order=order.id, trade=trade.id, symbol=trade.symbol, why=why))
        order.unwanted = True
        self._time(trade, order, "cancel")

    def query(self, order: Order) -> None:
        """Ask what became of an order; later, where its line has asked too often, or there is no
        link: once it stands again the venue is asked about all of them."""
        trade = self.state.trades[order.trade]
        free = free_at(self.state, trade, order.role, order.number)
        if not self.state.link_up:
            free = max(free, self.state.now + LINK_AGAIN)
        # It counts as asked from here on: nothing else may be sent about an order whose state is
        # not known.
        if free > self.state.now:
            order.pending, order.token = "query", self.number()
            self.later(f"request:{order.id}:{order.token}", free - self.state.now)
            return
        token = self.number()
        self.out.append(Query(order=order.id, trade=trade.id, symbol=trade.symbol, token=token))
        self._time(trade, order, "query", token)

    def compare(self) -> None:
        """Ask the venue for all it holds; entries stay closed until it has answered
        (reconcile.py)."""
        state = self.state
        state.reconciled, state.holdings_token = False, self.number()
        self.out.append(QueryAll(token=state.holdings_token, orders=open_orders(state)))
        self.later(
            f"holdings:{state.holdings_token}", silence_allowed(HOLDINGS_TIMEOUT, state.compares)
        )

    def later(self, name: str, delay: int) -> int:
        """Start a timer; returns when it fires."""
        at = self.state.now + delay
        self.out.append(StartTimer(name=name, at=at))
        return at

    def wake(self, trade: Trade, at: int) -> None:
        """Look at a trade again at `at`; one timer for all that waits in it: an earlier takes a
        later one's place."""
        if not self.state.now < trade.wake_at <= at:
            trade.wake_at = max(at, self.state.now)
            self.later(f"retry:{trade.id}:{trade.wake_at}", trade.wake_at - self.state.now)

    def _time(self, trade: Trade, order: Order, request: str, token: int = 0) -> None:
        # The timer carries the request's number. One that was started for an earlier request finds
        # another number there, and does nothing.
        note_sent(self.state, trade, order)
        order.pending, order.token = request, token or self.number()
        if request != "query":
            order.changed = order.token
        exposed = (
            order.role == "entry" or trade.cover.exposed_since or trade.state == states.EXPOSED
        )
        wait = silence_allowed(EXPOSED_TIMEOUT if exposed else REQUEST_TIMEOUT, order.silences)
        self.later(f"request:{order.id}:{order.token}", wait)

    def silent(self, order: Order, token: int) -> None:
        """A request's time is up. If it is still the one under way, its end is unknown: ask."""
        # Never sent again blindly: a request that was lost and one whose answer was lost look the
        # same from here, and a second order would be a second position.
        if order.token != token or not order.pending:
            return
        order.silences += 1
        if order.silences == ALARM_AFTER_SILENCES:
            trade = self.state.trades[order.trade]
            self.tell(
                "alarm",
                "venue_silent",
                f"The venue does not answer about {order.role} order {order.id}.",
                trade,
            )
        self.query(order)


def open_orders(state: EngineState) -> tuple[str, ...]:
    """The orders that the venue is asked about: those under way, and those with fills that were not
    told yet."""
    return tuple(
        order.id
        for order in state.orders.values()
        if not order.over or order.told_filled > order.filled
    )


def settled(order: Order) -> None:
    """An answer came: no request is under way."""
    order.pending, order.silences = "", 0
