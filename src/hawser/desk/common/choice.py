"""A list to choose from, which a hand that only scrolls does not change."""

from __future__ import annotations

from PyQt6.QtGui import QWheelEvent
from PyQt6.QtWidgets import QComboBox


class Choice(QComboBox):
    """Leaves the wheel to what it stands in: a plan that is scrolled past would get another rig,
    without a word."""

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None:
            event.ignore()
