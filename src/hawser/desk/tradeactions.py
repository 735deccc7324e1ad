"""What can be done with open trades, each with what it would do in figures. Without Qt: menu and finder list these."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal, NamedTuple

from hawser.core import figures as fg
from hawser.core.rules.rounding import floor_whole
from hawser.engine import events as ev
from hawser.engine import states
from hawser.service.snapshot import Snapshot, TradeView

Make = Callable[[int, str], ev.AskEvent]  # of the time and the ask's id


class TradeAction(NamedTuple):
    """A text with its consequence, and the ask that carries it out."""

    text: str
    make: Make


def _closing(trade: TradeView, share: float, word: str, snapshot: Snapshot) -> TradeAction:
    view = snapshot.instrument(trade.symbol)
    assert view is not None
    qty = view.instrument.qty(floor_whole(trade.open_steps * share))  # as the engine rounds it
    return TradeAction(
        f"Close {word}: {qty} units at {fg.r(trade.price_r)}",
        lambda now, ask: ev.CloseTrade(time=now, ask=ask, trade=trade.id, share=share),
    )


def of_trade(trade: TradeView, snapshot: Snapshot) -> list[TradeAction]:
    """What can be done with one open trade."""
    view = snapshot.instrument(trade.symbol)
    if view is None or not trade.open_steps or trade.state not in (states.EXPOSED, states.PROTECTED):
        return []
    price = view.instrument.price
    found = [_closing(trade, share, word, snapshot) for share, word in ((0.5, "half"), (1 / 3, "a third"))]
    level = trade.break_even
    if trade.side * (level - trade.stop) > 0:
        found.append(
            TradeAction(
                f"Stop to the entry: {price(trade.stop)} \u2192 {price(level)}",
                lambda now, ask: ev.BreakEven(time=now, ask=ask, trade=trade.id),
            )
        )
    other = "short" if trade.side > 0 else "long"
    found.append(
        TradeAction(
            f"Turn around: close at {fg.money(trade.money, snapshot.currency, sign=True)} and go {other}, sized anew",
            lambda now, ask: ev.TurnAround(time=now, ask=ask, trade=trade.id),
        )
    )
    return found


Which = Literal["winners", "losers", "long", "short"]


def of_many(snapshot: Snapshot) -> list[TradeAction]:
    """What can be done with several trades at once; nothing that would mean none, or all."""
    live = [trade for trade in snapshot.trades if trade.open_steps and trade.state != states.ENDED]

    def group(name: str, trades: list[TradeView], make: Make) -> list[TradeAction]:
        if not 0 < len(trades) < len(live):
            return []
        money = fg.money(sum(trade.money for trade in trades), snapshot.currency, sign=True)
        return [TradeAction(f"Close {name}: {len(trades)} of {len(live)} trades, {money}", make)]

    found: list[TradeAction] = []
    kinds: list[tuple[Which, Callable[[TradeView], bool]]] = [
        ("winners", lambda trade: trade.money > 0), ("losers", lambda trade: trade.money < 0),
        ("long", lambda trade: trade.side > 0), ("short", lambda trade: trade.side < 0),
    ]  # fmt: skip
    for which, meant in kinds:
        trades = [trade for trade in live if meant(trade)]
        found += group(which, trades, lambda now, ask, which=which: ev.CloseAll(time=now, ask=ask, which=which))  # type: ignore[misc]  # the default binds the loop's value
    for symbol in dict.fromkeys(trade.symbol for trade in live):
        trades = [trade for trade in live if trade.symbol == symbol]
        found += group(symbol, trades, lambda now, ask, symbol=symbol: ev.CloseAll(time=now, ask=ask, symbol=symbol))  # type: ignore[misc]  # the same
    return found
