"""The accounts side by side, where there are several: each in short, the one that is shown, and all
in sum."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QWidget

from hawser.desk.common.explained import explain
from hawser.desk.common.words import Label, plain_tip
from hawser.desk.theme.roles import give


class AccountsBar(QWidget):
    """Under the waterline; one button for each account (Ctrl+1, Ctrl+2, ...)."""

    chosen = pyqtSignal(int)

    def __init__(self, names: list[str]) -> None:
        super().__init__()
        self.setObjectName("ground")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(34)
        self.buttons: list[QPushButton] = []
        self._group = QButtonGroup(self)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 3, 12, 3)
        row.setSpacing(8)
        for number, name in enumerate(names):
            button = QPushButton(name)
            button.setCheckable(True)
            button.setAccessibleName(f"Account {name}")
            button.setToolTip(plain_tip(f"Show this account (Ctrl+{number + 1})"))
            explain(button, "account")
            button.clicked.connect(lambda _, number=number: self.chosen.emit(number))
            self._group.addButton(button)
            self.buttons.append(button)
            row.addWidget(button)
        row.addStretch(1)
        self.sum = Label()
        self.sum.setProperty("role", "second")
        row.addWidget(self.sum)
        self.setVisible(len(names) > 1)

    def show_accounts(
        self, words: list[str], alarming: list[bool], at: int, sum_words: str
    ) -> None:
        for number, button in enumerate(self.buttons):
            role = "sure" if alarming[number] and number != at else ""
            if button.text() != words[number]:
                button.setText(words[number])
            give(button, "role", role)
            button.setChecked(number == at)
        if self.sum.text() != sum_words:
            self.sum.setText(sum_words)
