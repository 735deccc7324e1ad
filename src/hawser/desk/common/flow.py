"""A layout that sets words and fields one after another, as lines of text are set."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, QRect, QSize, Qt
from PyQt6.QtWidgets import QLayout, QLayoutItem, QWidget

GAP, LEAD = 5, 4


class Flow(QLayout):
    """Items in reading order, wrapped at the right edge, each line's middle on one height."""

    def __init__(self) -> None:
        super().__init__()
        self._items: list[QLayoutItem] = []
        self.setContentsMargins(0, 0, 0, 0)

    def addItem(self, item: QLayoutItem | None) -> None:
        if item is not None:
            self._items.append(item)

    def insert(self, widget: QWidget, at: int | None = None) -> None:
        """A widget at a place; None: at the end."""
        self.addWidget(widget)
        if at is not None:
            self._items.insert(at, self._items.pop())

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        return self._set(QRect(0, 0, width, 0), False)

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._set(rect, True)

    def sizeHint(self) -> QSize:
        return self.minimumSize()

    def minimumSize(self) -> QSize:
        sizes = [item.sizeHint() for item in self._items]
        return QSize(
            max((size.width() for size in sizes), default=0),
            max((size.height() for size in sizes), default=0),
        )

    def _set(self, rect: QRect, place: bool) -> int:
        """Set the items into `rect`; returns the height they need."""
        x, y = rect.x(), rect.y()
        line: list[tuple[QLayoutItem, int, QSize]] = []

        def end_line() -> int:
            height = max((size.height() for _, _, size in line), default=0)
            if place:
                for item, left, size in line:
                    item.setGeometry(QRect(QPoint(left, y + (height - size.height()) // 2), size))
            line.clear()
            return height

        for item in self._items:
            widget: QWidget | None = item.widget()
            if widget is not None and widget.isHidden():
                continue
            size = item.sizeHint()
            if line and x + size.width() > rect.right() + 1:
                y += end_line() + LEAD
                x = rect.x()
            line.append((item, x, size))
            x += size.width() + GAP
        return y + end_line() - rect.y()
