"""Shows a station part by part, each in a turn of the window of its own: all of it at once would
hold the window for longer than it may be held. The whole takes as long as before, some hundredths
of a second."""

from __future__ import annotations

from PyQt6.QtCore import QObject
from PyQt6.QtWidgets import QSplitter, QWidget

from hawser.desk.common.timing import once


def parts_of(view: QWidget) -> list[QWidget]:
    """The panels of a station: what its splitters hold that is no splitter."""
    found = []
    for splitter in view.findChildren(QSplitter):
        held = [splitter.widget(number) for number in range(splitter.count())]
        found += [one for one in held if one is not None and not isinstance(one, QSplitter)]
    return found


class Stages(QObject):
    """What is still to be painted of the station shown last."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._waiting: list[QWidget] = []
        self._next = once(self, 0, self._paint_next)

    def begin(self, view: QWidget) -> None:
        """`view` is about to be shown: its panels wait for their turns."""
        self.finish()
        self._waiting = parts_of(view)
        for part in self._waiting:
            part.setUpdatesEnabled(False)
        if self._waiting:
            self._next.start()

    def finish(self) -> None:
        """Everything that waits is painted with what comes next."""
        self._next.stop()
        for part in self._waiting:
            part.setUpdatesEnabled(True)
        self._waiting = []

    def _paint_next(self) -> None:
        part = self._waiting.pop(0)
        part.setUpdatesEnabled(True)
        part.repaint()
        if self._waiting:
            self._next.start()
