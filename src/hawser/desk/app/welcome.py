"""What a bare `hawser` shows where nothing was opened before: the demo, a history of one's own, or
an empty account. A file that is wrong is told here."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import NamedTuple

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QApplication, QDialog, QPushButton, QStackedWidget, QVBoxLayout, QWidget

from hawser.core.account import Account
from hawser.core.errors import HawserError
from hawser.core.instrument import Instrument
from hawser.desk.app.empty_account import EmptyAccountPage
from hawser.desk.app.explainer import Explainer
from hawser.desk.app.history_page import HistoryPage
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.dropping import dropped_files
from hawser.desk.common.words import Label
from hawser.desk.models.own_history import OwnHistory
from hawser.desk.theme.palette import qt_palette, stylesheet
from hawser.formats.importing.head import warm_up
from hawser.formats.importing.importing import Imported
from hawser.service.profiles.last_opened import OpenedFiles
from hawser.service.profiles.recipes import Recipes

CHOICES = (
    (
        "demo",
        "&Look at the demo",
        "A made-up market that runs by itself, with trades that are open. Nothing in it is real.",
    ),
    (
        "history",
        "Open a history of your &own",
        "Bars or quotes from a file of any program. They are replayed, and you trade in them.",
    ),
    (
        "account",
        "Begin with an &empty account",
        "The demo's made-up market with your own money and risk. No trade is open yet.",
    ),
)


class Keeping(NamedTuple):
    """What keeps what was made: each gives what is to be opened, and raises a HawserError where it
    cannot be written."""

    history: Callable[[Imported, Instrument, Account], OpenedFiles]
    account: Callable[[Account], OpenedFiles]
    recipes: Recipes


class WelcomePage(QDialog):
    """`opened` is what was chosen, once it is accepted."""

    _done = pyqtSignal(object)

    def __init__(self, appearance: Appearance, keeping: Keeping, told: str = "") -> None:
        super().__init__()
        self._keeping = keeping
        self.opened: OpenedFiles | None = None
        QApplication.setPalette(qt_palette(appearance.palette))
        self.setProperty("theme", appearance.palette.name)
        self.setStyleSheet(stylesheet())
        self.setWindowTitle("Hawser")
        self.setMinimumSize(860, 560)
        self.resize(980, 640)
        self.setAcceptDrops(True)
        self.history = HistoryPage(keeping.recipes)
        self.account = EmptyAccountPage()
        self.buttons: dict[str, QPushButton] = {}
        self.pages = QStackedWidget()
        for page in (self._first_page(told), self.history, self.account):
            self.pages.addWidget(page)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.pages)
        for page in (self.history, self.account):
            page.back.connect(lambda: self._show_page(0))
        self.history.wanted.connect(self._read)
        self.account.wanted.connect(self._keep_account)
        self._done.connect(self._finished)
        self.help = Explainer(self, appearance)
        self._reading: threading.Thread | None = None
        self._warming = threading.Thread(target=warm_up, name="readers", daemon=True)
        self._warming.start()

    def settle(self) -> None:
        """Wait until nothing is loaded or read any more: a process must not end under a library
        that is at work."""
        for thread in (self._warming, self._reading):
            if thread is not None:
                thread.join()

    def _first_page(self, told: str) -> QWidget:
        page = QWidget()
        rows = QVBoxLayout(page)
        rows.setContentsMargins(56, 44, 56, 44)
        rows.setSpacing(4)
        title = Label("Hawser")
        title.setProperty("role", "big")
        rows.addWidget(title)
        rows.addWidget(
            Label("Sizes each position, keeps its stop at the venue, tends it while you are away.")
        )
        self.told = Label(told)
        self.told.setProperty("role", "caution")
        self.told.setWordWrap(True)
        self.told.setVisible(bool(told))
        rows.addWidget(self.told)
        rows.addSpacing(28)
        for of, text, sentence in CHOICES:
            button = self.buttons[of] = QPushButton(text)
            button.setMinimumSize(340, 40)
            button.setAccessibleDescription(sentence)
            button.clicked.connect(lambda _, of=of: self.begin(of))
            rows.addWidget(button, 0, Qt.AlignmentFlag.AlignLeft)
            said = Label(sentence)
            said.setProperty("role", "second")
            said.setWordWrap(True)
            rows.addWidget(said)
            rows.addSpacing(20)
        rows.addStretch(1)
        foot = Label("Drop a file of bars or quotes here. The next start opens what was open last.")
        foot.setProperty("role", "small-second")
        rows.addWidget(foot)
        return page

    def begin(self, of: str) -> None:
        """One of the three."""
        if of == "demo":
            self.opened = OpenedFiles(of="demo")
            self.accept()
            return
        self._show_page(1 if of == "history" else 2)
        if of == "history" and not self.history.own.paths:
            self.history.choose_files()

    def _show_page(self, number: int) -> None:
        self.pages.setCurrentIndex(number)
        page = self.pages.currentWidget()
        first = self.buttons["demo"] if number == 0 else page
        if first is not None:
            first.setFocus()

    # Files that are dropped

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        if event is not None and dropped_files(event):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        if event is not None:
            self.show_files(dropped_files(event))

    def show_files(self, paths: Sequence[Path]) -> None:
        """Files, as they would be read."""
        if paths:
            self._show_page(1)
            self.history.take_files(paths)

    # Keeping what was made

    def _read(self, own: OwnHistory) -> None:
        """A long file takes its time: beside the window, which says so."""
        self.history.set_busy(True)

        def work() -> None:
            try:
                made = own.read()
                odd = own.to_be_told(made[0])
                found: OpenedFiles | HawserError | list[str]
                found = odd or self._keeping.history(*made)
            except HawserError as error:
                found = error
            self._done.emit(found)

        self._reading = threading.Thread(target=work, name="import", daemon=True)
        self._reading.start()

    def _finished(self, found: OpenedFiles | HawserError | list[str]) -> None:
        self.history.set_busy(False)
        if isinstance(found, list):
            self.history.tell_odd(found)
            return
        if isinstance(found, HawserError):
            self.history.show_own()
            self.history.tell(found.sentence)
            return
        self.opened = found
        self.accept()

    def _keep_account(self, account: Account) -> None:
        try:
            self.opened = self._keeping.account(account)
        except HawserError as error:
            self.account.tell(error.sentence)
            return
        self.accept()
