"""What can be done with trades, each with what it would do in figures. Without Qt: menu and finder
list these."""

from __future__ import annotations

from collections.abc import Callable, Sized
from typing import Literal, NamedTuple

import msgspec

from hawser.core import figures as fg
from hawser.core.entry import HeldRule
from hawser.core.guards.context import Closed
from hawser.core.levels import MAX_TARGETS
from hawser.core.plan import Plan
from hawser.core.rig import Rig
from hawser.core.rules.entries import backstop_behind
from hawser.core.rules.rounding import floor_steps, level_ticks
from hawser.desk.models.planning import plan_of
from hawser.engine import events as ev
from hawser.engine.model import transitions as states
from hawser.service.views.snapshot import BasketView, Snapshot, TargetView, TradeView

Make = Callable[[int, str], ev.AskEvent]  # of the time and the ask's id
TEND = "Tend by another rig or plan"
HELD = HeldRule()  # what the menu's held lines are


class TradeAction(NamedTuple):
    """A text with its consequence, and the asks that carry it out, one for each trade meant.
    `menu`: what a long list of such stands under; `basket`: trades to lay a basket over, which is
    typed first."""

    text: str
    makes: tuple[Make, ...]
    menu: str = ""
    basket: tuple[str, ...] = ()


def _one(text: str, make: Make) -> TradeAction:
    return TradeAction(text, (make,))


def _closing(trade: TradeView, share: float, word: str, snapshot: Snapshot) -> TradeAction:
    view = snapshot.instrument(trade.symbol)
    assert view is not None
    qty = view.instrument.qty(floor_steps(trade.open_steps * share))  # as the engine rounds it
    return _one(f"Close {word}: {qty} units at {fg.r(trade.price_r)}", _close(trade, share))


def _close(trade: TradeView, share: float = 1.0) -> Make:
    return lambda now, ask_id: ev.CloseTrade(
        time=now, ask_id=ask_id, trade=trade.id, share=share, entry_only=trade.pending
    )


def _even(trade: TradeView) -> Make:
    return lambda now, ask_id: ev.StopToEntry(time=now, ask_id=ask_id, trade=trade.id)


def _hold(trade: TradeView) -> Make:
    held = None if trade.backstop else HELD
    return lambda now, ask_id: ev.HoldLines(time=now, ask_id=ask_id, trade=trade.id, held=held)


def _tightens(trade: TradeView) -> bool:
    return trade.side * (trade.break_even - trade.stop) > 0


def is_open(trade: TradeView) -> bool:
    """Whether something is open of it that is not being closed."""
    return trade.open_steps > 0 and trade.state in (states.EXPOSED, states.PROTECTED)


def of_trade(
    trade: TradeView, snapshot: Snapshot, plans: dict[str, Plan] | None = None
) -> list[TradeAction]:
    """What can be done with one trade; `plans`: the saved ones, by name, made for its instrument
    and side."""
    view = snapshot.instrument(trade.symbol)
    if view is None:
        return []
    price = view.instrument.price
    if trade.pending:
        found = [
            _one(f"Cancel the {trade.plan.entry.kind} entry at {price(trade.ref)}", _close(trade))
        ]
        if trade.group:
            text = "Take it out of its OCO group: it stands alone"
            found.append(
                _one(
                    text,
                    lambda now, ask_id: ev.LinkEntries(time=now, ask_id=ask_id, trades=(trade.id,)),
                )
            )
        return found + _targets(trade, snapshot) + _plans(trade, plans or {})
    if not is_open(trade):
        return []
    found = [
        _closing(trade, share, word, snapshot)
        for share, word in ((0.5, "half"), (1 / 3, "a third"))
    ]
    if _tightens(trade):
        found.append(
            _one(
                f"Stop to the entry: {price(trade.stop)} \u2192 {price(trade.break_even)}",
                _even(trade),
            )
        )
    found += _targets(trade, snapshot)
    found.append(_one(_hold_text(trade, price), _hold(trade)))
    found += _plans(trade, plans or {})
    found += [_undo_basket(view) for view in snapshot.baskets if view.name == trade.basket]
    other = "short" if trade.side > 0 else "long"
    result = fg.money(trade.money, snapshot.currency, sign=True)
    text = f"Turn around: close at {result} and go {other}, with a new size"
    shut = _shut(trade, snapshot)
    if shut:
        text = f"Turn around, but entries are closed ({shut[0].text}): it would only be closed"
    found.append(_one(text, _turn(trade)))
    return found


def _turn(trade: TradeView) -> Make:
    return lambda now, ask_id: ev.TurnAround(time=now, ask_id=ask_id, trade=trade.id)


