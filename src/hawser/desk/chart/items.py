"""What is drawn inside the plot: candles, draggable level lines, the time axis."""

from __future__ import annotations

from datetime import tzinfo
from typing import Any, NamedTuple

import numpy as np
import pyqtgraph as pg
from PyQt6 import sip
from PyQt6.QtCore import QLineF, QRectF, Qt
from PyQt6.QtGui import QBrush, QPainter, QPen

from hawser.core.clock import DAY, HOUR, MINUTE
from hawser.core.indicators import Array
from hawser.desk.chart.pyramid import Columns, Pyramid
from hawser.desk.common.appearance import Appearance
from hawser.desk.models import figures as fg
from hawser.desk.theme.fonts import font

MOST_COLUMNS = 560
LABEL_PX = 46  # from one time to the next; a date takes 40
STEPS = (MINUTE, 5 * MINUTE, 15 * MINUTE, 30 * MINUTE, HOUR, 2 * HOUR, 3 * HOUR, 6 * HOUR, 12 * HOUR, DAY, 2 * DAY,
         7 * DAY, 28 * DAY, 91 * DAY, 364 * DAY, 1820 * DAY)  # fmt: skip


def drawable(kind: type[QLineF] | type[QRectF], *columns: Array | float) -> Any:
    """Lines (x, y, x, y) or boxes (x, y, width, height) for a QPainter, without an object for each."""
    rows = np.column_stack(np.broadcast_arrays(*(np.atleast_1d(column) for column in columns)))
    found: Any = sip.array(kind, len(rows))  # type: ignore[call-arg]  # the stubs know no arguments
    if len(rows):
        np.frombuffer(found, np.float64)[:] = rows.ravel()
    return found


class _Shapes(NamedTuple):
    """Bars as what is drawn: wicks above and below the bodies, bodies outlined, bodies filled."""

    upper: Any
    lower: Any
    rising: Any
    falling: Any


def _shapes(columns: Columns, half: float) -> _Shapes:
    """`half`: half a body's width."""
    x, top, bottom = columns.x, np.maximum(columns.open, columns.close), np.minimum(columns.open, columns.close)
    up = columns.close >= columns.open
    bodies = [drawable(QRectF, x[kind] - half, bottom[kind], 2 * half, (top - bottom)[kind]) for kind in (up, ~up)]
    return _Shapes(drawable(QLineF, x, top, x, columns.high), drawable(QLineF, x, columns.low, x, bottom), *bodies)


class Candles(pg.GraphicsObject):
    """Rising candles outlined, falling ones filled, both in ink."""

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self._look = look
        self.pyramid: Pyramid | None = None
        self.forming: tuple[float, ...] | None = None
        self._shapes: tuple[object, _Shapes] | None = None  # of the completed bars in view, and of which view

    def show_bars(self, pyramid: Pyramid, forming: tuple[float, ...] | None) -> None:
        if pyramid is not self.pyramid:
            self.prepareGeometryChange()
        self.pyramid, self.forming = pyramid, forming
        self.update()

    def boundingRect(self) -> QRectF:
        if self.pyramid is None or not self.pyramid.size:
            return QRectF()
        # Generous: what is drawn is cut to the view anyway.
        return QRectF(-1, -1e9, self.pyramid.size + 3, 2e9)

    def paint(self, painter: QPainter, *args: object) -> None:
        if self.pyramid is None or not self.pyramid.size:
            return
        view = self.viewRect()
        key = (id(self.pyramid), view.left(), view.right())
        if self._shapes is None or self._shapes[0] != key:
            columns = self.pyramid.columns(view.left(), view.right(), MOST_COLUMNS)
            self._shapes = key, _shapes(columns, columns.width * 0.34)
        self._draw(painter, self._shapes[1])
        if self.forming is not None and view.right() >= self.pyramid.size - 1:
            bar = np.array([[self.pyramid.size, *self.forming[1:5]]]).T
            self._draw(painter, _shapes(Columns(bar[0], bar[1], bar[2], bar[3], bar[4], 1), 0.34))

    def _draw(self, painter: QPainter, shapes: _Shapes) -> None:
        ink = self._look.color("ink")
        pen = QPen(ink, 1)
        pen.setCosmetic(True)
        painter.setPen(pen)
        painter.drawLines(shapes.upper)
        painter.drawLines(shapes.lower)
        painter.setBrush(QBrush(self._look.color("panel")))
        painter.drawRects(shapes.rising)
        painter.setBrush(QBrush(ink))
        painter.drawRects(shapes.falling)


