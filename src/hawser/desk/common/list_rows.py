"""Rows of a list, painted plainly: a name with a smaller line below it, one line, or a heading."""

from __future__ import annotations

from PyQt6.QtCore import QModelIndex, QRectF, QSize, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter
from PyQt6.QtWidgets import QStyledItemDelegate, QStyleOptionViewItem

from hawser.desk.common.appearance import Appearance
from hawser.desk.common.cells import is_selected
from hawser.desk.theme.fonts import font

ONE_PX, TWO_PX = 24, 46  # height of a row with one line, with two


class NamedRows(QStyledItemDelegate):
    """The text before a line break is the name. A row that cannot be chosen is a heading."""

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self._appearance = appearance

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        return QSize(160, TWO_PX if "\n" in str(index.data()) else ONE_PX)

    def paint(
        self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex
    ) -> None:
        assert painter is not None
        p, box = self._appearance.palette, QRectF(option.rect)
        name, two, more = str(index.data()).partition("\n")
        painter.save()
        if is_selected(option, index):
            painter.fillRect(box, p.color("ground"))
            painter.fillRect(QRectF(box.left(), box.top(), 3, box.height()), p.color("ink"))
        heading = not index.flags() & Qt.ItemFlag.ItemIsSelectable
        lines = [(name, font(13, bold=bool(two) or heading), "ink", 0.0)]
        if two:
            lines.append((more, font(11), "ink2", 19.0))
        inside = box.adjusted(10, 5 if two else 4, -8, -2)
        for text, face, tone, top in lines:
            painter.setFont(face)
            painter.setPen(p.color(tone))
            fits = QFontMetricsF(face).elidedText(text, Qt.TextElideMode.ElideRight, inside.width())
            painter.drawText(
                inside.adjusted(0, top, 0, 0),
                Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop,
                fits,
            )
        if two:
            painter.setPen(p.color("hairline"))
            painter.drawLine(box.bottomLeft(), box.bottomRight())
        painter.restore()
