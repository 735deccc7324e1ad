"""Guards that count: entries in a period, a time after a loss, and the kill switches, which latch
(reckoning section 9). What they count is in the engine (`engine/guards/`) and in the rehearsal
(`rehearsal/guarding.py`); the decisions of both are `limits.py`.
"""

from __future__ import annotations

import math
from typing import Annotated, Literal

from hawser.core.field_help import help_text
from hawser.core.guards.base import Guard

Per = Literal["account", "instrument", "source"]
Period = Literal["day", "week", "none"]
PER_WORDS = {"account": "the account", "instrument": "each instrument", "source": "each source"}
PERIOD_WORDS = {
    "day": "until the day ends",
    "week": "until the week ends",
    "none": "until re-armed",
}


class Counted(Guard, frozen=True, kw_only=True):
    """A guard that counts, for the whole of what it watches or each instrument or source by
    itself."""

    per: Annotated[
        Per, help_text("what is counted together", name="Counts for", words=PER_WORDS)
    ] = "account"


class CountGuard(Counted, frozen=True, kw_only=True, tag="trade_count"):
    KIND = "trade count"
    SAYS = "so many entries a day or week"
    FIRST = {"most": 10}
    LOOSER = {"most": 1}

    most: Annotated[int, help_text("entries in a period", "trades")]
    period: Annotated[
        Literal["day", "week"],
        help_text("the period in which they are counted", words={"day": "a day", "week": "a week"}),
    ] = "day"


class CoolDownGuard(Counted, frozen=True, kw_only=True, tag="cool_down"):
    KIND = "cool-down"
    SAYS = "no entry for a while after a loss"
    FIRST = {"minutes": 30.0}
    LOOSER = {"minutes": -1, "from_r": 1}

    minutes: Annotated[float, help_text("stay closed this long after a loss", "min", name="Pause")]
    from_r: Annotated[
        float, help_text("the smallest loss that counts", "R", name="Smallest loss")
    ] = 0.0

    def check(self) -> None:
        self.need_some("minutes")


class Switch(Counted, frozen=True, kw_only=True):
    """A kill switch: it cancels pending entries and latches."""

    LATCHES = True

    period: Annotated[Period, help_text("how long it stays latched", words=PERIOD_WORDS)] = "day"
    cool_down_min: Annotated[
        float, help_text("cannot be re-armed by hand before", "min", name="Cool-down")
    ] = 0.0

    def check(self) -> None:
        if not 0 <= self.cool_down_min < math.inf:
            raise self.wrong("cool_down_min", "minutes, 0 or more")


class LossSwitch(Switch, frozen=True, kw_only=True, tag="loss"):
    KIND = "loss"
    SAYS = "stop at a day's or week's loss"
    FIRST = {"percent": 2.0, "then": ("flatten",)}
    LOOSER = {"percent": 1, "money": 1}

    percent: Annotated[
        float | None, help_text("loss since the period's start", "% of equity then", name="Loss")
    ] = None
    money: Annotated[
        float | None,
        help_text("the same in money; one of the two is enough", "money", name="Loss in money"),
    ] = None

    def check(self) -> None:
        super().check()
        self.need("percent", "money")
        if self.period == "none":
            raise self.wrong("period", "day or week")


class DrawdownSwitch(Switch, frozen=True, kw_only=True, tag="drawdown"):
    KIND = "drawdown"
    SAYS = "stop at a fall from the highest equity"
    FIRST = {"percent": 8.0, "then": ("flatten",)}
    LOOSER = {"percent": 1, "money": 1}

    period: Annotated[Period, help_text("how long it stays latched", words=PERIOD_WORDS)] = "none"
    percent: Annotated[
        float | None, help_text("fall from the highest equity", "% of it", name="Fall")
    ] = None
    money: Annotated[
        float | None,
        help_text("the same in money; one of the two is enough", "money", name="Fall in money"),
    ] = None

    def check(self) -> None:
        super().check()
        self.need("percent", "money")
        if self.per != "account":
            raise self.wrong("per", "account: the highest equity is the account's")


class FloorSwitch(Switch, frozen=True, kw_only=True, tag="equity_floor"):
    KIND = "equity floor"
    SAYS = "stop when equity is down to a sum"
    FIRST = {"money": 1.0, "then": ("flatten",)}
    LOOSER = {"money": -1}

    period: Annotated[Period, help_text("how long it stays latched", words=PERIOD_WORDS)] = "none"
    money: Annotated[float, help_text("equity at or below it", "money", name="Floor")]

    def check(self) -> None:
        super().check()
        if self.per != "account":
            raise self.wrong("per", "account")


class StreakSwitch(Switch, frozen=True, kw_only=True, tag="losing_streak"):
    KIND = "losing streak"
    SAYS = "stop after so many losing trades in a row"
    FIRST = {"losses": 5}
    LOOSER = {"losses": 1}

    losses: Annotated[int, help_text("losing trades in a row", "trades", name="Losses in a row")]

    def check(self) -> None:
        super().check()
        self.need_some("losses")


class RejectSwitch(Switch, frozen=True, kw_only=True, tag="rejects"):
    KIND = "order rejects"
    SAYS = "stop when the venue refuses too many orders"
    FIRST = {"most": 10}
    LOOSER = {"most": 1, "window_min": -1}

    most: Annotated[int, help_text("orders refused by the venue within the window", "orders")]
    window_min: Annotated[float, help_text("the window", "min")] = 10.0

    def check(self) -> None:
        super().check()
        self.need_some("most", "window_min")


class RateSwitch(Switch, frozen=True, kw_only=True, tag="order_rate"):
    KIND = "order rate"
    SAYS = "stop when too many orders leave at once"
    FIRST = {"most": 50}
    LOOSER = {"most": 1, "window_s": -1}

    most: Annotated[int, help_text("new orders within the window", "orders")]
    window_s: Annotated[float, help_text("the window", "s")] = 10.0

    def check(self) -> None:
        super().check()
        self.need_some("most", "window_s")


class SilenceSwitch(Switch, frozen=True, kw_only=True, tag="feed_silence"):
    KIND = "feed silence"
    SAYS = "stop when no quotes come"
    FIRST = {"seconds": 60.0}
    LOOSER = {"seconds": 1}

    per: Annotated[
        Per, help_text("what is counted together", name="Counts for", words=PER_WORDS)
    ] = "instrument"
    seconds: Annotated[
        float,
        help_text("no quote for this long while the instrument is open", "s", name="Silence"),
    ]

    def check(self) -> None:
        super().check()
        if self.seconds < 1:
            raise self.wrong("seconds", "1 or more")
        if self.per == "source":
            raise self.wrong("per", "account or instrument: quotes have no source")


class SlippageSwitch(Switch, frozen=True, kw_only=True, tag="slippage"):
    KIND = "slippage"
    SAYS = "stop at a fill far worse than expected"
    FIRST = {"ticks": 50.0}
    LOOSER = {"ticks": 1}

    ticks: Annotated[
        float,
        help_text("a fill that is worse than expected by more than this", "ticks", name="Slippage"),
    ]
