"""The command finder: everything that can be done, found by a few letters; behind it what the help
says about them."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from hawser.desk.common.appearance import Appearance
from hawser.desk.common.explained import explain
from hawser.desk.common.list_rows import ONE_PX, NamedRows
from hawser.desk.common.overlay import Overlay

TOP, AROUND, MOST_PX = 72, 56, 440  # px: below the window's top; field and borders; at most


class Action(NamedTuple):
    """What is done, its keys (for people to learn), and how."""

    text: str
    keys: str
    run: Callable[[], object]


def matches(text: str, words: str) -> bool:
    """Every word typed begins a word of the action's text."""
    parts, typed = (one.lower().replace("/", " ").split() for one in (text, words))
    return all(any(part.startswith(word) for part in parts) for word in typed)


def nearness(text: str, words: str) -> int:
    """How well what is typed names the action; the least first: Enter must do what was meant."""
    plain, typed = text.lower(), words.lower().split()
    if not typed or plain.startswith(" ".join(typed)):
        return 0
    if plain.endswith(f"instrument: {' '.join(typed)}"):  # its name alone
        return 0
    return 1 if plain.startswith(typed[0]) else 2


class Finder(Overlay):
    """A panel over the window; Escape or leaving it puts it away."""

    def __init__(
        self,
        parent: QWidget,
        actions: Callable[[], list[Action]],
        helps: Callable[[str], list[Action]],
        appearance: Appearance,
    ) -> None:
        super().__init__(parent)
        self._actions, self._helps = actions, helps
        self._found: list[Action] = []
        self.field, self.list = QLineEdit(), QListWidget()
        self.list.setItemDelegate(NamedRows(appearance))
        self.list.setUniformItemSizes(True)
        self.field.setPlaceholderText("What do you want to do?")
        self.field.setAccessibleName("Command finder")
        explain(self.field, "finder")
        self.field.textChanged.connect(self._find)
        self.list.itemActivated.connect(lambda _: self._run())
        self.list.itemClicked.connect(lambda _: self._run())
        self.field.installEventFilter(self)
        box = QVBoxLayout(self)
        box.setContentsMargins(8, 8, 8, 8)
        box.addWidget(self.field)
        box.addWidget(self.list)
        self.hide()

    def open(self) -> None:
        parent = self.parentWidget()
        assert parent is not None
        self.field.clear()
        self._find("")
        self.show()
        self.raise_()
        self.field.setFocus()

    def _find(self, words: str) -> None:
        found = [action for action in self._actions() if matches(action.text, words)]
        self._found = sorted(found, key=lambda action: nearness(action.text, words))
        self._found += self._helps(words) if words.strip() else []
        self.list.clear()
        for action in self._found:
            self.list.addItem(
                QListWidgetItem(f"{action.text}    {action.keys}" if action.keys else action.text)
            )
        if not self._found:
            item = QListWidgetItem("No command and no page of the help has that name")
            item.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(item)
        self.list.setCurrentRow(0)
        self._fit()

    def _fit(self) -> None:
        """As tall as the list, where that has room."""
        parent = self.parentWidget()
        assert parent is not None
        width = min(520, parent.width() - 40)
        wanted = self.list.count() * ONE_PX + AROUND
        height = min(wanted, MOST_PX, parent.height() - TOP - 40)
        self.setGeometry((parent.width() - width) // 2, TOP, width, height)

    def _run(self) -> None:
        row = self.list.currentRow()
        self.hide()
        if 0 <= row < len(self._found):
            self._found[row].run()

    # QObject, QEvent
    def eventFilter(self, watched, event) -> bool:  # type: ignore[no-untyped-def]
        if event.type() == event.Type.FocusOut and not self.list.hasFocus():
            self.hide()
        if event.type() == event.Type.KeyPress and isinstance(event, QKeyEvent):
            step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()), 0)
            if step:
                self.list.setCurrentRow(
                    min(max(0, self.list.currentRow() + step), self.list.count() - 1)
                )
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._run()
                return True
            if event.key() == Qt.Key.Key_Escape:
                self.hide()
                return True
        return bool(super().eventFilter(watched, event))
