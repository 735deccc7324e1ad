"""A restless trader, drawn from one seed: everything a person can ask for, in any order and at any
moment."""

from __future__ import annotations

import random
from typing import Literal

import msgspec

from hawser.core.account import SizeRule
from hawser.core.clock import MINUTE
from hawser.core.entry import EntryRule, GoodUntil, HeldRule
from hawser.core.levels import StopRule, TargetRule
from hawser.core.plan import Plan
from hawser.core.rig import (
    After,
    Amount,
    Basket,
    BreakEven,
    FollowOn,
    Ladder,
    LossStep,
    Measure,
    Rig,
    Step,
    TimeExit,
    Trail,
)
from hawser.engine import events as ev
from hawser.engine.entries.placing import is_pending
from hawser.engine.model.state import Trade
from hawser.service.runtime.session import Session
from hawser.verification import rigs

BASES: list[Literal["tick", "bar_close", "minute_end"]] = ["tick", "bar_close", "minute_end"]


class Trader:
    """`name` begins the ids of its asks; it holds at most `most` trades. One that is `bold` asks
    for more than the policy allows now and then."""

    def __init__(self, draw: random.Random, name: str, most: int = 5, bold: bool = False) -> None:
        self._random, self._name, self._most, self._bold = draw, name, most, bold
        self._asks = 0

    def act(self, session: Session, now: int) -> None:
        """One act, drawn at random: place, move, close, halt, re-arm, adopt, or nothing."""
        self._session, self._now = session, now
        draw, live, state = self._random, session.engine.state.live(), session.engine.state
        choice = draw.random()
        self._asks += 1
        ask_id = f"{self._name}-{self._asks}"
        if state.halt is not None and choice < 0.4:
            session.ask(ev.Rearm(time=now, ask_id=ask_id, reason="the storm goes on"))
        elif choice < 0.45 and len(live) < self._most:
            event = self._placing(ask_id)
            session.ask(event)
            if draw.random() < 0.2:  # a double click
                session.ask(event)
        elif choice < 0.7 and live:
            session.ask(self._move(draw.choice(live), ask_id, choice < 0.6))
        elif choice < 0.85 and live:
            session.ask(self._tend(draw.choice(live), ask_id))
        elif choice < 0.88:
            session.ask(ev.CloseAll(time=now, ask_id=ask_id))
        elif choice < 0.91:
            session.ask(ev.Halt(time=now, ask_id=ask_id, why="storm"))
        elif state.unexplained:
            position = next(iter(state.unexplained.values()))
            plan = msgspec.structs.replace(self._plan(), symbol=position.symbol, side=position.side)
            session.ask(ev.Adopt(time=now, ask_id=ask_id, position=position.id, plan=plan))

    def _placing(self, ask_id: str) -> ev.AskEvent:
        now, draw = self._now, self._random
        if draw.random() < 0.12:
            return ev.PlaceStraddle(
                time=now, ask_id=ask_id, plan=self._plan(), atr=draw.uniform(0.3, 2.0)
            )
        return ev.PlaceTrade(time=now, ask_id=ask_id, plan=self._plan())

    def _move(self, trade: Trade, ask_id: str, stop: bool) -> ev.AskEvent:
        now, draw = self._now, self._random
        if is_pending(self._session.engine.state, trade) and draw.random() < 0.7:
            level = max(1, trade.ref + draw.randint(-60, 60))
            return ev.MoveEntry(time=now, ask_id=ask_id, trade=trade.id, level=level)
        if stop or not trade.targets:
            level = max(1, trade.stop + draw.randint(-40, 60) * trade.side)
            return ev.MoveStop(
                time=now, ask_id=ask_id, trade=trade.id, level=level, widen=draw.random() < 0.5
            )
        line = draw.choice(trade.targets)
        level = max(1, line.level + draw.randint(-50, 50))
        return ev.MoveTarget(
            time=now, ask_id=ask_id, trade=trade.id, number=line.number, level=level
        )

    def _tend(self, trade: Trade, ask_id: str) -> ev.AskEvent:
        now, draw = self._now, self._random
        kind = draw.choice(
            ("whole", "whole", "share", "even", "turn", "target", "equip", "hold", "link", "basket")
        )
        if kind == "target":
            level = max(1, trade.ref + trade.side * draw.randint(-20, 400))
            number, share = draw.randint(0, 3), draw.choice((0.0, 0.2, 0.5))
            return ev.SetTarget(
                time=now, ask_id=ask_id, trade=trade.id, number=number, level=level, share=share
            )
        if kind == "equip":
            plan = msgspec.structs.replace(self._plan(), symbol=trade.symbol, side=trade.side)
            return ev.ChangeRules(time=now, ask_id=ask_id, trade=trade.id, plan=plan)
        if kind == "hold":
            held = None if trade.held else self._held()
            return ev.HoldLines(time=now, ask_id=ask_id, trade=trade.id, held=held)
        if kind == "link":
            waiting = [
                one.id
                for one in self._session.engine.state.live()
                if is_pending(self._session.engine.state, one)
            ]
            return ev.LinkEntries(time=now, ask_id=ask_id, trades=tuple(waiting) or (trade.id,))
        if kind == "basket":
            names = tuple(one.id for one in self._session.engine.state.live() if one.open_steps)
            basket = Basket(
                Amount(percent=draw.uniform(0.05, 0.5)), Amount(percent=0.5), draw.choice(BASES)
            )
            return ev.FormBasket(time=now, ask_id=ask_id, trades=names, basket=basket)
        if kind == "even":
            return ev.StopToEntry(time=now, ask_id=ask_id, trade=trade.id)
        if kind == "turn":
            return ev.TurnAround(time=now, ask_id=ask_id, trade=trade.id)
        share = 1.0 if kind == "whole" else draw.uniform(0.05, 0.95)
        return ev.CloseTrade(time=now, ask_id=ask_id, trade=trade.id, share=share)

    def _plan(self) -> Plan:
        draw = self._random
        kind = draw.random()
        if kind < 0.12:
            return self._laddered()
        if kind < 0.4:
            return self._by_rig()
        shares = [(1.0, 0.4), (2.0, 0.3), (3.0, 0.3)][: draw.randint(0, 3)]
        return Plan(
            symbol=draw.choice(list(self._session.venue.instruments)),
            side=draw.choice((1, -1)),
            size=self._size(),
            stop=StopRule(atr=draw.uniform(0.5, 3.0)),
            targets=tuple(
                TargetRule(r=r * draw.uniform(0.2, 1), share=share) for r, share in shares
            ),
            trail=Trail(atr=draw.uniform(0.5, 3.0)) if draw.random() < 0.6 else None,
            timeframe_ns=MINUTE,
            entry=self._entry(),
            anchor=draw.choice(("planned", "fill")),
            held=self._held() if draw.random() < 0.25 else None,
            rig=self._rig() if draw.random() < 0.5 else None,
        )

    def _by_rig(self) -> Plan:
        """All of it by a rig, whatever a rig may have."""
        draw = self._random
        symbol = draw.choice(list(self._session.venue.instruments))
        rig = rigs.a_ladder(draw) if draw.random() < 0.2 else rigs.a_rig(draw)
        timed = rig.time_exit
        if (
            timed is not None
            and timed.session_end
            and not self._session.venue.instruments[symbol].sessions
        ):
            rig = msgspec.structs.replace(rig, time_exit=None)
        return Plan(
            symbol=symbol,
            side=draw.choice((1, -1)),
            size=self._size(),
            stop=rig.stop,
            targets=rig.target,
            trail=rig.trail,
            timeframe_ns=draw.choice((MINUTE, MINUTE, 5 * MINUTE)),
            rig=rig,
            entry=self._entry(),
            anchor=draw.choice(("planned", "fill")),
            held=self._held() if draw.random() < 0.25 else None,
        )

    def _laddered(self) -> Plan:
        draw = self._random
        spacing = Measure(ticks=draw.uniform(12, 40))
        ladder = Ladder(
            draw.randint(2, 4),
            spacing,
            draw.uniform(15, 60),
            draw.uniform(15, 60),
            draw.choice((0.7, 1.0, 2.0)),
        )
        return Plan(
            symbol=draw.choice(list(self._session.venue.instruments)),
            side=draw.choice((1, -1)),
            size=self._size(),
            stop=None,
            timeframe_ns=MINUTE,
            entry=self._entry(),
            anchor=draw.choice(("planned", "fill")),
            held=self._held() if draw.random() < 0.25 else None,
            rig=Rig(
                ladder=ladder,
                break_even=BreakEven(After(r=0.3)) if self._often() else None,
                time_exit=TimeExit(bars=draw.randint(2, 8)) if self._often() else None,
                follow_on=FollowOn(2) if self._often() else None,
            ),
        )

    def _rig(self) -> Rig:
        """The rules beside stop, targets and trail, some of them."""
        draw = self._random
        return Rig(
            stop=StopRule(atr=1.0),
            break_even=BreakEven(After(r=draw.uniform(0, 0.6)), cover_costs=True)
            if self._often()
            else None,
            step=(Step(Measure(r=0.5), Measure(r=0.1)),) if self._often() else (),
            loss_step=tuple(
                LossStep(draw.uniform(0.1, 0.9), draw.uniform(0.1, 0.5))
                for _ in range(draw.randint(0, 2))
            ),
            time_exit=TimeExit(bars=draw.randint(1, 6)) if self._often() else None,
            follow_on=FollowOn(2) if self._often() else None,
            basket=Basket(Amount(percent=draw.uniform(0.05, 0.5)), None, draw.choice(BASES))
            if self._often()
            else None,
        )

    def _size(self) -> SizeRule:
        percent = self._random.uniform(0.1, 0.8)
        return SizeRule(
            percent=percent * self._random.choice((1, 1, 2, 5)) if self._bold else percent
        )

    def _often(self) -> bool:
        return self._random.random() < 0.5

    def _entry(self) -> EntryRule:
        draw = self._random
        kind = draw.choice(("market", "market", "limit", "stop"))
        within = draw.choice((None, None, draw.randint(0, 30)))
        if kind == "market":
            return EntryRule(within_ticks=within)
        good = GoodUntil(minutes=draw.uniform(0.1, 5)) if draw.random() < 0.4 else GoodUntil()
        return EntryRule(
            "limit" if kind == "limit" else "stop",
            atr=draw.uniform(0.2, 1.5),
            good=good,
            within_ticks=within if kind == "stop" else None,
        )

    def _held(self) -> HeldRule:
        return HeldRule(self._random.uniform(1.2, 3.0), self._random.choice((0, 400, 2000)))
