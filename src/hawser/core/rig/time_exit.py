"""Time exit: out after so many bars, or before the hours end."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import msgspec

from hawser.core.errors import BadInput
from hawser.core.field_help import help_text
from hawser.core.numbers import MOST_BARS
from hawser.core.rig.parts import listed
from hawser.core.rig.rule import Blank, RuleSection, one_of
from hawser.core.typed_numbers import whole_number

if TYPE_CHECKING:
    from hawser.core.rig.rig import Rig

UNTIL = {"no": (False, False), "each session's": (True, False), "the week's": (False, True)}


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


def _says(rules: tuple[TimeExit, ...], rig: Rig) -> list[str]:
    found = []
    for rule in rules:
        when = [f"after {rule.bars} bars"] if rule.bars else []
        when += ["before the session ends"] if rule.session_end else []
        when += ["before the weekend"] if rule.before_weekend else []
        found += [f"Leaves {listed(when)}."] if when else []
    return found


def _maybe(text: str) -> int | None:
    return whole_number(text) if text.strip() else None


def _make_time(values: dict[str, Any]) -> TimeExit:
    session, weekend = UNTIL[values["until"]]
    if values["bars"] is None and not (session or weekend):
        raise BadInput(
            "bad_entry", "Expected a number of bars, or the end of the hours", key="bars"
        )
    return TimeExit(values["bars"], session, weekend)


def _fill_time(rule: TimeExit) -> dict[str, str]:
    # The session's end comes before the week's.
    until = (rule.session_end, rule.before_weekend and not rule.session_end)
    kept = next(text for text, pair in UNTIL.items() if pair == until)
    return {"bars": "" if rule.bars is None else str(rule.bars), "until": kept}


SECTION = RuleSection(
    key="time_exit",
    title="Time",
    most=1,
    words=(
        "leave after",
        Blank("bars", "bars", "Completed bars, the entry's own included", _maybe, "200"),
        "bars, before the hours end:",
        one_of(
            "until",
            "before",
            "Whether the trade is closed a little before each session of its instrument ends, or "
            "before the last of the week",
            tuple(UNTIL),
        ),
    ),
    empty="no limit",
    make=_make_time,
    fill=_fill_time,
    says=_says,
    brief=lambda rules: "time exit",
    rank=70,
)
