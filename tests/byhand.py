"""The venue's part played by hand: a test tells the engine what happened and looks at what it wants
done."""

from __future__ import annotations

from typing import Any

import msgspec

from hawser.core.account import SizeRule
from hawser.core.clock import MINUTE, SECOND
from hawser.core.levels import StopRule, TargetRule
from hawser.core.plan import Plan
from hawser.core.rig import Trail
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.engine import Engine
from hawser.engine.model.state import Trade
from madeup import account, pair

SYMBOL = "CAD/CHF"
TARGETS = (TargetRule(share=0.4, r=1.0), TargetRule(share=0.3, r=2.5))


def plan(**changes: Any) -> Plan:
    values = {
        "symbol": SYMBOL,
        "side": 1,
        "size": SizeRule(percent=0.6),
        "stop": StopRule(atr=2.5),
        "targets": TARGETS,
        "trail": Trail(atr=3.0),
        "timeframe_ns": 15 * MINUTE,
    } | changes
    return Plan(**values)


class ByHand:
    """An engine with one instrument, connected and quoted, and every command it ever gave."""

    def __init__(self, **changes: Any) -> None:
        self.engine = Engine()
        self.now = 1_000_000 * SECOND
        self.events: list[ev.AnyEvent] = []
        self.written: list[bytes] = []  # as they were before the engine had them
        self.all: list[cm.AnyCommand] = []
        self.fills = 0
        self.do(ev.Opened, prefix="P", account=account(**changes), instruments=(pair(),))
        self.do(ev.VenueUp)
        self.do(ev.Figures, balance=64_000.0, equity=64_000.0, margin_used=0.0)
        self.quote(61230, 61242)
        self.bar(0.6123, atr=0.00145)
        self.holdings()

    def do(self, kind: type[ev.Event], **values: Any) -> list[cm.AnyCommand]:
        event = kind(time=self.now, **values)
        self.events.append(event)  # type: ignore[arg-type]
        self.written.append(msgspec.msgpack.encode(event))
        commands = self.engine.handle(event)  # type: ignore[arg-type]
        self.all += commands
        return commands

    def later(self, seconds: float) -> list[cm.AnyCommand]:
        """Let time pass; timers that were asked for go off, in order."""
        end, found = self.now + int(seconds * SECOND), []
        while True:
            due = [
                (c.at, i, c)
                for i, c in enumerate(self.all)
                if isinstance(c, cm.StartTimer) and c.at <= end
            ]
            due = [item for item in due if item[1] not in self._gone]
            if not due:
                break
            at, number, timer = min(due)
            self._gone.add(number)
            self.now = max(self.now, at)
            found += self.do(ev.TimerFired, name=timer.name)
        self.now = end
        return found

    @property
    def _gone(self) -> set[int]:
        return self.__dict__.setdefault("_gone_timers", set())

    def quote(self, bid: int, ask: int) -> list[cm.AnyCommand]:
        return self.do(ev.Quote, symbol=SYMBOL, bid=bid, ask=ask, high_bid=bid, low_ask=ask)

    def bar(self, close: float, atr: float, span: int = 15 * MINUTE) -> list[cm.AnyCommand]:
        self.now += span
        self.quote(self.market.bid, self.market.ask)
        return self.do(
            ev.BarCompleted,
            symbol=SYMBOL,
            span=span,
            opened=self.now - span,
            open=close,
            high=close,
            low=close,
            close=close,
            spread=12.0,
            atr=atr,
        )

    def holdings(
        self,
        positions: tuple[ev.VenuePosition, ...] = (),
        resting: tuple[str, ...] = (),
        asked: tuple[ev.OrderReport, ...] = (),
    ) -> list[cm.AnyCommand]:
        token = self.engine.state.holdings_token
        return self.do(ev.Holdings, token=token, asked=asked, resting=resting, positions=positions)

    @property
    def market(self):  # type: ignore[no-untyped-def]
        return self.engine.state.markets[SYMBOL]

    @property
    def trade(self) -> Trade:
        return next(reversed(self.engine.state.trades.values()))

    # Shortcuts through a trade's life

    def place(self, ask_id: str = "A1", **changes: Any) -> list[cm.AnyCommand]:
        own = changes.pop("own_atr", None)
        return self.do(ev.PlaceTrade, ask_id=ask_id, plan=plan(**changes), atr=own)

    def fill(
        self, order: str, steps: int, price: int, profit: float = 0.0, fill: str = ""
    ) -> list[cm.AnyCommand]:
        self.fills += 1
        name = fill or f"F{self.fills}"
        return self.do(
            ev.OrderFilled, order=order, fill=ev.Fill(name, self.now, steps, price, profit, 1.0)
        )

    def enter(self, **changes: Any) -> list[cm.AnyCommand]:
        """Place and fill whole; returns what the fill led to."""
        self.place(**changes)
        trade = self.trade
        self.do(ev.OrderAccepted, order=trade.entry.order_id)
        return self.fill(trade.entry.order_id, trade.entry.asked_steps, trade.ref)

    def protect(self, **changes: Any) -> list[cm.AnyCommand]:
        """Enter, and let the venue accept every order; returns what followed the stop's
        acceptance."""
        self.enter(**changes)
        stop = self.order("stop")
        found = self.do(ev.OrderAccepted, order=stop.id)
        for role in ("target", "loss"):
            for order in list(self.engine.state.orders_of(self.trade, role)):
                self.do(ev.OrderAccepted, order=order.id)
        return found

    def order(self, role: str, number: int = 0):  # type: ignore[no-untyped-def]
        """The trade's last order in a role."""
        return [
            o
            for o in self.engine.state.orders.values()
            if o.trade == self.trade.id and o.role == role and o.number in (0, number or o.number)
        ][-1]


def of(commands: list[cm.AnyCommand], kind: type) -> list[Any]:
    return [command for command in commands if isinstance(command, kind)]


def codes(commands: list[cm.AnyCommand]) -> list[str]:
    return [command.code for command in commands if isinstance(command, cm.Tell)]
