"""A form of sentences with blanks in them: sections, each with a row for each sentence, and what is
wrong with it below."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from functools import partial
from typing import Any, Generic, Protocol, TypeVar

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

from hawser.desk.common.choice import Choice
from hawser.desk.common.explained import explain
from hawser.desk.common.flow import Flow
from hawser.desk.common.words import Label, plain_tip
from hawser.desk.models import figures as fg
from hawser.desk.models.drafting import Place, Texts
from hawser.desk.models.form_words import Folded, FormBlank, Section, Words
from hawser.desk.theme.roles import give

LEAST, PAD, ARROW = 42, 18, 36
Field = QLineEdit | QComboBox


class FormDraft(Protocol):
    """What such a form shows."""

    texts: Texts
    errors: dict[Place, str]
    general: str

    @property
    def made(self) -> Any | None: ...

    def change(self, place: Place, text: str) -> None: ...
    def add(self, key: str) -> bool: ...
    def remove(self, key: str, row: int) -> None: ...
    def undo(self) -> bool: ...
    def redo(self) -> bool: ...


Drafted = TypeVar("Drafted", bound=FormDraft)


class FoldButton:
    """A button, and what it shows in its place, which is made when it is first shown; some of that
    may be folded once more."""

    def __init__(self, more: QPushButton, folded: Folded) -> None:
        self.more, self.folded, self.opened = more, folded, False
        self.inside: list[QWidget | FoldButton] = []

    @property
    def blanks(self) -> list[FormBlank]:
        return list(_blanks(self.folded.words))

    def show(self, shown: bool) -> None:
        """What is inside has been made."""
        self.opened = shown
        self.more.setVisible(not shown)
        for one in self.inside:
            if isinstance(one, FoldButton):
                one.more.setVisible(shown and not one.opened)
            else:
                one.setVisible(shown)


def _blanks(words: Words) -> Iterator[FormBlank]:
    """All blanks, also those that are folded."""
    for word in words:
        if isinstance(word, Folded):
            yield from _blanks(word.words)
        elif isinstance(word, FormBlank):
            yield word


def _is_set(blank: FormBlank, text: str) -> bool:
    """Whether a text stands for something else than its blank does by itself: not its hint, and not
    the first choice."""
    return text not in ("", blank.hint, *(one for one, _ in blank.choices[:1]))


class Sentence(QWidget):
    """One sentence, its blanks, and what is wrong with it below."""

    typed = pyqtSignal(object, str)
    removed = pyqtSignal(str, int)

    def __init__(self, section: Section, number: int, words: Words) -> None:
        super().__init__()
        self.words, self.fields = words, dict[str, Field]()
        self._section, self.number = section, number
        self._names: dict[str, str] = {}  # of the fields
        self._less_button: QPushButton | None = None
        self._folds: list[FoldButton] = []
        self.texts: dict[str, str] = {}
        self._flow = Flow()
        for word in words:
            if isinstance(word, Folded):
                self._fold(word)
            else:
                self._flow.addWidget(self._part(word))
        line = QHBoxLayout()
        line.setSpacing(2)
        line.addLayout(self._flow, 1)
        if not section.kept:
            line.addWidget(self._less(), 0, Qt.AlignmentFlag.AlignTop)
        self.problem = Label()
        self.problem.setProperty("role", "problem")
        self.problem.setWordWrap(True)
        self.problem.hide()
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(4)
        box.addLayout(line)
        box.addWidget(self.problem)

    def _chose(self, field: QComboBox, key: str, at: int) -> None:
        _fit_choice(field)
        self._typed(key, str(field.itemData(at)))

    def _typed(self, key: str, text: str) -> None:
        self.typed.emit((self._section.key, self.number, key), text)

    def stand(self, number: int) -> None:
        """It is another one of its section now."""
        if number == self.number:
            return
        self.number = number
        for key, field in self.fields.items():
            self._call(key, field)
        if self._less_button is not None:
            title = self._section.title.lower()
            self._less_button.setAccessibleName(f"Take {title} {number + 1} away")

    def _call(self, key: str, field: Field) -> None:
        many = f" {self.number + 1}" if self._section.most > 1 else ""
        field.setAccessibleName(f"{self._section.title}{many}: {self._names[key]}")

    def _less(self) -> QPushButton:
        section, title = self._section, self._section.title.lower()
        less = QPushButton("\u00d7")
        less.setProperty("role", "flat")
        less.setFixedSize(24, 24)
        less.setToolTip(plain_tip(f"Take this away from the {section.whole} ({title})"))
        less.setAccessibleName(f"Take {title} {self.number + 1} away")
        less.clicked.connect(lambda: self.removed.emit(section.key, self.number))
        self._less_button = less
        return less

    def _part(self, word: str | FormBlank) -> QWidget:
        if isinstance(word, FormBlank):
            return self._blank(word)
        label = Label(word)
        label.setProperty("role", "second")
        return label

    def _fold(self, folded: Folded, at: int | None = None) -> FoldButton:
        """What is hidden for now, behind a button that shows it. `at`: its place in the
        sentence."""
        more = QPushButton(folded.sign)
        more.setProperty("role", "flat")
        more.setFixedHeight(24)
        more.setMaximumWidth(more.fontMetrics().horizontalAdvance(folded.sign) + 14)
        more.setToolTip(plain_tip(folded.tip))
        more.setAccessibleName(folded.tip)
        self._flow.insert(more, at)
        fold = FoldButton(more, folded)
        self._folds.append(fold)
        more.clicked.connect(partial(self._unfold, fold))
        return fold

    def _unfold(self, fold: FoldButton) -> None:
        """Somebody wants it."""
        self._open(fold)
        fold.show(True)
        self.fields[fold.blanks[0].key].setFocus()

    def _open(self, fold: FoldButton) -> None:
        """Make what is inside, where nobody has."""
        if fold.inside:
            return
        at = self._flow.indexOf(fold.more) + 1
        for word in fold.folded.words:
            if isinstance(word, Folded):
                inner = self._fold(word, at)
                inner.more.hide()
                fold.inside.append(inner)
            else:
                widget = self._part(word)
                widget.hide()
                self._flow.insert(widget, at)
                fold.inside.append(widget)
            at += 1
        self._fill()

    def _blank(self, blank: FormBlank) -> QWidget:
        field: Field
        if blank.choices:
            field = Choice()
            for text, word in blank.choices:
                field.addItem(word, text)
            field.currentIndexChanged.connect(partial(self._chose, field, blank.key))
            _fit_choice(field)
        else:
            field = line = QLineEdit()
            line.setPlaceholderText(blank.hint)
            line.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
            line.textChanged.connect(lambda _: _fit(line))
            line.textEdited.connect(partial(self._typed, blank.key))
            _fit(line)
        self._names[blank.key] = blank.name
        self._call(blank.key, field)
        explain(field, blank.topic)
        self.fields[blank.key] = field
        return field

    def show_texts(self, texts: dict[str, str]) -> None:
        self.texts = texts
        self._fill()
        for fold in self._folds.copy():  # those that are opened here are added behind
            self._show_fold(fold)

    def _show_fold(self, fold: FoldButton) -> None:
        wanted = any(_is_set(one, self.texts[one.key]) for one in fold.blanks)
        held = any(self.fields[one.key].hasFocus() for one in fold.blanks if one.key in self.fields)
        if wanted:
            known = len(self._folds)
            self._open(fold)
            for inner in self._folds[known:]:
                self._show_fold(inner)
        if fold.inside:
            fold.show(wanted or held)

    def _fill(self) -> None:
        """Put the texts into the fields that there are."""
        for key, field in self.fields.items():
            if key not in self.texts:
                continue
            text = self.texts[key]
            if isinstance(field, QComboBox):
                if field.currentData() != text:
                    field.blockSignals(True)
                    field.setCurrentIndex(max(0, field.findData(text)))
                    field.blockSignals(False)
                    _fit_choice(field)
            elif field.text() != text:
                field.setText(text)

    @property
    def focused(self) -> str:
        """The key of the field that has the focus; empty where none has."""
        return next((key for key, field in self.fields.items() if field.hasFocus()), "")


def _fit_choice(field: QComboBox) -> None:
    """As wide as what is chosen: the sentence is read, not its alternatives."""
    field.setFixedWidth(field.fontMetrics().horizontalAdvance(field.currentText()) + ARROW)


def _fit(field: QLineEdit) -> None:
    text = field.text() or field.placeholderText()
    field.setFixedWidth(max(LEAST, field.fontMetrics().horizontalAdvance(text) + PAD))


class Part(QWidget):
    """One section: its sentences, and what adds one. A sentence once made is kept for the next that
    has the same words."""

    typed = pyqtSignal(object, str)
    added = pyqtSignal(str)
    removed = pyqtSignal(str, int)

    def __init__(self, section: Section) -> None:
        super().__init__()
        self.section = section
        self._rows: list[Sentence] = []  # those that are shown
        self._made: dict[Words, list[Sentence]] = {}
        self._none, self.add_button = Label(section.empty), QPushButton("Add")
        self._none.setProperty("role", "second")
        self._none.setWordWrap(True)
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
    def shown(self) -> int:
        return len(self._rows)

    @property
    def fields(self) -> dict[Place, Field]:
        """The blanks that are shown."""
        return {
            (self.section.key, number, key): field
            for number, row in enumerate(self._rows)
            for key, field in row.fields.items()
        }

    @property
    def problems(self) -> list[QLabel]:
        return [row.problem for row in self._rows]

    def show_rows(self, rows: Sequence[tuple[Words, dict[str, str]]], instead: str = "") -> None:
        """Of each sentence its words and texts. `instead`: why there can be none of these now."""
        before, self._rows = self._rows, []
        for number, (words, texts) in enumerate(rows):
            old = before[number] if number < len(before) else None
            row = self._sentence(words, old)
            row.stand(number)
            self._column.insertWidget(number, row)
            row.show_texts(texts)
            self._rows.append(row)
            if old is not None and row is not old and old.focused in row.fields:
                row.show()  # what is typed into goes on being typed into
                row.fields[old.focused].setFocus()
        for row in before:
            if row not in self._rows:
                row.hide()
        for row in self._rows:
            row.show()
        self._none.setVisible(not rows)
        self._none.setText(instead or self.section.empty)
        self.add_button.setVisible(len(rows) < self.section.most and not instead)
        self.add_button.setText("Add another" if rows else "Add")

    def words(self, number: int) -> Words:
        """What stands in a sentence that is shown."""
        return self._rows[number].words

    def follow(self, number: int, texts: dict[str, str]) -> None:
        """The texts that a sentence stands for, which its fields have already."""
        self._rows[number].texts = texts

    def _sentence(self, words: Words, old: Sentence | None) -> Sentence:
        """One with these words that stands in no row so far: the old one, where that fits."""
        free = [one for one in self._made.get(words, ()) if one not in self._rows]
        if old in free:
            return old
        return free[0] if free else self.make(words)

    def make(self, words: Words) -> Sentence:
        """A further sentence, which is not shown yet."""
        row = Sentence(self.section, len(self._made), words)
        self._made.setdefault(words, []).append(row)
        row.hide()
        row.typed.connect(self.typed)
        row.removed.connect(self.removed)
        self._column.insertWidget(self._column.count() - 1, row)
        return row

    def lacking(self, rows: Sequence[Words]) -> list[Words]:
        """Of sentences with such words those that have not been made."""
        wanted, found = Counter(rows), list[Words]()
        for words, count in wanted.items():
            found += [words] * (count - len(self._made.get(words, ())))
        return found


class SentenceForm(QFrame, Generic[Drafted]):
    """Holds a draft; says when what it makes has changed."""

    changed = pyqtSignal()

    def __init__(self, sections: Sequence[Section], draft: Drafted) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.draft = draft
        self.parts: dict[str, Part] = {}
        inside = QWidget()
        grid = QGridLayout(inside)
        grid.setContentsMargins(10, 0, 6, 6)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(0)
        grid.setColumnStretch(1, 1)
        for number, section in enumerate(sections):
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
        grid.setRowStretch(2 * len(sections), 1)
        scroll = QScrollArea()
        scroll.setWidget(inside)
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.words = Label()
        self.words.setWordWrap(True)
        self.words.setContentsMargins(10, 6, 10, 6)
        whole = sections[0].whole
        self.words.setAccessibleName(f"The {whole} in words")
        self._whole = whole
        box = QVBoxLayout(self)
        box.setContentsMargins(1, 1, 1, 1)
        box.setSpacing(0)
        box.addWidget(scroll, 1)
        box.addWidget(self.words)

    # What each kind of form says of its own

    def words_of(self, key: str, row: dict[str, str]) -> Words:
        """What stands in a sentence of a section."""
        raise NotImplementedError

    def instead(self, key: str) -> str:
        """Why there can be none in a section now; empty where there can."""
        return ""

    def said(self) -> str:
        """What the draft makes, in words."""
        raise NotImplementedError

    # Showing

    def show_draft(self, draft: Drafted) -> None:
        self.draft = draft
        self._show_parts()
        self._show_state()

    def making(self, texts: Texts) -> Iterator[None]:
        """Make the sentences that a draft with such texts would be shown in, one for each value
        that is asked for: to be done in quiet moments, so that nobody waits for them."""
        for key, part in self.parts.items():
            for words in part.lacking([self.words_of(key, row) for row in texts[key]]):
                part.make(words)
                yield

    def field(self, section: str, row: int, key: str) -> Field:
        return self.parts[section].fields[section, row, key]

    def undo(self) -> None:
        if self.draft.undo():
            self._structure(True)

    def redo(self) -> None:
        if self.draft.redo():
            self._structure(True)

    def _typed(self, place: Place, text: str) -> None:
        self.draft.change(place, text)
        section, row, _ = place
        texts = self.draft.texts[section][row]
        self.parts[section].follow(row, texts)
        if self.words_of(section, texts) != self.parts[section].words(row):
            self._show_parts()  # another kind has other blanks
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
        for key, part in self.parts.items():
            rows = [(self.words_of(key, row), row) for row in self.draft.texts[key]]
            part.show_rows(rows, self.instead(key))

    def _show_state(self) -> None:
        draft = self.draft
        for key, part in self.parts.items():
            for number, problem in enumerate(part.problems):
                told = (text for at, text in draft.errors.items() if at[:2] == (key, number))
                text = next(told, "")
                problem.setText(text)
                problem.setVisible(bool(text))
            for place, field in part.fields.items():
                give(field, "bad", place in draft.errors)
        if draft.made is not None:
            self.words.setText(self.said())
        else:
            count = len(draft.errors)
            told_all = draft.general or (
                f"{fg.counted(count, 'entry is', 'entries are')} not understood yet"
            )
            self.words.setText(f"{told_all}. The {self._whole} stays as it was until then.")

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.matches(QKeySequence.StandardKey.Undo):
            self.undo()
        elif event.matches(QKeySequence.StandardKey.Redo):
            self.redo()
        else:
            super().keyPressEvent(event)
