"""Trail: the stop follows the market."""

from __future__ import annotations

import re
from decimal import Decimal
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal

import msgspec

from hawser.core.clock import TIMEFRAMES
from hawser.core.errors import BadInput
from hawser.core.field_help import help_text
from hawser.core.field_parser import described, from_bars
from hawser.core.levels import LineRule, StopRule
from hawser.core.numbers import MOST_BARS
from hawser.core.rig.parts import (
    After,
    after_text,
    begins_words,
    check_positive,
    line_words,
    number_words,
    offset_words,
)
from hawser.core.rig.rule import Blank, RuleSection, after_blank, never_comes, one_of
from hawser.core.rules.kinds import Kind
from hawser.core.typed_numbers import (
    NUMBER,
    OFFSET,
    decimal,
    plain,
    positive,
    read_unit,
    tidied,
    whole_number,
)

if TYPE_CHECKING:
    from hawser.core.rig.rig import Rig
    from hawser.core.rules.trade_levels import Trailing

TRAILS = "3 atr, 20 t, 0.8 %, 3 bars, ema 20, supertrend 10 3, parabolic, or nothing for no trail"
KINDS = {"atr": int(Kind.ATR), "ticks": int(Kind.TICKS), "percent": int(Kind.PERCENT)}
_BASED = re.compile(rf"^({NUMBER})\s*t(?:icks?)?\s*\+\s*({NUMBER})\s*atr$")


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
            check_positive(f"trail.{given[0]}", getattr(self, given[0]))
        check_positive("trail.base_ticks", self.base_ticks, zero=True)
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


@tidied
def read_trail(text: str) -> Trail | None:
    """What a trail follows; an empty field or 'none' is no trail. `10 t + 3 atr` has a base of
    ticks."""
    words = text.strip().lower()
    if words in ("", "none", "off"):
        return None
    based = _BASED.match(words)
    if based is not None:
        return Trail(atr=float(positive(based.group(2))), base_ticks=float(decimal(based.group(1))))
    offset = OFFSET.match(words)
    head, ticks = (offset.group(1), decimal(offset.group(3))) if offset else (words, Decimal(0))
    found = from_bars(head)
    if found is not None and found.pivot is None:
        shift = float(-ticks if offset and offset.group(2) == "-" else ticks)
        return Trail(bars=found.bars, line=found.line, offset_ticks=shift)
    unit, number = read_unit(text, ("atr", "percent", "ticks"), TRAILS)
    return msgspec.convert({unit: float(number)}, Trail)


def trail_text(trail: Trail | None) -> str:
    """What a trail follows, as it would be typed."""
    if trail is None:
        return ""
    if trail.kind in ("bars", "line"):
        return described(
            StopRule(bars=trail.bars, line=trail.line, offset_ticks=trail.offset_ticks)
        )
    base = f"{plain(trail.base_ticks)} t + " if trail.base_ticks else ""
    return (
        f"{base}{plain(getattr(trail, trail.kind))} "
        + {"atr": "atr", "ticks": "t", "percent": "%"}[trail.kind]
    )


def trail_words(trail: Trail, side: int = 0) -> str:
    """What a trail follows; `side` says where it stands, 0: said for both."""
    beside = {1: "below", -1: "above", 0: "behind"}[side]
    if trail.kind == "bars":
        of = f" {trail.timeframe}" if trail.timeframe else ""
        what = {1: "low", -1: "high", 0: "extreme"}[side]
        return f"{beside} the {what} of {trail.bars}{of} bars{offset_words(trail.offset_ticks)}"
    if trail.line is not None:
        of = f" of {trail.timeframe} bars" if trail.timeframe else ""
        return f"{beside} {line_words(trail.line)}{of}{offset_words(trail.offset_ticks)}"
    base = f"{number_words(trail.base_ticks)} t and " if trail.base_ticks else ""
    unit = {"atr": "ATR", "ticks": "t", "percent": "%"}[trail.kind]
    return f"{base}{number_words(getattr(trail, trail.kind))} {unit} {beside}"


def numbers(trail: Trail | None) -> Trailing:
    """As compiled rules read it."""
    from hawser.core.rules.trade_levels import Trailing

    if trail is None:
        return Trailing(
            kind=int(Kind.NONE), value=0.0, base=0.0, by_close=False, offset=0.0, step=1
        )
    return Trailing(
        kind=KINDS.get(trail.kind, int(Kind.COLUMN)),
        value=float(getattr(trail, trail.kind)) if trail.kind in KINDS else 0.0,
        base=float(trail.base_ticks),
        by_close=trail.anchor == "close",
        offset=float(trail.offset_ticks),
        step=trail.step_ticks,
    )


def _says(rules: tuple[Trail, ...], rig: Rig) -> list[str]:
    found = []
    for trail in rules:
        of = ""
        if trail.kind in KINDS:
            of = " the close" if trail.anchor == "close" else " the best price"
        when, never = begins_words(trail.after, "From the start"), never_comes(trail.after, rig)
        steps = f", in steps of {trail.step_ticks} t" if trail.step_ticks > 1 else ""
        found.append(f"{when} it trails {trail_words(trail)}{of}{steps}.{never}")
    return found


def _make_trail(values: dict[str, Any]) -> Trail:
    what, span = values["what"], values["timeframe"]
    if what is None:
        raise BadInput(
            "bad_entry",
            f"Expected {TRAILS.removesuffix(', or nothing for no trail')}",
            key="what",
        )
    trail: Trail = msgspec.structs.replace(
        what,
        anchor=values["anchor"],
        after=values["after"],
        step_ticks=values["step_ticks"],
        timeframe=None if span == "the chart's" else span,
    )
    return trail


def _fill_trail(trail: Trail) -> dict[str, str]:
    return {
        "what": trail_text(trail),
        "anchor": trail.anchor,
        "after": after_text(trail.after),
        "step_ticks": str(trail.step_ticks),
        "timeframe": trail.timeframe or "the chart's",
    }


SECTION = RuleSection(
    key="trail",
    title="Trail",
    most=1,
    words=(
        Blank(
            "what",
            "trail",
            f"What the stop follows: {TRAILS.removesuffix(', or nothing for no trail')}",
            read_trail,
            "3 atr",
        ),
        "behind the",
        one_of(
            "anchor",
            "trail's anchor",
            "What the distance is taken from: the best price that a completed bar reached, or its "
            "close",
            ("extreme", "close"),
        ),
        "after",
        after_blank(),
        "in steps of",
        Blank("step_ticks", "least step", "Moves of fewer ticks are not sent", whole_number, "1"),
        "t, on bars of",
        one_of(
            "timeframe",
            "trail's timeframe",
            "The length of the bars that the trail follows; the trade's own where it says nothing",
            ("the chart's", *TIMEFRAMES),
        ),
    ),
    empty="none",
    make=_make_trail,
    fill=_fill_trail,
    says=_says,
    brief=lambda rules: f"trail {trail_text(rules[0])}",
    rank=60,
)
