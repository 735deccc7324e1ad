"""What the engine wants done. The service writes these down before any leaves (architecture.md,
ledger)."""

from __future__ import annotations

from typing import Literal

import msgspec

Role = Literal["entry", "rung", "stop", "target", "loss", "close"]
OrderKind = Literal["market", "stop", "limit"]
Weight = Literal["info", "refused", "caution", "alarm"]


class Command(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Base of all commands. `tag` is what the record calls one, for ever, as for events."""


class Submit(Command, frozen=True, tag="Submit"):
    """A new order. `level` in ticks (None: market), `closes` names the position it closes, `adds`
    the one it adds to; `why` is for people.

    `bound`: the worst price it may fill at, ticks (a stop with one is a stop-limit); `until`: when
    the venue gives it up, UTC ns, 0: never.
    """

    order: str
    trade: str
    symbol: str
    role: Role
    side: int
    kind: OrderKind
    steps: int
    level: int | None
    closes: str | None
    why: str
    bound: int | None = None
    until: int = 0
    adds: str | None = None


class Amend(Command, frozen=True, tag="Amend"):
    """A resting order gets another level or quantity, in place; `bound` as in Submit. `why` is for
    people, `code` what the reason is called (`reasons.py`); `token` is told with the answer."""

    order: str
    trade: str
    symbol: str
    role: Role
    level: int
    steps: int
    why: str
    bound: int | None = None
    code: str = ""
    token: int = 0


class Cancel(Command, frozen=True, tag="Cancel"):
    order: str
    trade: str
    symbol: str
    why: str


class Query(Command, frozen=True, tag="Query"):
    """Ask what became of an order. `token` is told with the answer, which may come after that to a
    later question."""

    order: str
    trade: str
    symbol: str
    token: int = 0


class QueryAll(Command, frozen=True, tag="QueryAll"):
    """Ask for all the venue holds, and what it knows of `orders`."""

    token: int
    orders: tuple[str, ...]


class StartTimer(Command, frozen=True, tag="StartTimer"):
    """Wants a TimerFired of this name at `at`, UTC ns."""

    name: str
    at: int


class Tell(Command, frozen=True, tag="Tell", rename={"ask_id": "ask"}):
    """Something a person should know: one sentence, a code, and what it is about: a trade, an ask,
    a guard and whom it counts (`subject`)."""

    weight: Weight
    code: str
    text: str
    trade: str = ""
    symbol: str = ""
    ask_id: str = ""
    guard: str = ""
    subject: str = ""


VenueCommand = Submit | Amend | Cancel | Query | QueryAll
AnyCommand = VenueCommand | StartTimer | Tell
