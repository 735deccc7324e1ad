"""A rig as sentences with blanks in them, made from the one declaration in `desk/rigdraft.py`."""

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
)  # fmt: skip

from hawser.core.levels import StopRule
from hawser.core.rig import Rig
from hawser.core.rigwords import sentence
from hawser.desk.rigdraft import SECTIONS, Blank, Place, RigDraft, Section
from hawser.desk.widgets.flow import Flow

LEAST, PAD = 42, 18


class Part(QWidget):
    """One section: its title, its sentences, and what adds or takes one away."""

    typed = pyqtSignal(object, str)
    added = pyqtSignal(str)
    removed = pyqtSignal(str, int)

    def __init__(self, section: Section) -> None:
        super().__init__()
        self.section = section
        self.fields: dict[Place, QLineEdit | QComboBox] = {}
        self.problems: dict[int, QLabel] = {}
        self.add_button: QPushButton | None = None
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 3, 0, 3)
        self._column.setSpacing(2)
        self._inside: QWidget | None = None

    def show_rows(self, rows: list[dict[str, str]]) -> None:
        """Make the sentences anew."""
        self.fields, self.problems, self.add_button = {}, {}, None
        if self._inside is not None:
            self._column.removeWidget(self._inside)
            self._inside.deleteLater()
        self._inside = QWidget()
        box = QVBoxLayout(self._inside)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(4)
        for number, row in enumerate(rows):
            box.addLayout(self._sentence(number, row))
            problem = QLabel()
            problem.setProperty("role", "problem")
            problem.setWordWrap(True)
            problem.hide()
            box.addWidget(problem)
            self.problems[number] = problem
        if len(rows) < self.section.most:
            box.addLayout(self._last_line(bool(rows)))
        self._column.addWidget(self._inside)

    def _sentence(self, number: int, row: dict[str, str]) -> QHBoxLayout:
        flow = Flow()
        for part in self.section.words:
            if isinstance(part, str):
                label = QLabel(part)
                label.setProperty("role", "second")
                flow.addWidget(label)
            else:
                flow.addWidget(self._blank(part, number, row[part.key]))
        line = QHBoxLayout()
        line.setSpacing(2)
        line.addLayout(flow, 1)
        if self.section.key not in ("stop", "general"):
            less = QPushButton("\u00d7")
            less.setProperty("role", "flat")
            less.setFixedSize(24, 24)
            less.setToolTip(f"Take this away from the rig ({self.section.title.lower()})")
            less.setAccessibleName(f"Take {self.section.title.lower()} {number + 1} away")
            less.clicked.connect(lambda _, number=number: self.removed.emit(self.section.key, number))
            line.addWidget(less, 0, Qt.AlignmentFlag.AlignTop)
        return line

    def _last_line(self, some: bool) -> QHBoxLayout:
        line = QHBoxLayout()
        if not some:
            none = QLabel(self.section.empty)
            none.setProperty("role", "second")
            line.addWidget(none)
        add = QPushButton("Add another" if some else "Add")
        add.setProperty("role", "flat")
        add.setAccessibleName(f"Add to {self.section.title.lower()}")
        add.clicked.connect(lambda: self.added.emit(self.section.key))
        self.add_button = add
        line.addWidget(add)
        line.addStretch(1)
        return line

    def _blank(self, blank: Blank, number: int, text: str) -> QWidget:
        place = (self.section.key, number, blank.key)
        field: QLineEdit | QComboBox
        if blank.choices:
            field = QComboBox()
            field.addItems(blank.choices)
            field.setCurrentText(text)
            field.currentTextChanged.connect(lambda text, place=place: self.typed.emit(place, text))
        else:
            field = QLineEdit(text)
            field.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
            _fit(field)
            field.textChanged.connect(lambda _, field=field: _fit(field))
            field.textEdited.connect(lambda text, place=place: self.typed.emit(place, text))
        many = f" {number + 1}" if self.section.most > 1 else ""
        field.setAccessibleName(f"{self.section.title}{many}: {blank.name}")
        field.setToolTip(blank.help)
        self.fields[place] = field
        return field


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
        for number, section in enumerate(SECTIONS):
            part = self.parts[section.key] = Part(section)
            part.typed.connect(self._typed)
            part.added.connect(lambda key: self._structure(self.draft.add(key)))
            part.removed.connect(self._removed)
            title = QLabel(section.title)
            title.setContentsMargins(0, 8, 0, 0)
            title.setMinimumWidth(76)
            grid.addWidget(title, 2 * number, 0, Qt.AlignmentFlag.AlignTop)
            grid.addWidget(part, 2 * number, 1)
            rule = QFrame()
            rule.setObjectName("rule")
            rule.setFixedHeight(1)
            grid.addWidget(rule, 2 * number + 1, 0, 1, 2)
        grid.setRowStretch(2 * len(SECTIONS), 1)
        scroll = QScrollArea()
        scroll.setWidget(inside)
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.words = QLabel()
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
        for key, part in self.parts.items():
            part.show_rows(draft.texts[key])
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
        """Sections whose rows are others now are made anew; the rest is brought up to date."""
        if not changed:
            return
        for key, part in self.parts.items():
            rows = self.draft.texts[key]
            shown = {place: _text(field) for place, field in part.fields.items()}
            wanted = {(key, n, name): text for n, row in enumerate(rows) for name, text in row.items()}
            if (
                shown.keys() != wanted.keys()
                or shown != wanted
                or (part.add_button is None) != (len(rows) >= part.section.most)
            ):
                part.show_rows(rows)
        self._show_state()
        self.changed.emit()

    def _show_state(self) -> None:
        draft = self.draft
        for part in self.parts.values():
            for number, problem in part.problems.items():
                text = next((t for place, t in draft.errors.items() if place[:2] == (part.section.key, number)), "")
                problem.setText(text)
                problem.setVisible(bool(text))
            for place, field in part.fields.items():
                _mark(field, place in draft.errors)
        if draft.made is not None:
            self.words.setText(sentence(draft.made))
            self.words.setProperty("role", "")
        else:
            count = len(draft.errors)
            told = draft.general or f"{count} {'entry is' if count == 1 else 'entries are'} not understood yet"
            self.words.setText(f"{told}. The rig stays as it was until they are.")

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.matches(QKeySequence.StandardKey.Undo):
            self.undo()
        elif event.matches(QKeySequence.StandardKey.Redo):
            self.redo()
        else:
            super().keyPressEvent(event)


def _text(field: QLineEdit | QComboBox) -> str:
    return field.currentText() if isinstance(field, QComboBox) else field.text()


def _mark(field: QLineEdit | QComboBox, bad: bool) -> None:
    if bool(field.property("bad")) != bad:
        field.setProperty("bad", bad)
        style = field.style()
        assert style is not None
        style.unpolish(field)
        style.polish(field)
