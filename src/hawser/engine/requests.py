"""Requests to the venue and their ends: sent once, timed, asked about when silent, never sent again blindly."""

from __future__ import annotations

from hawser.core.clock import MILLISECOND, SECOND
from hawser.engine import states
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
from hawser.engine.state import EngineState, Order, Trade

REQUEST_TIMEOUT = 800 * MILLISECOND
EXPOSED_TIMEOUT = 400 * MILLISECOND  # where there is, or may be, open quantity without a stop
HOLDINGS_TIMEOUT = 2 * SECOND
ALARM_AFTER_SILENCES = 4


class Desk:
    """The engine's outgoing side: the state and the commands of the event being handled."""

    def __init__(self, state: EngineState) -> None:
        self.state = state
        self.out: list[AnyCommand] = []
        self.ended: list[Trade] = []  # by the event being handled

    @property
    def currency(self) -> str:
        """The account's."""
        return self.state.account.currency if self.state.account else ""

    def number(self) -> int:
        self.state.counter += 1
        return self.state.counter

    def tell(
        self, weight: Weight, code: str, text: str, trade: Trade | None = None, ask: str = "", guard: str = "",
        subject: str = "",
    ) -> None:  # fmt: skip
        name, symbol = (trade.id, trade.symbol) if trade else ("", "")
        self.out.append(
            Tell(weight=weight, code=code, text=text, trade=name, symbol=symbol, ask=ask, guard=guard, subject=subject)
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
        """A new order under a new client id. A rung adds to the entry's position, every other closes it."""
        side = trade.side if role in ("entry", "rung") else -trade.side
        order_id = f"{self.state.prefix}-{self.number()}"
        order = Order(order_id, trade.id, role, side, kind, steps, level, number, bound, until)
        market = self.state.markets.get(trade.symbol)
        order.seen = market.exit_side(-side) if market is not None else 0
        self.state.orders[order_id] = order
        trade.order_ids.append(order_id)
        closes = None if role in ("entry", "rung") else trade.entry
        self.out.append(
            Submit(
                order=order_id, trade=trade.id, symbol=trade.symbol, role=role, side=side, kind=kind, steps=steps,
                level=level, closes=closes, why=why, bound=bound, until=until,
                adds=trade.entry if role == "rung" else None,
            )
        )  # fmt: skip
        self._time(order, "submit")
        return order

    def amend(
        self, trade: Trade, order: Order, level: int, steps: int, why: str, code: str, bound: int | None = None
    ) -> None:
        self.out.append(
            Amend(
                order=order.id, trade=trade.id, symbol=trade.symbol, role=order.role, level=level, steps=steps, why=why,
                bound=bound, code=code,
            )
        )  # fmt: skip
        order.hoped = steps
        self._time(order, "amend")

    def cancel(self, trade: Trade, order: Order, why: str) -> None:
        self.out.append(Cancel(order=order.id, trade=trade.id, symbol=trade.symbol, why=why))
        order.unwanted = True
        self._time(order, "cancel")

    def query(self, order: Order) -> None:
        trade = self.state.trades[order.trade]
        self.out.append(Query(order=order.id, trade=trade.id, symbol=trade.symbol))
        self._time(order, "query")

    def compare(self) -> None:
        """Ask the venue for all it holds; entries stay closed until it has answered (reconciling.py)."""
        state = self.state
        state.reconciled, state.holdings_token = False, self.number()
        orders = state.orders.values()
        open_orders = tuple(order.id for order in orders if not order.over or order.owed > order.filled)
        self.out.append(QueryAll(token=state.holdings_token, orders=open_orders))
        self.later(f"holdings:{state.holdings_token}", HOLDINGS_TIMEOUT)

    def later(self, name: str, delay: int) -> int:
        """Start a timer; returns when it fires."""
        at = self.state.now + delay
        self.out.append(StartTimer(name=name, at=at))
        return at

    def _time(self, order: Order, request: str) -> None:
        order.pending, order.token = request, self.number()
        trade = self.state.trades[order.trade]
        exposed = order.role == "entry" or trade.exposed_since or trade.state == states.EXPOSED
        self.later(f"request:{order.id}:{order.token}", EXPOSED_TIMEOUT if exposed else REQUEST_TIMEOUT)

    def silent(self, order: Order, token: int) -> None:
        """A request's time is up. If it is still the one under way, its end is unknown: ask."""
        if order.token != token or not order.pending:
            return
        order.silences += 1
        if order.silences == ALARM_AFTER_SILENCES:
            trade = self.state.trades[order.trade]
            self.tell("alarm", "venue_silent", f"The venue does not answer about {order.role} order {order.id}.", trade)
        self.query(order)


def settled(order: Order) -> None:
    """An answer came: no request is under way."""
    order.pending, order.silences = "", 0
