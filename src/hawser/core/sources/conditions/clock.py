"""A time of the day."""

from __future__ import annotations

import math
import re
from typing import Annotated, ClassVar, Literal

import numpy as np

from hawser.core.clock import MINUTE, zone_known
from hawser.core.errors import BadInput
from hawser.core.field_help import help_text
from hawser.core.hours import local_times
from hawser.core.indicators import Array
from hawser.core.sources.compare import clock_on
from hawser.core.sources.conditions.base import Condition, Figure
from hawser.core.sources.lines.base import Template
from hawser.core.sources.view import View

Weekday = Literal["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
WEEKDAYS: tuple[Weekday, ...] = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
NAMES = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
_AT = re.compile(r"([01][0-9]|2[0-3]):([0-5][0-9])")
NO_DAY = -(1 << 40)  # before any day that a bar opens on


class ClockTime(Condition, frozen=True, kw_only=True, tag="clock"):
    """The next bar is the first of its day to open at or after a time: both sides."""

    NAME: ClassVar[str] = "a time of day"
    SAYS: ClassVar[Template] = (
        "the next bar is the day's first from {at} by the clock of {zone}",
        "on {days}",
        "at most {within_min} min late",
    )
    LONG: ClassVar[Template] = SAYS
    SHORT: ClassVar[Template] = SAYS
    SIDED: ClassVar[bool] = False
    WAITS: ClassVar[bool] = True

    at: Annotated[str, help_text("the time of day", "", example="09:30")]
    zone: Annotated[str, help_text("whose clock it is by", "", example="Europe/Zurich")]
    days: Annotated[
        tuple[Weekday, ...],
        help_text("on which days", "", words=dict(zip(WEEKDAYS, NAMES, strict=True))),
    ] = WEEKDAYS[:5]
    within_min: Annotated[
        float, help_text("how late the bar may open at most", "min", least=0, most=1440)
    ] = 60.0

    def __post_init__(self) -> None:
        if not _AT.fullmatch(self.at):
            raise BadInput.at("bad_source", "at", f'expected a time as "09:30", got "{self.at}"')
        if not zone_known(self.zone):
            raise BadInput.at("bad_source", "zone", f"there is no time zone {self.zone}")
        if not self.days:
            raise BadInput.at("bad_source", "days", "expected at least one of mon to sun")

    @property
    def hand(self) -> int:
        """The time of day, ns."""
        hours, minutes = self.at.split(":")
        return (int(hours) * 60 + int(minutes)) * MINUTE

    def state(self) -> Array:
        return np.array([NO_DAY, 0], np.int64)

    def figures(self, view: View, place: str, bar: int) -> list[Figure]:
        times, after = view.seen.bars.time, view.seen.following
        opens = float(times[bar + 1]) if bar + 1 < times.size else float(after or math.nan)
        return [Figure("the next bar opens", opens, None, "time")]

    def answer(
        self, view: View, place: str, longs: Array, shorts: Array, first: int, carried: Array
    ) -> None:
        seen = view.seen
        start = int(carried[1])  # bars whose opening has been asked
        times = seen.bars.time[start:]
        if seen.following is not None:
            times = np.append(times, np.int64(seen.following))
        days, hands = local_times(self.zone, times)
        clock_on(
            days,
            hands,
            self.hand,
            int(self.within_min * MINUTE),
            np.array([day in self.days for day in WEEKDAYS]),
            longs=longs,
            done=carried,
            first=first,
            start=start,
            size=view.size,
        )
        shorts[first : view.size] = longs[first : view.size]