class QuickAxis(pg.AxisItem):
    """An axis that keeps what it has to draw, not a recording of it: playing one back takes longer than drawing."""

    picture: Any

    def paint(self, painter: QPainter, option: object, widget: object) -> None:
        if self.picture is None:  # where pyqtgraph notes that something has changed
            self.picture = self.generateDrawSpecs(painter) or ()
        if self.picture:
            painter.save()
            self.drawPicture(painter, *self.picture)
            painter.restore()


class TimeAxis(QuickAxis):
    """Bar numbers as times in the person's zone; bars stand side by side, so closed hours take no room."""

    def __init__(self, look: Appearance) -> None:
        super().__init__("bottom")
        self._look = look
        self.times = np.empty(0, np.int64)
        self.span = MINUTE

    @property
    def zone(self) -> tzinfo:
        return self._look.zone

    def tickValues(self, low: float, high: float, size: float) -> list[tuple[float, list[float]]]:
        if not self.times.size:
            return []
        first, last = int(max(0, low)), int(min(self.times.size - 1, high))
        if last <= first:
            return []
        bars_each = (last - first) / max(1.0, size * (last - first) / (high - low) / LABEL_PX)
        step = next((step for step in STEPS if step >= bars_each * self.span), STEPS[-1])
        offset = self._offset(int(self.times[last]))
        start, end = int(self.times[first]) + offset, int(self.times[last]) + offset
        if (end - start) // step > 400:  # a history full of gaps
            step = (end - start) // 12 // DAY * DAY + DAY
        marks = np.arange(-(-start // step) * step, end + 1, step, dtype=np.int64) - offset
        at = np.unique(np.searchsorted(self.times, marks))
        at = at[(at >= first) & (at < self.times.size)]
        spaced: list[float] = []
        least = 0.7 * bars_each
        for index in at.tolist():
            if not spaced or index - spaced[-1] >= least:
                spaced.append(float(index))
        return [(float(step), spaced)]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        texts, day = [], None
        for value in values:
            at = fg.moment(int(self.times[int(value)]), self.zone)
            if spacing >= DAY:
                texts.append(f"{at:%d %b %y}" if spacing > 60 * DAY else f"{at:%d %b}")
            else:
                texts.append(f"{at:%d %b}" if day is not None and at.date() != day else f"{at:%H:%M}")
            day = at.date()
        return texts

    def _offset(self, time: int) -> int:
        delta = fg.moment(time, self.zone).utcoffset()
        return int(delta.total_seconds()) * 1_000_000_000 if delta else 0


def bare(plot: pg.PlotWidget, axes: tuple[pg.AxisItem, pg.AxisItem]) -> pg.ViewBox:
    """Leave of a plot its time axis below and its price axis on the right; returns what the mouse may pan in time."""
    item = plot.getPlotItem()
    item.hideAxis("left")
    item.showAxis("right")
    item.hideButtons()
    item.setMenuEnabled(False)
    view = item.getViewBox()
    view.setMouseEnabled(x=True, y=False)
    view.disableAutoRange()
    axes[1].setWidth(66)
    for axis in axes:
        axis.setStyle(tickFont=font(11), tickLength=-4, maxTickLevel=0)  # a grid line for each price that is told
    return view


def ink(plot: pg.PlotWidget, axes: tuple[pg.AxisItem, pg.AxisItem], look: Appearance) -> None:
    """Ground, axes and grid in the theme's colours."""
    p = look.palette
    plot.setBackground(p.color("panel"))
    for axis in axes:
        axis.setPen(p.color("hairline"))
        axis.setTextPen(p.color("ink2"))
    plot.showGrid(x=False, y=True, alpha=0.7)


class PriceAxis(QuickAxis):
    """Prices with the instrument's digits, and the present price as a flag."""

    def __init__(self, look: Appearance) -> None:
        super().__init__("right")
        self._look = look
        self.digits = 5
        self._price: float | None = None
        self.setTickDensity(2.0)

    def show_price(self, price: float | None) -> None:
        if price != self._price:
            self._price = price
            self.update()

    def paint(self, painter: QPainter, option: object, widget: object) -> None:
        super().paint(painter, option, widget)
        view = self.linkedView()
        if self._price is None or view is None:
            return
        (low, high), height = view.viewRange()[1], self.height()
        y = height * (high - self._price) / ((high - low) or 1.0)
        if 0 <= y <= height:
            box = QRectF(1, y - 9, self.width() - 2, 18)
            painter.fillRect(box, self._look.color("ink"))
            painter.setPen(self._look.color("on_ink"))
            painter.setFont(font(11, bold=True))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, f"{self._price:.{self.digits}f}")

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        return [f"{value:.{self.digits}f}" for value in values]


class LevelLine(pg.InfiniteLine):
    """One protective level; can be dragged where `movable`. `role` is stop, target or entry."""

    def __init__(self, look: Appearance, role: str, number: int = 0) -> None:
        super().__init__(angle=0, movable=False)
        self._look, self.role, self.number = look, role, number
        self.tone, self.dash, self.width = "ink2", False, 1.0
        self.label = pg.InfLineLabel(self, "", movable=False, position=0.995, anchors=[(1, 1), (1, 1)])
        self.label.setFont(font(11))
        self._put = (0.0, 0)
        self.dragging = False
        self.sigDragged.connect(self._dragged)
        self.sigPositionChangeFinished.connect(self._dropped)
        self.setZValue(20)

    def style(self, tone: str, dash: bool = False, width: float = 1.0) -> None:
        self.tone, self.dash, self.width = tone, dash, width
        pen = QPen(self._look.color(tone), width)
        pen.setCosmetic(True)
        if dash:
            pen.setStyle(Qt.PenStyle.DashLine)
        self.setPen(pen)
        hover = QPen(pen)
        hover.setWidthF(width + 1.5)
        self.setHoverPen(hover)
        self.label.setColor(self._look.color(tone))
        self.label.fill = pg.mkBrush(self._look.color("panel"))

    def place(self, price: float, text: str) -> None:
        """Move the line and its words; a line being dragged stays with the pointer."""
        if not self.dragging and self.value() != price:
            self.setValue(price)
        if self.label.format != text:
            self.label.setFormat(text)

    def put_words(self, right: float, above: int) -> None:
        """Where along the line its words end, as a part of it, and on which side of it they stand."""
        if (right, above) != self._put:
            self._put = (right, above)
            self.label.anchors = [(1, above), (1, above)]
            self.label.setPosition(right)

    def _dragged(self) -> None:
        self.dragging = True

    def _dropped(self) -> None:
        self.dragging = False


WORDS_HEIGHT = 17
RIGHT, APART = 0.995, 6.0  # where words end if nothing is in their way, a part of the width; and pixels between two


def part_words(lines: list[LevelLine], view: pg.ViewBox) -> list[tuple[float, float, float]]:
    """Give each line's words a place where they cover no other line's: above or below it at the right end, else as near
    to that as there is room. Returns the places: left, right, top, in pixels of the view."""
    low, high = view.viewRange()[1]
    width, pixels = max(1.0, view.width()), view.height() / ((high - low) or 1.0)
    taken: list[tuple[float, float, float]] = []  # left, right, top
    for line in sorted(lines, key=lambda line: -line.value()):
        y, wide = (high - line.value()) * pixels, line.label.textItem.boundingRect().width()
        free = []
        for above in (1, 0):
            top = y - WORDS_HEIGHT if above else y
            beside = [(left, right) for left, right, at in taken if abs(top - at) < WORDS_HEIGHT]
            ends = [RIGHT * width, *(left - APART for left, _ in beside)]
            right = max(end for end in ends if all(end <= left or end - wide >= to for left, to in beside))
            free.append((right, above, top))
        right, above, top = max(free, key=lambda place: place[0])
        taken.append((right - wide, right, top))
        line.put_words(right / width, above)
    return taken


def spread(places: list[float], apart: float, most: float) -> list[float]:
    """Places (pixels from the top) moved so far that each is `apart` from the next, in the same order, none beyond
    `most` as long as there is room."""
    order = sorted(range(len(places)), key=places.__getitem__)
    found, least = list(places), apart / 2
    for index in order:
        found[index] = least = max(least, places[index])
        least += apart
    limit = most - apart / 2
    for index in reversed(order):
        found[index] = limit = min(limit, found[index])
        limit -= apart
    return found
