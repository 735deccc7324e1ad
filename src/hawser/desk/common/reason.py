"""Where a person types why entries may be made again."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QLineEdit, QPushButton

LEAST = 3  # signs: a word


class ReasonField(QLineEdit):
    """The reason, with the button that sends it; Enter does too, once there is one."""

    said = pyqtSignal(str)

    def __init__(self, name: str, button: QPushButton) -> None:
        super().__init__()
        self.setPlaceholderText("Why is it safe to trade again?")
        self.setAccessibleName(name)
        button.setEnabled(self.given)
        self.textChanged.connect(lambda _: button.setEnabled(self.given))
        self.returnPressed.connect(self._send)
        button.clicked.connect(self._send)

    @property
    def given(self) -> bool:
        return len(self.text().strip()) >= LEAST

    def _send(self) -> None:
        if self.given:
            self.said.emit(self.text())
