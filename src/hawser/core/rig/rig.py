"""A rig: what a trader decides once and has carried out every time (interface.md). Values as
written in its file; each kind of rule has a file of its own beside this one."""

from __future__ import annotations

from typing import Annotated, Literal

import msgspec

from hawser.core.errors import BadInput, is_line
from hawser.core.field_help import help_text
from hawser.core.levels import StopRule, TargetRule, check_shares
from hawser.core.numbers import MOST_BARS
from hawser.core.rig import (
    basket,
    break_even,
    follow_on,
    ladder,
    loss_step,
    step,
    stop,
    target,
    time_exit,
    trail,
)
from hawser.core.rig.basket import Basket
from hawser.core.rig.break_even import BreakEven
from hawser.core.rig.follow_on import FollowOn
from hawser.core.rig.ladder import Ladder
from hawser.core.rig.loss_step import MAX_LOSS_STEPS, LossStep
from hawser.core.rig.rule import RuleSection
from hawser.core.rig.step import MAX_STEPS, Step
from hawser.core.rig.time_exit import TimeExit
from hawser.core.rig.trail import Trail
from hawser.core.timeframes import timeframe

LONGEST_NAME, LONGEST_NOTE = 120, 4_000  # signs
# in the order of the form
SECTIONS: tuple[RuleSection, ...] = (
    stop.SECTION,
    target.SECTION,
    break_even.SECTION,
    step.SECTION,
    trail.SECTION,
    loss_step.SECTION,
    time_exit.SECTION,
    follow_on.SECTION,
    ladder.SECTION,
    basket.SECTION,
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
    timeframe: Annotated[
        str | None, help_text("of the bars that it decides on; without: the chart's, or the file's")
    ] = None
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
        if self.timeframe is not None:
            try:
                timeframe(self.timeframe)
            except BadInput as error:
                raise BadInput.at("bad_rig", "timeframe", error.sentence, key="timeframe") from None
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

    @classmethod
    def sections(cls) -> tuple[RuleSection, ...]:
        """The kinds of rules, in the order of the form."""
        return SECTIONS

    @property
    def span(self) -> int:
        """ns of the bars that it decides on, 0: those of the chart or the file."""
        return timeframe(self.timeframe).span if self.timeframe is not None else 0

    def allows(self, side: int) -> bool:
        """Whether `direction` lets this side in."""
        return self.direction == "both" or (self.direction == "long") == (side > 0)


def sentence(rig: Rig) -> str:
    """What the rig will do, in plain words, in the order in which a trader thinks of it."""
    ranked = sorted(rig.sections(), key=lambda one: one.rank)
    said = [text for one in ranked if (of := one.of(rig)) for text in one.says(of, rig)]
    if rig.timeframe is not None:
        said.append(f"It decides on bars of {rig.timeframe}.")
    return " ".join(said)


def brief(rig: Rig) -> str:
    """A rig in a few words, for a list."""
    ranked = sorted(rig.sections(), key=lambda one: one.rank)
    return ", ".join(text for one in ranked if (of := one.of(rig)) and (text := one.brief(of)))
