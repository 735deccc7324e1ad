"""How a rig stands in the list of the Rigs station."""

from __future__ import annotations

from PyQt6.QtCore import QModelIndex, QRectF, QSize, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter
from PyQt6.QtWidgets import QStyle, QStyledItemDelegate, QStyleOptionViewItem

from hawser.desk.common.appearance import Appearance
from hawser.desk.theme.fonts import font


class Named(QStyledItemDelegate):
    """A rig in the list: its name and who uses it, and below it what it is made of."""

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self._appearance = appearance

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        return QSize(160, 46)

    def paint(
        self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex
    ) -> None:
        assert painter is not None
        p, box = self._appearance.palette, QRectF(option.rect)
        name, _, more = str(index.data()).partition("\n")
        painter.save()
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(box, p.color("ground"))
            painter.fillRect(QRectF(box.left(), box.top(), 3, box.height()), p.color("ink"))
        strong = font(13)
        strong.setBold(True)
        inside = box.adjusted(10, 5, -8, -4)
        for text, face, tone, top in ((name, strong, "ink", 0.0), (more, font(11), "ink2", 19.0)):
            painter.setFont(face)
            painter.setPen(p.color(tone))
            fits = QFontMetricsF(face).elidedText(text, Qt.TextElideMode.ElideRight, inside.width())
            painter.drawText(
                inside.adjusted(0, top, 0, 0),
                Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop,
                fits,
            )
        painter.setPen(p.color("hairline"))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        painter.restore()
