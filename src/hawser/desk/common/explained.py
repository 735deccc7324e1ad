"""What explains itself: a widget, or a column of a table, is given its topic, which its tip shows
and F1 opens."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QEvent, QObject, QPoint
from PyQt6.QtWidgets import QTableView, QWidget

from hawser.desk.common.words import plain_tip
from hawser.desk.models.topics.screens import SCREENS
from hawser.desk.models.topics.topic import Topic

TOPIC, COLUMNS, ROWS = "topic", "topics of columns", "what a row means"


def topic(code: str) -> Topic:
    """What a thing of the screens is."""
    return SCREENS[code]


def explain(widget: QWidget, of: str | Topic, tip: bool = True) -> None:
    """Give a widget its topic; `tip`: on hovering too, where it has no tip of its own."""
    told = topic(of) if isinstance(of, str) else of
    widget.setProperty(TOPIC, told)
    if tip and not widget.toolTip():
        widget.setToolTip(plain_tip(told.tip))


def explain_later(widget: QWidget, of: Callable[[], Topic]) -> None:
    """The same for a topic that takes a moment to make: it is made when it is first asked for."""
    widget.setProperty(TOPIC, of)
    widget.installEventFilter(_Hovered(widget, of))


class _Hovered(QObject):
    """Lays the tip when it is first to be shown."""

    def __init__(self, widget: QWidget, of: Callable[[], Topic]) -> None:
        super().__init__(widget)
        self._widget, self._of = widget, of

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.ToolTip and not self._widget.toolTip():
            self._widget.setToolTip(plain_tip(self._of().tip))
        return False


def explain_columns(table: QTableView, codes: Sequence[str]) -> None:
    """Give each column of a table its topic. Its model tells the tip of the heads, by
    `column_tip`."""
    table.setProperty(COLUMNS, [topic(code) for code in codes])


def explain_rows(table: QTableView, of: Callable[[int], Topic]) -> None:
    """Each row of a table means something of its own: `of` its number."""
    table.setProperty(ROWS, of)


def column_tip(code: str) -> str:
    return plain_tip(topic(code).tip)


def topic_at(widget: QWidget | None, at: QPoint | None) -> Topic | None:
    """What explains a widget, or the nearest one that it lies in; `at`, global: the pointer, where
    that is meant and not the focus."""
    one: QObject | None = widget
    while one is not None:
        if isinstance(one, QTableView) and (told := _of_table(one, widget, at)) is not None:
            return told
        found = one.property(TOPIC)
        if found is not None:
            told = found if isinstance(found, Topic) else found()
            assert isinstance(told, Topic)
            return told
        one = one.parent()
    return None


def _of_table(table: QTableView, inside: QWidget | None, at: QPoint | None) -> Topic | None:
    """The row that is meant, where rows mean something, else its column."""
    view = table.viewport()
    assert view is not None
    if at is None:
        row, column = table.currentIndex().row(), table.currentIndex().column()
    else:
        place = view.mapFromGlobal(at)
        column = table.columnAt(place.x())
        row = table.rowAt(place.y()) if inside is view else -1  # not over a head
    rows, columns = table.property(ROWS), table.property(COLUMNS)
    if rows is not None and row >= 0:
        found: Topic = rows(row)
        return found
    return columns[column] if columns and 0 <= column < len(columns) else None
