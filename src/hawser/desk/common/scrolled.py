"""Fields that scroll where there is no room for all of them, and take no more room than they need
where there is."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QObject, QSize, Qt
from PyQt6.QtWidgets import QFrame, QLayout, QScrollArea, QSizePolicy, QWidget


class Scrolled(QScrollArea):
    """A layout of fields, at least `least` pixels high."""

    def __init__(self, layout: QLayout, least: int) -> None:
        super().__init__()
        self._least, self._inside = least, QWidget()
        self._inside.setLayout(layout)
        self._inside.installEventFilter(self)
        layout.setContentsMargins(0, 0, 0, 0)
        self.setWidget(self._inside)
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Maximum)

    def sizeHint(self) -> QSize:
        return self._inside.sizeHint()

    def minimumSizeHint(self) -> QSize:
        bar = self.verticalScrollBar()
        wide = self._inside.minimumSizeHint().width() + (
            bar.sizeHint().width() if bar is not None else 0
        )
        return QSize(wide, min(self._least, self._inside.sizeHint().height()))

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        # rows have come or gone
        if event is not None and event.type() == QEvent.Type.LayoutRequest:
            self.updateGeometry()
        return super().eventFilter(watched, event)
