"""An account of one's own in the demo's market: three figures, and no trade yet."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from hawser.core.account import Account
from hawser.core.errors import BadInput
from hawser.desk.common.explained import explain_later
from hawser.desk.common.words import Label
from hawser.desk.models.own_account import in_money, own_account
from hawser.desk.models.topics.topic import topic_of_key

CURRENCY = "CHF"  # what the demo's market has rates to

KEYS = ("name", "equity", "size.percent")  # what is asked for, as its file calls it


class EmptyAccountPage(QWidget):
    """Says what one trade risks, in money, while it is typed."""

    back, wanted = pyqtSignal(), pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.name, self.equity = QLineEdit("Own"), QLineEdit("10000")
        self.percent = QLineEdit("0.5")
        rows = QVBoxLayout(self)
        rows.setContentsMargins(56, 44, 56, 44)
        title = Label("An empty account")
        title.setProperty("role", "big")
        rows.addWidget(title)
        rows.addWidget(Label("In the demo's made-up market. All of it can be changed later."))
        rows.addSpacing(20)
        grid = QGridLayout()
        grid.setVerticalSpacing(12)
        for row, (text, field, unit) in enumerate(
            (
                ("&Name", self.name, ""),
                ("&Money in it", self.equity, CURRENCY),
                ("&Risk of one trade", self.percent, "% of it"),
            )
        ):
            label = Label(text)
            label.setBuddy(field)
            field.setFixedWidth(180)
            explain_later(field, partial(topic_of_key, Account, KEYS[row], "The first start"))
            field.textChanged.connect(self._say)
            field.returnPressed.connect(self._want)
            grid.addWidget(label, row, 0)
            grid.addWidget(field, row, 1)
            grid.addWidget(Label(unit), row, 2)
        grid.setColumnStretch(3, 1)
        rows.addLayout(grid)
        rows.addSpacing(12)
        self.said = Label()
        self.said.setWordWrap(True)
        self.wrong = Label()
        self.wrong.setProperty("role", "caution")
        self.wrong.setWordWrap(True)
        rows.addWidget(self.said)
        rows.addWidget(self.wrong)
        rows.addStretch(1)
        self.go = QPushButton("&Open the account")
        self.go.setProperty("role", "place")
        back = QPushButton("&Back")
        foot = QHBoxLayout()
        foot.addWidget(back)
        foot.addStretch(1)
        foot.addWidget(self.go)
        rows.addLayout(foot)
        back.clicked.connect(self.back)
        self.go.clicked.connect(self._want)
        self.setFocusProxy(self.equity)
        self._say()

    def made(self) -> Account:
        """Raises BadInput, in words."""
        return own_account(self.name.text(), CURRENCY, self.equity.text(), self.percent.text())

    def _say(self) -> None:
        self.wrong.setText("")
        try:
            account = self.made()
        except BadInput as error:
            self.said.setText("")
            self.wrong.setText(error.sentence)
            self.go.setEnabled(False)
            return
        self.go.setEnabled(True)
        self.said.setText(in_money(account))

    def tell(self, sentence: str) -> None:
        self.wrong.setText(sentence)

    def _want(self) -> None:
        if self.go.isEnabled():
            self.wanted.emit(self.made())
