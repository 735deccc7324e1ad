"""Thin bars across the window: the halt with its re-arming, notices, and the venue's clock at the
foot."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QWidget

from hawser.desk.common.appearance import Appearance
from hawser.desk.common.explained import explain
from hawser.desk.common.reason import ReasonField
from hawser.desk.common.timing import once
from hawser.desk.common.words import Label, plain_tip
from hawser.desk.models import figures as fg
from hawser.desk.models.first_steps import DONE, PROTECTED, FirstSteps
from hawser.desk.theme.roles import give
from hawser.service.views.snapshot import Snapshot

NOTICE_MS = 12_000
MOST_UNREAD = 50  # alarms; the Logbook has all
UNDERSTOOD = "Understood"


def _ground(widget: QWidget, height: int) -> QHBoxLayout:
    widget.setObjectName("ground")
    widget.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
    widget.setFixedHeight(height)
    row = QHBoxLayout(widget)
    row.setContentsMargins(12, 2, 12, 2)
    row.setSpacing(8)
    return row


class HaltBar(QWidget):
    """Shown while entries are halted: what was done, and the typed reason that re-arms."""

    rearm = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        row = _ground(self, 40)
        self.text = Label()
        self.text.setProperty("role", "caution")
        self.button = QPushButton("Re-arm entries")
        self.reason = ReasonField("Reason for re-arming", self.button)
        self.reason.said.connect(self.rearm)
        explain(self, "rearm", tip=False)
        explain(self.reason, "rearm")
        row.addWidget(self.text)
        row.addWidget(self.reason, 1)
        row.addWidget(self.button)
        self.hide()

    def show_snapshot(self, snapshot: Snapshot) -> None:
        if snapshot.halted != self.isVisible():
            self.setVisible(snapshot.halted)
            self.reason.clear()
        if snapshot.halted:
            left = [trade for trade in snapshot.trades if trade.open_steps]
            closing = sum(trade.leaving for trade in left)
            # An older record that was put back closes entries and leaves alone what is open.
            done = (
                f"{closing} still closing"
                if closing
                else f"{len(left)} open"
                if left
                else "nothing is open"
            )
            text = (
                f"Halted: {snapshot.halt_why}; {done}. Entries stay closed, also after a restart."
            )
            if self.text.text() != text:
                self.text.setText(text)


class FirstStepsBar(QWidget):
    """Three steps to a protected trade; `over` once the last is reached, or they are left."""

    over = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        row = _ground(self, 40)
        self.steps, self._reached = FirstSteps(), False
        self.text = Label()
        self.text.setProperty("role", "strong")
        self.text.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.leave = QPushButton("S&kip")
        self.leave.clicked.connect(self._leave)
        row.addWidget(self.text, 1)
        row.addWidget(self.leave)
        self.hide()

    def begin(self) -> None:
        """From the first step on."""
        self.steps.begin()
        self._reached = False
        self.text.setText("Three steps to a protected trade begin as soon as the account is open")
        self.leave.setText("S&kip")
        self.show()

    def show_snapshot(self, snapshot: Snapshot, symbol: str) -> None:
        if self.steps.step == DONE:
            return
        text = self.steps.look(snapshot, symbol)
        if self.text.text() != text:
            self.text.setText(text)
            self.text.setToolTip(plain_tip(text))
        if self.steps.step == PROTECTED and not self._reached:
            self._reached = True
            self.leave.setText(f"&{UNDERSTOOD}")
            self.over.emit()  # also where the window is closed without a word

    def _leave(self) -> None:
        self.steps.end()
        self.hide()
        self.over.emit()


class NoticeBar(QWidget):
    """The last thing a person must know: refusals, cautions, alarms. Cautions fade; every alarm
    stays until it is read, the newest first. A refusal answers what was just asked: it is shown
    over an alarm, which comes back behind it."""

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self._appearance = appearance
        row = _ground(self, 34)
        self.text = Label()
        self.text.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.read = QPushButton(UNDERSTOOD)
        self.read.clicked.connect(self._understood)
        row.addWidget(self.text, 1)
        row.addWidget(self.read)
        self._unread: list[str] = []
        self._timer = once(self, NOTICE_MS, self._back)
        self.hide()

    def tell(self, weight: str, text: str) -> None:
        """Show a notice; `weight` as in the engine's Tell."""
        if weight == "alarm":
            self._unread = [*(one for one in self._unread if one != text), text][-MOST_UNREAD:]
            self._back()
        elif weight == "refused" or (weight == "caution" and not self._unread):
            self._show("title", text)
            self._timer.start()

    def _back(self) -> None:
        """The newest alarm that nobody has read; nothing where all are read."""
        self._timer.stop()
        if self._unread:
            self._show("caution", self._unread[-1])
        else:
            self.hide()

    def _understood(self) -> None:
        if not self._timer.isActive() and self._unread:
            self._unread.pop()
        self._back()

    def _show(self, role: str, text: str) -> None:
        give(self.text, "role", role)
        self.text.setText(text)
        self.text.setToolTip(plain_tip(text))
        more = len(self._unread) - (role == "caution")
        self.read.setText(f"{UNDERSTOOD}, {fg.counted(more, 'more alarm')}" if more else UNDERSTOOD)
        self.show()
        self.raise_()


class FootBar(QWidget):
    """The venue's clock, how it is paced where it is a simulated one, the link, and the theme."""

    theme = pyqtSignal()

    def __init__(self, appearance: Appearance, paced: QWidget) -> None:
        super().__init__()
        self._appearance = appearance
        row = _ground(self, 34)
        self.clock, self.link, self._caption = Label(), Label(), Label()
        for label in (self.link, self._caption):
            label.setProperty("role", "second")
        self.clock.setMinimumWidth(190)
        for label, code in ((self.clock, "clock"), (self._caption, "clock"), (self.link, "link")):
            explain(label, code)
        self.themes = QPushButton("Night watch")
        self.themes.clicked.connect(self.theme)
        for part in (self._caption, self.clock, paced, self.link):
            row.addWidget(part)
        row.addStretch(1)
        finder = Label("F1  help    Ctrl+K  all commands")
        finder.setProperty("role", "second")
        row.addWidget(finder)
        row.addWidget(self.themes)
        appearance.changed.connect(self._themed)
        self._themed()

    def name_clock(self, name: str) -> None:
        self._caption.setText(name)
        self.clock.setAccessibleName(name)

    def _themed(self) -> None:
        self.themes.setText("Night watch" if self._appearance.palette.name == "paper" else "Paper")

    def show_snapshot(self, snapshot: Snapshot) -> None:
        at = fg.moment(snapshot.time, self._appearance.zone)
        text = f"{at:%a %d %b %Y  %H:%M:%S} {at.tzname()}"
        if self.clock.text() != text:
            self.clock.setText(text)
        link = "link up" if snapshot.link_up else "LINK DOWN"
        if snapshot.faults:
            link += f", {snapshot.faults} errors written down"
        if self.link.text() != link:
            self.link.setText(link)
