"""The rail of stations on the left. Only stations that do something are there."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QButtonGroup, QToolButton, QVBoxLayout, QWidget

from hawser.desk.common.appearance import Appearance
from hawser.desk.common.station import Station
from hawser.desk.common.words import plain_tip
from hawser.desk.theme.icon_images import icon


class Rail(QWidget):
    """One button for each station."""

    chosen = pyqtSignal(str)

    def __init__(self, appearance: Appearance, stations: Sequence[Station]) -> None:
        super().__init__()
        self._appearance, self._stations = appearance, stations
        self.setObjectName("ground")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(68)
        self._group = QButtonGroup(self)
        self.buttons: dict[str, QToolButton] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(2, 10, 2, 8)
        column.setSpacing(4)
        for station in stations:
            name = station.name
            button = QToolButton()
            button.setText(name)
            button.setToolTip(plain_tip(f"{name} ({station.key})"))
            button.setCheckable(True)
            button.setProperty("role", "station")
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
            button.setIconSize(QSize(22, 22))
            button.setFixedSize(64, 52)
            button.setAutoRaise(True)
            button.clicked.connect(lambda _, name=name: self.chosen.emit(name))
            self._group.addButton(button)
            self.buttons[name] = button
            column.addWidget(button)
        column.addStretch(1)
        appearance.changed.connect(self._tint)
        self._tint()

    def _tint(self) -> None:
        for station in self._stations:
            ink = self._appearance.color("ink")
            self.buttons[station.name].setIcon(icon(station.icon, ink))

    def show_station(self, name: str) -> None:
        self.buttons[name].setChecked(True)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        painter = QPainter(self)
        for button in self.buttons.values():
            if button.isChecked():
                painter.fillRect(0, button.y(), 3, button.height(), self._appearance.color("ink"))
        painter.end()
