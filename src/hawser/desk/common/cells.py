"""Cells of a long table, painted plainly: the style sheet's own painter takes several times as
long, and a table of dozens of rows would hold the window."""

from __future__ import annotations

from functools import lru_cache

from PyQt6.QtCore import QModelIndex, QPointF, Qt
from PyQt6.QtGui import QFont, QFontMetrics, QPainter, QStaticText
from PyQt6.QtWidgets import QAbstractItemView, QStyledItemDelegate, QStyleOptionViewItem

from hawser.desk.common.appearance import Appearance

PAD = 9  # pixels, left and right of a text
KEPT = 4_000  # texts that are laid out once: what is scrolled past comes back


@lru_cache(KEPT)
def _laid(text: str, width: int, name: str) -> QStaticText:
    """A text as it is painted in the font called `name`, shortened with dots where it does not
    fit."""
    font = QFont()
    font.fromString(name)
    short = QFontMetrics(font).elidedText(text, Qt.TextElideMode.ElideRight, width)
    found = QStaticText(short)
    found.setTextFormat(Qt.TextFormat.PlainText)
    found.prepare(font=font)
    return found


def is_selected(option: QStyleOptionViewItem, index: QModelIndex) -> bool:
    """Whether the view shows this cell as chosen. Asked of the view: the option says it by a kind
    of `QStyle`, and PyQt makes all 564 members of those kinds at the first touch, 15 ms."""
    view = option.widget
    chosen = view.selectionModel() if isinstance(view, QAbstractItemView) else None
    return chosen is not None and chosen.isSelected(index)


class LineCells(QStyledItemDelegate):
    """One line of text in each cell, in the colour that its model names."""

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self._appearance = appearance

    def paint(
        self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex
    ) -> None:
        assert painter is not None
        palette, box = self._appearance.palette, option.rect
        if is_selected(option, index):
            painter.fillRect(box, palette.color("ground"))
        text = index.data()
        if not text:
            return
        laid = _laid(text, box.width() - 2 * PAD, option.font.toString())
        painter.setFont(option.font)
        painter.setPen(index.data(Qt.ItemDataRole.ForegroundRole) or palette.color("ink"))
        top = box.top() + (box.height() - laid.size().height()) / 2
        painter.drawStaticText(QPointF(box.left() + PAD, round(top)), laid)
