"""What the Guards station shows: each guard with what it watches, its present value and limit, and
the day as windows. `guard_picture.py` makes it, on the engine's thread."""

from __future__ import annotations

from typing import Literal, NamedTuple

import msgspec

from hawser.core.clock import HOUR
from hawser.core.guards import declared as dc
from hawser.core.guards.context import Closed

SHOWN_BACK, SHOWN_AHEAD = 1 * HOUR, 23 * HOUR
Mark = Literal["hours", "news", "session", "closed"]


class Gauge(NamedTuple):
    """Parts of a limit, each from 0 to 1: used, and what open stops or waiting entries could still
    use."""

    used: float
    stake: float


class GuardView(msgspec.Struct, frozen=True):
    """One guard, for one subject where it counts each by itself. Texts carry their units."""

    name: str
    kind: str  # what a file calls it
    subject: str
    latches: bool
    watches: str
    now: str
    stake: str
    limit: str
    gauge: Gauge | None
    closed: Closed | None
    where: tuple[str, ...]  # the instruments in which a filter is closed
    since: int  # latched since, 0: it is not
    tripped: int  # when it last closed, 0: not known to
    does: str
    later: str  # what waits for the next period


class Span(NamedTuple):
    """A part of an instrument's day, `[start, end)` UTC ns."""

    start: int
    end: int
    mark: Mark
    text: str


class Coming(NamedTuple):
    """What closes next: when, where, by what, and what happens then."""

    at: int
    symbols: tuple[str, ...]
    text: str
    until: int
    does: str


class GuardPicture(msgspec.Struct, frozen=True):
    """All of it at one moment. `currency`: of its money."""

    time: int
    currency: str
    views: tuple[GuardView, ...]
    days: tuple[tuple[str, tuple[Span, ...]], ...]
    coming: Coming | None
    calendar: str
    policy: dc.Guards
    # what is looser and holds from then on: UTC ns, what it is
    waits: tuple[tuple[int, str], ...] = ()
