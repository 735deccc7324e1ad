"""A table of whole lines: its copy key takes rows, Enter chooses one."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QKeySequence
from PyQt6.QtWidgets import QTableView


class LineTable(QTableView):
    """Says when lines are to be copied, and when Enter was pressed on one."""

    copied = pyqtSignal()
    entered_row = pyqtSignal()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.matches(QKeySequence.StandardKey.Copy):
            self.copied.emit()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.currentIndex().isValid():
            self.entered_row.emit()
        else:
            super().keyPressEvent(event)
