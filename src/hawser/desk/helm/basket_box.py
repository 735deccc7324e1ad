"""What a basket over several trades is to be, typed in one line."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QDialog, QDialogButtonBox, QLineEdit, QVBoxLayout, QWidget

from hawser.core.errors import BadInput
from hawser.core.rig import read_basket
from hawser.desk.common.words import Label
from hawser.formats.declared import as_read

HELP = (
    "A stop, a target or both, in money or percent of equity, on what these trades win or lose "
    "together from now; "
    "reached, all of them are closed. Looked at on every quote, each bar's close or each minute's "
    "end."
)


class BasketBox(QDialog):
    """One line; `typed` gives the basket once it can be read. Wrong text stays, with what was
    expected below it."""

    typed = pyqtSignal(object)

    def __init__(self, parent: QWidget, count: int) -> None:
        super().__init__(parent)
        self.setWindowTitle(f"Basket over {count} trades")
        told = Label(HELP)
        told.setWordWrap(True)
        self.line = QLineEdit("stop 1 %, target 1.5 %, every quote")
        self.line.setAccessibleName("The basket")
        self.line.selectAll()
        self.problem = Label()
        self.problem.setProperty("role", "problem")
        self.problem.setWordWrap(True)
        self.line.textEdited.connect(lambda: self.problem.setText(""))
        buttons = QDialogButtonBox()
        lay = buttons.addButton("Lay it", QDialogButtonBox.ButtonRole.AcceptRole)
        keep = buttons.addButton("Leave them as they are", QDialogButtonBox.ButtonRole.RejectRole)
        assert lay is not None
        assert keep is not None
        lay.setDefault(True)
        buttons.accepted.connect(self._accept)
        buttons.rejected.connect(self.reject)
        box = QVBoxLayout(self)
        for widget in (told, self.line, self.problem, buttons):
            box.addWidget(widget)
        self.setMinimumWidth(460)

    def _accept(self) -> None:
        try:
            basket = as_read(read_basket(self.line.text()))
        except BadInput as error:
            self.problem.setText(error.text)
            return
        self.typed.emit(basket)
        self.accept()
