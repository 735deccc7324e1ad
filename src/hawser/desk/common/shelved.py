"""What stations have in common whose things are kept by name, each in a file: the list, and the
editor below name and note. New, copy, delete, rename, from and to file, undo; what is typed and
makes nothing yet is remembered."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, ClassVar, Generic, Protocol, TypeVar

import msgspec
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QHideEvent, QKeyEvent, QStandardItemModel
from PyQt6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from hawser.core.errors import BadInput
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.explained import explain
from hawser.desk.common.list_rows import NamedRows
from hawser.desk.common.station import StationView
from hawser.desk.common.timing import once
from hawser.desk.common.words import Label, plain_tip
from hawser.desk.models.drafting import Texts
from hawser.service.profiles.shelf import Kept as Record
from hawser.service.profiles.shelf import Shelf

LEAST_EDITOR = 340  # pixels: the widest blank with its title
WRITE_MS = 400  # after the last change
NONE = "beside: none"


class ShelvedDraft(Protocol):
    """One that is being edited."""

    note: str
    texts: Any

    @property
    def made(self) -> Any | None:
        """The record; None while something is wrong."""

    @property
    def can(self) -> tuple[bool, bool]:
        """Whether there is something to undo, and to redo."""

    def take(self, texts: Any) -> bool:
        """What was typed before, as it was; False where that does not fit."""


Drafted = TypeVar("Drafted", bound=ShelvedDraft)


class Words(msgspec.Struct, frozen=True):
    """What a station calls what it keeps, and the topics that explain it."""

    one: str  # "rig"
    new: str  # what a new one holds, for the button's tip
    list_topic: str
    name_topic: str
    note_topic: str
    note_key: str  # in its file
    longest_name: int
    longest_note: int

    @property
    def many(self) -> str:
        return f"{self.one[:1].upper()}{self.one[1:]}s"


def flat_button(text: str, tip: str, act: Callable[[], object]) -> QPushButton:
    button = QPushButton(text)
    button.setProperty("role", "flat")
    button.setToolTip(tip)
    button.clicked.connect(lambda _: act())
    return button


def pane() -> tuple[QFrame, QVBoxLayout]:
    """A panel of a station, and what goes into it."""
    found = QFrame()
    found.setObjectName("panel")
    box = QVBoxLayout(found)
    box.setContentsMargins(1, 1, 1, 1)
    box.setSpacing(2)
    return found, box


def head(text: str) -> QHBoxLayout:
    """The line above a panel, with its title."""
    row = QHBoxLayout()
    row.setContentsMargins(10, 4, 6, 2)
    row.setSpacing(4)
    title = Label(text)
    title.setProperty("role", "title")
    row.addWidget(title)
    row.addStretch(1)
    return row


class Shelved(StationView, Generic[Record, Drafted]):
    """Works on a shelf. `changed` tells that one is another now; `told` is for the notice bar."""

    changed = pyqtSignal()
    told = pyqtSignal(str)

    WORDS: ClassVar[Words]

    def __init__(self, appearance: Appearance, shelf: Shelf[Record], editor: Any) -> None:
        """`editor` shows a draft, and tells that it has `changed`."""
        super().__init__()
        self.shelf, self.editor = shelf, editor
        self.drafts: dict[str, Drafted] = {}
        self.name = ""
        self._gone: list[Record] = []  # deleted, newest last
        self._write = once(self, WRITE_MS, self.write_down)
        self.list_pane, self.edit_pane = self._list_pane(appearance), self._edit_pane()
        self.edit_pane.setMinimumWidth(LEAST_EDITOR)
        self.editor.changed.connect(self._edited)

    def begin(self, unfinished: dict[str, Texts]) -> None:
        """Show what there is, the first one chosen; with what was typed when Hawser closed."""
        self.list_all(next(iter(sorted(self.shelf.all)), ""))
        self.take_unfinished(unfinished)

    # What each kind of station says of its own

    def draft_of(self, one: Record) -> Drafted:
        raise NotImplementedError

    def first(self, name: str) -> Record:
        """A new one."""
        raise NotImplementedError

    def in_short(self, one: Record) -> str:
        """For its row in the list."""
        raise NotImplementedError

    def in_full(self, one: Record) -> str:
        """For the tip of that row."""
        raise NotImplementedError

    def used(self, name: str) -> str:
        """What stands behind its name in the list."""
        return ""

    def foot(self) -> QWidget | None:
        """What stands below the editor."""
        return None

    def shown_anew(self) -> None:
        """Another one is in the editor."""

    def edited(self) -> None:
        """The one in the editor has changed."""

    # Panes

    def _list_pane(self, appearance: Appearance) -> QFrame:
        words = self.WORDS
        found, box = pane()
        row = head(words.many)
        row.addWidget(flat_button("New", words.new, self.new))
        row.addWidget(flat_button("From file", f"A {words.one} from a TOML file", self._import))
        box.addLayout(row)
        self.list = QListWidget()
        self.list.setItemDelegate(NamedRows(appearance))
        self.list.setAccessibleName(words.many)
        explain(self.list, words.list_topic, tip=False)
        self.list.currentItemChanged.connect(self._picked)
        box.addWidget(self.list, 1)
        return found

    def _edit_pane(self) -> QFrame:
        words = self.WORDS
        found, box = pane()
        self.title = QLineEdit()
        self.title.setAccessibleName(f"Name of the {words.one}")
        explain(self.title, words.name_topic)
        self.title.editingFinished.connect(self._rename)
        row = QHBoxLayout()
        row.setContentsMargins(8, 6, 8, 2)
        row.addWidget(self.title, 1)
        box.addLayout(row)
        self.note = QLineEdit()
        self.note.setPlaceholderText("What it is for")
        self.note.setAccessibleName(f"What the {words.one} is for")
        explain(self.note, words.note_topic, tip=False)  # the tip is the whole note
        self.note.setMaxLength(words.longest_note)
        self.note.textEdited.connect(self._noted)
        line = QHBoxLayout()
        line.setContentsMargins(8, 0, 8, 0)
        line.addWidget(self.note)
        box.addLayout(line)
        acts = QHBoxLayout()
        acts.setContentsMargins(4, 0, 4, 0)
        acts.setSpacing(0)
        self.undo_button = flat_button("Undo", "Ctrl+Z", self.undo)
        self.redo_button = flat_button("Redo", "Ctrl+Shift+Z", self.editor.redo)
        for button in (
            self.undo_button,
            self.redo_button,
            flat_button("Copy", f"The same {words.one} under another name", self.duplicate),
            flat_button("Delete", f"Delete this {words.one}; Undo restores it", self.delete),
            flat_button("To file", "Save it as a TOML file", self._export),
        ):
            acts.addWidget(button)
        acts.addStretch(1)
        box.addLayout(acts)
        box.addWidget(self.editor, 1)
        foot = self.foot()
        if foot is not None:
            below = QHBoxLayout()
            below.setContentsMargins(8, 2, 8, 6)
            below.addWidget(foot)
            box.addLayout(below)
        return found

    # The list

    def list_all(self, chosen: str) -> None:
        """Every one anew, and `chosen` in the editor."""
        self.list.blockSignals(True)
        self.list.clear()
        for name in sorted(self.shelf.all):
            one = self.shelf.all[name]
            item = QListWidgetItem(f"{name}{self.used(name)}\n{self.in_short(one)}")
            item.setData(Qt.ItemDataRole.UserRole, name)
            item.setToolTip(plain_tip(self.in_full(one)))
            self.list.addItem(item)
            if name == chosen:
                self.list.setCurrentItem(item)
        self.list.blockSignals(False)
        self.show_one(chosen)

    def _picked(self, item: QListWidgetItem | None) -> None:
        if item is not None:
            self.show_one(item.data(Qt.ItemDataRole.UserRole))

    def show_one(self, name: str) -> None:
        """Bring one into the editor; what was typed into another stays there."""
        self.write_down()
        self.changing.emit()
        self.name = name
        one = self.shelf.all.get(name)
        for part in (self.editor, self.title, self.note):
            part.setEnabled(one is not None)
        if one is None:
            self.title.setText("")
            self.title.setPlaceholderText(f"No {self.WORDS.one} yet: New makes one")
            self.note.setText("")
            self.shown_anew()
            return
        draft = self.drafts.get(name)
        if draft is None:
            draft = self.drafts[name] = self.draft_of(one)
        self.title.setText(name)
        self.note.setText(draft.note)
        self.note.setCursorPosition(0)
        self.note.setToolTip(plain_tip(draft.note))
        self.editor.show_draft(draft)
        self.show_acts()
        self.shown_anew()

    @property
    def draft(self) -> Drafted | None:
        """What is in the editor."""
        return self.drafts.get(self.name)

    @property
    def shown(self) -> Record | None:
        """What is in the editor, as it was last complete."""
        draft = self.draft
        if draft is not None and draft.made is not None:
            return self.made_of(draft)
        return self.shelf.all.get(self.name)

    def new(self) -> None:
        self._add(self.first(self._free(f"New {self.WORDS.one}")))

    def duplicate(self) -> None:
        one = self.shelf.all.get(self.name)
        if one is not None:
            self._add(self._named(one, self._free(f"{one.name} copy")))

    def _named(self, one: Record, name: str) -> Record:
        """The same under another name; raises BadInput where that can be none."""
        return msgspec.structs.replace(one, name=name)  # type: ignore[type-var]  # all are Structs

    def _free(self, name: str) -> str:
        """A name like it that none has, and that is not too long for one."""
        longest = self.WORDS.longest_name
        number, found = 2, name[:longest]
        while found in self.shelf.all:
            end, number = f" {number}", number + 1
            found = name[: longest - len(end)] + end
        return found

    def _add(self, one: Record) -> None:
        if self._put(one):
            self.list_all(one.name)
            self.title.setFocus()
            self.title.selectAll()
            self.changed.emit()

    def _put(self, one: Record) -> bool:
        try:
            self.shelf.put(one)
        except BadInput as error:
            word = self.WORDS.one
            self.told.emit(f"{error.sentence}; the {word} is kept here until Hawser closes")
            return False
        return True

    def _drop(self, name: str) -> bool:
        try:
            self.shelf.drop(name)
        except BadInput as error:
            self.told.emit(error.sentence)
            return False
        return True

    def delete(self) -> None:
        """Forget the one that is shown; Undo brings the last one back."""
        one = self.shelf.all.get(self.name)
        if one is None or not self._drop(one.name):
            return
        self._gone.append(one)
        self.drafts.pop(one.name, None)
        names = sorted(self.shelf.all)
        after = [name for name in names if name > one.name]
        self.list_all((after or names or [""])[0])
        self.told.emit(f"{one.name} was deleted; {self.kept_by()}Undo brings it back")
        self.changed.emit()

    def kept_by(self) -> str:
        """Who keeps what is deleted, and a semicolon."""
        return ""

    def undo(self) -> None:
        """The last change of this one; where there is none, the one that was deleted last."""
        draft = self.draft
        if draft is not None and draft.can[0]:
            self.editor.undo()
        elif self._gone:
            one = self._gone.pop()
            self._add(self._named(one, self._free(one.name)))

    def _rename(self) -> None:
        new, one = self.title.text().strip(), self.shelf.all.get(self.name)
        if one is None or new == one.name:
            return
        word = self.WORDS.one
        if not new or new in self.shelf.all:
            self.told.emit(
                f"A {word} needs a name of its own"
                if not new
                else f"There is a {word} named {new} already"
            )
            self.title.setText(one.name)
            return
        self.write_down()
        try:
            renamed = self._named(self.shelf.all[one.name], new)
        except BadInput as error:
            self.told.emit(error.sentence)
            self.title.setText(one.name)
            return
        if not self._put(renamed):
            return
        self.drafts[new] = self.drafts.pop(one.name)
        self._drop(one.name)
        self.list_all(new)
        self.changed.emit()

    def _noted(self, text: str) -> None:
        draft = self.draft
        if draft is not None:
            draft.note = text
            self._write.start()

    # Editing

    def _edited(self) -> None:
        self.show_acts()
        self._write.start()
        self.edited()

    def show_acts(self) -> None:
        """What can be done with the one that is shown."""
        draft = self.draft
        can = draft.can if draft is not None else (False, False)
        self.undo_button.setEnabled(can[0] or bool(self._gone))
        self.redo_button.setEnabled(can[1])

    def write_down(self) -> None:
        """Keep what was edited, where it makes one."""
        self._write.stop()
        draft = self.draft
        if draft is None or draft.made is None:
            return
        made = self.made_of(draft)
        if made != self.shelf.all.get(self.name) and self._put(made):
            # another may be picked already
            for item in map(self.list.item, range(self.list.count())):
                if item is not None and item.data(Qt.ItemDataRole.UserRole) == self.name:
                    item.setText(f"{item.text().partition(chr(10))[0]}\n{self.in_short(made)}")
                    item.setToolTip(plain_tip(self.in_full(made)))
            self.changed.emit()

    def made_of(self, draft: Drafted) -> Record:
        """What a draft makes, under its name and with its note."""
        made = draft.made
        assert made is not None
        under = {"name": self.name, self.WORDS.note_key: draft.note}
        return msgspec.structs.replace(made, **under)  # type: ignore[no-any-return]

    def unfinished(self) -> dict[str, Texts]:
        """What is typed and makes none yet, to be remembered."""
        return {name: draft.texts for name, draft in self.drafts.items() if draft.made is None}

    def take_unfinished(self, texts: dict[str, Texts]) -> None:
        """What was typed when Hawser closed."""
        for name, rows in texts.items():
            one = self.shelf.all.get(name)
            if one is None:
                continue
            draft = self.draft_of(one)
            if draft.take(rows):
                self.drafts[name] = draft
        self.show_one(self.name)

    # Files

    def _import(self) -> None:
        title = f"A {self.WORDS.one} from a file"
        name, _ = QFileDialog.getOpenFileName(self, title, "", "TOML (*.toml)")
        if name:
            self.import_from(Path(name))

    def import_from(self, path: Path) -> None:
        """Take one in from its file."""
        try:
            one = self.shelf.load(path)
            named = self._named(one, self._free(one.name or path.stem))
        except BadInput as error:
            self.told.emit(f"{error.sentence}; nothing was changed")
            return
        self._add(named)

    def _export(self) -> None:
        title = f"The {self.WORDS.one} as a file"
        name, _ = QFileDialog.getSaveFileName(self, title, f"{self.name}.toml", "TOML (*.toml)")
        if name:
            self.export_to(Path(name))

    def export_to(self, path: Path) -> None:
        """Write the one that is shown as it was last complete."""
        self.write_down()
        try:
            self.shelf.save(self.shelf.all[self.name], path)
            self.told.emit(f"Written to {path.name}")
        except BadInput as error:
            self.told.emit(f"{error.sentence}; nothing was changed")

    def leave(self) -> None:
        self.write_down()

    def hideEvent(self, event: QHideEvent | None) -> None:
        super().hideEvent(event)
        self.write_down()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() == Qt.Key.Key_Delete and self.list.hasFocus():
            if not event.isAutoRepeat():
                self.delete()
        else:
            super().keyPressEvent(event)


def offer_beside(choice: QComboBox, names: list[str], but: str) -> None:
    """The names to lay one beside, of which `but` is the one that is shown; the choice stays where
    it still can."""
    chosen = choice.currentText()
    choice.blockSignals(True)
    choice.clear()
    choice.addItems([NONE, *names])
    choice.setCurrentText(chosen if chosen in names else NONE)
    choice.blockSignals(False)
    bar_from(choice, but)


def bar_from(choice: QComboBox, name: str) -> None:
    """It is not laid beside itself."""
    model = choice.model()
    assert isinstance(model, QStandardItemModel)
    for row in range(choice.count()):
        item = model.item(row)
        assert item is not None
        item.setEnabled(item.text() != name)
