"""F1: what is pointed at, or has the focus, explained in the window that it stands in."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, QPoint
from PyQt6.QtGui import QCursor, QKeySequence, QShortcut
from PyQt6.QtWidgets import QApplication, QWidget

from hawser.desk.common.appearance import Appearance
from hawser.desk.common.explained import topic_at

if TYPE_CHECKING:  # loaded when it is first wanted
    from hawser.desk.app.help_panel import HelpPanel, Page


class Explainer(QObject):
    """The help of one window. The pointer is meant where it has moved since the focus last went
    elsewhere, for then a hand is at the mouse."""

    def __init__(self, window: QWidget, appearance: Appearance) -> None:
        super().__init__(window)
        self._window, self._pointer = window, QCursor.pos()
        self._appearance = appearance
        self._panel: HelpPanel | None = None
        key = QShortcut(QKeySequence("F1"), window)
        key.setAutoRepeat(False)
        key.activated.connect(self.explain)
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        app.focusChanged.connect(self._focus_moved)

    @property
    def panel(self) -> HelpPanel:
        """Made when it is first wanted."""
        if self._panel is None:
            from hawser.desk.app.help_panel import HelpPanel

            self._panel = HelpPanel(self._window, self._appearance)
        return self._panel

    def _focus_moved(self, old: QWidget | None, new: QWidget | None) -> None:
        self._pointer = QCursor.pos()

    def explain(self) -> None:
        """The thing that is meant; the contents where it says nothing of itself."""
        at, focus = QCursor.pos(), self._window.focusWidget()
        meant: list[tuple[QWidget | None, QPoint | None]] = [(focus, None)]
        if at != self._pointer:
            meant.insert(0, (QApplication.widgetAt(at), at))
        for widget, place in meant:
            topic = topic_at(widget, place) if self._is_here(widget) else None
            if topic is not None:
                self.show(topic, widget)
                return
        self.show(None)

    def _is_here(self, widget: QWidget | None) -> bool:
        """Whether it stands in this window; the help does not explain itself."""
        panel = self._panel
        return (
            widget is not None
            and self._window.isAncestorOf(widget)
            and not (panel is not None and panel.isAncestorOf(widget))
        )

    def show(self, page: Page | None, about: QWidget | None = None) -> None:
        """Open the help at a page, None: the contents."""
        self.panel.open(page, about)

    def find(self, words: str) -> None:
        """Open the help with these words searched for."""
        self.panel.open(None)
        self.panel.find(words)
