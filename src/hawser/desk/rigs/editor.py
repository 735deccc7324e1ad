"""A rig as sentences with blanks in them, made from the one declaration in
`desk/models/rig_draft.py`."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QKeySequence
from PyQt6.QtWidgets import (
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from hawser.core.levels import StopRule
from hawser.core.rig import Blank, Rig, Section, sentence
from hawser.desk.common.choice import Choice
from hawser.desk.common.explained import explain
from hawser.desk.common.flow import Flow
from hawser.desk.common.words import Label, plain_tip
from hawser.desk.models import figures as fg
from hawser.desk.models.rig_draft import Place, RigDraft
from hawser.desk.models.topics.topic import topic_of_blank
from hawser.desk.theme.roles import give

LEAST, PAD = 42, 18
WITH_LADDER = {
    "target": "set by the ladder",
    "trail": "not with a ladder",
    "loss_step": "not with a ladder",
}


class SectionRow(QWidget):
    """One sentence of a section, its blanks, and what is wrong with it below."""

    def __init__(self, part: Part, number: int) -> None:
        super().__init__()
        self.fields: dict[str, QLineEdit | QComboBox] = {}
        self._part, self._number = part, number
        section, flow = part.section, Flow()
        for word in section.words:
            if isinstance(word, str):
                label = Label(word)
                label.setProperty("role", "second")
                flow.addWidget(label)
            else:
                flow.addWidget(self._blank(word))
        line = QHBoxLayout()
        line.setSpacing(2)
        line.addLayout(flow, 1)
        if section.key not in ("stop", "general"):
            less = QPushButton("\u00d7")
            less.setProperty("role", "flat")
            less.setFixedSize(24, 24)
            less.setToolTip(plain_tip(f"Take this away from the rig ({section.title.lower()})"))
            less.setAccessibleName(f"Take {section.title.lower()} {number + 1} away")
            less.clicked.connect(lambda: part.removed.emit(section.key, number))
            line.addWidget(less, 0, Qt.AlignmentFlag.AlignTop)
        self.problem = Label()
        self.problem.setProperty("role", "problem")
        self.problem.setWordWrap(True)
        self.problem.hide()
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(4)
        box.addLayout(line)
        box.addWidget(self.problem)

    def _blank(self, blank: Blank) -> QWidget:
        section = self._part.section
        place = (section.key, self._number, blank.key)
        field: QLineEdit | QComboBox
        if blank.choices:
            field = Choice()
            field.addItems(blank.choices)
            field.currentTextChanged.connect(lambda text: self._part.typed.emit(place, text))
        else:
            field = QLineEdit()
            field.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
            field.textChanged.connect(lambda _: _fit(field))
            field.textEdited.connect(lambda text: self._part.typed.emit(place, text))
        many = f" {self._number + 1}" if section.most > 1 else ""
        field.setAccessibleName(f"{section.title}{many}: {blank.name}")
        explain(field, topic_of_blank(section, blank))
        self.fields[blank.key] = field
        return field

    def show_texts(self, texts: dict[str, str]) -> None:
        for key, field in self.fields.items():
            if _text(field) == texts[key]:
                continue
            if isinstance(field, QComboBox):
                field.blockSignals(True)
                field.setCurrentText(texts[key])
                field.blockSignals(False)
            else:
                field.setText(texts[key])


class Part(QWidget):
    """One section: its sentences, and what adds one. Sentences once made are kept for the next rig
    that has as many."""

    typed = pyqtSignal(object, str)
    added = pyqtSignal(str)
    removed = pyqtSignal(str, int)

    def __init__(self, section: Section) -> None:
        super().__init__()
        self.section = section
        self._rows: list[SectionRow] = []
        self.shown = 0
        self._none, self.add_button = Label(section.empty), QPushButton("Add")
        self._none.setProperty("role", "second")
        self.add_button.setProperty("role", "flat")
        self.add_button.setAccessibleName(f"Add to {section.title.lower()}")
        self.add_button.clicked.connect(lambda: self.added.emit(section.key))
        last = QHBoxLayout()
        last.addWidget(self._none)
        last.addWidget(self.add_button)
        last.addStretch(1)
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 3, 0, 3)
        self._column.setSpacing(4)
        self._column.addLayout(last)

    @property
    def fields(self) -> dict[Place, QLineEdit | QComboBox]:
        """The blanks that are shown."""
        rows = enumerate(self._rows[: self.shown])
        return {
            (self.section.key, n, key): field
            for n, row in rows
            for key, field in row.fields.items()
        }

    @property
    def problems(self) -> list[QLabel]:
        return [row.problem for row in self._rows[: self.shown]]

    def show_rows(self, rows: list[dict[str, str]], instead: str = "") -> None:
        """`instead`: why there can be none of these now."""
        while len(self._rows) < len(rows):
            row = SectionRow(self, len(self._rows))
            self._column.insertWidget(len(self._rows), row)
            self._rows.append(row)
        self.shown = len(rows)
        for number, row in enumerate(self._rows):
            row.setVisible(number < len(rows))
            if number < len(rows):
                row.show_texts(rows[number])
        self._none.setVisible(not rows)
        self._none.setText(instead or self.section.empty)
        self.add_button.setVisible(len(rows) < self.section.most and not instead)
        self.add_button.setText("Add another" if rows else "Add")


def _fit(field: QLineEdit) -> None:
    field.setFixedWidth(max(LEAST, field.fontMetrics().horizontalAdvance(field.text()) + PAD))


class RigEditor(QFrame):
    """Holds a RigDraft; says when what it makes has changed."""

    changed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.draft = RigDraft(Rig(stop=StopRule(atr=2.5)))
        self.parts: dict[str, Part] = {}
        inside = QWidget()
        grid = QGridLayout(inside)
        grid.setContentsMargins(10, 0, 6, 6)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(0)
        grid.setColumnStretch(1, 1)
        for number, section in enumerate(self.draft.sections.values()):
            part = self.parts[section.key] = Part(section)
            part.typed.connect(self._typed)
            part.added.connect(lambda key: self._structure(self.draft.add(key)))
            part.removed.connect(self._removed)
            title = Label(section.title)
            title.setContentsMargins(0, 8, 0, 0)
            title.setMinimumWidth(76)
            grid.addWidget(title, 2 * number, 0, Qt.AlignmentFlag.AlignTop)
            grid.addWidget(part, 2 * number, 1)
            rule = QFrame()
            rule.setObjectName("rule")
            rule.setFixedHeight(1)
            grid.addWidget(rule, 2 * number + 1, 0, 1, 2)
        grid.setRowStretch(2 * len(self.draft.sections), 1)
        scroll = QScrollArea()
        scroll.setWidget(inside)
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.words = Label()
        self.words.setWordWrap(True)
        self.words.setContentsMargins(10, 6, 10, 6)
        self.words.setAccessibleName("The rig in words")
        box = QVBoxLayout(self)
        box.setContentsMargins(1, 1, 1, 1)
        box.setSpacing(0)
        box.addWidget(scroll, 1)
        box.addWidget(self.words)

    def show_draft(self, draft: RigDraft) -> None:
        self.draft = draft
        self._show_parts()
        self._show_state()

    def field(self, section: str, row: int, key: str) -> QLineEdit | QComboBox:
        return self.parts[section].fields[section, row, key]

    def undo(self) -> None:
        if self.draft.undo():
            self._structure(True)

    def redo(self) -> None:
        if self.draft.redo():
            self._structure(True)

    def _typed(self, place: Place, text: str) -> None:
        self.draft.change(place, text)
        self._show_state()
        self.changed.emit()

    def _removed(self, key: str, row: int) -> None:
        self.draft.remove(key, row)
        self._structure(True)

    def _structure(self, changed: bool) -> None:
        """Rows came, went or were taken back."""
        if not changed:
            return
        self._show_parts()
        self._show_state()
        self.changed.emit()

    def _show_parts(self) -> None:
        with_ladder = WITH_LADDER if self.draft.texts["ladder"] else {}
        for key, part in self.parts.items():
            part.show_rows(self.draft.texts[key], with_ladder.get(key, ""))

    def _show_state(self) -> None:
        draft = self.draft
        for part in self.parts.values():
            for number, problem in enumerate(part.problems):
                text = next(
                    (
                        t
                        for place, t in draft.errors.items()
                        if place[:2] == (part.section.key, number)
                    ),
                    "",
                )
                problem.setText(text)
                problem.setVisible(bool(text))
            for place, field in part.fields.items():
                give(field, "bad", place in draft.errors)
        if draft.made is not None:
            self.words.setText(sentence(draft.made))
            self.words.setProperty("role", "")
        else:
            count = len(draft.errors)
            told = draft.general or (
                f"{fg.counted(count, 'entry is', 'entries are')} not understood yet"
            )
            self.words.setText(f"{told}. The rig stays as it was until then.")

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.matches(QKeySequence.StandardKey.Undo):
            self.undo()
        elif event.matches(QKeySequence.StandardKey.Redo):
            self.redo()
        else:
            super().keyPressEvent(event)


def _text(field: QLineEdit | QComboBox) -> str:
    return field.currentText() if isinstance(field, QComboBox) else field.text()
