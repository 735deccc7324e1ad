"""What guards there are and what each may be told (reckoning section 9): the declaration that the TOML file, the form
and the help are made from.

Filters open and close with what they watch. Kill switches latch: tripped, they stay closed until their period ends or a
person re-arms them with a reason.
"""

from __future__ import annotations

import math
from typing import Annotated, ClassVar, Literal

import msgspec

from hawser.core.clock import TIMEFRAMES, zone_known
from hawser.core.errors import BadInput, is_line
from hawser.core.field_help import help_text
from hawser.core.instrument import CLOCK, WeeklySession
from hawser.core.numbers import MOST_BARS

Impact = Literal["low", "medium", "high"]
IMPACTS: tuple[Impact, ...] = ("low", "medium", "high")
Then = Literal["cancel", "break_even", "close", "flatten"]
Per = Literal["account", "instrument", "source"]
Period = Literal["day", "week", "none"]
Loosen = Literal["now", "next_period"]
Weekday = Literal["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
WEEKDAYS: tuple[Weekday, ...] = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")


LONGEST_NAME = 120  # signs


class Guard(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, tag_field="kind"):
    """What all guards have. `KIND` in words; `LOOSER` says in which direction a figure loosens it: +1 when it grows, -1
    when it shrinks. What stands in neither list loosens it whenever it changes."""

    KIND: ClassVar[str] = "guard"
    SAYS: ClassVar[str] = ""  # what it is for, in a few words
    LATCHES: ClassVar[bool] = False
    LOOSER: ClassVar[dict[str, int]] = {}

    name: Annotated[str, help_text("the guard's name; each has its own")]
    on: Annotated[bool, help_text("on or off")] = True
    instruments: Annotated[tuple[str, ...], help_text("the instruments it watches; empty: all")] = ()
    sources: Annotated[tuple[str, ...], help_text("the signal sources it watches; empty: all")] = ()
    then: Annotated[
        tuple[Then, ...],
        help_text("what it does when it closes, besides keeping entries out: cancel, break_even, close, flatten"),
    ] = ()

    def __post_init__(self) -> None:
        if not self.name.strip() or not is_line(self.name, LONGEST_NAME):
            raise BadInput.at("bad_guard", "guard.name", f"expected a name of at most {LONGEST_NAME} signs", key="name")
        for key in self.LOOSER:
            value = getattr(self, key)
            if value is not None and not 0 <= value < math.inf:
                raise self.wrong(key, "a number, 0 or more")
        self.check()

    def check(self) -> None:
        """What one kind expects; raises BadInput."""

    def wrong(self, key: str, expected: str) -> BadInput:
        return BadInput("bad_guard", f"guard '{self.name}': {key}: expected {expected}", key=key)

    def need(self, *keys: str) -> None:
        """Refuse where none of these is given."""
        if all(getattr(self, key) is None for key in keys):
            raise self.wrong(keys[0], f"one of {', '.join(keys)}" if len(keys) > 1 else "a number")

    def need_some(self, *keys: str) -> None:
        """Refuse 0: it would trip at once, or watch no time at all."""
        for key in keys:
            if not getattr(self, key) > 0:
                raise self.wrong(key, "more than 0")

    @property
    def leads_to(self) -> Literal["close", "even", ""]:
        """What closing does with an open trade: it is closed, its stop goes to the entry, nothing."""
        if {"close", "flatten"} & set(self.then):
            return "close"
        return "even" if "break_even" in self.then else ""

    def covers(self, symbol: str) -> bool:
        """Whether it watches an instrument, for some source at least."""
        return self.on and (not self.instruments or symbol in self.instruments)

    def watches(self, symbol: str, source: str) -> bool:
        """Whether an entry of this instrument and source is its business; an empty source: one of no source named."""
        return self.covers(symbol) and (not self.sources or source in self.sources)


# Filters


class SpreadGuard(Guard, frozen=True, kw_only=True, tag="spread"):
    KIND = "spread"
    SAYS = "no entry while the spread is too wide"
    LOOSER = {"max_ticks": 1, "max_of_median": 1, "max_percent_of_r": 1}

    max_ticks: Annotated[float | None, help_text("widest spread", "ticks")] = None
    max_of_median: Annotated[float | None, help_text("widest spread, as a multiple of its median", "times")] = None
    window_min: Annotated[float, help_text("the span of bars that the median is taken from", "min")] = 30.0
    max_percent_of_r: Annotated[float | None, help_text("widest spread, as a share of the trade's R", "% of R")] = None

    def check(self) -> None:
        self.need("max_ticks", "max_of_median", "max_percent_of_r")
        if not 1 <= self.window_min <= 24 * 60:
            raise self.wrong("window_min", "from 1 to 1440 minutes")


class NewsGuard(Guard, frozen=True, kw_only=True, tag="news"):
    KIND = "news"
    SAYS = "no entry around scheduled news"
    LOOSER = {"before_min": -1, "after_min": -1, "horizon_h": -1}

    impact: Annotated[Impact, help_text("events of at least this impact")] = "high"
    before_min: Annotated[float, help_text("close this long before an event", "min")] = 15.0
    after_min: Annotated[float, help_text("stay closed this long after it", "min")] = 30.0
    horizon_h: Annotated[float, help_text("how far ahead a calendar must reach", "h")] = 24.0
    missing: Annotated[
        Literal["closed", "warn"],
        help_text("a calendar that is missing, unreadable or too short closes entries, or warns"),
    ] = "closed"


class SessionGuard(Guard, frozen=True, kw_only=True, tag="session"):
    KIND = "session"
    SAYS = "no entry outside hours of your own, or near an open, a close, a weekend"
    LOOSER = {"after_open_min": -1, "before_close_min": -1, "before_weekend_min": -1}

    hours: Annotated[
        tuple[WeeklySession, ...], help_text("entries only within these weekly hours, beside the instrument's own")
    ] = ()
    closed_hours: Annotated[
        tuple[WeeklySession, ...], help_text("no entries within these, as around the roll-over")
    ] = ()
    after_open_min: Annotated[float, help_text("stay closed this long after the instrument opens", "min")] = 0.0
    before_close_min: Annotated[float, help_text("close this long before the instrument closes", "min")] = 0.0
    before_weekend_min: Annotated[
        float, help_text("close this long before the instrument closes for a day or more", "min")
    ] = 0.0


class VolatilityGuard(Guard, frozen=True, kw_only=True, tag="volatility"):
    KIND = "volatility"
    SAYS = "no entry while the market is too calm or too wild"
    LOOSER = {"low": -1, "high": 1}

    timeframe: Annotated[str, help_text("length of the bars it uses")] = "15m"
    atr_length: Annotated[int, help_text("of its ATR", "bars", most=MOST_BARS)] = 14
    bars: Annotated[int, help_text("how many bars the percentile is taken from", "bars", most=MOST_BARS)] = 500
    low: Annotated[float, help_text("lowest percentile at which entries are open", "percentile")] = 0.0
    high: Annotated[float, help_text("highest percentile at which entries are open", "percentile")] = 100.0

    def check(self) -> None:
        _check_bars(self, self.timeframe, self.atr_length)
        if not 2 <= self.bars <= 100_000:
            raise self.wrong("bars", "from 2 to 100000")
        if not self.low < self.high <= 100:
            raise self.wrong("high", "more than low, at most 100")


class RegimeGuard(Guard, frozen=True, kw_only=True, tag="regime"):
    KIND = "regime"
    SAYS = "entries only on one side of an average of some instrument"

    reference: Annotated[str, help_text("the instrument whose regime it is")]
    timeframe: Annotated[str, help_text("length of the bars it uses")] = "1h"
    average: Annotated[Literal["sma", "ema"], help_text("the kind of its average")] = "sma"
    length: Annotated[int, help_text("of the average", "bars", most=MOST_BARS)] = 200
    entries: Annotated[
        Literal["with", "above", "below"],
        help_text("with: longs only above the average, shorts only below; above, below: entries only there"),
    ] = "with"

    def check(self) -> None:
        if not self.reference.strip():
            raise self.wrong("reference", "an instrument")
        _check_bars(self, self.timeframe, self.length)


def _check_bars(guard: Guard, timeframe: str, length: int) -> None:
    if timeframe not in TIMEFRAMES:
        raise guard.wrong("timeframe", f"one of {', '.join(TIMEFRAMES)}")
    if not 1 <= length <= 100_000:
        raise guard.wrong("length", "from 1 to 100000")


class Counted(Guard, frozen=True, kw_only=True):
    """A guard that counts, for the whole of what it watches or each instrument or source by itself."""

    per: Annotated[Per, help_text("count for the account, or for each instrument or source on its own")] = "account"


class CountGuard(Counted, frozen=True, kw_only=True, tag="trade_count"):
    KIND = "trade count"
    SAYS = "so many entries a day or week"
    LOOSER = {"most": 1}

    most: Annotated[int, help_text("entries in a period", "trades")]
    period: Annotated[Literal["day", "week"], help_text("the period in which they are counted")] = "day"


class CoolDownGuard(Counted, frozen=True, kw_only=True, tag="cool_down"):
    KIND = "cool-down"
    SAYS = "no entry for a while after a loss"
    LOOSER = {"minutes": -1, "from_r": 1}

    minutes: Annotated[float, help_text("stay closed this long after a loss", "min")]
    from_r: Annotated[float, help_text("the smallest loss that counts", "R")] = 0.0

    def check(self) -> None:
        self.need_some("minutes")


# Kill switches


class Switch(Counted, frozen=True, kw_only=True):
    """A kill switch: it cancels pending entries and latches."""

    LATCHES = True

    period: Annotated[Period, help_text("stay latched until this period ends; none: until you re-arm it")] = "day"
    cool_down_min: Annotated[float, help_text("cannot be re-armed by hand before", "min")] = 0.0

    def check(self) -> None:
        if not 0 <= self.cool_down_min < math.inf:
            raise self.wrong("cool_down_min", "minutes, 0 or more")


class LossSwitch(Switch, frozen=True, kw_only=True, tag="loss"):
    KIND = "loss"
    SAYS = "stop at a day's or week's loss"
    LOOSER = {"percent": 1, "money": 1}

    percent: Annotated[float | None, help_text("loss since the period's start", "% of equity then")] = None
    money: Annotated[float | None, help_text("the same in money", "money")] = None

    def check(self) -> None:
        super().check()
        self.need("percent", "money")
        if self.period == "none":
            raise self.wrong("period", "day or week")


class DrawdownSwitch(Switch, frozen=True, kw_only=True, tag="drawdown"):
    KIND = "drawdown"
    SAYS = "stop at a fall from the highest equity"
    LOOSER = {"percent": 1, "money": 1}

    period: Annotated[Period, help_text("stay latched until this period ends; none: until you re-arm it")] = "none"
    percent: Annotated[float | None, help_text("fall from the highest equity", "% of it")] = None
    money: Annotated[float | None, help_text("the same in money", "money")] = None

    def check(self) -> None:
        super().check()
        self.need("percent", "money")
        if self.per != "account":
            raise self.wrong("per", "account: the highest equity is the account's")


class FloorSwitch(Switch, frozen=True, kw_only=True, tag="equity_floor"):
    KIND = "equity floor"
    SAYS = "stop when equity is down to a sum"
    LOOSER = {"money": -1}

    period: Annotated[Period, help_text("stay latched until this period ends; none: until you re-arm it")] = "none"
    money: Annotated[float, help_text("equity at or below it", "money")]

    def check(self) -> None:
        super().check()
        if self.per != "account":
            raise self.wrong("per", "account")


class StreakSwitch(Switch, frozen=True, kw_only=True, tag="losing_streak"):
    KIND = "losing streak"
    SAYS = "stop after so many losing trades in a row"
    LOOSER = {"losses": 1}

    losses: Annotated[int, help_text("losing trades in a row", "trades")]

    def check(self) -> None:
        super().check()
        self.need_some("losses")


class RejectSwitch(Switch, frozen=True, kw_only=True, tag="rejects"):
    KIND = "order rejects"
    SAYS = "stop when the venue refuses too many orders"
    LOOSER = {"most": 1, "window_min": -1}

    most: Annotated[int, help_text("orders refused by the venue within the window", "orders")]
    window_min: Annotated[float, help_text("the window", "min")] = 10.0

    def check(self) -> None:
        super().check()
        self.need_some("most", "window_min")


class RateSwitch(Switch, frozen=True, kw_only=True, tag="order_rate"):
    KIND = "order rate"
    SAYS = "stop when too many orders leave at once"
    LOOSER = {"most": 1, "window_s": -1}

    most: Annotated[int, help_text("new orders within the window", "orders")]
    window_s: Annotated[float, help_text("the window", "s")] = 10.0

    def check(self) -> None:
        super().check()
        self.need_some("most", "window_s")


class SilenceSwitch(Switch, frozen=True, kw_only=True, tag="feed_silence"):
    KIND = "feed silence"
    SAYS = "stop when no quotes come"
    LOOSER = {"seconds": 1}

    per: Annotated[Per, help_text("count for the account, or for each instrument or source on its own")] = "instrument"
    seconds: Annotated[float, help_text("no quote for this long while the instrument is open", "s")]

    def check(self) -> None:
        super().check()
        if self.seconds < 1:
            raise self.wrong("seconds", "1 or more")
        if self.per == "source":
            raise self.wrong("per", "account or instrument: quotes have no source")


class SlippageSwitch(Switch, frozen=True, kw_only=True, tag="slippage"):
    KIND = "slippage"
    SAYS = "stop at a fill far worse than expected"
    LOOSER = {"ticks": 1}

    ticks: Annotated[float, help_text("a fill that is worse than expected by more than this", "ticks")]


Filter = SpreadGuard | NewsGuard | SessionGuard | VolatilityGuard | RegimeGuard | CountGuard | CoolDownGuard
Kill = (
    LossSwitch | DrawdownSwitch | FloorSwitch | StreakSwitch | RejectSwitch | RateSwitch | SilenceSwitch
    | SlippageSwitch
)  # fmt: skip
AnyGuard = Filter | Kill
KINDS: tuple[type[Guard], ...] = (
    SpreadGuard, NewsGuard, SessionGuard, VolatilityGuard, RegimeGuard, CountGuard, CoolDownGuard, LossSwitch,
    DrawdownSwitch, FloorSwitch, StreakSwitch, RejectSwitch, RateSwitch, SilenceSwitch, SlippageSwitch,
)  # fmt: skip


class NewsRule(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What an event is about whose title or categories hold `match`, whatever its calendar says of it."""

    match: Annotated[str, help_text("words in its title or categories, in upper or lower case")]
    currency: Annotated[str, help_text("the currency it concerns, or ALL; empty: as the calendar says")] = ""
    impact: Annotated[Impact | None, help_text("its impact; none: as the calendar says")] = None

    def __post_init__(self) -> None:
        if not self.match.strip():
            raise BadInput.at("bad_guard", "news.rule.match", "expected words", key="match")


class NewsSources(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Where news comes from, and how it is understood."""

    files: Annotated[
        tuple[str, ...],
        help_text("calendar files (.ics, .csv) or folders of them; paths start at this file; changes are noticed"),
    ] = ()
    tz: Annotated[
        str, help_text("time zone of times written without one, such as Europe/Zurich; empty: refuse them")
    ] = ""
    otherwise_currency: Annotated[str, help_text("currency of an event that names none")] = "ALL"
    otherwise_impact: Annotated[Impact, help_text("impact of an event that names none")] = "medium"
    rule: Annotated[
        tuple[NewsRule, ...], help_text("rules that correct a calendar; the first that matches counts")
    ] = ()

    def __post_init__(self) -> None:
        if self.tz and not zone_known(self.tz):
            raise BadInput.at("bad_guard", "news.tz", f"expected a time zone such as Europe/Zurich, got '{self.tz}'")


class Guards(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A policy of guards, and when its days and weeks begin."""

    zone: Annotated[str, help_text("time zone of days and weeks, such as Europe/Zurich")] = "UTC"
    day_starts: Annotated[str, help_text("when a day begins there, such as 17:00")] = "00:00"
    week_starts: Annotated[Weekday, help_text("the first day of a week")] = "mon"
    loosen: Annotated[Loosen, help_text("when a loosened guard, or a loosened limit of the account, takes effect")] = (
        "next_period"
    )
    news: NewsSources = NewsSources()
    guard: Annotated[tuple[AnyGuard, ...], help_text("the guards")] = ()

    def __post_init__(self) -> None:
        if not zone_known(self.zone):
            raise BadInput.at("bad_guard", "zone", f"expected a time zone such as Europe/Zurich, got '{self.zone}'")
        if not CLOCK.fullmatch(self.day_starts) or self.day_starts >= "24:00":
            raise BadInput.at("bad_guard", "day_starts", "expected a time such as 17:00", key="day_starts")
        names = [guard.name for guard in self.guard]
        for name in names:
            if names.count(name) > 1:
                raise BadInput("bad_guard", f"guard '{name}': expected another name, there are two of it", key="name")

    def named(self, name: str) -> AnyGuard | None:
        return next((guard for guard in self.guard if guard.name == name), None)
