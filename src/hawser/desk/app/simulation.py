"""What the window has of a simulated venue: its pace and weather in the foot, its panel, gusts made
at once. A venue that is none has nothing of this.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cached_property, partial
from typing import NamedTuple

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from hawser.core.clock import SECOND
from hawser.core.instrument import Instrument
from hawser.desk.app.finder import Action
from hawser.desk.app.quay_panel import QuayPanel
from hawser.desk.common.choice import Choice
from hawser.desk.common.explained import explain
from hawser.desk.common.station import VenueDrill
from hawser.desk.common.words import Label
from hawser.service.runtime.runtime import Runtime
from hawser.venue.quay.simulated import Simulated
from hawser.venue.quay.weather import SEVERITIES, Weather, severity_of

SPEEDS = (1, 5, 10, 60, 300)


class SimulationBar(QWidget):
    """Speed and weather, for the foot of the window."""

    speed = pyqtSignal(float)
    running = pyqtSignal(bool)
    weather = pyqtSignal(str)
    asked = pyqtSignal()

    def __init__(self, speed: float) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(8)
        self.pause = QPushButton("Pause")
        self.pause.setCheckable(True)
        self.pause.toggled.connect(self._paused)
        self.speeds, self.weathers = Choice(), Choice()
        choices = sorted({*SPEEDS, int(speed)} if speed == int(speed) else {*SPEEDS, speed})
        for choice in choices:
            self.speeds.addItem(f"\u00d7{choice:g}", float(choice))
        self.speeds.setCurrentIndex(choices.index(int(speed) if speed == int(speed) else speed))
        self.speeds.currentIndexChanged.connect(
            lambda index: self.speed.emit(self.speeds.itemData(index))
        )
        for name in SEVERITIES:
            self.weathers.addItem(name)
        self.weathers.setCurrentText("fair")
        self.weathers.currentTextChanged.connect(self.weather)
        self.faults = QPushButton("faults \u2026")
        self.faults.setToolTip("The weather fault by fault, and gusts made at once (Ctrl+Shift+Q)")
        self.faults.clicked.connect(self.asked)
        for name, parts in (
            ("speed", (self.speeds, self.pause)),
            ("weather", (self.weathers, self.faults)),
        ):
            caption = Label(name)
            caption.setProperty("role", "second")
            parts[0].setAccessibleName(name)
            for part in (caption, *parts):
                explain(part, name)
                row.addWidget(part)

    def show_weather(self, name: str) -> None:
        """The weather's name, also one that is no severity."""
        self.weathers.blockSignals(True)
        if self.weathers.findText(name) < 0:
            self.weathers.addItem(name)
        self.weathers.setCurrentText(name)
        self.weathers.blockSignals(False)

    def _paused(self, paused: bool) -> None:
        self.pause.setText("Run" if paused else "Pause")
        self.running.emit(not paused)


class InView(NamedTuple):
    """What a gust is about: the account in view, and the instrument that is shown, where there is
    one."""

    runtime: Runtime
    symbol: str
    instrument: Instrument | None


class Simulation:
    """The simulated venues of all accounts, by the one that is in view."""

    def __init__(
        self, window: QWidget, runtimes: Sequence[Runtime], speed: float, view: Callable[[], InView]
    ) -> None:
        self._window, self._runtimes, self._view = window, runtimes, view
        self.bar, self._weather = SimulationBar(speed), SEVERITIES["fair"]
        self.bar.speed.connect(lambda speed: self._pace(speed=speed))
        self.bar.running.connect(lambda running: self._pace(running=running))
        self.bar.weather.connect(self._set_severity)
        self.bar.asked.connect(self.show_panel)

    @cached_property
    def panel(self) -> QuayPanel:
        """Made when it is first wanted: its form takes longer than the rest of the foot."""
        panel = QuayPanel(self._window, self._counts)
        panel.show_weather(self._weather)
        panel.weather.connect(self._set_weather)
        panel.named.connect(self.bar.show_weather)
        panel.gust.connect(self.gust)
        panel.stray.connect(self.stray)
        return panel

    @property
    def _panel(self) -> QuayPanel | None:
        """The panel, where it was wanted already."""
        return self.__dict__.get("panel")

    def _show_weather(self, weather: Weather) -> None:
        self._weather = weather
        if self._panel is not None:
            self._panel.show_weather(weather)

    @property
    def _venue(self) -> Simulated | None:
        return self._view().runtime.simulation

    def show_account(self) -> None:
        """What the venue of the account in view has: each has its own. One that is no simulation
        has nothing."""
        venue = self._venue
        self.bar.setVisible(venue is not None)
        if venue is None:
            if self._panel is not None:
                self._panel.hide()
            return
        self._show_weather(venue.weather)
        self.bar.show_weather(severity_of(venue.weather))

    @property
    def clock_name(self) -> str:
        """What the venue's clock is called."""
        return "Quay clock" if self._venue is not None else "Venue clock"

    def show_panel(self) -> None:
        if self._venue is not None:
            self.panel.open(self._view().symbol)

    def actions(self) -> list[Action]:
        """What the command finder offers of it."""
        if self._venue is None:
            return []
        return [
            Action("Quay: pause or run", "", self.bar.pause.toggle),
            Action("Quay: weather fault by fault, gusts now", "Ctrl+Shift+Q", self.show_panel),
        ]

    def drills(self) -> list[VenueDrill]:
        """What can be made to happen there, to try guards."""
        if self._venue is None:
            return []
        where = "At the simulated venue, for the instrument on the Helm"
        return [
            VenueDrill("Spread \u00d73 for 20 s", where, partial(self.gust, "squall", 20 * SECOND)),
            VenueDrill("Silent feed for 100 s", where, partial(self.gust, "hush", 100 * SECOND)),
        ]

    def _counts(self) -> dict[str, int]:
        venue = self._venue
        return dict(venue.counts) if venue is not None else {}

    def _pace(self, speed: float | None = None, running: bool | None = None) -> None:
        for runtime in self._runtimes:
            runtime.pace(speed, running)

    def _set_severity(self, severity: str) -> None:
        if severity in SEVERITIES:
            self._show_weather(SEVERITIES[severity])
            self._set_weather(SEVERITIES[severity], 1)

    def _set_weather(self, weather: Weather, seed: int) -> None:
        self._weather = weather
        self._view().runtime.simulate(lambda venue: venue.set_weather(weather, seed))

    def gust(self, kind: str, length: int) -> None:
        """Make a gust of `length` ns in the instrument that is shown."""
        view = self._view()
        view.runtime.simulate(lambda venue: venue.gust(kind, view.symbol, length))

    def stray(self, side: int) -> None:
        """A position by another hand, and a line that drops so that it is found."""
        view = self._view()
        if view.instrument is None:
            return
        symbol, steps = view.instrument.symbol, max(1, view.instrument.qty_min_steps)

        def make(venue: Simulated) -> None:
            venue.stray(symbol, side, steps)
            venue.gust("drop", "", SECOND)

        view.runtime.simulate(make)
