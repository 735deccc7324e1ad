"""The lines over a chart's bars, and the source laid on them, being chosen; without Qt."""

from __future__ import annotations

from functools import cache

from hawser.core.errors import BadInput
from hawser.core.field_help import keys_of
from hawser.core.sources.conditions.rises import Rises
from hawser.core.sources.lines.base import Line
from hawser.core.sources.lines.declared import KINDS as LINES
from hawser.core.sources.lines.declared import PRICES, SHOWN
from hawser.core.sources.said import line_said
from hawser.desk.models.drafting import Texts, Typing
from hawser.desk.models.form_words import FormBlank, Section, Words
from hawser.desk.models.operands import (
    CHAPTER,
    Choices,
    completed_operand,
    noted,
    operand_words,
    plain_operand,
)
from hawser.desk.models.topics.topic import Topic
from hawser.formats.declared import record

MOST_LINES = 6
SECTIONS = (
    Section("lines", "Lines", MOST_LINES, "No line is drawn", "chart"),
    Section("source", "Source", 1, "", "chart", kept=True),
)
CHOICES: Choices = tuple((kind, one.NAME) for kind, one in (LINES | SHOWN | PRICES).items())
OF = next(key for key in keys_of(Rises) if key.path == "a")
SOURCE = Topic(
    "A source on the chart",
    "Where this source enters and leaves, as at the Signals station.",
    "",
    "Ebb and flow",
    CHAPTER,
)
Lines = tuple[Line, ...]
EMPTY: Texts = {"lines": [], "source": [{"source": ""}]}


class LinesDraft(Typing):
    """What is typed. `made` is None while something is wrong."""

    def __init__(self, texts: Texts) -> None:
        self.made: Lines | None = None
        super().__init__({"lines": [*texts["lines"]], "source": [*texts["source"]]})
        self.check()

    @property
    def source(self) -> str:
        """The name of the source that is laid on the bars; empty: none."""
        return self.texts["source"][0]["source"]

    def filled(self, section: str, row: dict[str, str]) -> dict[str, str]:
        return completed_operand(row, "a", CHOICES) if section == "lines" else row

    def rows_fit(self, section: str, rows: list[dict[str, str]]) -> bool:
        if section == "source":
            return [row.keys() for row in rows] == [row.keys() for row in EMPTY[section]]
        return len(rows) <= MOST_LINES and all(self.filled(section, row) == row for row in rows)

    def add(self, key: str) -> bool:
        if len(self.texts[key]) >= MOST_LINES:
            return False
        self.put(key, {"a": "ema"})
        return True

    def check(self) -> None:
        self.errors, self.made = {}, None
        found = [self._line(number, row) for number, row in enumerate(self.texts["lines"])]
        if not self.errors:
            self.made = tuple(one for one in found if one is not None)

    def _line(self, number: int, row: dict[str, str]) -> Line | None:
        plain = plain_operand(row, "a", noted(self.errors, "lines", number))
        if any(place[1] == number for place in self.errors):
            return None
        if isinstance(plain, str):
            told = "The bars show it already: choose coarser bars or another instrument"
            self.errors["lines", number, "a"] = told
            return None
        try:
            return record((LINES | SHOWN | PRICES)[row["a"]], plain, "here", "a")
        except BadInput as error:
            self.errors["lines", number, error.place if error.place in row else "a"] = error.text
            return None

    @property
    def said(self) -> str:
        """What is drawn, in words."""
        assert self.made is not None
        told = [line_said(line) for line in self.made]
        if self.source:
            told.append(f"the entries and exits of {self.source}")
        return f"Drawn: {', '.join(told)}." if told else "Nothing is drawn but the bars."


def words_of(section: str, row: dict[str, str], sources: tuple[str, ...]) -> Words:
    """What stands in a sentence; `sources`: those that there are."""
    if section == "source":
        names = sources if row["source"] in ("", *sources) else (*sources, row["source"])
        choices = (("", "none"), *((name, name) for name in names))
        return (FormBlank("source", "source", SOURCE, choices), "is laid on the bars")
    return _line_words(row["a"])


@cache
def _line_words(kind: str) -> Words:
    return ("the", *operand_words("a", kind, OF, CHOICES))
