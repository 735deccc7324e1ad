"""A form for a record, made from its one declaration: value, unit, what it means, and what is
wrong, field by field."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import msgspec
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QKeySequence
from PyQt6.QtWidgets import (
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from hawser.core.errors import BadInput
from hawser.core.field_help import FieldHelp
from hawser.desk.common.explained import explain
from hawser.desk.common.fields import BoxesField, Field, Known, field_of
from hawser.desk.common.overlay import Overlay
from hawser.desk.common.words import Label
from hawser.desk.models import figures as fg
from hawser.desk.models.editing import Editing
from hawser.desk.models.topics.topic import topic_of_field
from hawser.formats.declared import load, save

# what is typed in forms and not applied: by what it is about, by key
Typed = dict[str, dict[str, str]]


class Editor(Overlay):
    """Lies over the Helm. `apply` gets the finished record; `consequence` says what applying it
    would do. What is typed and not applied goes into `kept`, and is there when the same is opened
    again.
    """

    applied = pyqtSignal(object)

    def __init__(
        self,
        parent: QWidget,
        title: str,
        kind: type[msgspec.Struct],
        currency: str,
        apply_text: str = "",
        fixed: tuple[str, ...] = (),
        consequence: Callable[[msgspec.Struct], str] = lambda made: "",
        kept: Typed | None = None,
        known: dict[str, Known] | None = None,
    ) -> None:
        super().__init__(parent)
        self._known = known or {}
        self.editing, self._fixed, self._consequence = Editing(kind), fixed, consequence
        self._kept, self._about, self._resumed = kept if kept is not None else {}, "", False
        self._refused = self._filling = False
        self._fields: dict[str, Field] = {}
        self._problems: dict[str, QLabel] = {}
        self._helps: dict[str, QLabel] = {}
        heading = Label(title)
        heading.setProperty("role", "title")
        self.told = Label()
        self.told.setWordWrap(True)
        self.told.setProperty("role", "second")
        scroll, self.form = QScrollArea(), self._form(currency)
        scroll.setWidget(self.form)
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        box = QVBoxLayout(self)
        box.setContentsMargins(12, 8, 12, 8)
        box.addWidget(heading)
        box.addWidget(scroll, 1)
        box.addWidget(self.told)
        box.addLayout(self._buttons(apply_text))
        self.hide()

    def _form(self, currency: str) -> QWidget:
        inside = QWidget()
        grid = QGridLayout(inside)
        grid.setContentsMargins(0, 0, 8, 0)
        grid.setVerticalSpacing(2)
        grid.setHorizontalSpacing(8)
        grid.setColumnStretch(3, 1)
        group, number = "", 0
        for key in self._in_order(self.editing.keys):
            if (named := key.path.rpartition(".")[0]) != group:
                group = named
                heading = Label(group.capitalize())
                heading.setProperty("role", "title")
                grid.addWidget(heading, 2 * number, 0, 1, 4)
                number += 1
            words = currency if key.unit == "money" else key.unit
            label, unit, help_text, problem = (
                Label(text) for text in (key.name, words, key.help, "")
            )
            for part, role in ((unit, "second"), (help_text, "small-second"), (problem, "problem")):
                part.setProperty("role", role)
                part.setWordWrap(part is not unit)
            problem.hide()
            field = self._field(key)
            label.setBuddy(field)
            grid.addWidget(label, 2 * number, 0)
            grid.addWidget(field, 2 * number, 1, 1, 2 if isinstance(field, BoxesField) else 1)
            if unit.text():
                grid.addWidget(unit, 2 * number, 2)
            grid.addWidget(help_text, 2 * number, 3)
            grid.addWidget(problem, 2 * number + 1, 1, 1, 3)
            self._fields[key.path], self._problems[key.path], self._helps[key.path] = (
                field,
                problem,
                help_text,
            )
            number += 1
        return inside

    def _in_order(self, keys: list[FieldHelp]) -> list[FieldHelp]:
        """The keys as they are shown."""
        return keys

    def _field(self, key: FieldHelp) -> Field:
        field = field_of(key, self._known.get(key.path))
        field.edited.connect(lambda text, path=key.path: self._typed(path, text))
        field.setAccessibleName(key.name)
        explain(field, topic_of_field(key, "Keys of the files", self.editing.keys))
        return field

    def _buttons(self, apply_text: str) -> QHBoxLayout:
        row = QHBoxLayout()
        self.apply_button = QPushButton(apply_text)
        # shown by name it would be a window of its own for a moment: it has no parent yet
        if not apply_text:
            self.apply_button.hide()
        self.apply_button.clicked.connect(self._apply)
        self.undo_button, self.redo_button = QPushButton("Undo"), QPushButton("Redo")
        self.undo_button.clicked.connect(lambda: self._stepped(self.editing.undo()))
        self.redo_button.clicked.connect(lambda: self._stepped(self.editing.redo()))
        read = QPushButton("Import TOML \u2026")
        write = QPushButton("Export TOML \u2026")
        close = QPushButton("Close")
        read.clicked.connect(self._import)
        write.clicked.connect(self._export)
        close.clicked.connect(self.hide)
        for button in (self.undo_button, self.redo_button, read, write):
            row.addWidget(button)
        row.addStretch(1)
        row.addWidget(self.apply_button)
        row.addWidget(close)
        return row

    # Showing

    def open(self, start: msgspec.Struct, about: str = "") -> None:
        """Show a record; `about`: what tells it from others. All there is to undo is what was typed
        earlier."""
        parent = self.parentWidget()
        assert parent is not None
        self.editing, self._about = Editing(self.editing.kind, start), about
        earlier = self._kept.get(about, {})
        self._resumed = self.editing.resume(
            {path: text for path, text in earlier.items() if path not in self._fixed}
        )
        self.setGeometry(76, 60, min(760, parent.width() - 400), parent.height() - 104)
        self._show_all()
        self.show()
        self.raise_()
        first = next(field for path, field in self._fields.items() if path not in self._fixed)
        first.setFocus()

    def _show_all(self) -> None:
        for path, field in self._fields.items():
            self._filling = True
            field.set_value(self.editing.texts[path])
            self._filling = False
        self._show_state()

    def _show_state(self) -> None:
        editing = self.editing
        for path, problem in self._problems.items():
            text = editing.errors.get(path, "")
            problem.setText(text)
            problem.setVisible(bool(text))
        for key in editing.keys:
            why = self._idle(key)
            self._fields[key.path].setEnabled(not why and key.path not in self._fixed)
            self._helps[key.path].setText(why or key.help)
        if editing.general:
            self.told.setText(editing.general)
        elif editing.made is None:
            count = len(editing.errors)
            self.told.setText(f"{fg.counted(count, 'entry is', 'entries are')} not understood yet")
        else:
            self.told.setText(self._consequence(editing.made))
        if self._resumed:
            self.told.setText(f"{RESUMED} {self.told.text()}")
        self.apply_button.setEnabled(editing.made is not None)

    def _idle(self, key: FieldHelp) -> str:
        """Why a field does not count now: another one is set to what has no use for it."""
        for path, choices in key.only.items():
            if self.editing.texts[path] not in choices:
                other = next(one for one in self.editing.keys if one.path == path)
                words = " or ".join(f"'{other.word(choice)}'" for choice in choices)
                return f"only with {other.name.lower()} {words}"
        return ""

    # Acting

    def field(self, path: str) -> Field:
        return self._fields[path]

    def _typed(self, path: str, text: str) -> None:
        if self._filling:
            return
        self.editing.change(path, text)
        self._keep()
        self._show_state()

    def _keep(self) -> None:
        """Note what is typed by now."""
        typed = {path: text for path, text in self.editing.typed.items() if path not in self._fixed}
        if typed:
            self._kept[self._about] = typed
        else:
            self.forget()

    def forget(self) -> None:
        """What was typed has been applied, or is of no use any more."""
        self._kept.pop(self._about, None)
        self._resumed = False

    def _stepped(self, moved: bool) -> None:
        if moved:
            self._resumed = False
            self._keep()
            self._show_all()

    def _apply(self) -> None:
        made = self.editing.made
        if made is not None:
            self._send(lambda: self.applied.emit(made))

    def _send(self, send: Callable[[], None]) -> None:
        """Have something carried out; where it is refused at once, what is typed stays."""
        self._refused = False
        send()
        if not self._refused:
            self.forget()
            self.hide()

    def refuse(self, sentence: str) -> None:
        """What is being applied cannot be: the form stays, to be mended."""
        self._refused = True
        self.told.setText(sentence)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.matches(QKeySequence.StandardKey.Undo):
            self._stepped(self.editing.undo())
        elif event.matches(QKeySequence.StandardKey.Redo):
            self._stepped(self.editing.redo())
        elif event.key() == Qt.Key.Key_Escape:
            self.hide()
        else:
            super().keyPressEvent(event)

    def _import(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Import", "", "TOML (*.toml)")
        if name:
            self.import_from(Path(name))

    def import_from(self, path: Path) -> None:
        try:
            self.editing.load(load(self.editing.kind, path))
            self._keep()
            self._show_all()
        except BadInput as error:
            self.told.setText(f"{error.sentence}; nothing was changed")

    def _export(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Export", "", "TOML (*.toml)")
        if name:
            self.export_to(Path(name))

    def export_to(self, path: Path) -> None:
        made = self.editing.made
        if made is None:
            self.told.setText("Not exported: complete the form first")
            return
        try:
            save(made, path)
            self.told.setText(f"Written to {path.name}")
        except BadInput as error:
            self.told.setText(f"{error.sentence}; nothing was changed")


RESUMED = "You typed this earlier and did not apply it. Undo restores the old values."
