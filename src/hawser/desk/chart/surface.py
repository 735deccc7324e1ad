"""The drawing surface of a chart: one widget with a viewport, on which layers paint themselves.

What rarely changes (grid, axes, bars, news, spread) is kept as pixels and only copied when
something in front of it does: a quote moves the unfinished bar and the price, and nothing else is
drawn anew for it.
"""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QPointF, QRectF, QSizeF, Qt, pyqtSignal
from PyQt6.QtGui import (
    QContextMenuEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPixmap,
    QResizeEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import QWidget

from hawser.desk.chart.viewport import Viewport
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.canvases import list_canvas

PRICES_WIDE, TIMES_HIGH = 66.0, 20.0  # pixels of the axes, to the right and below
STILL = 4.0  # pixels that the pointer may move between press and release of a click
NOTCH, NEARER, FARTHER = 120, 0.8, 1.25  # a step of the wheel, and what it does


class Layer:
    """Something that paints itself. `kept`: as pixels, until it says that it has changed; `beside`:
    it paints on the axes too, else the painter is cut to the plot."""

    kept = True
    beside = False
    surface: Surface | None = None

    def paint(self, painter: QPainter, view: Viewport) -> None:
        raise NotImplementedError

    def changed(self) -> None:
        if self.surface is not None:
            self.surface.spoil(self.kept)


class Grip:
    """What can be taken with the mouse and moved up and down."""

    dragging = False
    movable = False

    def y(self, view: Viewport) -> float:
        raise NotImplementedError

    def drag_to(self, price: float) -> None:
        raise NotImplementedError


class Surface(QWidget):
    """`grips` are the parts that the mouse can take hold of. Signals carry pixels of the plot, bars
    or prices."""

    resized = pyqtSignal()
    hovered = pyqtSignal(object)  # a QPointF within the plot, or None
    clicked = pyqtSignal(QPointF)
    panned = pyqtSignal(float)  # bars to the right
    zoomed = pyqtSignal(float)  # how many times as many bars are to be seen
    dragged = pyqtSignal(object)  # a Grip
    dropped = pyqtSignal(object)
    given_up = pyqtSignal()  # what was being moved is not to be moved after all
    menu_asked = pyqtSignal(object)
    pressed = pyqtSignal(QKeyEvent)

    def __init__(self, appearance: Appearance, times_high: float = TIMES_HIGH) -> None:
        """`times_high`: what is kept free below the plot for times."""
        super().__init__()
        list_canvas(self)
        self._times_high = times_high
        self._appearance = appearance
        self._layers: list[Layer] = []
        self.grips: list[Grip] = []
        self._behind: QPixmap | None = None
        self._held: Grip | None = None
        self._under: Grip | None = None
        self._pressed_at: QPointF | None = None
        self._panned_from: float | None = None
        self.view = Viewport()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        appearance.changed.connect(self.spoil)

    def add(self, *layers: Layer, before: Layer | None = None) -> None:
        """Layers from the back to the front; those that are kept lie behind all others. `before`:
        the one that they lie behind; None: they are in front of all."""
        at = len(self._layers) if before is None else self._layers.index(before)
        self._layers[at:at] = layers
        for layer in layers:
            layer.surface = self
        self.spoil()

    # What is seen

    def see(self, left: float, right: float) -> None:
        """Another part in time."""
        self._look_at(self.view._replace(left=left, right=right))

    def see_prices(self, low: float, high: float) -> None:
        self._look_at(self.view._replace(low=low, high=high))

    def _look_at(self, view: Viewport) -> None:
        if view != self.view:
            self.view = view
            self.spoil()

    @property
    def plot(self) -> QRectF:
        return QRectF(QPointF(), QSizeF(self.view.width, self.view.height))

    def resizeEvent(self, event: QResizeEvent) -> None:
        width, height = (
            max(1.0, self.width() - PRICES_WIDE),
            max(1.0, self.height() - self._times_high),
        )
        self._look_at(self.view._replace(width=width, height=height))
        self.resized.emit()
        super().resizeEvent(event)

    # Painting

    def spoil(self, kept: bool = True) -> None:
        """Something has changed; `kept`: something that is kept as pixels."""
        if kept:
            self._behind = None
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        scale = self.devicePixelRatioF()
        if self._behind is None or self._behind.devicePixelRatio() != scale:
            self._behind = self._pixels(scale)
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._behind)
        self._paint_layers(painter, kept=False)
        painter.end()

    def _pixels(self, scale: float) -> QPixmap:
        pixels = QPixmap((QSizeF(self.size()) * scale).toSize())
        pixels.setDevicePixelRatio(scale)
        pixels.fill(self._appearance.color("panel"))
        painter = QPainter(pixels)
        self._paint_layers(painter, kept=True)
        painter.end()
        return pixels

    def _paint_layers(self, painter: QPainter, kept: bool) -> None:
        for layer in self._layers:
            if layer.kept == kept:
                painter.save()
                if not layer.beside:
                    painter.setClipRect(self.plot)
                layer.paint(painter, self.view)
                painter.restore()

    # The mouse and the keys

    def grip_at(self, y: float) -> Grip | None:
        """What the mouse would take hold of there: the nearest within a few pixels."""
        near = [
            (abs(grip.y(self.view) - y), number)
            for number, grip in enumerate(self.grips)
            if grip.movable
        ]
        distance, number = min(near, default=(STILL + 1, 0))
        return self.grips[number] if distance <= STILL else None

    def hovers(self, grip: Grip) -> bool:
        return grip is self._under or grip is self._held

    def let_go(self) -> None:
        """Give up what is held."""
        if self._held is not None:
            self._held.dragging = False
        self._held = self._under = self._panned_from = None
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        if event.button() != Qt.MouseButton.LeftButton or not self.plot.contains(at):
            return
        self._pressed_at, self._held = at, self.grip_at(at.y())
        if self._held is None:
            self._panned_from = at.x()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        if self._held is not None:
            self._held.dragging = True
            self._held.drag_to(self.view.price_at(at.y()))
            self.dragged.emit(self._held)
        elif self._panned_from is not None and self._pressed_at is not None:
            if (
                at - self._pressed_at
            ).manhattanLength() > STILL or self._panned_from != self._pressed_at.x():
                bars, self._panned_from = (at.x() - self._panned_from) / self.view.across, at.x()
                self.panned.emit(bars)
        else:
            self._take_hover(at)
        self.hovered.emit(at if self.plot.contains(at) else None)

    def _take_hover(self, at: QPointF) -> None:
        under = self.grip_at(at.y()) if self.plot.contains(at) else None
        if under is not self._under:
            self._under = under
            self.setCursor(
                Qt.CursorShape.SizeVerCursor if under is not None else Qt.CursorShape.ArrowCursor
            )
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        held, self._held, self._panned_from = self._held, None, None
        still = (
            self._pressed_at is not None
            and (event.position() - self._pressed_at).manhattanLength() <= STILL
        )
        if held is not None and held.dragging:
            held.dragging = False
            self.dropped.emit(held)
        elif still:
            self.clicked.emit(event.position())
        self._pressed_at = None
        self.update()

    def leaveEvent(self, event: QEvent) -> None:
        self._under = None
        self.hovered.emit(None)
        self.update()
        super().leaveEvent(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.zoomed.emit(NEARER if event.angleDelta().y() > 0 else FARTHER)
        event.accept()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """The menu key and the right button."""
        self.menu_asked.emit(event.globalPos())
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        event.ignore()
        if event.key() == Qt.Key.Key_Escape and self._held is not None:
            self.let_go()
            self.given_up.emit()
            event.accept()
        else:
            self.pressed.emit(event)
        if not event.isAccepted():
            super().keyPressEvent(event)
