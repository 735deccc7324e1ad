"""The R scale: a vertical scale in R beside the chart. 0 at entry, -1 at the stop, the price as a
pointer.

Marks are dragged with the mouse, or chosen with Left/Right and nudged by a tick with Up/Down
(Shift: ten), then set with Enter or given up with Escape.
"""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QFocusEvent,
    QHideEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
)
from PyQt6.QtWidgets import QWidget

from hawser.desk.common.appearance import Appearance
from hawser.desk.common.canvases import list_canvas
from hawser.desk.common.timing import once
from hawser.desk.models import figures as fg
from hawser.desk.models.focus import Focus, about
from hawser.desk.theme.fonts import font

AXIS_X = 14
GRAB = 10
STEPS = (0.1, 0.25, 0.5, 1.0, 2.0, 5.0, 10.0, 25.0, 100.0)


class RScale(QWidget):
    """Shares the chart's price axis. Signals carry role ('stop' or 'target'), number and level in
    ticks."""

    moved = pyqtSignal(str, int, int)
    dropped = pyqtSignal(str, int, int)
    cancelled = pyqtSignal()

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        # the chart is painted first: both at once would hold the window for a quarter longer
        self._after_chart = once(self, 0, self.update)
        list_canvas(self)
        self._appearance = appearance
        self.focus: Focus | None = None
        self._low, self._high, self._top, self._bottom = 0.0, 1.0, 0.0, 100.0
        self._grabbed: tuple[str, int] | None = None
        self._chosen: tuple[str, int] | None = None
        self._level = 0
        self.setFixedWidth(84)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("R scale")
        self.setToolTip(
            "Drag a mark, or Left/Right to choose one, Up/Down by a tick, Enter to set it"
        )
        appearance.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(84, 300)

    def show_focus(self, focus: Focus | None) -> None:
        if focus != self.focus:
            if about(focus) != about(self.focus):
                self.let_go()
            self.focus = focus
            self.update()

    def let_go(self) -> None:
        """Give up the mark that is being moved: its level means nothing for another trade."""
        if self.busy:
            self._chosen = self._grabbed = None
            self.cancelled.emit()
            self.update()

    def set_axis(self, low: float, high: float, top: float, bottom: float) -> None:
        """The prices at the lower and upper edge of the plot, and where those edges are, in this
        widget's pixels."""
        if (low, high, top, bottom) != (self._low, self._high, self._top, self._bottom):
            self._low, self._high, self._top, self._bottom = low, high, top, bottom
            self._after_chart.start()

    @property
    def busy(self) -> bool:
        """A mark is being moved."""
        return self._grabbed is not None or self._chosen is not None

    # Geometry

    def _y(self, level: float) -> float:
        assert self.focus is not None
        price = level * self.focus.instrument.tick_size
        span = self._high - self._low or 1.0
        return self._bottom - (price - self._low) / span * (self._bottom - self._top)

    def _ticks_at(self, y: float) -> int:
        assert self.focus is not None
        span = self._high - self._low or 1.0
        price = self._low + (self._bottom - y) / (self._bottom - self._top) * span
        return max(1, round(price / self.focus.instrument.tick_size))

    def _movable(self) -> list[tuple[str, int, int]]:
        """What can be moved: role, number, level."""
        fixed = self.focus is not None and self.focus.fixed
        return [mark for mark in self._marks() if mark[0] == "entry" or not fixed]

    def _marks(self) -> list[tuple[str, int, int]]:
        """What stands on the scale: role, number, level."""
        focus = self.focus
        if focus is None:
            return []
        found = [("stop", 0, focus.stop)]
        if focus.entry:
            found.append(("entry", 0, focus.ref))
        found += [("target", mark.number, mark.level) for mark in focus.targets if not mark.done]
        held = self._grabbed or self._chosen
        return [
            (role, number, self._level if (role, number) == held else level)
            for role, number, level in found
        ]

    # Mouse

    def _hit(self, y: float) -> tuple[str, int, int] | None:
        near = [
            (abs(self._y(level) - y), (role, number, level))
            for role, number, level in self._movable()
        ]
        near = [pair for pair in near if pair[0] <= GRAB]
        return min(near)[1] if near else None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        hit = self._hit(event.position().y())
        if hit is not None and event.button() == Qt.MouseButton.LeftButton:
            self._grabbed, self._level = (hit[0], hit[1]), hit[2]
            self._chosen = None
            self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        y = event.position().y()
        if self._grabbed is None:
            over = self.focus is not None and self._hit(y) is not None
            self.setCursor(Qt.CursorShape.SizeVerCursor if over else Qt.CursorShape.ArrowCursor)
            return
        self._level = self._ticks_at(y)
        self.moved.emit(*self._grabbed, self._level)
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._grabbed is not None:
            grabbed, self._grabbed = self._grabbed, None
            self.dropped.emit(*grabbed, self._level)
            self.update()

    # Keyboard

    def keyPressEvent(self, event: QKeyEvent) -> None:
        marks = self._movable()
        key = event.key()
        if not marks:
            super().keyPressEvent(event)
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self._choose(marks, 1 if key == Qt.Key.Key_Right else -1)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._nudge(marks, 1 if key == Qt.Key.Key_Up else -1, event)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._chosen is not None:
            chosen, self._chosen = self._chosen, None
            self.dropped.emit(*chosen, self._level)
            self.update()
        elif key == Qt.Key.Key_Escape and self.busy:
            self.let_go()
        else:
            super().keyPressEvent(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        """A mark that is not set would go on showing a level where nothing is."""
        if event.reason() not in (
            Qt.FocusReason.ActiveWindowFocusReason,
            Qt.FocusReason.PopupFocusReason,
        ):
            self.let_go()
        super().focusOutEvent(event)

    def hideEvent(self, event: QHideEvent) -> None:
        self.let_go()
        super().hideEvent(event)

    def _choose(self, marks: list[tuple[str, int, int]], step: int) -> None:
        names = [(role, number) for role, number, _ in marks]
        at = names.index(self._chosen) + step if self._chosen in names else 0
        self._chosen = names[at % len(names)]
        self._level = marks[at % len(names)][2]
        self.update()

    def _nudge(self, marks: list[tuple[str, int, int]], step: int, event: QKeyEvent) -> None:
        if self._chosen is None:
            self._choose(marks, 0)
        if self._chosen is not None:
            ten = 10 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
            self._level = max(1, self._level + step * ten)
            self.moved.emit(*self._chosen, self._level)
            self.update()

    # Paint

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        p = self._appearance.palette
        painter.fillRect(self.rect(), p.color("ground"))
        painter.setFont(font(11))
        if self.focus is None:
            painter.setPen(p.color("ink2"))
            box = QRectF(8, 8, self.width() - 12, 60)
            painter.drawText(box, Qt.TextFlag.TextWordWrap, "R scale: plan a trade or choose one")
        else:
            self._paint_scale(painter, self.focus)
            self._paint_marks(painter, self.focus)
            self._paint_price(painter, self.focus)
        painter.end()

    def _paint_scale(self, painter: QPainter, focus: Focus) -> None:
        p = self._appearance.palette
        spread = abs(self._y(focus.price) - self._y(focus.price + focus.side * focus.spread))
        top = min(self._y(focus.price), self._y(focus.price + focus.side * focus.spread))
        painter.fillRect(QRectF(AXIS_X - 8, top, 16, max(1.0, spread)), p.color("hairline"))
        painter.setPen(QPen(p.color("ink"), 1))
        painter.drawLine(QPointF(AXIS_X, self._top), QPointF(AXIS_X, self._bottom))
        pixels = abs(self._y(focus.ref) - self._y(focus.ref + focus.r_ticks)) or 1.0
        step = next((step for step in STEPS if step * pixels >= 26), STEPS[-1])
        tick = focus.instrument.tick_size
        ends = sorted((focus.r(self._low / tick), focus.r(self._high / tick)))
        for index in range(math.ceil(ends[0] / step), math.floor(ends[1] / step) + 1):
            y = self._y(focus.level(index * step))
            painter.setPen(p.color("ink"))
            painter.drawLine(QPointF(AXIS_X - 4, y), QPointF(AXIS_X + 4, y))
            painter.setPen(p.color("ink2"))
            digits = 0 if step >= 1 else (2 if step == 0.25 else 1)
            text = "0" if index == 0 else f"{fg.number(index * step, digits, sign=True)}{fg.GROUP}R"
            painter.drawText(
                QRectF(AXIS_X + 14, y - 8, 56, 16), Qt.AlignmentFlag.AlignVCenter, text
            )

    def _paint_marks(self, painter: QPainter, focus: Focus) -> None:
        p = self._appearance.palette
        painter.setPen(QPen(p.color("loss"), 1.5, Qt.PenStyle.DotLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(QPointF(AXIS_X, self._y(focus.initial_stop)), 5, 5)
        for mark in focus.targets:
            if mark.done:
                self._diamond(painter, self._y(mark.level), filled=True)
        for role, number, level in self._marks():
            y = self._y(level)
            if role == "stop":
                painter.setPen(QPen(p.color("loss"), 1.5))
                painter.setBrush(p.color("loss" if focus.covered else "panel"))
                painter.drawEllipse(QPointF(AXIS_X, y), 5.5, 5.5)
            elif role == "entry":
                painter.setPen(QPen(p.color("ink"), 1.5))
                painter.setBrush(p.color("panel"))
                painter.drawRect(QRectF(AXIS_X - 5, y - 4, 10, 8))
            else:
                self._diamond(painter, y, filled=False)
            if (role, number) in (self._grabbed, self._chosen):
                painter.setPen(QPen(p.color("ink"), 1))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(QRectF(AXIS_X - 9, y - 9, 18, 18))
                self._flag(painter, y, fg.r(focus.r(level)), "ink")

    def _diamond(self, painter: QPainter, y: float, filled: bool) -> None:
        p = self._appearance.palette
        painter.setPen(QPen(p.color("gain"), 1.5))
        painter.setBrush(p.color("gain" if filled else "panel"))
        shape = [
            QPointF(AXIS_X, y - 6),
            QPointF(AXIS_X + 6, y),
            QPointF(AXIS_X, y + 6),
            QPointF(AXIS_X - 6, y),
        ]
        painter.drawPolygon(QPolygonF(shape))

    def _paint_price(self, painter: QPainter, focus: Focus) -> None:
        p, y = self._appearance.palette, self._y(focus.price)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(p.color("ink"))
        painter.drawPolygon(
            QPolygonF(
                [QPointF(AXIS_X + 2, y), QPointF(AXIS_X + 12, y - 6), QPointF(AXIS_X + 12, y + 6)]
            )
        )
        self._flag(painter, y, fg.r(focus.r(focus.price)), "ink")

    def _flag(self, painter: QPainter, y: float, text: str, role: str) -> None:
        p = self._appearance.palette
        box = QRectF(AXIS_X + 13, y - 8, self.width() - AXIS_X - 14, 16)
        painter.fillRect(box, p.color("ground"))
        painter.setPen(p.color(role))
        painter.setFont(font(11, bold=True))
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignHCenter, text)
        painter.setFont(font(11))
