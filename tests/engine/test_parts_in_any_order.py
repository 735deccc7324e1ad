"""All that rests beside a stop: targets, loss steps, the rungs of a ladder, lines held here.
Answers come in any order while a person moves, sets, holds, closes and changes the rules, and the
market moves: in the end the venue has what the trade wants, and no more.
"""

from __future__ import annotations

import msgspec
from hypothesis import given, settings
from hypothesis import strategies as st

from anyorder import Story, played
from byhand import SYMBOL, ByHand, of, plan
from hawser.core.entry import HeldRule
from hawser.core.levels import StopRule, TargetRule
from hawser.core.rig import After, BreakEven, Ladder, LossStep, Measure, Rig, Trail
from hawser.engine import commands as cm
from hawser.engine import events as ev
from hawser.engine.engine import Engine
from hawser.engine.model import transitions as states
from hawser.engine.protection.parts import part_wants

TARGETS = tuple(TargetRule(share=share, r=r) for share, r in ((0.4, 1.0), (0.3, 2.0), (0.2, 3.0)))
LOSSES = (LossStep(0.4, 0.3), LossStep(0.7, 0.2))
KINDS = (
    *("move",) * 4,
    "set",
    "set",
    "hold",
    "close",
    "gone",
    "target",
    "loss",
    "rung",
    "rung",
    "rules",
    "even",
    *("market",) * 4,
)
ADJUSTED = 8  # ticks: put elsewhere, and then once more


class Parts(Story):
    """A trade with targets and perhaps loss steps, or a ladder."""

    def begin(self) -> None:
        self.moved: dict[int, int] = {}  # target -> the level last wished
        self.laddered = self.draw.random() < 0.25
        if self.laddered:
            rig = Rig(ladder=Ladder(4, Measure(ticks=30.0), 40.0, 200.0, 1.0))
            self.hand.enter(trail=None, targets=(), stop=None, rig=rig)
        else:
            rig = Rig(stop=StopRule(atr=2.5), loss_step=LOSSES if self.draw.random() < 0.4 else ())
            self.hand.enter(trail=None, targets=TARGETS[: self.draw.randint(1, 3)], rig=rig)
        self.venue.open = self.hand.trade.entered
        self.venue.most = self.draw.choice((1000, 1000, 45))
        self.venue.judges_stop = False  # a backstop lies farther out

    def act(self) -> None:
        if self.draw.random() < 0.12 and self.hand.trade.state in (
            states.EXPOSED,
            states.PROTECTED,
        ):
            self.touch(self.draw.choice(KINDS))
            self.venue.collect()
        super().act()

    def touch(self, kind: str) -> None:
        trade, draw, do = self.hand.trade, self.draw, self.hand.do
        if kind in ("target", "loss", "rung"):
            self.fill_some(kind)
        elif kind == "hold":
            do(ev.HoldLines, ask_id="H", trade=trade.id, held=None if trade.held else HeldRule(1.5))
        elif kind == "close":
            do(
                ev.CloseTrade,
                ask_id=f"C{self.hand.now}",
                trade=trade.id,
                share=draw.choice((0.02, 0.2, 0.5)),
            )
        elif kind == "gone":
            self.take_back()
        elif kind == "even":
            do(ev.StopToEntry, ask_id=f"E{self.hand.now}", trade=trade.id)
        elif kind == "market":
            self.move_market()
        elif kind == "rules" and not self.laddered:
            self.change_rules()
        elif trade.targets and not self.laddered:
            number, level = draw.choice(trade.targets).number, 61_260 + draw.randint(0, 600)
            if kind == "move":
                do(ev.MoveTarget, ask_id=f"T{level}", trade=trade.id, number=number, level=level)
                # it was not refused
                if any((one.number, one.level) == (number, level) for one in trade.targets):
                    self.moved[number] = level
            else:
                number = draw.choice((0, number))
                self.moved.pop(number, None)
                share = draw.choice((0.0, 0.2, 0.5))
                do(
                    ev.SetTarget,
                    ask_id=f"S{level}",
                    trade=trade.id,
                    number=number,
                    level=level,
                    share=share,
                )

    def change_rules(self) -> None:
        """Another rig: its targets, its loss steps, perhaps a trail, and the stop to the entry
        early."""
        draw, trail = self.draw, Trail(ticks=float(self.draw.randint(40, 300)))
        rig = Rig(
            name="another",
            stop=StopRule(ticks=draw.randint(60, 400)),
            loss_step=LOSSES if draw.random() < 0.4 else (),
            break_even=BreakEven(After(r=draw.uniform(0, 0.5))) if draw.random() < 0.5 else None,
        )
        targets = TARGETS[: draw.randint(0, 3)]
        self.moved.clear()
        chosen = plan(
            stop=rig.stop, targets=targets, rig=rig, trail=trail if draw.random() < 0.5 else None
        )
        self.hand.do(
            ev.ChangeRules, ask_id=f"R{self.hand.now}", trade=self.hand.trade.id, plan=chosen
        )

    def move_market(self) -> None:
        bid = 61_230 + self.draw.randint(-25, 200)
        self.hand.quote(bid, bid + 12)
        if self.draw.random() < 0.3:
            self.hand.bar(bid * 1e-5, atr=0.00145)

    def take_back(self) -> None:
        """Another hand cancels an order, and that may be told."""
        if self.venue.resting:
            name = self.draw.choice(self.venue.resting)
            order = self.venue.orders[name]
            order.status = "cancelled"
            if self.draw.random() < 0.5:
                self.venue.say(
                    ev.OrderCancelled, order=name, why="by another hand", filled=order.filled
                )

    def reach_target(self) -> None:
        if self.draw.random() < 0.4:  # else few of them live to the end
            super().reach_target()

    def resting(self, role: str) -> dict[int, int]:
        """Steps that rest at the venue, by number."""
        found: dict[int, int] = {}
        for name in self.venue.resting:
            own, order = self.hand.engine.state.orders[name], self.venue.orders[name]
            if own.role == role:
                found[own.number] = found.get(own.number, 0) + order.steps - order.filled
        return found


