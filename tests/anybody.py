"""Everybody who may ask or tell, in whatever order, drawn from one seed."""

import math
import random
from decimal import Decimal
from typing import Any

from byhand import SYMBOL, ByHand, plan
from hawser.core.account import SizeRule
from hawser.core.entry import EntryRule, HeldRule
from hawser.core.guards import declared as dc
from hawser.core.levels import StopRule, TargetRule
from hawser.core.plan import Plan
from hawser.core.rig import (
    Amount,
    Basket,
    BreakEven,
    Ladder,
    LossStep,
    Measure,
    Rig,
    TimeExit,
    Trail,
)
from hawser.engine import events as ev

FAR = (0, 1, -1, 2, 10, 10**6, 2**31, 2**53, 10**15, -(10**15))
STOPS = (
    *(StopRule(ticks=ticks) for ticks in (1, 60, 300, 10**9)),
    *(StopRule(atr=atr) for atr in (0.01, 2.5, 1e6)),
    *(StopRule(price=Decimal(price)) for price in ("0.00001", "0.61", "0.7", "9999")),
    StopRule(money=200.0),
)
ENTRIES = (
    EntryRule(),
    EntryRule("stop", price=Decimal("0.615")),
    EntryRule("limit", price=Decimal("0.61")),
    EntryRule("limit", atr=0.1),
    EntryRule("limit", atr=1e5),
    EntryRule("stop", price=Decimal("0.00001")),
)
SIZES = (SizeRule(percent=0.6), SizeRule(percent=5.0), SizeRule("fixed", qty=Decimal("0.05")))
RIGS = (
    None,
    Rig(name="L", ladder=Ladder(10, Measure(ticks=60.0), 80.0, 60.0, factor=2.0)),
    Rig(name="L", ladder=Ladder(2, Measure(ticks=1e6), 1.0, 1e6)),
    Rig(stop=StopRule(atr=2.5), break_even=BreakEven(), loss_step=(LossStep(0.5, 0.5),)),
    Rig(
        stop=StopRule(ticks=80),
        basket=Basket(Amount(money=50.0), Amount(money=50.0)),
        time_exit=TimeExit(bars=1),
    ),
)


