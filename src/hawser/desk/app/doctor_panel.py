"""What `hawser doctor` finds, in the window: for a trader who is told a fault, and for whoever is
to help."""

from __future__ import annotations

import threading

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QPlainTextEdit, QPushButton, QVBoxLayout, QWidget

from hawser.desk.common.words import Label
from hawser.service.doctor import as_text, examine


class DoctorPanel(QDialog):
    """Looks again each time it is opened; a long record takes its time, beside the window."""

    _found = pyqtSignal(str)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("What is wrong here")
        self.resize(860, 480)
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.text.setAccessibleName("What was found")
        copy, close = QPushButton("&Copy"), QPushButton("C&lose")
        foot = QHBoxLayout()
        foot.addWidget(Label("Nothing secret is in it: it may be sent to whoever is to help."))
        foot.addStretch(1)
        foot.addWidget(copy)
        foot.addWidget(close)
        box = QVBoxLayout(self)
        box.addWidget(self.text)
        box.addLayout(foot)
        copy.clicked.connect(self.copy)
        close.clicked.connect(self.hide)
        self._found.connect(self.text.setPlainText)

    def open_anew(self) -> None:
        """Look, and show what was found."""
        self.text.setPlainText("Looking \u2026")
        threading.Thread(target=self._look, name="doctor", daemon=True).start()
        self.show()
        self.raise_()

    def _look(self) -> None:
        try:
            told = as_text(list(examine()))
        except Exception as error:  # who looks for faults must not meet one of its own
            told = f"It could not be looked at: {type(error).__name__}"
        self._found.emit(told)

    def copy(self) -> None:
        board = QGuiApplication.clipboard()
        assert board is not None
        board.setText(self.text.toPlainText())
