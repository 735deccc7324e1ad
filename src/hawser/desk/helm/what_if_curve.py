"""The what-if curve: quantity and share of equity over the stop's distance; dragging its point
moves the stop."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from hawser.core.size_terms import SizeRequest, Sizing
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.explained import explain
from hawser.desk.models import figures as fg
from hawser.desk.models.what_if import Point, curve
from hawser.desk.theme.fonts import font

LEFT, RIGHT, TOP, BOTTOM = 8, 8, 34, 20


class WhatIfCurve(QWidget):
    """Paints the points. With the risk locked the quantity is drawn, with the quantity locked the
    risk."""

    moved = pyqtSignal(str)  # the stop's price as typed

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self._appearance = appearance
        self._points: list[Point] = []
        self._here = 0
        self._key: tuple[object, ...] = ()
        self._currency, self._digits, self.by_risk = "", 2, False
        self._dragging = False
        self.setMinimumHeight(TOP + BOTTOM + 30)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("What if: quantity over the stop's distance")
        self.setToolTip("Drag the point, or Left/Right, to move the stop")
        appearance.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(250, 150)

    def show_sizing(self, request: SizeRequest | None, sizing: Sizing | None) -> None:
        """Draw the curve around this size; while the point is dragged the scale stands still."""
        if request is None or sizing is None:
            self._points, self._key = [], ()
            self.update()
            return
        key = (
            sizing.r_ticks,
            sizing.steps,
            request.instrument.symbol,
            request.side,
            round(sizing.risk_money, 2),
        )
        if key == self._key:
            return
        self._key, self._currency, self._digits = (
            key,
            request.account.currency,
            request.instrument.qty_digits,
        )
        if not self._dragging or not self._points:
            self._points = curve(request, sizing)
        nearest = sorted(
            range(len(self._points)), key=lambda i: abs(self._points[i].ticks - sizing.r_ticks)
        )
        self._here = nearest[0] if nearest else 0
        self.update()

    # Geometry

    def _value(self, point: Point) -> float:
        return point.risk if self.by_risk else point.qty

    def _at(self, point: Point) -> QPointF:
        first, last = self._points[0].ticks, self._points[-1].ticks
        top = max(self._value(one) for one in self._points) or 1.0
        x = LEFT + (point.ticks - first) / max(1, last - first) * (self.width() - LEFT - RIGHT)
        y = self.height() - BOTTOM - self._value(point) / top * (self.height() - TOP - BOTTOM)
        return QPointF(x, y)

    def _move_to(self, index: int) -> None:
        if self._points and index != self._here:
            self._here = min(max(0, index), len(self._points) - 1)
            self.moved.emit(self._points[self._here].price)
            self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        self._dragging = event.button() == Qt.MouseButton.LeftButton
        self.mouseMoveEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._dragging and self._points:
            x = event.position().x()
            self._move_to(
                min(range(len(self._points)), key=lambda i: abs(self._at(self._points[i]).x() - x))
            )

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._dragging, self._key = False, ()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()), 0)
        if step:
            self._move_to(self._here + step)
        else:
            super().keyPressEvent(event)

    # Paint

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        p = self._appearance.palette
        painter.setFont(font(11))
        if len(self._points) < 2:
            painter.setPen(p.color("ink2"))
            painter.drawText(
                QRectF(self.rect()),
                Qt.TextFlag.TextWordWrap,
                "No size to vary: complete the plan first.",
            )
            painter.end()
            return
        base = self.height() - BOTTOM
        painter.setPen(QPen(p.color("hairline"), 1))
        painter.drawLine(QPointF(LEFT, base), QPointF(self.width() - RIGHT, base))
        painter.setPen(QPen(p.color("ink"), 1.5))
        painter.drawPolyline(QPolygonF([self._at(point) for point in self._points]))
        here = self._points[self._here]
        at = self._at(here)
        painter.setPen(QPen(p.color("loss"), 1, Qt.PenStyle.DashLine))
        painter.drawLine(at, QPointF(at.x(), base))
        painter.setBrush(p.color("loss"))
        painter.drawEllipse(at, 5.5, 5.5)
        if self.hasFocus():
            painter.setPen(QPen(p.color("ink"), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(at.x() - 9, at.y() - 9, 18, 18))
        self._words(painter, here)
        painter.end()

    def _words(self, painter: QPainter, here: Point) -> None:
        p = self._appearance.palette
        main = (
            fg.money(here.risk, self._currency)
            if self.by_risk
            else f"{fg.number(here.qty, self._digits)} units"
        )
        painter.setFont(font(12, bold=True))
        painter.setPen(p.color("ink"))
        box = QRectF(LEFT, 0, self.width() - LEFT - RIGHT, 16)
        painter.drawText(box, Qt.AlignmentFlag.AlignLeft, main)
        painter.setFont(font(11))
        painter.setPen(p.color("ink2"))
        painter.drawText(
            box, Qt.AlignmentFlag.AlignRight, f"{fg.percent(here.equity_percent)} of equity"
        )
        below = QRectF(LEFT, 16, self.width() - LEFT - RIGHT, 15)
        painter.drawText(
            below,
            Qt.AlignmentFlag.AlignLeft,
            "risk over the stop" if self.by_risk else "quantity over the stop",
        )
        floor = QRectF(LEFT, self.height() - BOTTOM + 3, self.width() - LEFT - RIGHT, 16)
        first, last = self._points[0].ticks, self._points[-1].ticks
        painter.drawText(floor, Qt.AlignmentFlag.AlignLeft, f"{first}{fg.GROUP}t")
        painter.drawText(floor, Qt.AlignmentFlag.AlignRight, f"{last}{fg.GROUP}t")
        painter.drawText(floor, Qt.AlignmentFlag.AlignHCenter, f"stop {here.ticks}{fg.GROUP}t away")


class WhatIf(QWidget):
    """The curve and what stays the same while its point is dragged."""

    stop_moved = pyqtSignal(str)
    locked = pyqtSignal(bool)  # True: the quantity stays

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self.curve = WhatIfCurve(appearance)
        self.curve.moved.connect(self.stop_moved)
        self.risk, self.quantity = QPushButton("the risk stays"), QPushButton("the quantity stays")
        group, row = QButtonGroup(self), QHBoxLayout()
        row.setContentsMargins(0, 0, 0, 0)
        for button, by_risk in ((self.risk, False), (self.quantity, True)):
            button.setCheckable(True)
            button.setProperty("role", "flat")
            explain(button, "locked")
            group.addButton(button)
            button.clicked.connect(lambda _, by_risk=by_risk: self._lock(by_risk))
            row.addWidget(button)
        row.addStretch(1)
        self.risk.setChecked(True)
        explain(self, "what_if", tip=False)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(2)
        box.addLayout(row)
        box.addWidget(self.curve, 1)

    def _lock(self, quantity: bool) -> None:
        self.curve.by_risk = quantity
        self.curve.show_sizing(None, None)
        self.locked.emit(quantity)

    def show_lock(self, quantity: bool) -> None:
        """What is locked, as the plan says."""
        self.curve.by_risk = quantity
        (self.quantity if quantity else self.risk).setChecked(True)