def _shut(trade: TradeView, snapshot: Snapshot) -> tuple[Closed, ...]:
    """Why no entry would follow if a trade were turned around."""
    return snapshot.closed_for(
        msgspec.structs.replace(trade.plan, side=-trade.side), float(trade.r_ticks)
    )


def _hold_text(trade: TradeView, price: Callable[[int], str]) -> str:
    if trade.backstop:
        return f"Let the lines rest at the venue again: stop {price(trade.stop)}"
    behind = backstop_behind(trade.r_ticks, HELD.backstop_r)
    backstop = max(1, trade.stop - trade.side * behind)
    return (
        f"Hold the lines here: only a backstop at {price(backstop)} "
        f"({fg.r(trade.r_of(backstop))}) at the venue"
    )


def _targets(trade: TradeView, snapshot: Snapshot) -> list[TradeAction]:
    """Take a target away, or set a further one."""
    view = snapshot.instrument(trade.symbol)
    assert view is not None
    of, found = view.instrument, []
    for line in _waiting(trade):
        text = (
            f"Take target {line.number} away: {of.qty(line.steps - line.filled)} at "
            f"{of.price(line.level)} stay open"
        )
        found.append(_one(text, _target(trade, line.number, 0, 0.0)))
    further = _further(trade)
    if further is not None:
        level, left = further
        at, part = f"{of.price(level)} ({fg.r(trade.r_of(level))})", fg.percent(100 * left, 0)
        text = f"New target at {at} for the {part} left; drag it from there"
        found.append(_one(text, _target(trade, 0, level, left)))
    return found


def _waiting(trade: TradeView) -> list[TargetView]:
    """Its targets that have not filled."""
    return [line for line in trade.targets if line.filled < line.steps]


def _further(trade: TradeView) -> tuple[int, float] | None:
    """Where a further target would be set, and for what share; None where nothing is left for
    one."""
    waiting = _waiting(trade)
    untaken = (
        trade.open_steps - sum(line.steps - line.filled for line in waiting)
        if trade.opened
        else trade.steps
    )
    left = min(1.0 - sum(line.share for line in trade.targets), untaken / trade.steps)
    if len(waiting) >= MAX_TARGETS or floor_steps(left * trade.steps) < 1:
        return None
    r = max([1.0, *(line.r + 1.0 for line in waiting), trade.price_r + 1.0])
    return level_ticks(trade.ref + trade.side * round(r * 2) / 2 * trade.r_ticks, trade.side), left


def _target(trade: TradeView, number: int, level: int, share: float) -> Make:
    return lambda now, ask_id: ev.SetTarget(
        time=now, ask_id=ask_id, trade=trade.id, number=number, level=level, share=min(1.0, share)
    )


def _drop_next(trade: TradeView) -> Make:
    return _target(
        trade, min(_waiting(trade), key=lambda line: trade.side * line.level).number, 0, 0.0
    )


def _aim(trade: TradeView) -> Make:
    level, left = _further(trade) or (0, 0.0)
    return _target(trade, 0, level, left)


def equip(trade: TradeView, plan: Plan) -> Make:
    """Tend an open trade by a plan's rules."""
    return lambda now, ask_id: ev.ChangeRules(time=now, ask_id=ask_id, trade=trade.id, plan=plan)


def _fits(rig: Rig, plan: Plan) -> bool:
    """Whether the rig can go on a trade: a ladder brings entries, and a stop by money needs the
    quantity it was for."""
    return rig.ladder is None and (
        rig.stop is None or rig.stop.money is None or plan.size.method == "fixed"
    )


def by_rigs(trade: TradeView, rigs: dict[str, Rig]) -> dict[str, Plan]:
    """The rigs that could tend a trade, as plans for it."""
    return {
        name: plan_of(rig, trade.plan)
        for name, rig in sorted(rigs.items())
        if _fits(rig, trade.plan)
    }


def _plans(trade: TradeView, plans: dict[str, Plan]) -> list[TradeAction]:
    """Tend by a saved plan from now on."""

    return [
        TradeAction(
            f"Tend by \u2018{name}\u2019: its targets and trail; its stop only where it is tighter",
            (equip(trade, plan),),
            TEND,
        )
        for name, plan in plans.items()
    ]


def _trades(trades: Sized) -> str:
    return fg.counted(len(trades), "trade")


def _pending(trades: Sized) -> str:
    return fg.counted(len(trades), "pending entry", "pending entries")