def check_parts(story: Parts) -> None:
    trade, venue = story.hand.trade, story.venue
    for role in ("target", "loss"):
        wants = part_wants(trade, role) if not trade.held else {}
        # What a venue won't take in one order follows when the first has filled; larger ones are
        # tried after minutes.
        wants = {
            number: min(steps, trade.cover.most_steps or steps)
            for number, steps in wants.items()
            if steps
        }
        rests = story.resting(role)
        assert sum(rests.values()) <= venue.open
        assert rests == wants
    for name in venue.resting:
        own = story.hand.engine.state.orders[name]
        wished = story.moved.get(own.number) if own.role == "target" else None
        if wished is not None:  # the other hand moves stops only
            assert abs(venue.orders[name].level - wished) <= ADJUSTED


def check_rungs(story: Parts) -> None:
    """No rung fills more than it was to, and one that has not filled whole has an order that
    rests."""
    trade, state, venue = story.hand.trade, story.hand.engine.state, story.venue
    filled = dict.fromkeys((rung.number for rung in trade.ladder.rungs), 0)
    for name, order in venue.orders.items():
        if name in state.orders and state.orders[name].role == "rung":
            filled[state.orders[name].number] += order.filled
    assert filled == {rung.number: rung.filled for rung in trade.ladder.rungs}
    assert all(rung.filled <= rung.steps for rung in trade.ladder.rungs)
    if trade.state == states.PROTECTED:
        rests = story.resting("rung")
        wants = {
            rung.number: rung.steps - rung.filled
            for rung in trade.ladder.rungs
            if rung.steps > rung.filled
        }
        assert rests.keys() == wants.keys()
        assert all(rests[number] <= want for number, want in wants.items())


@settings(max_examples=150, deadline=None)
@given(st.integers(0, 10**9))
def test_in_the_end_the_venue_has_what_the_trade_wants_and_no_more(seed):
    story = played(seed, 110, Parts)
    venue, state, trade = story.venue, story.hand.engine.state, story.hand.trade
    assert trade.open_steps == venue.open
    for name in venue.resting:
        own, order = state.orders[name], venue.orders[name]
        assert not own.over
        assert (own.level, own.steps) == (order.level, order.steps)
    assert sum(story.resting("stop").values()) == venue.open
    if venue.open:
        check_parts(story)
        check_rungs(story)
    else:
        assert venue.resting == ()
    engine, commands = Engine(), []
    for event in story.hand.written:
        commands += engine.handle(msgspec.msgpack.decode(event, type=ev.AnyEvent))
    assert commands == story.hand.all
    assert engine.state == state


def test_a_target_moved_while_a_change_is_under_way_goes_there_wherever_it_is_told_to_rest():
    """What the venue holds is told after the line was down, with a level of its own: that is older
    than the wish."""
    hand = ByHand()
    hand.protect(trail=None)
    target, trade = hand.order("target", 1), hand.trade
    move = of(hand.do(ev.MoveTarget, ask_id="M", trade=trade.id, number=1, level=61_450), cm.Amend)[
        0
    ]
    hand.do(ev.AmendAccepted, order=target.id, level=61_450, steps=move.steps, token=move.token)
    for level in (61_500, 61_700):
        hand.do(ev.MoveTarget, ask_id=f"M{level}", trade=trade.id, number=1, level=level)
    hand.do(ev.VenueDown, why="cut")
    hand.do(ev.VenueUp)
    live = [hand.engine.state.orders[name] for name in trade.live_ids]
    asked = tuple(
        ev.OrderReport(one.id, "resting", 61_498 if one is target else one.level or 0, one.steps)
        for one in live
    )
    held = (ev.VenuePosition(trade.entry.order_id, SYMBOL, 1, trade.open_steps, 61_242.0),)
    found = hand.holdings(held, tuple(one.id for one in live), asked)
    assert [(one.order, one.level) for one in of(found, cm.Amend)] == [(target.id, 61_700)]
    assert trade.targets[0].level == 61_700
    assert "it goes on to 0.61700" in next(
        one.text for one in of(found, cm.Tell) if one.code == "moved_elsewhere"
    )
