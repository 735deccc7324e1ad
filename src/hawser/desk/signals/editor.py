"""A source as sentences with blanks in them, made from what its kinds declare
(`desk/models/source_draft.py`)."""

from __future__ import annotations

from hawser.core.sources.conditions.compared import Crosses
from hawser.core.sources.lines.averages import Ema, Sma
from hawser.core.sources.said import sentence
from hawser.core.sources.source import MOST_CONDITIONS, Source, worries
from hawser.desk.common.sentences import SentenceForm
from hawser.desk.models.form_words import Words
from hawser.desk.models.source_draft import SECTIONS, SourceDraft, words_of


def first_source(name: str) -> Source:
    """What a new source holds."""
    return Source(name=name, enter=(Crosses(a=Ema(length=12), b=Sma(length=48)),))


class SourceEditor(SentenceForm[SourceDraft]):
    """The form of a source."""

    def __init__(self) -> None:
        super().__init__(SECTIONS, SourceDraft(first_source("New source")))

    def words_of(self, key: str, row: dict[str, str]) -> Words:
        return words_of(key, row)

    def instead(self, key: str) -> str:
        return f"no more than {MOST_CONDITIONS} conditions" if self.draft.full else ""

    def said(self) -> str:
        made = self.draft.made
        assert made is not None
        return " ".join([sentence(made), *(f"{one}." for one in worries(made))])
