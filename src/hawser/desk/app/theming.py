"""Changes the window's theme. The style sheet names the roles of Qt's palette and stays as it is,
for to set another takes a quarter of a second: every widget is laid out anew. Here each is only
told to look again, some in each turn of the window."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from PyQt6 import sip
from PyQt6.QtCore import QObject
from PyQt6.QtWidgets import QApplication, QWidget

from hawser.desk.app.curtain import Curtain
from hawser.desk.common.appearance import Appearance
from hawser.desk.theme.palette import qt_palette, stylesheet
from hawser.desk.theme.roles import look_again

AT_ONCE = 24  # widgets in a turn, each some 0.1 ms


class Theming:
    """The theme of a window and of all in it follows `appearance`. `parts` tells what the window is
    made of now."""

    def __init__(
        self,
        window: QWidget,
        appearance: Appearance,
        curtain: Curtain,
        parts: Callable[[], list[QWidget]],
    ) -> None:
        self._window, self._appearance, self._curtain = window, appearance, curtain
        self._parts = parts
        self._use_palette()
        window.setStyleSheet(stylesheet())
        appearance.changed.connect(self._change)

    def _use_palette(self) -> None:
        palette = self._appearance.palette
        QApplication.setPalette(qt_palette(palette))
        self._window.setProperty("theme", palette.name)

    def _change(self) -> None:
        self._curtain.draw_whole(self._parts(), self._look_again())
        self._use_palette()

    def _look_again(self) -> Iterator[int]:
        """Have every widget look again; yields how many have, after some at once."""
        waiting: list[QObject] = [self._window]
        done = 0
        while waiting:
            one = waiting.pop()
            if isinstance(one, QWidget) and not sip.isdeleted(one):
                look_again(one)
                done += 1
                waiting += one.children()
                if not done % AT_ONCE:
                    yield done
