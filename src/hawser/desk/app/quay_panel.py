"""The Quay panel: the simulated venue's weather, as a severity or fault by fault, and gusts made at
once.

Every field is declared once, in `venue/quay/weather.py`; from there come its name, unit and help.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import msgspec
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import (
    QButtonGroup,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from hawser.core.clock import SECOND
from hawser.core.errors import BadInput
from hawser.core.field_help import keys_of
from hawser.desk.common.explained import explain
from hawser.desk.common.overlay import Overlay
from hawser.desk.common.timing import every
from hawser.desk.common.words import Label
from hawser.desk.models import figures as fg
from hawser.desk.models.topics.topic import topic_of_field
from hawser.desk.theme.roles import give
from hawser.venue.quay.weather import SEVERITIES, Weather, severity_of

GUSTS = (
    ("drop", "Drop the line", "for 5 s", 5),
    ("restart", "Restart the venue", "for 4 s", 4),
    ("squall", "Widen the spread", "for 20 s", 20),
    ("gap", "Jump the price", "for 5 min", 300),
    ("halt", "Halt the instrument", "for 25 s", 25),
    ("hush", "Silence its feed", "for 100 s", 100),
    ("odd", "Send an odd quote", "", 0),
    ("smaller", "Small orders only", "for 150 s", 150),
    ("rateless", "Tell no rates", "for 60 s", 60),
    ("jump", "Set its clock wrong", "", 40),
    ("hand", "Another hand trades", "", 0),
    ("call", "Close a position there", "", 0),
    ("payment", "Pay in or out", "", 0),
)
COUNTED = {
    "slip_ticks": "slip",
    "drops": "drop",
    "restarts": "restart",
    "squalls": "squall",
    "gaps": "gap",
    "halts": "halt",
    "shuts": "shut",
    "jumps": "jump",
    "hands": "hand",
    "calls": "call",
    "payments": "payment",
}


def read_weather(texts: dict[str, str]) -> tuple[Weather | None, dict[str, str]]:
    """What is typed as a weather, or what is wrong with it by field ('' for the whole)."""
    values: dict[str, float | str] = {"name": "own"}
    errors: dict[str, str] = {}
    for key in keys_of(Weather):
        if key.path in texts:
            try:
                number = float(texts[key.path].replace(",", "."))
                values[key.path] = int(number) if key.path == "slip_ticks" else number
            except ValueError:
                errors[key.path] = "expected a number"
    if errors:
        return None, errors
    try:
        return msgspec.convert(values, Weather), {}
    except BadInput as error:
        return None, {str(error.values.get("key", "")): error.text}


class QuayPanel(Overlay):
    """Opens over the Helm; Escape puts it away. `counts` gives what the weather has done so far."""

    weather = pyqtSignal(object, object)  # the seed may be larger than the int of a signal
    gust = pyqtSignal(str, object)  # nanoseconds: more than the int of a signal
    stray = pyqtSignal(int)
    named = pyqtSignal(str)

    def __init__(self, parent: QWidget, counts: Callable[[], dict[str, int]]) -> None:
        super().__init__(parent)
        self._counts = counts
        self._fields: dict[str, QLineEdit] = {}
        self._told: dict[str, QLabel] = {}
        title = Label("Quay: the simulated venue's weather")
        title.setProperty("role", "title")
        self.trouble = Label(
            "Every fault that a real venue makes. The same seed gives the same storm."
        )
        self.trouble.setProperty("role", "second")
        self.trouble.setWordWrap(True)
        box = QVBoxLayout(self)
        box.setContentsMargins(12, 8, 12, 10)
        box.setSpacing(6)
        box.addWidget(title)
        box.addWidget(self.trouble)
        box.addLayout(self._make_severities())
        box.addWidget(self._make_form(), 1)
        box.addLayout(self._make_gusts())
        self._timer = every(self, 500, self._show_counts)
        self.show_weather(SEVERITIES["fair"])
        self.hide()

    def _make_severities(self) -> QHBoxLayout:
        row, self.severities = QHBoxLayout(), QButtonGroup(self)
        for number, name in enumerate(SEVERITIES):
            button = QPushButton(name)
            button.setCheckable(True)
            button.clicked.connect(lambda _, name=name: self._choose(name))
            self.severities.addButton(button, number)
            row.addWidget(button)
        row.addStretch(1)
        seed = Label("seed")
        self.seed = QLineEdit("1")
        self.seed.setAccessibleName("Seed of the weather")
        explain(self.seed, "seed")
        self.seed.setFixedWidth(72)
        self.apply = QPushButton("Apply what is typed")
        self.apply.clicked.connect(self.send)
        for widget in (seed, self.seed, self.apply):
            row.addWidget(widget)
        return row

    def _make_form(self) -> QScrollArea:
        inside = QWidget()
        grid = QGridLayout(inside)
        grid.setContentsMargins(0, 0, 8, 0)
        grid.setVerticalSpacing(3)
        grid.setColumnStretch(0, 1)
        for row, key in enumerate(key for key in keys_of(Weather) if key.path != "name"):
            label, field, unit, told = Label(key.help), QLineEdit(), Label(key.unit), Label()
            field.setFixedWidth(72)
            field.setAlignment(Qt.AlignmentFlag.AlignRight)
            field.setAccessibleName(key.help)
            worst = getattr(SEVERITIES["gale"], key.path)
            explain(
                field,
                topic_of_field(
                    key, "You want to see it happen", example=f"{worst:g}, as in a gale"
                ),
            )
            field.returnPressed.connect(self.send)
            field.textEdited.connect(lambda _: self._check())
            unit.setProperty("role", "second")
            told.setProperty("role", "second")
            told.setMinimumWidth(64)
            label.setBuddy(field)
            for column, widget in enumerate((label, field, unit, told)):
                grid.addWidget(widget, row, column)
            self._fields[key.path], self._told[key.path] = field, told
        scroll = QScrollArea()
        scroll.setWidget(inside)
        scroll.setWidgetResizable(True)
        return scroll

    def _make_gusts(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(4)
        self.subject = Label()
        self.subject.setProperty("role", "second")
        grid.addWidget(self.subject, 0, 0, 1, 4)
        buttons = [
            (f"{text} {more}".strip(), partial(self.gust.emit, kind, s * SECOND))
            for kind, text, more, s in GUSTS
        ]
        buttons += [
            (f"Foreign {fg.side_word(side)} position", partial(self.stray.emit, side))
            for side in (1, -1)
        ]
        for number, (text, run) in enumerate(buttons):
            button = QPushButton(text)
            button.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
            button.clicked.connect(lambda _, run=run: run())
            grid.addWidget(button, 1 + number // 4, number % 4)
        return grid

    # What is shown

    def open(self, symbol: str) -> None:
        """Over the Helm; a second time: away."""
        if self.isVisible():
            self.hide()
            return
        parent = self.parentWidget()
        assert parent is not None
        self.setGeometry(76, 60, min(760, parent.width() - 96), min(660, parent.height() - 100))
        self.show_symbol(symbol)
        self._timer.start()
        self.show()
        self.raise_()
        self._show_counts()
        self._fields["reject"].setFocus()

    def show_symbol(self, symbol: str) -> None:
        """The instrument that gusts are about."""
        self.subject.setText(f"Once, now; faults of one instrument go to {symbol}")

    def show_weather(self, weather: Weather) -> None:
        """A weather in the fields."""
        for path, field in self._fields.items():
            field.setText(f"{getattr(weather, path):g}")
        self.severities.setExclusive(False)
        for number, name in enumerate(SEVERITIES):
            button = self.severities.button(number)
            assert button is not None
            button.setChecked(name == severity_of(weather))
        self.severities.setExclusive(True)
        self._check()

    def field(self, name: str) -> QLineEdit:
        return self._fields[name]

    def _show_counts(self) -> None:
        if not self.isVisible():
            self._timer.stop()
            return
        counts = self._counts()
        for path, label in self._told.items():
            count = counts.get(COUNTED.get(path, path))
            text = "" if count is None else f"{fg.number(count, 0)} so far"
            if label.text() != text:
                label.setText(text)

    # What is asked

    def _choose(self, name: str) -> None:
        self.show_weather(SEVERITIES[name])
        self.send()

    def _check(self) -> Weather | None:
        found, errors = read_weather({name: field.text() for name, field in self._fields.items()})
        seed = self.seed.text().strip()
        if not seed.lstrip("-").isdecimal():
            errors["seed"] = "expected a whole number"
        for name, field in self._fields.items():
            give(field, "bad", name in errors)
        first = next(iter(errors.items()), None)
        plain = "Every fault that a real venue makes. The same seed gives the same storm."
        self.trouble.setText(f"{first[0]}: {first[1]}".removeprefix(": ") if first else plain)
        self.apply.setEnabled(not errors)
        return found if not errors else None

    def send(self) -> None:
        """Have the typed weather from now on."""
        weather = self._check()
        if weather is None:
            return
        name = severity_of(weather)
        chosen = SEVERITIES.get(name, weather)
        self.show_weather(chosen)
        self.weather.emit(chosen, int(self.seed.text()))
        self.named.emit(name)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.hide()
        else:
            super().keyPressEvent(event)
