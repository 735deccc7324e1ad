"""Break-even: the stop goes to the entry."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import msgspec

from hawser.core.field_help import help_text
from hawser.core.rig.parts import After, after_numbers, after_text, begins_words, number_words
from hawser.core.rig.rule import YES, Blank, RuleSection, after_blank, never_comes, one_of
from hawser.core.typed_numbers import any_number, plain

if TYPE_CHECKING:
    from hawser.core.rig.rig import Rig
    from hawser.core.rules.trade_levels import EvenSetup


class BreakEven(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The stop to the entry, plus an offset in the profitable direction, plus what the trade
    costs."""

    after: After = After()
    offset_ticks: Annotated[
        float, help_text("beyond the entry, in the profitable direction", "ticks")
    ] = 0.0
    cover_costs: Annotated[bool, help_text("both commissions and both slippages on top")] = False


def numbers(rule: BreakEven | None) -> EvenSetup:
    """As compiled rules read it."""
    from hawser.core.rules.trade_levels import EvenSetup

    if rule is None:
        return EvenSetup(False, 0.0, False, after_numbers(None))
    return EvenSetup(True, float(rule.offset_ticks), rule.cover_costs, after_numbers(rule.after))


def _says(rules: tuple[BreakEven, ...], rig: Rig) -> list[str]:
    found = []
    for rule in rules:
        offset = rule.offset_ticks
        costs = " and the costs" if rule.cover_costs else ""
        beyond = f" {'+' if offset > 0 else ''}{number_words(offset)} t" if offset else ""
        when = begins_words(rule.after, "At once")
        never = never_comes(rule.after, rig)
        found.append(f"{when} the stop goes to the entry{beyond}{costs}.{never}")
    return found


SECTION = RuleSection(
    key="break_even",
    title="Break-even",
    most=1,
    words=(
        "after",
        after_blank(),
        "to the entry and",
        Blank(
            "offset_ticks",
            "offset",
            "Ticks beyond the entry, in the profitable direction",
            any_number,
            "2",
        ),
        "t, costs on top",
        one_of(
            "cover_costs",
            "costs on top",
            "Whether both commissions and both slippages are added, so that nothing is lost there",
            YES,
        ),
    ),
    empty="none",
    make=lambda values: BreakEven(
        values["after"], values["offset_ticks"], values["cover_costs"] == "yes"
    ),
    fill=lambda rule: {
        "after": after_text(rule.after),
        "offset_ticks": plain(rule.offset_ticks),
        "cover_costs": YES[rule.cover_costs],
    },
    says=_says,
    brief=lambda rules: "break-even",
    rank=40,
)
