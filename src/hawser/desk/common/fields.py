"""The fields of a form, one for each kind of value. All give and take the text that a file would
have, and show words.

A line of text; a choice; on or off; a set of boxes; a line beside a list of what is known.
"""

from __future__ import annotations

from collections.abc import Callable

import msgspec
from PyQt6.QtCore import QPoint, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import (
    QCheckBox,
    QHBoxLayout,
    QLineEdit,
    QMenu,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from hawser.core.field_help import FieldHelp
from hawser.desk.common.choice import Choice

Known = Callable[[], list[str]]  # what may be picked for a field, asked for when its list is opened
LINE_WIDE, BUTTON_WIDE = 150, 24  # pixels


class LineField(QLineEdit):
    """A value that is typed."""

    edited = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setFixedWidth(LINE_WIDE)
        self.textEdited.connect(self.edited)

    def value(self) -> str:
        return self.text()

    def set_value(self, text: str) -> None:
        if self.text() != text:
            self.setText(text)


class ChoiceField(Choice):
    """One of a few."""

    edited = pyqtSignal(str)

    def __init__(self, key: FieldHelp) -> None:
        super().__init__()
        for choice in key.choices:
            self.addItem(key.word(choice), choice)
        self.currentIndexChanged.connect(lambda _: self.edited.emit(self.value()))

    def value(self) -> str:
        return str(self.currentData())

    def set_value(self, text: str) -> None:
        self.setCurrentIndex(max(0, self.findData(text)))


class SwitchField(QCheckBox):
    """On or off."""

    edited = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__("off")
        self.toggled.connect(self._toggled)

    def _toggled(self, on: bool) -> None:
        self.setText("on" if on else "off")
        self.edited.emit(self.value())

    def value(self) -> str:
        return "yes" if self.isChecked() else "no"

    def set_value(self, text: str) -> None:
        self.setChecked(text == "yes")


class BoxesField(QWidget):
    """Any of a few, each a box."""

    edited = pyqtSignal(str)

    def __init__(self, key: FieldHelp) -> None:
        super().__init__()
        self.boxes = {choice: QCheckBox(key.word(choice)) for choice in key.choices}
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        for box in self.boxes.values():
            box.toggled.connect(lambda _: self.edited.emit(self.value()))
            column.addWidget(box)
        self.setFocusProxy(next(iter(self.boxes.values())))

    def value(self) -> str:
        return ", ".join(choice for choice, box in self.boxes.items() if box.isChecked())

    def set_value(self, text: str) -> None:
        chosen = _parts(text)
        for choice, box in self.boxes.items():
            box.setChecked(choice in chosen)


class PicksField(QWidget):
    """Names that are typed, or picked from a list of those that are known; `many`: several, with
    commas between."""

    edited = pyqtSignal(str)

    def __init__(self, known: Known, many: bool) -> None:
        super().__init__()
        self._known, self._many = known, many
        self.line, self.button = LineField(), QToolButton()
        self.button.setText("\u2026")
        self.button.setFixedSize(BUTTON_WIDE, BUTTON_WIDE)
        self.button.clicked.connect(self.open_list)
        self.line.edited.connect(self.edited)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        row.addWidget(self.line)
        row.addWidget(self.button)
        self.setFocusProxy(self.line)

    def setAccessibleName(self, name: str) -> None:
        super().setAccessibleName(name)
        self.line.setAccessibleName(name)
        self.button.setAccessibleName(f"{name}: pick from a list")

    def value(self) -> str:
        return self.line.text()

    def set_value(self, text: str) -> None:
        self.line.set_value(text)

    def selectAll(self) -> None:
        self.line.selectAll()

    def open_list(self) -> None:
        """What is known, with a tick at what is chosen."""
        menu, chosen = QMenu(self), _parts(self.value())
        names = self._known()
        for name in [*names, *(one for one in chosen if one not in names)]:
            action = menu.addAction(name.replace("&", "&&"))
            assert action is not None
            action.setCheckable(True)
            action.setChecked(name in chosen)
            action.triggered.connect(lambda _, name=name: self._pick(name))
        if menu.isEmpty():
            nothing = menu.addAction("none is known yet")
            assert nothing is not None
            nothing.setEnabled(False)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(self.mapToGlobal(QPoint(0, self.height())))

    def _pick(self, name: str) -> None:
        chosen = _parts(self.value()) if self._many else []
        text = (
            ", ".join(one for one in chosen if one != name)
            if name in chosen
            else ", ".join([*chosen, name])
        )
        self.line.set_value(text)
        self.edited.emit(text)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Down:  # the line has no use for it
            self.open_list()
        else:
            super().keyPressEvent(event)


Field = LineField | ChoiceField | SwitchField | BoxesField | PicksField


def field_of(key: FieldHelp, known: Known | None = None) -> Field:
    """The field for a key; `known`: what may be picked for it, where that is a list."""
    several = isinstance(key.type, msgspec.inspect.VarTupleType)
    if isinstance(key.type, msgspec.inspect.BoolType):
        return SwitchField()
    if key.choices:
        return BoxesField(key) if several else ChoiceField(key)
    return LineField() if known is None else PicksField(known, several)


def _parts(text: str) -> list[str]:
    return [part.strip() for part in text.split(",") if part.strip()]
