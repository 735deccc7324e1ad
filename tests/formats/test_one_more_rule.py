"""A rule of a rig is one file: made here, the rig's file, its sentence, its form, the list and the
help all know it, and no other file does. In `core/rig/rig.py` it needs its field and its line in
`SECTIONS`. What a rule decides is compiled, in `core/rules/`.
"""

from __future__ import annotations

from typing import Annotated

import msgspec
import pytest

from hawser.core.errors import BadInput
from hawser.core.field_help import help_text, keys_of
from hawser.core.levels import StopRule
from hawser.core.rig import YES, Blank, Rig, RuleSection, brief, sentence
from hawser.core.rig.rule import one_of
from hawser.core.typed_numbers import whole_number
from hawser.desk.models.rig_draft import RigDraft
from hawser.formats.declared import record


class Pause(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """No second trade for so many bars."""

    bars: Annotated[int, help_text("so long", "bars")]
    loud: bool = False

    def __post_init__(self) -> None:
        if self.bars < 1:
            raise BadInput.at("bad_rig", "pause.bars", "expected 1 or more", key="bars")


def _says(rules: tuple[Pause, ...], rig: Rig) -> list[str]:
    return [f"Pauses {one.bars} bars{', and tells it' if one.loud else ''}." for one in rules]


PAUSE = RuleSection(
    "pause",
    "Pause",
    1,
    (
        "for",
        Blank("bars", "bars", "How long", whole_number, "5"),
        "bars, told",
        one_of("loud", "told", "Whether it is told loudly", YES),
    ),
    "none",
    lambda values: Pause(values["bars"], values["loud"] == "yes"),
    lambda rule: {"bars": str(rule.bars), "loud": YES[rule.loud]},
    says=_says,
    brief=lambda rules: "pause",
    rank=95,
)


class PausedRig(Rig, frozen=True):
    pause: Pause | None = None

    @classmethod
    def sections(cls) -> tuple[RuleSection, ...]:
        return (*super().sections(), PAUSE)


def test_its_file_its_words_and_its_help_follow_from_it():
    read = record(PausedRig, {"stop": {"atr": 2.5}, "pause": {"bars": 3, "loud": True}}, "rig.toml")
    assert read.pause == Pause(3, True)
    assert sentence(read) == "Stop 2.5 ATR from the entry. Pauses 3 bars, and tells it."
    assert brief(read) == "stop 2.5 atr, pause"
    assert [key.path for key in keys_of(PausedRig)][-1] == "pause"
    assert [key.help for key in keys_of(Pause)] == ["so long", ""]
    with pytest.raises(BadInput, match=r"pause\.bars"):
        record(PausedRig, {"stop": {"atr": 2.5}, "pause": {"bars": 0}}, "rig.toml")


def test_its_form_reads_and_writes_it_and_blames_its_blank():
    draft = RigDraft(PausedRig(stop=StopRule(atr=2.5)))
    assert draft.add("pause")
    assert not draft.add("pause")  # one is the most there may be
    assert draft.made == PausedRig(stop=StopRule(atr=2.5), pause=Pause(5))
    draft.change(("pause", 0, "loud"), "yes")
    assert RigDraft(draft.made).texts["pause"] == [{"bars": "5", "loud": "yes"}]
    draft.change(("pause", 0, "bars"), "0")
    assert draft.made is None
    assert list(draft.errors) == [("pause", 0, "bars")]
    assert draft.undo()
    assert draft.made.pause == Pause(5, True)
    draft.remove("pause", 0)
    assert draft.made == PausedRig(stop=StopRule(atr=2.5))