class Anybody:
    """One story: `act` is its next event."""

    def __init__(self, seed: int) -> None:
        self.draw, self.hand = random.Random(seed), ByHand()
        if self.draw.random() < 0.4:
            guards = (
                dc.LossSwitch(name="l", percent=2.0, then=("flatten",)),
                dc.SpreadGuard(name="s", max_ticks=100),
            )
            self.hand.do(ev.ChangeGuards, ask_id="G", guards=dc.Guards(guard=guards))

    def act(self) -> None:
        draw, hand = self.draw, self.hand
        choice = draw.random()
        if choice < 0.2:
            bid = max(1, hand.market.bid + int(draw.gauss(0, 60)))
            hand.quote(bid, bid + draw.choice((1, 12, 12, 60, 400)))
        elif choice < 0.25:
            hand.bar(hand.market.bid / 1e5, atr=draw.choice((0.00145, 0.00145, 0.0, math.nan, 5.0)))
        elif choice < 0.3 and len(hand.all) < 3000:
            hand.later(draw.choice((0.05, 0.3, 0.5, 1, 3)))
        elif choice < 0.62 and hand.engine.state.orders:
            self._tell()
        elif choice < 0.68:
            self._hold()
        else:
            self._ask()

    def _near(self, level: int) -> int:
        return (
            level + self.draw.randint(-400, 400)
            if self.draw.random() < 0.6
            else self.draw.choice(FAR)
        )

    def _tell(self) -> None:
        draw, hand = self.draw, self.hand
        order = draw.choice(list(hand.engine.state.orders.values())[-12:])
        level, steps = order.asked[-1] if order.asked else (None, order.steps)
        put = max(1, self._near(level)) if level is not None and draw.random() < 0.15 else level
        code = draw.choice(
            ("busy", "too_near", "no_margin", "bad_qty", "market_closed", "no_position")
        )
        status = draw.choice(("resting", "resting", "filled", "cancelled", "rejected", "missing"))
        fill = ev.Fill(
            f"K{hand.now}", hand.now, order.left or 1, max(1, level or hand.market.bid), -3.0, 1.0
        )
        known = ev.OrderReport(
            order.id, status, put or 0, steps, (fill,) if status == "filled" else ()
        )
        told: list[tuple[type[ev.Event], dict[str, Any]]] = [
            (ev.OrderAccepted, {"level": put}),
            (ev.OrderRejected, {"code": code, "text": "no"}),
            (ev.OrderCancelled, {"why": "no", "filled": draw.choice((0, order.steps))}),
            (ev.AmendAccepted, {"level": put or 1, "steps": steps}),
            (ev.AmendRejected, {"code": code, "text": "no"}),
            (ev.CancelRejected, {"code": code, "text": "no"}),
        ]
        choice = draw.random()
        if choice < 0.3:
            hand.do(ev.OrderAccepted, order=order.id, level=level)
        elif choice < 0.55:
            hand.fill(
                order.id,
                draw.choice((order.left, order.left // 2, 1)) or 1,
                max(1, self._near(order.level or 1)),
            )
        elif choice < 0.65:
            hand.do(ev.OrderStatus, known=known)
        else:
            kind, values = draw.choice(told)
            hand.do(kind, order=order.id, **values)

    def _hold(self) -> None:
        """The line, the account, the market, and what the venue says it holds."""
        draw, hand, state = self.draw, self.hand, self.hand.engine.state
        choice = draw.random()
        if choice < 0.4:
            resting = [order for order in state.orders.values() if not order.over and order.level]
            held = [
                ev.VenuePosition(
                    one.entry.order_id, one.symbol, one.side, one.open_steps, one.entry_price
                )
                for one in state.live()
                if one.open_steps and draw.random() < 0.9
            ]
            held += [ev.VenuePosition("other", SYMBOL, 1, draw.choice((1, 50, 6000)), 61_230.0)] * (
                draw.random() < 0.3
            )
            asked = tuple(
                ev.OrderReport(order.id, "resting", order.level or 0, order.steps)
                for order in resting
            )
            hand.holdings(tuple(held), (*(order.id for order in resting), "P-77777"), asked)
        elif choice < 0.6:
            hand.do(ev.VenueUp)
        elif choice < 0.65:
            hand.do(ev.VenueDown, why="cut")
        elif choice < 0.8:
            hand.do(
                ev.InstrumentState, symbol=SYMBOL, open=draw.random() < 0.7, until=hand.now + 10**9
            )
        else:
            money = draw.choice((64_000.0, 60_000.0, 0.0, -5.0, 1e12))
            hand.do(ev.Figures, balance=money, equity=money, margin_used=0.0)

    def _plan(self, side: int) -> Plan:
        draw = self.draw
        rig = draw.choice(RIGS)
        size = draw.choice(SIZES)
        shares = draw.choice(((), (1.0,), (0.5, 0.5)))
        targets = tuple(TargetRule(share=share, r=draw.choice((0.1, 1.0, 1e6))) for share in shares)
        lines = {
            "stop": draw.choice(STOPS),
            "targets": targets,
            "trail": draw.choice((None, Trail(atr=1.0))),
        }
        if rig is not None and rig.ladder is not None:
            size, lines = SIZES[0], {"stop": None, "targets": (), "trail": None}
        elif lines["stop"].money is not None:  # type: ignore[attr-defined]
            size = SIZES[2]
        held = draw.choice((None, None, HeldRule(backstop_r=draw.choice((1.01, 50.0)))))
        return plan(side=side, rig=rig, size=size, held=held, entry=draw.choice(ENTRIES), **lines)

    def _ask(self) -> None:
        draw, hand, state = self.draw, self.hand, self.hand.engine.state
        trades = list(state.trades.values())[-6:]
        trade = draw.choice(trades) if trades else None
        name, side = (trade.id, trade.side) if trade else ("none", 1)
        ref, stop = (trade.ref, trade.stop) if trade else (61_230, 61_000)
        some = tuple({draw.choice(trades).id for _ in range(draw.randint(0, 3))}) if trades else ()
        share, held = draw.choice((1.0, 0.5, 1e-9)), draw.choice((None, HeldRule(settle_ms=100)))
        known = {"atr": 0.00145, "basis": 0.6}
        asks: list[tuple[type[ev.Event], dict[str, Any]]] = [
            *[(ev.PlaceTrade, {"plan": self._plan(draw.choice((1, -1))), **known})] * 4,
            (
                ev.PlaceStraddle,
                {"plan": self._plan(1), "atr": draw.choice((0.01, 1.0, 1e9)), "own_atr": 0.00145},
            ),
            (ev.MoveEntry, {"trade": name, "level": self._near(ref)}),
            (ev.LinkEntries, {"trades": some}),
            (
                ev.FormBasket,
                {"trades": some, "basket": Basket(Amount(money=0.01), Amount(percent=0.1), "tick")},
            ),
            *[
                (
                    ev.MoveStop,
                    {"trade": name, "level": self._near(stop), "widen": draw.random() < 0.5},
                )
            ]
            * 2,
            (
                ev.MoveTarget,
                {
                    "trade": name,
                    "number": draw.choice((0, 1, 2, -1)),
                    "level": self._near(ref + 200),
                },
            ),
            (
                ev.SetTarget,
                {
                    "trade": name,
                    "number": draw.choice((0, 1, 5)),
                    "level": self._near(ref),
                    "share": share,
                },
            ),
            (ev.ChangeRules, {"trade": name, "plan": self._plan(side), **known}),
            (ev.HoldLines, {"trade": name, "held": held}),
            (ev.CloseTrade, {"trade": name, "share": share}),
            (ev.Adopt, {"position": "other", "plan": self._plan(1), **known}),
            (ev.CloseAll, {"which": draw.choice(("all", "winners", "pending"))}),
            (ev.StopToEntry, {"trade": name}),
            (ev.TurnAround, {"trade": name}),
            (ev.Halt, {"why": "x"}),
            (ev.Rearm, {"reason": "it is well"}),
        ]
        kind, values = draw.choice(asks)
        hand.do(kind, ask_id=f"a{len(hand.events)}", **values)
