"""A trade at a venue that refuses, loses, changes and repeats what it is asked. Answers come in any
order, the line drops, Hawser is begun anew: whatever one seed draws.
"""

from __future__ import annotations

import random

from byhand import SYMBOL, ByHand
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.model import transitions as states
from madeup import pair

BEFORE_MARKET = 30  # ticks that a stop keeps from the market


class Rests:
    """An order as the venue has it. `told`: whether the engine was told of its level since it is
    there."""

    def __init__(self, level: int, steps: int) -> None:
        self.level = self.asked = level
        self.steps, self.filled, self.status = steps, 0, "resting"
        self.told, self.since = False, 0


class Venue:
    """Carries out what arrives, in order; what it says waits in `says`."""

    def __init__(self, hand: ByHand, draw: random.Random) -> None:
        self.hand, self.draw, self.fair = hand, draw, False
        self.orders: dict[str, Rests] = {}
        self.says: list[tuple[type[ev.Event], dict[str, object]]] = []
        self.sent = 0  # commands that were looked at
        self.waiting: list[cm.AnyCommand] = []
        self.most, self.open, self.fills = 1000, 0, 0
        self.wishes: list[int] = []
        self.faults: list[str] = []
        self.meddled = self.refused = False
        self.judges_stop = True

    def collect(self) -> None:
        """What the engine has sent since."""
        for command in self.hand.all[self.sent :]:
            if isinstance(command, cm.Submit | cm.Amend | cm.Cancel | cm.Query | cm.QueryAll):
                self.waiting.append(command)
            known = self.orders.get(command.order) if isinstance(command, cm.Amend) else None
            if known is None or command.role != "stop" or known.status != "resting":
                continue
            if (
                self.judges_stop
                and command.level < known.level
                and known.told
                and known.since >= len(self.wishes)
            ):
                self.faults.append(
                    f"{command.order} from {known.level} to {command.level}: {command.why}"
                )
        self.sent = len(self.hand.all)

    def arrive(self) -> None:
        """The next request reaches the venue."""
        command, draw = self.waiting.pop(0), self.draw
        fate = draw.random() if not self.fair else 1.0
        if fate < 0.1:
            return  # lost
        if isinstance(command, cm.QueryAll):
            self.say(ev.Holdings, **self.all_held(command.orders), token=command.token)
        elif isinstance(command, cm.Query):
            self.say(ev.OrderStatus, known=self.report(command.order), token=command.token)
        elif fate < 0.25:
            self.refuse(command, "busy")
        elif isinstance(command, cm.Cancel):
            self.cancel(command)
        elif command.steps > self.most:
            self.refuse(command, "bad_qty")
        elif fate < 0.28 and command.role in ("stop", "entry"):
            self.refused = True
            self.refuse(command, "too_near")
        else:
            self.carry_out(command)

    def refuse(self, command: cm.Submit | cm.Amend | cm.Cancel, code: str) -> None:
        kind = {
            cm.Submit: ev.OrderRejected,
            cm.Amend: ev.AmendRejected,
            cm.Cancel: ev.CancelRejected,
        }[type(command)]
        named = {"token": command.token} if isinstance(command, cm.Amend) else {}
        self.say(kind, order=command.order, code=code, text="no", **named)

    def cancel(self, command: cm.Cancel) -> None:
        known = self.orders.get(command.order)
        if known is None or known.status != "resting":
            self.refuse(command, "unknown_order")
            return
        known.status = "cancelled"
        self.say(ev.OrderCancelled, order=command.order, why="asked for", filled=known.filled)

    def carry_out(self, command: cm.Submit | cm.Amend) -> None:
        if isinstance(command, cm.Submit) and command.kind == "market":
            if not self.open:
                self.refuse(command, "no_position")
                return
            self.orders[command.order] = known = Rests(0, command.steps)
            self.fill(command.order, known, min(command.steps, self.open))
            if known.status == "resting":  # for more than there was to close
                known.status = "cancelled"
                self.say(
                    ev.OrderCancelled,
                    order=command.order,
                    why="no more to close",
                    filled=known.filled,
                )
            return
        assert command.level is not None
        if isinstance(command, cm.Submit) and (command.closes or command.adds) and not self.open:
            self.refuse(command, "no_position")
            return
        known = self.orders.get(command.order)
        if isinstance(command, cm.Amend) and (known is None or known.status != "resting"):
            self.refuse(command, "unknown_order")
            return
        if known is not None and command.steps <= known.filled:
            self.refuse(command, "bad_qty")
            return
        if known is None:
            self.orders[command.order] = known = Rests(command.level, command.steps)
        known.asked = command.level
        self.put(
            known,
            command.level
            + (0 if self.fair or self.draw.random() < 0.6 else self.draw.randint(-4, 4)),
        )
        known.steps = command.steps
        if isinstance(command, cm.Submit):
            self.say(ev.OrderAccepted, order=command.order, level=known.level)
        else:
            named = {"level": known.level, "steps": known.steps, "token": command.token}
            self.say(ev.AmendAccepted, order=command.order, **named)

    def put(self, known: Rests, level: int) -> None:
        if level != known.level:
            known.level, known.told, known.since = level, False, len(self.wishes)

    def fill(self, name: str, known: Rests, steps: int) -> None:
        """An order fills by so many steps."""
        way = 1 if self.hand.engine.state.orders[name].role == "rung" else -1
        self.fills, self.open, known.filled = (
            self.fills + 1,
            self.open + way * steps,
            known.filled + steps,
        )
        if known.filled >= known.steps:
            known.status = "filled"
        fill = ev.Fill(f"V{self.fills}", self.hand.now, steps, known.level or 61_230, 0.0, 0.0)
        self.told_fills.setdefault(name, []).append(fill)
        self.say(ev.OrderFilled, order=name, fill=fill)

    @property
    def told_fills(self) -> dict[str, list[ev.Fill]]:
        return self.__dict__.setdefault("_fills", {})

    def report(self, name: str) -> ev.OrderReport:
        known = self.orders.get(name)
        if known is None:
            return ev.OrderReport(name, "missing", 0, 0)
        return ev.OrderReport(
            name, known.status, known.level, known.steps, tuple(self.told_fills.get(name, ()))
        )

    def all_held(self, orders: tuple[str, ...]) -> dict[str, object]:
        entry = self.hand.trade.entry.order_id
        position = (ev.VenuePosition(entry, SYMBOL, 1, self.open, 61_242.0),) if self.open else ()
        asked = tuple(self.report(one) for one in orders if one in self.orders or one != entry)
        return {"asked": asked, "resting": self.resting, "positions": position}

    @property
    def resting(self) -> tuple[str, ...]:
        return tuple(name for name, one in self.orders.items() if one.status == "resting")

    def say(self, kind: type[ev.Event], **values: object) -> None:
        if self.fair or self.draw.random() > 0.08:
            self.says += [(kind, values)] * (1 if self.fair or self.draw.random() > 0.15 else 2)

    def tell(self) -> None:
        """One answer is heard: mostly the first, sometimes one that overtakes it."""
        at = 0 if self.fair or self.draw.random() < 0.7 else self.draw.randrange(len(self.says))
        kind, values = self.says.pop(at)
        self.hand.do(kind, **values)
        named = [(values["order"], values["level"])] if "level" in values else []
        reports = (values["known"],) if "known" in values else values.get("asked", ())
        named += [(one.order, one.level) for one in reports]  # type: ignore[attr-defined]
        for name, level in named:
            known = self.orders.get(name)  # type: ignore[call-overload]
            if known is not None and known.level == level:
                known.told = True

    def meddle(self) -> None:
        """Another hand moves the stop or the entry, and that may be told."""
        name = self.draw.choice(self.resting)
        known, role = self.orders[name], self.hand.engine.state.orders[name].role
        if role == "entry" or (role == "stop" and known.level + 20 < 61_200):
            self.meddled = True
            self.put(known, known.level + self.draw.randint(-20, 20))
            if self.draw.random() < 0.5:
                self.say(ev.AmendAccepted, order=name, level=known.level, steps=known.steps)


