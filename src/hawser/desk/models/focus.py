"""What the lines on the chart and the R scale are about: the plan, or one trade. No Qt."""

from __future__ import annotations

from decimal import Decimal

import msgspec

from hawser.core import figures as fg
from hawser.core.instrument import Instrument
from hawser.core.size_terms import RungSize, SizeRequest, Sizing
from hawser.engine.model.rig_levels import Waiting
from hawser.engine.model.state import RestingLevel
from hawser.service.views.snapshot import InstrumentView, TradeView


class TargetMark(msgspec.Struct, frozen=True):
    """A target: level in ticks, and whether it is done."""

    number: int
    level: int
    done: bool = False


class Focus(msgspec.Struct, frozen=True):
    """Levels in ticks. `trade` is empty for the plan; `price` is the exit side of the quote."""

    trade: str
    instrument: Instrument
    side: int
    ref: int
    r_ticks: int
    stop: int
    initial_stop: int
    targets: tuple[TargetMark, ...]
    price: int
    spread: int
    opened: int
    trace: tuple[RestingLevel, ...]
    label: str
    covered: bool = True
    entry: str = ""  # of an entry that waits at `ref`, in words: buy stop, sell limit, ...
    mirror: int = 0  # where a straddle's other side would wait
    venue_stop: int = 0  # with held lines: the backstop at the venue
    rig: str = ""
    # rules still to act: where (0: at no price), and what they do
    waits: tuple[tuple[int, str], ...] = ()
    fixed: bool = False  # stop and target are the rig's, and not dragged
    # further entries that wait in this instrument: where, and what
    others: tuple[tuple[int, str], ...] = ()

    def r(self, level: float) -> float:
        return self.side * (level - self.ref) / self.r_ticks

    def level(self, r: float) -> float:
        """The level, in ticks, that stands at `r`."""
        return self.ref + self.side * r * self.r_ticks


def about(focus: Focus | None) -> tuple[str, str, Decimal] | None:
    """What levels in ticks are levels of: the trade or the plan, its instrument, and the grid."""
    return (
        (focus.trade, focus.instrument.symbol, focus.instrument.tick) if focus is not None else None
    )


def waits_text(side: int, kind: str) -> str:
    """An order that waits, in words: buy stop, sell limit."""
    return f"{'buy' if side > 0 else 'sell'} {kind}"


def of_plan(request: SizeRequest, sizing: Sizing, entry: str = "", straddle: bool = False) -> Focus:
    """The plan as it would be placed now; `entry`: the order that would wait, in words."""
    side = request.side
    marks = tuple(TargetMark(target.number, target.level) for target in sizing.targets if target.r)
    price = request.bid if side > 0 else request.ask
    word = fg.side_word(side)
    rungs = tuple(
        (rung.level, _rung_text(request.instrument, rung))
        for rung in sizing.rungs[1:]
        if rung.steps
    )
    return Focus(
        trade="",
        instrument=request.instrument,
        side=side,
        ref=sizing.ref,
        r_ticks=sizing.r_ticks,
        stop=sizing.stop,
        initial_stop=sizing.stop,
        targets=marks,
        price=price,
        spread=request.ask - request.bid,
        opened=0,
        trace=(),
        label=f"plan {word} {request.instrument.qty(sizing.steps)}",
        covered=True,
        entry=entry,
        mirror=request.bid + request.ask - sizing.ref if straddle else 0,
        waits=rungs,
        fixed=bool(sizing.rungs),
    )


def _rung_text(instrument: Instrument, rung: RungSize) -> str:
    average = instrument.price(round(rung.average))
    return (
        f"rung {rung.number} at {instrument.price(rung.level)}: {instrument.qty(rung.steps)} "
        f"more, average {average}"
    )


def entries_beside(focus: Focus, trades: tuple[TradeView, ...]) -> tuple[tuple[int, str], ...]:
    """What else waits to enter the instrument, in words, beside what the focus is about."""
    found, instrument = [], focus.instrument
    for trade in trades:
        if trade.pending and trade.symbol == instrument.symbol and trade.id != focus.trade:
            kind = waits_text(trade.side, trade.plan.entry.kind)
            found.append(
                (
                    trade.ref,
                    (
                        f"{kind} {instrument.price(trade.ref)} for "
                        f"{instrument.qty(trade.steps)} waits"
                    ),
                )
            )
    return tuple(found)


def of_trade(trade: TradeView, view: InstrumentView) -> Focus:
    """An open trade as it stands."""
    marks = tuple(
        TargetMark(t.number, t.level, t.filled >= t.steps > 0) for t in trade.targets if t.steps
    )
    price = view.bid if trade.side > 0 else view.ask
    word = fg.side_word(trade.side)
    kind = waits_text(trade.side, trade.plan.entry.kind) if trade.pending else ""
    steps = trade.steps if trade.pending else trade.open_steps
    return Focus(
        trade=trade.id,
        instrument=view.instrument,
        side=trade.side,
        ref=trade.ref,
        r_ticks=trade.r_ticks,
        stop=trade.resting_stop,
        initial_stop=trade.initial_stop,
        targets=marks,
        price=price,
        spread=view.ask - view.bid,
        opened=trade.opened,
        trace=trade.trace,
        label=f"{word} {view.instrument.qty(steps)}",
        covered=trade.covered or trade.pending,
        entry=kind,
        mirror=0,
        venue_stop=trade.backstop,
        rig=trade.rig,
        waits=_together(trade.waiting),
    )


def _together(rules: tuple[Waiting, ...]) -> tuple[tuple[int, str], ...]:
    """What waits, with one line of words where several wait for the same."""
    found: dict[tuple[int, str], Waiting] = {}
    for rule in rules:
        key = rule.level, rule.where or rule.does
        first = found.get(key)
        found[key] = rule if first is None else first._replace(does=f"{first.does}, {rule.does}")
    return tuple((rule.level, rule.text) for rule in found.values())
