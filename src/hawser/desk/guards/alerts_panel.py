"""Which events alert and by what, in one table; where mail and webhook go; each tried with one
click."""

from __future__ import annotations

from typing import TypeVar

import msgspec
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from hawser.core.errors import BadInput, Unavailable
from hawser.core.field_help import keys_of
from hawser.desk.common import notifying
from hawser.desk.common.choice import Choice
from hawser.desk.common.explained import explain
from hawser.desk.common.overlay import Overlay
from hawser.desk.common.words import Label
from hawser.desk.models.topics.topic import topic_of_field
from hawser.desk.theme.roles import give
from hawser.service.alerts.channels import Alerts
from hawser.service.alerts.settings import CHANNELS, KINDS, AlertSettings, Channel, Smtp, Webhook

WORDS: dict[Channel, str] = {
    "sound": "sound",
    "desktop": "desktop",
    "email": "mail",
    "webhook": "webhook",
}
SECRET = ("password", "secret")

Part = TypeVar("Part", bound=msgspec.Struct)


class AlertsPanel(Overlay):
    """Opens over the station; Escape puts it away."""

    def __init__(self, parent: QWidget, alerts: Alerts) -> None:
        super().__init__(parent)
        self._alerts = alerts
        self.boxes: dict[tuple[str, Channel], QCheckBox] = {}
        self.fields: dict[str, QLineEdit | QComboBox] = {}
        title = Label("Alerts")
        title.setProperty("role", "title")
        self.told = Label()
        self.told.setWordWrap(True)
        box = QVBoxLayout(self)
        box.setContentsMargins(14, 8, 14, 10)
        box.addWidget(title)
        box.addLayout(self._table())
        for name, kind in (("smtp", Smtp), ("webhook", Webhook)):
            box.addLayout(self._form(name, kind))
        row = QHBoxLayout()
        self.most = QLineEdit()
        self.most.setFixedWidth(60)
        self.most.setAccessibleName("Alerts a minute")
        explain(self.most, "alerts_a_minute")
        self.most.textEdited.connect(lambda _: self._check())
        row.addWidget(Label("Most alerts a minute by mail, and by webhook; more are sent as one:"))
        row.addWidget(self.most)
        row.addStretch(1)
        box.addLayout(row)
        box.addWidget(self.told)
        foot = QHBoxLayout()
        for channel, word in WORDS.items():
            button = QPushButton(f"Try {word}")
            button.clicked.connect(lambda _, channel=channel: self.attempt(channel))
            foot.addWidget(button)
        foot.addStretch(1)
        self.apply = QPushButton("Apply and keep")
        self.apply.clicked.connect(lambda _: self.send())
        foot.addWidget(self.apply)
        box.addLayout(foot)
        self.hide()

    def _table(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setColumnStretch(0, 1)
        grid.setHorizontalSpacing(14)
        for column, channel in enumerate(CHANNELS, start=1):
            head = Label(WORDS[channel])
            head.setProperty("role", "small-second")
            grid.addWidget(head, 0, column, Qt.AlignmentFlag.AlignHCenter)
        for number, kind in enumerate(KINDS, start=1):
            grid.addWidget(Label(kind.text), number, 0)
            for column, channel in enumerate(CHANNELS, start=1):
                box = self.boxes[kind.name, channel] = QCheckBox()
                box.setAccessibleName(f"{kind.text}: {WORDS[channel]}")
                box.setMinimumSize(24, 24)
                explain(box, "alert_box")
                box.toggled.connect(lambda _: self._check())
                grid.addWidget(box, number, column, Qt.AlignmentFlag.AlignHCenter)
        return grid

    def _form(self, name: str, kind: type[msgspec.Struct]) -> QGridLayout:
        """The fields of one declaration."""
        grid = QGridLayout()
        grid.setColumnStretch(1, 1)
        grid.setColumnStretch(3, 1)
        for number, key in enumerate(keys_of(kind)):
            field: QLineEdit | QComboBox
            if key.path == "security":
                field = Choice()
                field.addItems(["starttls", "tls", "none"])
                field.currentTextChanged.connect(lambda _: self._check())
            else:
                field = QLineEdit()
                field.textEdited.connect(lambda _: self._check())
                if key.path in SECRET:
                    field.setEchoMode(QLineEdit.EchoMode.Password)
            field.setAccessibleName(f"{name} {key.path}: {key.help}")
            explain(field, topic_of_field(key, "Alerts"))
            label = Label(f"{'mail' if name == 'smtp' else name} {key.path}")
            label.setProperty("role", "second")
            grid.addWidget(label, number // 2, 2 * (number % 2))
            grid.addWidget(field, number // 2, 2 * (number % 2) + 1)
            self.fields[f"{name}.{key.path}"] = field
        return grid

    # What is shown

    def open(self) -> None:
        parent = self.parentWidget()
        assert parent is not None
        self.show_settings(self._alerts.settings)
        wide = min(760, parent.width() - 40)
        self.setGeometry(
            (parent.width() - wide) // 2,
            16,
            wide,
            min(self.sizeHint().height(), parent.height() - 32),
        )
        self.show()
        self.raise_()
        next(iter(self.boxes.values())).setFocus()

    def show_settings(self, settings: AlertSettings) -> None:
        for (kind, channel), box in self.boxes.items():
            box.setChecked(channel in settings.events.get(kind, ()))
        for name, made in (("smtp", settings.smtp), ("webhook", settings.webhook)):
            for path, field in self.fields.items():
                part, _, key = path.partition(".")
                if part != name:
                    continue
                value = getattr(made, key) if made is not None else _default(name, key)
                text = ", ".join(value) if isinstance(value, tuple) else str(value)
                field.setCurrentText(text) if isinstance(field, QComboBox) else field.setText(text)
        self.most.setText(str(settings.most_per_min))
        self._check()

    def made(self) -> AlertSettings:
        """What is typed; raises BadInput."""
        events = {
            kind.name: tuple(
                channel for channel in CHANNELS if self.boxes[kind.name, channel].isChecked()
            )
            for kind in KINDS
        }
        if not self.most.text().strip().isdecimal():
            raise BadInput("bad_alerts", "Alerts a minute: expected a whole number")
        return AlertSettings(
            {name: found for name, found in events.items() if found},
            self._part("smtp", Smtp),
            self._part("webhook", Webhook),
            int(self.most.text()),
        )

    def _part(self, name: str, kind: type[Part]) -> Part | None:
        """The mail server or the webhook; None where nothing of it is typed."""
        texts = {key.path: self._text(f"{name}.{key.path}") for key in keys_of(kind)}
        needed = [key.path for key in keys_of(kind) if key.required]
        if not any(texts[key] for key in needed):
            return None
        values: dict[str, object] = dict(texts)
        if name == "smtp":
            values["to"] = tuple(one.strip() for one in texts["to"].split(",") if one.strip())
            if not texts["port"].isdecimal():
                raise BadInput("bad_alerts", "mail port: expected a whole number")
            values["port"] = int(texts["port"])
        return kind(**values)

    def _text(self, path: str) -> str:
        field = self.fields[path]
        return (field.currentText() if isinstance(field, QComboBox) else field.text()).strip()

    def _check(self) -> None:
        try:
            made = self.made()
        except BadInput as error:
            self._say(error.sentence, "caution")
            self.apply.setEnabled(False)
            return
        self.apply.setEnabled(True)
        wanted = {channel for found in made.events.values() for channel in found}
        missing = [
            word
            for channel, word in (("email", "no mail server"), ("webhook", "no webhook"))
            if channel in wanted and (made.smtp if channel == "email" else made.webhook) is None
        ]
        self._say(
            f"Chosen, but {' and '.join(missing)} is set up yet." if missing else "", "second"
        )

    def _say(self, text: str, role: str) -> None:
        self.told.setText(text)
        give(self.told, "role", role)

    # What is asked

    def send(self) -> None:
        """Have these, and keep them where only their owner reads."""
        try:
            self._alerts.change(self.made())
        except BadInput as error:
            self._say(error.sentence, "caution")
            return
        self.hide()

    def attempt(self, channel: Channel) -> None:
        """Try one channel with what is typed; what came of it is told here."""
        try:
            made = self.made()
        except BadInput as error:
            self._say(error.sentence, "caution")
            return
        if channel == "sound":
            notifying.sound()
            self.show_tried(channel, "")
        elif channel == "desktop":
            try:
                notifying.notify("Hawser", "This is a trial: alerts reach you here")
                self.show_tried(channel, "")
            except Unavailable as error:
                self.show_tried(channel, error.sentence)
        else:
            self._say(f"Trying {WORDS[channel]} \u2026", "second")
            self._alerts.attempt(channel, made)

    def show_tried(self, channel: Channel, wrong: str) -> None:
        self._say(
            f"{WORDS[channel].capitalize()}: {wrong or 'it went out'}.",
            "caution" if wrong else "second",
        )

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() == Qt.Key.Key_Escape:
            self.hide()
        else:
            super().keyPressEvent(event)


def _default(name: str, key: str) -> object:
    kind = Smtp if name == "smtp" else Webhook
    found = next(one for one in keys_of(kind) if one.path == key)
    return "" if found.required or found.default is None else found.default
