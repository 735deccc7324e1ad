"""The world of a storm: a few instruments of unlike kinds, the account, and the changes that a
venue makes to an instrument while Hawser is away.
"""

from __future__ import annotations

import random
from collections.abc import Iterable
from concurrent.futures import Future
from decimal import Decimal

import msgspec

from hawser.core.account import Account, Policy
from hawser.core.clock import MINUTE, SECOND
from hawser.core.instrument import Commission, Instrument, WeeklySession
from hawser.ledger.ledger import Ledger
from hawser.service.recording import Work, carried_out
from hawser.venue.quay.book import BookOrder, BookState, Position
from hawser.venue.quay.generator import Character, GeneratedFeed
from hawser.venue.quay.store import reread

START = 1_930_435_200 * SECOND + 540 * MINUTE  # a Wednesday, 09:00 UTC
DEADLINE_S = 5.0
World = list[tuple[Instrument, Character]]


def _instrument(
    symbol: str, quote: str, base: str | None, tick: str, multiplier: float, step: str
) -> Instrument:
    return Instrument(
        symbol=symbol,
        kind="fx" if base else "index",
        quote=quote,
        base=base,
        tick=Decimal(tick),
        multiplier=multiplier,
        qty_step=Decimal(step),
        qty_min=Decimal(step),
        qty_max=Decimal(50),
        margin_rate=0.05,
        min_stop_ticks=10,
        commission=Commission(per_unit=1.5, minimum=1.0),
    )


HOURS = (  # a break of two minutes within a storm
    WeeklySession((0, 1, 2, 3, 4), "07:00", "09:07", "UTC"),
    WeeklySession((0, 1, 2, 3, 4), "09:09", "17:00", "UTC"),
)
OTHER_HOURS = (
    (),
    HOURS,
    (
        WeeklySession((0, 1, 2, 3, 4), "07:00", "09:04", "UTC"),
        WeeklySession((0, 1, 2, 3, 4), "09:06", "17:00", "UTC"),
    ),
)
WORLD: World = [
    (
        _instrument(
            "CAD/CHF", "CHF", base="CAD", tick="0.00001", multiplier=100_000.0, step="0.01"
        ),
        Character(0.6124, 0.0006, 8),
    ),
    (
        _instrument("Harbour 40", "CHF", base=None, tick="0.5", multiplier=5.0, step="0.1"),
        Character(4118.0, 0.0008, 3),
    ),
    (
        msgspec.structs.replace(
            _instrument("Tin Z", "USD", base=None, tick="0.25", multiplier=10.0, step="1"),
            sessions=HOURS,
            min_stop_ticks=4,
        ),
        Character(1204.0, 0.0007, 2),
    ),
]
RATES = {"USD/CHF": 0.88, "EUR/USD": 1.08}
ACCOUNT = Account(
    currency="CHF", equity=64_000.0, balance=64_000.0, policy=Policy(exposed_deadline_s=DEADLINE_S)
)


def feed_of(
    world: World, seed: int, start: int = START, rates: dict[str, float] = RATES
) -> GeneratedFeed:
    return GeneratedFeed(world, rates, seed, start, 1)


class Disk:
    """Where a storm's record lies: full for a while; failing, so that no write is even tried; or
    hanging, so that what is written there comes to its end later, or, where Hawser is killed
    meanwhile, perhaps never."""

    KINDS = ("full disk", "failing disk", "hanging disk")

    patience = 0.0

    def __init__(self) -> None:
        self.until = self.well_at = 0  # in trouble, and since when it is in none
        self._kind, self._waiting = "", list[tuple[Work, "Future[None]"]]()

    def begin(self, work: Work) -> Future[None]:
        done: Future[None] = Future()
        if self._kind == "hanging disk":
            self._waiting.append((work, done))
        elif self._kind == "failing disk":
            done.set_exception(MemoryError())  # what no database names
        else:
            carried_out(work, done)
        return done

    def end(self) -> None:
        pass

    def trouble(self, ledger: Ledger, until: int, kind: str) -> None:
        self.until, self._kind = until, kind
        if kind == "full disk":
            ledger.limit(full=True)

    def recover(self, ledger: Ledger, now: int) -> None:
        self.until, self.well_at, self._kind = 0, now, ""
        ledger.limit(full=False)
        waiting, self._waiting = self._waiting, []
        for work, done in waiting:
            carried_out(work, done)

    def killed(self, ledger: Ledger, draw: random.Random) -> None:
        """What hangs is written or is not."""
        if draw.random() < 0.5:
            self._waiting.clear()
        self.recover(ledger, 0)


