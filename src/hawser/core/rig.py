"""A rig: what a trader decides once and has carried out every time (interface.md). Values as
written in its file."""

from __future__ import annotations

import math
from typing import Annotated, ClassVar, Literal

import msgspec

from hawser.core.clock import TIMEFRAMES
from hawser.core.errors import BadInput, is_line
from hawser.core.field_help import help_text
from hawser.core.levels import LineRule, StopRule, TargetRule, check_shares
from hawser.core.numbers import MOST, MOST_BARS

LONGEST_NAME, LONGEST_NOTE = 120, 4_000  # signs
MAX_STEPS, MAX_LOSS_STEPS = 10, 5


def _positive(key: str, value: float | None, zero: bool = False) -> None:
    if value is not None and not (0 <= value <= MOST if zero else 0 < value <= MOST):
        expected = "a number, 0 or more" if zero else "a positive number"
        raise BadInput.at("bad_rig", key, f"expected {expected}", key=key)


class Measure(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A price distance from the entry by exactly one key; `percent` of the entry, `atr` of the ATR
    at entry."""

    r: float | None = None
    ticks: float | None = None
    percent: float | None = None
    atr: float | None = None

    def __post_init__(self) -> None:
        given = [key for key in self.__struct_fields__ if getattr(self, key) is not None]
        if len(given) != 1 or not math.isfinite(getattr(self, given[0])):
            raise BadInput("bad_rig", "expected exactly one of r, ticks, percent, atr", given=given)

    def check_positive(self, where: str) -> None:
        """Refuse a distance that is none; raises BadInput."""
        for key in self.__struct_fields__:
            _positive(f"{where}.{key}", getattr(self, key))

    def in_ticks(self, ref: float, r_ticks: float, atr_ticks: float) -> float:
        """The distance in ticks."""
        if self.r is not None:
            return self.r * r_ticks
        if self.ticks is not None:
            return self.ticks
        if self.percent is not None:
            return ref * self.percent / 100.0
        assert self.atr is not None  # exactly one is given
        return self.atr * atr_ticks


class After(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """When a rule begins: at an excursion in R, or once a target has filled; neither: at once."""

    r: float | None = None
    target: int | None = None

    def __post_init__(self) -> None:
        if self.r is not None and self.target is not None:
            raise BadInput.at("bad_rig", "after", "expected r or target, not both", key="after")
        _positive("after.r", self.r, zero=True)
        if self.target is not None and not 1 <= self.target <= 5:
            raise BadInput.at(
                "bad_rig", "after.target", "expected the number of a target, 1 to 5", key="target"
            )


class BreakEven(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The stop to the entry, plus an offset in the profitable direction, plus what the trade
    costs."""

    after: After = After()
    offset_ticks: Annotated[
        float, help_text("beyond the entry, in the profitable direction", "ticks")
    ] = 0.0
    cover_costs: Annotated[bool, help_text("both commissions and both slippages on top")] = False


class Step(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Once the excursion reaches `at`, the stop stands at `to` from the entry; `to` may be
    negative."""

    at: Measure
    to: Measure

    def __post_init__(self) -> None:
        self.at.check_positive("step.at")


class Trail(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Follows the market by exactly one of atr, ticks, percent, bars, line, and only ever
    tightens."""

    atr: float | None = None
    ticks: float | None = None
    percent: float | None = None
    bars: (
        Annotated[int, help_text("behind the extreme of so many", "bars", most=MOST_BARS)] | None
    ) = None
    line: LineRule | None = None
    base_ticks: float = 0.0
    anchor: Literal["extreme", "close"] = "extreme"
    offset_ticks: float = 0.0
    timeframe: str | None = None
    after: After = After()
    step_ticks: Annotated[int, help_text("least move of the stop", "ticks", most=10**15)] = 1

    KINDS: ClassVar = ("atr", "ticks", "percent", "bars", "line")

    def __post_init__(self) -> None:
        given = [key for key in self.KINDS if getattr(self, key) is not None]
        if len(given) != 1:
            raise BadInput.at(
                "bad_rig",
                "trail",
                f"expected exactly one of {', '.join(self.KINDS)}",
                given=given,
            )
        if given[0] != "line":
            _positive(f"trail.{given[0]}", getattr(self, given[0]))
        _positive("trail.base_ticks", self.base_ticks, zero=True)
        if self.base_ticks and self.atr is None:
            raise BadInput.at("bad_rig", "trail.base_ticks", "expected with atr", key="base_ticks")
        if self.step_ticks < 1:
            raise BadInput.at(
                "bad_rig",
                "trail.step_ticks",
                "expected a whole number, 1 or more",
                key="step_ticks",
            )
        if self.timeframe is not None and self.timeframe not in TIMEFRAMES:
            raise BadInput.at(
                "bad_rig",
                "trail.timeframe",
                f"expected one of {', '.join(TIMEFRAMES)}",
                key="timeframe",
            )

    @property
    def kind(self) -> str:
        return next(key for key in self.KINDS if getattr(self, key) is not None)


class LossStep(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """At an adverse excursion of `r` R a `share` of the original quantity is closed."""

    r: float
    share: float

    def __post_init__(self) -> None:
        if not 0 < self.r < 1:
            raise BadInput.at(
                "bad_rig", "loss_step.r", "expected a number between 0 and 1", key="r"
            )
        if not 0 < self.share <= 1:
            raise BadInput.at(
                "bad_rig",
                "loss_step.share",
                "expected a fraction above 0, at most 1",
                key="share",
            )


class TimeExit(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Out at the next open after so many completed bars, or before the session or the week ends."""

    bars: (
        Annotated[int, help_text("so many bars after the entry", "bars", most=MOST_BARS)] | None
    ) = None
    session_end: bool = False
    before_weekend: bool = False

    def __post_init__(self) -> None:
        if self.bars is not None and self.bars < 1:
            raise BadInput.at(
                "bad_rig", "time_exit.bars", "expected a whole number, 1 or more", key="bars"
            )


class FollowOn(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The same side again after the last target, the other side after a losing stop; at most so
    many in a row."""

    max_chain: Annotated[
        int, help_text("most trades in a row that follow", "trades", most=1000)
    ] = 1

    def __post_init__(self) -> None:
        if self.max_chain < 1:
            raise BadInput.at(
                "bad_rig",
                "follow_on.max_chain",
                "expected a whole number, 1 or more",
                key="max_chain",
            )


class Ladder(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Adds at worse prices, within one worst case: `rungs` in all, each `factor` times the one
    before."""

    rungs: int
    spacing: Measure
    target_ticks: float
    stop_ticks: float | None = None
    factor: float = 1.0

    def __post_init__(self) -> None:
        if not 2 <= self.rungs <= 10:
            raise BadInput.at(
                "bad_rig", "ladder.rungs", "expected a whole number from 2 to 10", key="rungs"
            )
        if self.stop_ticks is None:
            raise BadInput.at(
                "bad_rig",
                "ladder.stop_ticks",
                "a ladder without a common stop is refused",
                key="stop_ticks",
            )
        for key in ("target_ticks", "stop_ticks", "factor"):
            _positive(f"ladder.{key}", getattr(self, key))
        if self.spacing.r is not None:
            raise BadInput.at(
                "bad_rig", "ladder.spacing", "expected ticks, percent or atr", key="spacing"
            )
        self.spacing.check_positive("ladder.spacing")


class Amount(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Money, or a percentage of the equity at entry."""

    money: float | None = None
    percent: float | None = None

    def __post_init__(self) -> None:
        if (self.money is None) == (self.percent is None):
            raise BadInput.at("bad_rig", "basket", "expected money or percent", key="basket")
        _positive("basket.money", self.money)
        _positive("basket.percent", self.percent)

    def of(self, equity: float) -> float:
        """The amount in the account's currency."""
        return self.money if self.money is not None else (self.percent or 0.0) / 100.0 * equity


class Basket(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Out once the group has lost or won so much, net of the commissions paid so far."""

    stop: Amount | None = None
    target: Amount | None = None
    basis: Literal["tick", "bar_close", "minute_end"] = "bar_close"

    def __post_init__(self) -> None:
        if self.stop is None and self.target is None:
            raise BadInput.at(
                "bad_rig", "basket", "expected a stop, a target or both", key="basket"
            )


class Rig(msgspec.Struct, frozen=True, forbid_unknown_fields=True, rename={"from_": "from"}):
    """The whole plan. Only a stop is needed, or a ladder, which brings its own."""

    name: str = ""
    note: Annotated[str, help_text("what it is for, in your own words")] = ""
    atr_length: Annotated[int, help_text("of the ATR", "bars", most=MOST_BARS)] = 14
    atr_smoothing: Literal["wilder", "simple"] = "wilder"
    direction: Literal["both", "long", "short"] = "both"
    reverse: bool = False
    from_: int | None = None  # UTC ns; in the file a time with an offset
    to: int | None = None
    stop: StopRule | None = None
    target: tuple[TargetRule, ...] = ()
    break_even: BreakEven | None = None
    step: tuple[Step, ...] = ()
    trail: Trail | None = None
    loss_step: tuple[LossStep, ...] = ()
    time_exit: TimeExit | None = None
    follow_on: FollowOn | None = None
    ladder: Ladder | None = None
    basket: Basket | None = None

    def __post_init__(self) -> None:
        if not is_line(self.name, LONGEST_NAME):
            raise BadInput.at(
                "bad_rig",
                "name",
                f"expected one line of at most {LONGEST_NAME} signs",
                key="name",
            )
        if len(self.note) > LONGEST_NOTE:
            raise BadInput.at(
                "bad_rig", "note", f"expected at most {LONGEST_NOTE} signs", key="note"
            )
        if self.atr_length < 1:
            raise BadInput.at(
                "bad_rig", "atr_length", "expected a whole number, 1 or more", key="atr_length"
            )
        if (self.stop is None) == (self.ladder is None):
            raise BadInput.at(
                "bad_rig",
                "stop",
                "expected a [stop] or a [ladder], which brings its own",
                key="stop",
            )
        for key, most in (("step", MAX_STEPS), ("loss_step", MAX_LOSS_STEPS)):
            if len(getattr(self, key)) > most:
                raise BadInput.at("bad_rig", key, f"expected at most {most}", key=key)
        if self.ladder is not None and (self.target or self.trail or self.loss_step):
            raise BadInput.at(
                "bad_rig",
                "ladder",
                "does not combine with target, trail or loss_step",
                key="ladder",
            )
        check_shares(self.target)

    def allows(self, side: int) -> bool:
        """Whether `direction` lets this side in."""
        return self.direction == "both" or (self.direction == "long") == (side > 0)
