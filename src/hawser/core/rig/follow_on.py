"""Follow-on: another trade after one that has ended."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import msgspec

from hawser.core.errors import BadInput
from hawser.core.field_help import help_text
from hawser.core.rig.rule import Blank, RuleSection
from hawser.core.typed_numbers import whole_number

if TYPE_CHECKING:
    from hawser.core.rig.rig import Rig


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


def _says(rules: tuple[FollowOn, ...], rig: Rig) -> list[str]:
    return [
        "Goes in again the same way after its last target, the other way after a losing stop, "
        f"at most {one.max_chain} in a row."
        for one in rules
    ]


SECTION = RuleSection(
    key="follow_on",
    title="Follow-on",
    most=1,
    words=(
        "the same way after the last target, the other way after a losing stop; at most",
        Blank("max_chain", "in a row", "How many follow-ons in a row", whole_number, "1"),
        "in a row",
    ),
    empty="none",
    make=lambda values: FollowOn(values["max_chain"]),
    fill=lambda rule: {"max_chain": str(rule.max_chain)},
    says=_says,
    brief=lambda rules: "follow-on",
    rank=90,
)
