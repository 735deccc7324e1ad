"""What a guard that counts is: it is told what happens, remembers (`GuardMemory`), and says when
that closes entries. A kill switch latches then; the others close for a time.

Each kind is one file: its keys, what it makes of what it is told, its figures, and how a rehearsal
counts it. Who tells it is the live engine (`engine/guards/`); the rehearsal counts in compiled code
(`rehearsal/guarding.py`). The comparisons of both are the same compiled functions (`limits.py`).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Annotated, ClassVar, Literal, NamedTuple, Protocol

from hawser.core import figures as fg
from hawser.core.field_help import help_text
from hawser.core.guards.base import Guard
from hawser.core.guards.context import Closed
from hawser.core.guards.memory import GuardMemory

Per = Literal["account", "instrument", "source"]
Period = Literal["day", "week", "none"]
PER_WORDS = {"account": "the account", "instrument": "each instrument", "source": "each source"}
PERIOD_WORDS = {
    "day": "until the day ends",
    "week": "until the week ends",
    "none": "until re-armed",
}


class Facts(Protocol):
    """What is known of all that a guard counts for one subject; money in the account's currency,
    NaN where a conversion rate is missing."""

    @property
    def now(self) -> int: ...  # UTC ns
    @property
    def equity(self) -> float: ...
    @property
    def currency(self) -> str: ...
    @property
    def subject(self) -> str: ...  # an instrument or a source; empty: all that it watches
    @property
    def whose(self) -> str: ...  # the same in words
    def result(self) -> float: ...  # since the guard's period began
    def at_stake(self) -> float: ...  # lost from now on if every stop is hit
    def open_trades(self) -> int: ...
    def silences(self) -> dict[str, int]: ...  # by subject, since when no quote has come, UTC ns


class EndedTrade(NamedTuple):
    """A trade that has just ended. Money, commissions paid: `net` of all of it, `since` of the part
    that falls into the guard's present period; `r`: `net` in its planned risks."""

    symbol: str
    net: float
    r: float
    since: float


class Stop(NamedTuple):
    """Entries are to be closed: why, and until when (UTC ns; 0: the kill switch latches)."""

    why: str
    until: int = 0


class CountFigures(NamedTuple):
    """What has been counted, what is at stake, and the limit, as numbers of one unit; the unit; and
    what is counted."""

    used: float
    at_stake: float
    limit: float
    text: Callable[[float], str]
    of: str


class RehearsedLimits(NamedTuple):
    """A guard's limits as the rehearsal's compiled loop reads them; infinite: none."""

    most: int = 0
    percent: float = math.inf  # of a cool-down the smallest loss that counts, R
    money: float = math.inf
    pause: int = 0  # ns


class Counted(Guard, frozen=True, kw_only=True):
    """A guard that counts, for the whole of what it watches or each instrument or source by
    itself."""

    BY_EQUITY: ClassVar[bool] = False  # it goes by the account's equity, at every figure told
    BY_RESULT: ClassVar[bool] = False  # it goes by the money of what it watches in its period
    BY_HIGH: ClassVar[bool] = False  # it goes by the highest equity
    # what the rehearsal's loop counts for it (`limits.py`); -1: a rehearsal has nothing of the kind
    REHEARSED: ClassVar[int] = -1

    per: Annotated[
        Per, help_text("what is counted together", name="Counts for", words=PER_WORDS)
    ] = "account"

    # What it is told; each says why it trips or closes, or nothing

    def order_refused(self, memory: GuardMemory, now: int, text: str) -> str:
        """The venue has refused an order; `text`: in its words."""
        return ""

    def order_sent(self, memory: GuardMemory, now: int, entry: bool) -> str:
        """A new order has left; `entry`: one that enters a trade."""
        return ""

    def order_filled(self, role: str, worse: int) -> str:
        """An order has filled, `worse` ticks worse than expected."""
        return ""

    def trade_ended(self, memory: GuardMemory, now: int, trade: EndedTrade) -> Stop | None:
        """A trade that was entered has ended."""
        return None

    def reached(self, memory: GuardMemory, facts: Facts) -> str:
        """Of a guard that goes by money: its limit is reached. Changes nothing."""
        return ""

    @property
    def silence_ns(self) -> int:
        """How long without a quote trips it; 0: that never does."""
        return 0

    def silent(self, age: int) -> str:
        """No quote has come for `age` ns."""
        return ""

    # What it says by what it remembers

    def period_begins(self, memory: GuardMemory) -> None:
        """It counts anew; base and results have been set."""

    def spent(self, memory: GuardMemory, now: int) -> Closed | None:
        """Closed without having tripped: what it allows in its period is used up."""
        return None

    def not_rearmed(self, facts: Facts) -> str:
        """Why a person cannot re-arm it now."""
        return ""

    def figures(self, memory: GuardMemory, facts: Facts) -> CountFigures:
        """What it has counted, for the Guards station."""
        raise NotImplementedError

    def rehearsed(self) -> RehearsedLimits:
        return RehearsedLimits()


class Switch(Counted, frozen=True, kw_only=True):
    """A kill switch: it cancels pending entries and latches."""

    LATCHES = True

    period: Annotated[Period, help_text("how long it stays latched", words=PERIOD_WORDS)] = "day"
    cool_down_min: Annotated[
        float, help_text("cannot be re-armed by hand before", "min", name="Cool-down", example="60")
    ] = 0.0

    def check(self) -> None:
        if not 0 <= self.cool_down_min < math.inf:
            raise self.wrong("cool_down_min", "minutes, 0 or more")


def whole(value: float) -> str:
    """A number of trades or orders."""
    return fg.number(value, 0)


def limit_of(value: float | None) -> float:
    return math.inf if value is None else value


def money_figures(
    facts: Facts, lost: float, base: float, percent: float | None, money: float | None, of: str
) -> CountFigures:
    """A loss in percent of `base` where that limit is the nearer one, else in money."""
    stake, currency = facts.at_stake(), facts.currency
    of_base = percent * base / 100.0 if percent is not None else math.inf
    if of_base <= limit_of(money) and base > 0:
        part = 100.0 / base
        in_percent = lambda value: fg.percent(value, 2)  # noqa: E731
        return CountFigures(lost * part, stake * part, percent or 0.0, in_percent, of)
    return CountFigures(lost, stake, money or 0.0, lambda value: fg.money(value, currency), of)
