"""A rig as sentences with blanks in them, made from the one declaration in
`desk/models/rig_draft.py`."""

from __future__ import annotations

from hawser.core import rig as rules
from hawser.core.levels import StopRule
from hawser.core.rig import Rig, sentence
from hawser.desk.common.sentences import SentenceForm
from hawser.desk.models.form_words import FormBlank, Section, Words
from hawser.desk.models.rig_draft import RigDraft
from hawser.desk.models.topics.topic import topic_of_blank

WITH_LADDER = {
    "target": "set by the ladder",
    "trail": "not with a ladder",
    "loss_step": "not with a ladder",
}
KEPT = ("stop", "general")  # a rig is none without them


def _words(section: rules.RuleSection) -> Words:
    """A section's sentence as a form has it."""
    return tuple(
        FormBlank(
            word.key,
            word.name,
            topic_of_blank(section, word),
            tuple((choice, choice) for choice in word.choices),
        )
        if isinstance(word, rules.Blank)
        else word
        for word in section.words
    )


class RigEditor(SentenceForm[RigDraft]):
    """The form of a rig."""

    def __init__(self) -> None:
        draft = RigDraft(Rig(stop=StopRule(atr=2.5)))
        self._words = {key: _words(one) for key, one in draft.sections.items()}
        sections = [
            Section(
                one.key, one.title, one.most, empty=one.empty, whole="rig", kept=one.key in KEPT
            )
            for one in draft.sections.values()
        ]
        super().__init__(sections, draft)

    def words_of(self, key: str, row: dict[str, str]) -> Words:
        return self._words[key]

    def instead(self, key: str) -> str:
        return WITH_LADDER.get(key, "") if self.draft.texts["ladder"] else ""

    def said(self) -> str:
        assert self.draft.made is not None
        return sentence(self.draft.made)