class Story:
    """A trade that is open, and a person who moves its stop nearer."""

    def __init__(self, seed: int) -> None:
        self.draw, self.hand = random.Random(seed), ByHand()
        self.venue = Venue(self.hand, self.draw)
        self.begin()

    def begin(self) -> None:
        self.hand.enter(trail=None)
        self.venue.open = self.hand.trade.entered
        self.venue.most = self.draw.choice((1000, 1000, 45))

    def act(self) -> None:
        venue, draw, hand = self.venue, self.draw, self.hand
        venue.collect()
        choice = draw.random()
        if choice < 0.35 and venue.waiting:
            venue.arrive()
        elif choice < 0.7 and venue.says:
            venue.tell()
        elif choice < 0.8:
            self.wish()
        elif choice < 0.83 and venue.resting:
            venue.meddle()
        elif choice < 0.85:
            self.reach_target()
        elif choice < 0.87:
            venue.most = draw.choice((1000, 45, 30))
        elif choice < 0.89:
            self.cut()
        else:
            hand.later(draw.choice((0.02, 0.05, 0.1, 0.3, 0.5, 1.0)))
        venue.collect()

    def cut(self) -> None:
        """The line drops, or Hawser is begun anew: what was on its way to it is lost, and perhaps
        what it had sent."""
        venue, draw, hand = self.venue, self.draw, self.hand
        venue.says.clear()
        if draw.random() < 0.7:
            venue.waiting.clear()
        if draw.random() < 0.6:
            hand.do(ev.VenueDown, why="cut")
            hand.later(draw.choice((0.1, 1, 4)))
        else:
            hand.do(ev.Opened, prefix="P", account=hand.engine.state.account, instruments=(pair(),))
        venue.collect()
        venue.waiting.clear()
        hand.do(ev.VenueUp)
        hand.quote(61_230, 61_242)

    def wish(self) -> None:
        trade = self.hand.trade
        level = trade.stop + self.draw.randint(1, 25)
        if level > 61_230 - BEFORE_MARKET or trade.state not in (states.EXPOSED, states.PROTECTED):
            return
        self.venue.wishes.append(level)
        self.hand.do(ev.MoveStop, ask_id=f"W{level}", trade=trade.id, level=level)

    def reach_target(self) -> None:
        self.fill_some("target")

    def fill_some(self, role: str) -> None:
        """The market reaches the first order in a role that rests: some of it fills."""
        for name in self.venue.resting:
            known = self.venue.orders[name]
            if self.hand.engine.state.orders[name].role == role and known.steps > known.filled:
                steps = self.draw.randint(1, known.steps - known.filled)
                self.venue.fill(
                    name, known, steps if role == "rung" else min(self.venue.open, steps)
                )
                return

    def settle(self) -> None:
        """Good weather: all arrives, all is heard, and at last what the venue holds is compared."""
        venue, hand = self.venue, self.hand
        venue.fair, venue.most = True, 1000
        for seconds in (1, 2, 4, 8, 30, 60, 1):
            hand.quote(61_230, 61_242)
            hand.do(ev.Figures, balance=64_000.0, equity=64_000.0, margin_used=0.0)
            self.quiet()
            hand.later(seconds)
        hand.do(ev.VenueUp)
        hand.quote(61_230, 61_242)
        self.quiet()

    def quiet(self) -> None:
        """All that was sent arrives, and all that is said is heard."""
        venue = self.venue
        venue.collect()
        while venue.says or venue.waiting:
            if venue.says:
                venue.tell()
            else:
                venue.arrive()
            venue.collect()


def played(seed: int, acts: int = 90, kind: type[Story] = Story) -> Story:
    story = kind(seed)
    for _ in range(acts):
        story.act()
    story.settle()
    return story