class BooksInMemory:
    """In the place of a store: the venue's state is handed over in memory."""

    def __init__(self, state: BookState) -> None:
        self._state = state

    def load(self) -> BookState:
        return self._state

    def save(self, state: BookState, touched: Iterable[str]) -> None:
        pass

    def close(self) -> None:
        pass


def changed(world: World, state: BookState, draw: random.Random) -> tuple[World, BookState, str]:
    """Another grid, another worth or other hours for one instrument, or one that is traded no more:
    the world, what the venue holds in it, and which instrument it is. What a venue cannot carry
    over exactly it gives up: orders, never positions."""
    at = draw.randrange(len(world))
    old, character = world[at]
    if draw.random() < 0.25 and len(world) > 1:
        return (
            [one for one in world if one[0] is not old],
            _without(reread(state), old.symbol),
            old.symbol,
        )
    if draw.random() < 0.2:
        new = msgspec.structs.replace(
            old, sessions=draw.choice([one for one in OTHER_HOURS if one != old.sessions])
        )
        return [*world[:at], (new, character), *world[at + 1 :]], reread(state), old.symbol
    held = {one.symbol for one in state.positions.values()}
    if old.symbol not in held and draw.random() < 0.3:  # else the account's equity would jump
        new = msgspec.structs.replace(old, multiplier=old.multiplier * draw.choice((0.1, 10.0)))
        return [*world[:at], (new, character), *world[at + 1 :]], reread(state), old.symbol
    ticks, steps = draw.choice((Decimal(1), Decimal("0.1"), Decimal("0.5"), Decimal(5))), Decimal(1)
    if ticks == 1:
        steps = draw.choice((Decimal("0.1"), Decimal("0.5"), Decimal(5)))
    new = msgspec.structs.replace(
        old, tick=old.tick * ticks, qty_step=old.qty_step * steps, qty_min=old.qty_step * steps
    )
    moved = _carried(reread(state), old, new)
    if moved is None:
        return world, state, ""
    return [*world[:at], (new, character), *world[at + 1 :]], moved, old.symbol


def _without(state: BookState, symbol: str) -> BookState:
    state.positions = {name: one for name, one in state.positions.items() if one.symbol != symbol}
    state.orders = {name: one for name, one in state.orders.items() if one.symbol != symbol}
    return state


def _carried(state: BookState, old: Instrument, new: Instrument) -> BookState | None:
    """What the venue holds on another grid; None where a position does not fit it."""
    ticks, steps = old.tick / new.tick, old.qty_step / new.qty_step
    state.grids.pop(old.symbol, None)
    for held in [one for one in state.positions.values() if one.symbol == old.symbol]:
        if held.steps * steps % 1:
            return None
        moved = Position(
            held.id,
            held.symbol,
            held.side,
            int(held.steps * steps),
            float(Decimal(held.entry) * ticks),
        )
        state.positions[held.id] = moved
    for order in [one for one in state.orders.values() if one.symbol == old.symbol]:
        state.orders[order.id] = _order_carried(order, ticks, steps)
    return state


def _order_carried(order: BookOrder, ticks: Decimal, steps: Decimal) -> BookOrder:
    found = [None if one is None else one * ticks for one in (order.level, order.bound)]
    whole = all(
        one is None or not one % 1 for one in (*found, order.steps * steps, order.filled * steps)
    )
    if not whole:
        order.status = "cancelled" if order.status == "resting" else order.status
        return order
    level, bound = (None if one is None else int(one) for one in found)
    return msgspec.structs.replace(
        order,
        level=level,
        bound=bound,
        steps=int(order.steps * steps),
        filled=int(order.filled * steps),
    )