def of_marked(
    trades: list[TradeView], snapshot: Snapshot, rigs: dict[str, Rig] | None = None
) -> list[TradeAction]:
    """What can be done with several marked trades at once; `rigs`: those that could tend them, by
    name."""
    opened = [trade for trade in trades if is_open(trade)]
    waiting = [trade for trade in trades if trade.pending]
    found = []

    def many(text: str, make: Callable[[TradeView], Make], meant: list[TradeView]) -> None:
        if meant:
            found.append(TradeAction(text, tuple(make(trade) for trade in meant)))

    money = fg.money(sum(trade.money for trade in opened), snapshot.currency, sign=True)
    many(f"Close {_trades(opened)}: {money}", _close, opened)
    many(f"Close half of {_trades(opened)}", lambda trade: _close(trade, 0.5), opened)
    even = [trade for trade in opened if _tightens(trade)]
    many(f"Stop to the entry in {_trades(even)}", _even, even)
    tended = opened + waiting
    aimed = [trade for trade in tended if _waiting(trade)]
    many(
        f"Take the next target of {_trades(aimed)} away: what it would take stays open",
        _drop_next,
        aimed,
    )
    apart = [trade for trade in tended if _further(trade)]
    many(f"New target for what is left of {_trades(apart)}; drag each from there", _aim, apart)
    plain, held = [t for t in opened if not t.backstop], [t for t in opened if t.backstop]
    many(f"Hold the lines of {_trades(plain)} here", _hold, plain)
    many(f"Let the lines of {_trades(held)} rest at the venue again", _hold, held)
    shut = [trade for trade in opened if _shut(trade, snapshot)]
    closed = f"; {len(shut)} of them only close, entries are closed" if shut else ""
    many(
        (
            f"Turn {_trades(opened)} around: close {money}, each the other way, with a new "
            f"size{closed}"
        ),
        _turn,
        opened,
    )
    many(f"Cancel {_pending(waiting)}", _close, waiting)
    for name, rig in (rigs or {}).items():
        able = [trade for trade in opened if _fits(rig, trade.plan)]
        if able:
            text = (
                f"Tend {_trades(able)} by \u2018{name}\u2019; their stops only where they are "
                "tighter"
            )
            makes = tuple(equip(trade, plan_of(rig, trade.plan)) for trade in able)
            found.append(TradeAction(text, makes, TEND))
    if len(opened) > 1:
        text = (
            f"Basket over {_trades(opened)}: one stop and target for what they win or lose "
            "together \u2026"
        )
        found.append(TradeAction(text, (), basket=tuple(trade.id for trade in opened)))
    for view in snapshot.baskets:
        if any(trade.basket == view.name for trade in opened):
            found.append(_undo_basket(view))
    if len(waiting) > 1:
        names = tuple(trade.id for trade in waiting)
        text = f"OCO: the first of these {len(names)} entries to fill cancels the others"
        found.append(
            _one(text, lambda now, ask_id: ev.LinkEntries(time=now, ask_id=ask_id, trades=names))
        )
    return found


def _undo_basket(view: BasketView) -> TradeAction:
    return _one(
        f"Take {view.name} off: its {fg.counted(view.trades, 'trade')} stay as they are",
        lambda now, ask_id: ev.DissolveBasket(time=now, ask_id=ask_id, name=view.name),
    )


Which = Literal["winners", "losers", "long", "short", "pending"]


def of_many(snapshot: Snapshot) -> list[TradeAction]:
    """What can be done with several trades at once; nothing that would mean none, or all."""
    live = [trade for trade in snapshot.trades if trade.open_steps and trade.state != states.ENDED]
    waiting = [trade for trade in snapshot.trades if trade.pending]

    def group(name: str, trades: list[TradeView], make: Make) -> list[TradeAction]:
        if not 0 < len(trades) < len(live):
            return []
        money = fg.money(sum(trade.money for trade in trades), snapshot.currency, sign=True)
        return [_one(f"Close {name}: {len(trades)} of {len(live)} trades, {money}", make)]

    found: list[TradeAction] = []
    kinds: list[tuple[Which, Callable[[TradeView], bool]]] = [
        ("winners", lambda trade: trade.money > 0),
        ("losers", lambda trade: trade.money < 0),
        ("long", lambda trade: trade.side > 0),
        ("short", lambda trade: trade.side < 0),
    ]
    for which, meant in kinds:
        found += group(which, [trade for trade in live if meant(trade)], _all(which))
    for symbol in dict.fromkeys(trade.symbol for trade in live):
        found += group(
            symbol, [trade for trade in live if trade.symbol == symbol], _all("all", symbol)
        )
    if waiting:
        found.append(
            _one(f"Cancel {'all ' if len(waiting) > 1 else ''}{_pending(waiting)}", _all("pending"))
        )
    return found


def _all(which: Which | Literal["all"], symbol: str = "") -> Make:
    return lambda now, ask_id: ev.CloseAll(time=now, ask_id=ask_id, which=which, symbol=symbol)
