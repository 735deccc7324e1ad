"""A rig being edited, without Qt: sentences with blanks, what is typed into them, undo, and the rig
it makes. The sentences are the rules' own (`core/rig/`): the form, the errors and the file follow
from them.
"""

from __future__ import annotations

from typing import Any

import msgspec

from hawser.core.errors import BadInput
from hawser.core.rig import YES, Blank, Rig, RuleSection
from hawser.core.rig.rule import one_of
from hawser.core.timeframes import timeframe
from hawser.core.typed_numbers import whole_number
from hawser.desk.models.drafting import Texts, Typing
from hawser.formats.declared import as_read

CHARTS = "the chart's"


def decided_on(text: str) -> str | None:
    """The timeframe that a rig decides on; None: the chart's. Raises BadInput."""
    written = text.strip()
    return None if written in ("", CHARTS) else timeframe(written).text


# what is no rule: fields of the rig itself
GENERAL = RuleSection(
    key="general",
    title="Reckons with",
    most=1,
    words=(
        "an ATR of",
        Blank("atr_length", "ATR length", "Bars in every ATR of this rig", whole_number, "14"),
        "bars,",
        one_of(
            "atr_smoothing",
            "smoothing",
            "How the ATR is averaged: by Wilder's rule, where old bars fade, or each bar alike",
            ("wilder", "simple"),
        ),
        "; takes",
        one_of(
            "direction",
            "direction",
            "The side of the signals that the rig takes",
            ("both", "long", "short"),
        ),
        "signals, turns on the opposite one",
        one_of(
            "reverse",
            "turns",
            "Whether a signal for the other side closes the trade and opens the opposite one",
            YES,
        ),
        "; decides on bars of",
        Blank(
            "timeframe",
            "bars",
            "Such as 15m, 1h or 1d: ATR, trail and all that is decided at a close go by these bars",
            decided_on,
            CHARTS,
        ),
    ),
    empty="",
    make=lambda values: values,
    fill=lambda rig: {},
    says=lambda values, rig: [],
    brief=lambda values: "",
    rank=99,
)


def sections_of(kind: type[Rig]) -> tuple[RuleSection, ...]:
    """What stands in the form, in its order."""
    return (*kind.sections(), GENERAL)


class RigDraft(Typing):
    """What is typed, section by section. `made` is None while something is wrong; `errors` by
    place."""

    def __init__(self, rig: Rig) -> None:
        self._kind = type(rig)
        self.sections = {one.key: one for one in sections_of(self._kind)}
        self.name, self.note = rig.name, rig.note
        super().__init__(texts_of(rig))
        self.made: Rig | None = None
        self._rest = {"from_": rig.from_, "to": rig.to}
        self.check()

    # Changing

    def add(self, key: str) -> bool:
        """One more rule of a section, as it is first proposed."""
        section = self.sections[key]
        if len(self.texts[key]) >= section.most:
            return False
        self.remember()
        self.texts[key].append({blank.key: blank.first for blank in section.blanks})
        if key in ("stop", "ladder"):  # one brings the other's stop
            self.texts["ladder" if key == "stop" else "stop"].clear()
        self.check()
        return True

    def remove(self, key: str, row: int) -> None:
        """One rule less. A ladder that goes leaves a stop behind."""
        self.remember()
        del self.texts[key][row]
        if key == "ladder":
            self.texts["stop"] = [{"stop": self.sections["stop"].blanks[0].first}]
        self.check()

    def rows_fit(self, section: str, rows: list[dict[str, str]]) -> bool:
        known = self.sections[section]
        keys = {blank.key for blank in known.blanks}
        least = 1 if section == "general" else 0
        return least <= len(rows) <= known.most and all(row.keys() == keys for row in rows)

    # Reading

    def check(self) -> None:
        self.errors, self.general, self.made = {}, "", None
        rules: dict[str, list[Any]] = {}
        for section in self.sections.values():
            rules[section.key] = [
                self._row(section, number, row)
                for number, row in enumerate(self.texts[section.key])
            ]
        if self.errors:
            return
        values: dict[str, Any] = rules.pop("general")[0]
        values["reverse"] = values["reverse"] == "yes"
        for key, found in rules.items():
            listed = self.sections[key].most > 1
            values[key] = tuple(found) if listed else (found[0] if found else None)
        try:
            self.made = as_read(self._kind(name=self.name, note=self.note, **values | self._rest))
        except BadInput as error:
            self._blame(error)

    def _row(self, section: RuleSection, number: int, row: dict[str, str]) -> Any:
        values: dict[str, Any] = {}
        for blank in section.blanks:
            try:
                values[blank.key] = blank.read(row[blank.key])
            except (BadInput, msgspec.ValidationError) as error:
                sentence = error.sentence if isinstance(error, BadInput) else str(error)
                self.errors[section.key, number, blank.key] = sentence
        if len(values) < len(section.blanks):
            return None
        try:
            return section.make(values)
        except BadInput as error:
            key = str(error.values.get("key", ""))
            at = key if key in values else section.blanks[0].key
            self.errors[section.key, number, at] = error.text
            return None

    def _blame(self, error: BadInput) -> None:
        """What is wrong with the rig as a whole, beside its section where one is named."""
        head, _, name = error.place.partition(".")
        head, _, row = head.rstrip("]").partition("[")
        key = {"targets": "target", "atr_length": "general", "timeframe": "general"}.get(head, head)
        if key in self.sections and self.texts[key]:
            blanks = [blank.key for blank in self.sections[key].blanks]
            blank = next((one for one in (name, head) if one in blanks), blanks[-1])
            self.errors[key, int(row or len(self.texts[key]) - 1), blank] = error.text
        else:
            self.general = error.sentence


def texts_of(rig: Rig) -> Texts:
    """A rig as what would be typed."""
    found: Texts = {}
    for section in sections_of(type(rig)):
        if section.key == "general":
            found["general"] = [
                {
                    "atr_length": str(rig.atr_length),
                    "atr_smoothing": rig.atr_smoothing,
                    "direction": rig.direction,
                    "reverse": YES[rig.reverse],
                    "timeframe": rig.timeframe or CHARTS,
                }
            ]
            continue
        found[section.key] = [section.fill(rule) for rule in section.of(rig)]
    return found
