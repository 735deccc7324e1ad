"""A policy: which guards there are, and what the TOML file, the form and the help are made from
(reckoning section 9). A new kind of guard is a class of its own, listed here."""

from __future__ import annotations

from typing import Annotated, Literal, get_args

import msgspec

from hawser.core.clock import zone_known
from hawser.core.errors import BadInput
from hawser.core.field_help import help_text
from hawser.core.guards.base import Guard, Then
from hawser.core.guards.counting.base import Counted, Per, Period, Switch
from hawser.core.guards.counting.cool_down import CoolDownGuard
from hawser.core.guards.counting.drawdown import DrawdownSwitch
from hawser.core.guards.counting.equity_floor import FloorSwitch
from hawser.core.guards.counting.feed_silence import SilenceSwitch
from hawser.core.guards.counting.losing_streak import StreakSwitch
from hawser.core.guards.counting.loss import LossSwitch
from hawser.core.guards.counting.order_rate import RateSwitch
from hawser.core.guards.counting.rejects import RejectSwitch
from hawser.core.guards.counting.slippage import SlippageSwitch
from hawser.core.guards.counting.trade_count import CountGuard
from hawser.core.guards.filters.base import Filter
from hawser.core.guards.filters.news import NewsGuard
from hawser.core.guards.filters.regime import RegimeGuard
from hawser.core.guards.filters.session import SessionGuard
from hawser.core.guards.filters.spread import SpreadGuard
from hawser.core.guards.filters.volatility import VolatilityGuard
from hawser.core.guards.news import IMPACTS, Impact
from hawser.core.instrument import CLOCK

__all__ = [
    "IMPACTS",
    "KINDS",
    "WEEKDAYS",
    "AnyGuard",
    "CoolDownGuard",
    "CountGuard",
    "Counted",
    "DrawdownSwitch",
    "Filter",
    "FloorSwitch",
    "Guard",
    "Guards",
    "Impact",
    "Loosen",
    "LossSwitch",
    "NewsGuard",
    "NewsRule",
    "NewsSources",
    "Per",
    "Period",
    "RateSwitch",
    "RegimeGuard",
    "RejectSwitch",
    "SessionGuard",
    "SilenceSwitch",
    "SlippageSwitch",
    "SpreadGuard",
    "StreakSwitch",
    "Switch",
    "Then",
    "VolatilityGuard",
    "Weekday",
]

Loosen = Literal["now", "next_period"]
Weekday = Literal["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
WEEKDAYS: tuple[Weekday, ...] = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")


AnyGuard = (
    SpreadGuard
    | NewsGuard
    | SessionGuard
    | VolatilityGuard
    | RegimeGuard
    | CountGuard
    | CoolDownGuard
    | LossSwitch
    | DrawdownSwitch
    | FloorSwitch
    | StreakSwitch
    | RejectSwitch
    | RateSwitch
    | SilenceSwitch
    | SlippageSwitch
)
KINDS: tuple[type[Guard], ...] = get_args(AnyGuard)


class NewsRule(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What an event is about whose title or categories hold `match`, whatever its calendar says of
    it."""

    match: Annotated[str, help_text("words in its title or categories, in upper or lower case")]
    currency: Annotated[
        str, help_text("the currency it concerns, or ALL; empty: as the calendar says")
    ] = ""
    impact: Annotated[Impact | None, help_text("its impact; none: as the calendar says")] = None

    def __post_init__(self) -> None:
        if not self.match.strip():
            raise BadInput.at("bad_guard", "news.rule.match", "expected words", key="match")


class NewsSources(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Where news comes from, and how it is understood."""

    files: Annotated[
        tuple[str, ...],
        help_text(
            "calendar files (.ics, .csv) or folders of them; paths start at this file; "
            "changes are noticed"
        ),
    ] = ()
    tz: Annotated[
        str,
        help_text(
            "time zone of times written without one, such as Europe/Zurich; empty: refuse them"
        ),
    ] = ""
    otherwise_currency: Annotated[str, help_text("currency of an event that names none")] = "ALL"
    otherwise_impact: Annotated[Impact, help_text("impact of an event that names none")] = "medium"
    rule: Annotated[
        tuple[NewsRule, ...],
        help_text("rules that correct a calendar; the first that matches counts"),
    ] = ()

    def __post_init__(self) -> None:
        if self.tz and not zone_known(self.tz):
            raise BadInput.at(
                "bad_guard",
                "news.tz",
                f"expected a time zone such as Europe/Zurich, got '{self.tz}'",
            )


class Guards(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A policy of guards, and when its days and weeks begin."""

    zone: Annotated[str, help_text("time zone of days and weeks, such as Europe/Zurich")] = "UTC"
    day_starts: Annotated[str, help_text("when a day begins there, such as 17:00")] = "00:00"
    week_starts: Annotated[Weekday, help_text("the first day of a week")] = "mon"
    loosen: Annotated[
        Loosen,
        help_text("when a loosened guard, or a loosened limit of the account, takes effect"),
    ] = "next_period"
    news: NewsSources = NewsSources()
    guard: Annotated[tuple[AnyGuard, ...], help_text("the guards")] = ()

    def __post_init__(self) -> None:
        if not zone_known(self.zone):
            raise BadInput.at(
                "bad_guard",
                "zone",
                f"expected a time zone such as Europe/Zurich, got '{self.zone}'",
            )
        if not CLOCK.fullmatch(self.day_starts) or self.day_starts >= "24:00":
            raise BadInput.at(
                "bad_guard", "day_starts", "expected a time such as 17:00", key="day_starts"
            )
        names = [guard.name for guard in self.guard]
        for name in names:
            if names.count(name) > 1:
                raise BadInput(
                    "bad_guard",
                    f"guard '{name}': expected another name, there are two of it",
                    key="name",
                )

    def named(self, name: str) -> AnyGuard | None:
        return next((guard for guard in self.guard if guard.name == name), None)
