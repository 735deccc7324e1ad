"""The dead man's watch, set where the guards are: whether one is wanted, after how long, and what
it does then."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from hawser.core.errors import BadInput
from hawser.desk.common.explained import explain
from hawser.desk.common.words import Label
from hawser.desk.theme.roles import give
from hawser.service.alerts.channels import Alerts
from hawser.service.watchdog.control import Sentry, WatchSettings


class WatchPanel(QWidget):
    """What is ticked or typed holds at once; what is wrong is told and changes nothing."""

    def __init__(self, sentry: Sentry, alerts: Alerts) -> None:
        super().__init__()
        self._sentry, self._alerts = sentry, alerts
        self._shown: WatchSettings | None = None
        self._wrong = ""
        self.told = Label()
        self.told.setWordWrap(True)
        self.on = QCheckBox("Start it with Hawser")
        explain(self.on, "watch")
        self.flatten = QCheckBox("Then close everything at the venue")
        self.silent = QLineEdit()
        self.silent.setFixedWidth(56)
        self.silent.setAccessibleName("Seconds of silence before the watch acts")
        explain(self.silent, "watch_silence")
        explain(self.flatten, "watch_flatten")
        row = QHBoxLayout()
        label = Label("Acts after a silence of")
        label.setBuddy(self.silent)
        row.addWidget(label)
        row.addWidget(self.silent)
        row.addWidget(Label("s"))
        row.addStretch(1)
        box = QVBoxLayout(self)
        box.setContentsMargins(12, 0, 12, 8)
        box.setSpacing(4)
        box.addWidget(self.told)
        box.addWidget(self.on)
        box.addLayout(row)
        box.addWidget(self.flatten)
        self.on.clicked.connect(lambda _: self._take())
        self.flatten.clicked.connect(lambda _: self._take())
        self.silent.editingFinished.connect(self._take)

    def refresh(self) -> None:
        """What is set, and whether somebody watches."""
        settings = self._sentry.settings
        if settings != self._shown:
            self._shown = settings
            self.on.setChecked(settings.on)
            self.flatten.setChecked(settings.flatten)
            self.silent.setText(f"{settings.silent_s:g}")
        at_venue = bool(self._sentry.venue)
        self.flatten.setEnabled(at_venue)
        self.flatten.setText(
            "Then close everything at the venue" if at_venue else "Only alerts: the venue ends too"
        )
        self.flatten.setToolTip(
            "The watch closes every position and cancels every order at the venue"
            if at_venue
            else "This account's venue ends with Hawser, so there is nothing to close"
        )
        settings, alerts = self._sentry.settings, self._alerts.settings
        self.told.setText(self._wrong or self._sentry.state(alerts))
        loud = self._wrong or (settings.on and not self._sentry.does(alerts))
        give(self.told, "role", "caution" if loud else "second")

    def _take(self) -> None:
        self._wrong = ""
        try:
            seconds = float(self.silent.text().replace(",", "."))
            self._sentry.change(
                WatchSettings(self.on.isChecked(), seconds, self.flatten.isChecked())
            )
        except ValueError:
            self._wrong = f"'{self.silent.text()}': expected seconds, as 20"
        except BadInput as error:
            self._wrong = error.sentence
        # what is wrong stays to be mended; what is ticked is what holds
        kept = self._sentry.settings
        self.on.setChecked(kept.on)
        self.flatten.setChecked(kept.flatten)
        self.refresh()
