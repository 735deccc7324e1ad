"""What every widget of one window shares: the palette in force and the person's time zone."""

from __future__ import annotations

from datetime import datetime, tzinfo
from zoneinfo import ZoneInfo

from PyQt6.QtCore import QObject, pyqtSignal

from hawser.desk.theme.palette import THEMES, Palette


class Appearance(QObject):
    """Holds the palette and the zone; says when the palette changes."""

    changed = pyqtSignal()

    def __init__(self, theme: str = "paper", zone: str | None = None) -> None:
        super().__init__()
        self.palette: Palette = THEMES.get(theme, THEMES["paper"])
        local = datetime.now().astimezone().tzinfo
        assert local is not None
        self.zone: tzinfo = ZoneInfo(zone) if zone else local

    def set_theme(self, name: str) -> None:
        self.palette = THEMES[name]
        self.changed.emit()

    def color(self, role: str, alpha: int = 255):  # type: ignore[no-untyped-def]  # QColor
        return self.palette.color(role, alpha)
