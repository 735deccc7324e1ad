"""Lines over the bars, told apart by their strokes and named above them; values of another kind
in a strip of their own below."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PyQt6.QtCore import QLineF, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QResizeEvent
from PyQt6.QtWidgets import QSizePolicy, QVBoxLayout, QWidget

from hawser.core.indicators import Array
from hawser.desk.chart.asked import Asked
from hawser.desk.chart.levels import words_wide
from hawser.desk.chart.strokes import drawable
from hawser.desk.chart.surface import PRICES_WIDE, Layer, Surface
from hawser.desk.chart.viewport import Viewport
from hawser.desk.common.appearance import Appearance
from hawser.desk.models import figures as fg
from hawser.desk.models.curves import Curve, Panel
from hawser.desk.theme.fonts import font

WORDS_HIGH = 15.0
MOST_POINTS = 280  # of a line: two values at each, in a plot of some 700 pixels
LEGEND_LINE, SAMPLE = 17.0, 16.0  # of the legend: a line, and its sample of a stroke
PANEL_HIGH = 74  # pixels of a strip below
# Told apart by stroke, not by colour: blue and ochre belong to targets and stops, which lie on the
# same bars. A thick stroke is two thin ones, which are drawn at a tenth of the cost of one that is
# 2 pixels wide.
_SOLID, _DASH, _DOT = Qt.PenStyle.SolidLine, Qt.PenStyle.DashLine, Qt.PenStyle.DotLine
STROKES = (
    ("ink2", _SOLID, 2),
    ("ink2", _DASH, 2),
    ("ink", _SOLID, 1),
    ("ink", _DASH, 1),
    ("ink2", _DOT, 2),
    ("ink2", Qt.PenStyle.DashDotLine, 1),
)


def draw_points(painter: QPainter, x: Array, y: Array) -> None:
    """A line through points in pixels, broken where one is NaN."""
    known = ~np.isnan(y)
    edges = np.flatnonzero(np.diff(np.concatenate([[False], known, [False]]).astype(np.int8)))
    for begin, end in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
        painter.drawPolyline(drawable(QPointF, x[begin:end], y[begin:end]))


def joined(curve: Curve, view: Viewport, drawn: int) -> bool:
    """Whether so many points stand for more bars in view."""
    return drawn < min(float(curve.size), view.right) - max(0.0, view.left) - 2


class Curves(Layer):
    """Lines of the chart's own scale."""

    def __init__(self, appearance: Appearance) -> None:
        self._appearance = appearance
        self.curves: tuple[Curve, ...] = ()

    def show_curves(self, curves: Sequence[Curve]) -> None:
        if self.curves or curves:
            self.curves = tuple(curves)
            self.changed()

    def extremes(self, view: Viewport) -> list[tuple[float, float]]:
        """The lowest and highest value of each in view."""
        found = [curve.extremes(view.left, view.right) for curve in self.curves]
        return [one for one in found if one is not None]

    def paint(self, painter: QPainter, view: Viewport) -> None:
        for number, curve in enumerate(self.curves):
            tone, style, wide = STROKES[number % len(STROKES)]
            x, y = curve.points(view.left, view.right, MOST_POINTS)
            if joined(curve, view, x.size):
                style, wide = _SOLID, 1  # up and down at each pixel: dashes would say nothing
            painter.setPen(QPen(self._appearance.color(tone), 1, style))
            across, up = view.xs(x), view.ys(y)
            for step in range(wide):
                draw_points(painter, across, up + step)


def told(curve: Curve, bar: int, digits: int) -> str:
    """A line's name with its value at a bar; -1: at the newest."""
    return f"{curve.name}  {fg.number(curve.at(bar), digits)}"


class Legend(QWidget):
    """The strokes of the lines with their names and their values at a bar, above the bars: names on
    the plot would hide what they tell of."""

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self._appearance = appearance
        self.curves: tuple[Curve, ...] = ()
        self._digits, self._bar = 5, -1
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Lines")
        appearance.changed.connect(self.update)
        self.hide()

    def show_curves(self, curves: Sequence[Curve], digits: int) -> None:
        self.curves, self._digits = tuple(curves), digits
        self.setVisible(bool(curves))
        self._lay()

    def show_bar(self, bar: int) -> None:
        """The values are those of this bar; -1: of the newest."""
        if bar != self._bar:
            self._bar = bar
            self.setAccessibleDescription("; ".join(self.texts()))
            self.update()

    def texts(self) -> list[str]:
        """Each line's name and value."""
        return [told(curve, self._bar, self._digits) for curve in self.curves]

    def _places(self) -> list[tuple[QRectF, str]]:
        """Where each stands, one behind the other and below."""
        found, x, y = [], 10.0, 1.0
        for text in self.texts():
            wide = SAMPLE + 6 + words_wide(text)
            if x > 10.0 and x + wide > self.width() - 6:
                x, y = 10.0, y + LEGEND_LINE
            found.append((QRectF(x, y, min(wide, self.width() - 16), LEGEND_LINE), text))
            x += wide + 10
        return found

    def _lay(self) -> None:
        places = self._places()
        self.setFixedHeight(round(places[-1][0].bottom() + 2) if places else 0)
        self.setAccessibleDescription("; ".join(text for _, text in places))
        self.update()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._lay()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter, color = QPainter(self), self._appearance.color
        painter.setFont(font(11))
        for number, (box, text) in enumerate(self._places()):
            tone, style, wide = STROKES[number % len(STROKES)]
            painter.setPen(QPen(color(tone), wide, style))
            middle = box.center().y()
            painter.drawLine(QLineF(box.left(), middle, box.left() + SAMPLE, middle))
            painter.setPen(color("ink2"))
            inside = box.adjusted(SAMPLE + 6, 0, 0, 0)
            metrics = painter.fontMetrics()
            fits = metrics.elidedText(text, Qt.TextElideMode.ElideMiddle, int(inside.width()) + 1)
            painter.drawText(inside, Qt.AlignmentFlag.AlignVCenter, fits)


class Scale(Layer):
    """The values of a strip: its lowest, its highest, and what its lines are compared with."""

    beside = True

    def __init__(self, appearance: Appearance) -> None:
        self._appearance = appearance
        self.levels: tuple[float, ...] = ()
        self.digits = 1

    def paint(self, painter: QPainter, view: Viewport) -> None:
        marks = self.levels or (
            view.low + 0.15 * (view.high - view.low),
            view.high - 0.15 * (view.high - view.low),
        )
        painter.setPen(QPen(self._appearance.color("hairline"), 1))
        painter.drawLine(QLineF(0, 0, view.width + PRICES_WIDE, 0))
        painter.drawLine(QLineF(view.width, 0, view.width, view.height))
        painter.setFont(font(11))
        for value in marks:
            y = view.y(value)
            if not 0 <= y <= view.height:
                continue
            tone = "ink2" if self.levels else "hairline"
            painter.setPen(QPen(self._appearance.color(tone), 1, _DOT))
            painter.drawLine(QLineF(0, y, view.width, y))
            painter.setPen(self._appearance.color("ink2"))
            top = min(max(0.0, y - WORDS_HIGH / 2), view.height - WORDS_HIGH)
            box = QRectF(view.width + 6, top, PRICES_WIDE - 8, WORDS_HIGH)
            painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, f"{value:.{self.digits}f}")


class Title(Layer):
    """What a strip shows, in its corner: its lines with their values at a bar."""

    kept = False

    def __init__(self, appearance: Appearance) -> None:
        self._appearance = appearance
        self._curves: tuple[Curve, ...] = ()
        self._digits, self._bar = 1, -1

    def show_curves(self, curves: tuple[Curve, ...], digits: int) -> None:
        self._curves, self._digits = curves, digits
        self.changed()

    def show_bar(self, bar: int) -> None:
        if bar != self._bar:
            self._bar = bar
            self.changed()

    def paint(self, painter: QPainter, view: Viewport) -> None:
        painter.setFont(font(11))
        left = 6.0
        for number, curve in enumerate(self._curves):
            text = told(curve, self._bar, self._digits)
            wide = SAMPLE + 4 + words_wide(text)
            painter.fillRect(QRectF(left - 2, 1, wide, WORDS_HIGH), self._appearance.color("panel"))
            tone, style, thick = STROKES[number % len(STROKES)]
            painter.setPen(QPen(self._appearance.color(tone), thick, style))
            painter.drawLine(QLineF(left, 1 + WORDS_HIGH / 2, left + SAMPLE, 1 + WORDS_HIGH / 2))
            painter.setPen(self._appearance.color("ink2"))
            box = QRectF(left + SAMPLE + 4, 1, wide, WORDS_HIGH)
            painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, text)
            left += wide + 8


class Strip(Surface):
    """A strip below the bars, which shows the same bars as they do."""

    def __init__(self, appearance: Appearance) -> None:
        super().__init__(appearance, times_high=0.0)
        self.setFixedHeight(PANEL_HIGH)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)  # the chart above has the keys
        self._scale, self.curves, self._title = (
            Scale(appearance),
            Curves(appearance),
            Title(appearance),
        )
        self._asked = Asked(appearance)
        self.add(self._scale, self.curves, self._title, self._asked)

    def show_panel(self, panel: Panel) -> None:
        self._scale.levels, self._scale.digits = panel.levels, panel.digits
        self._title.show_curves(panel.curves, panel.digits)
        self.setAccessibleName(f"{panel.title}: {', '.join(one.name for one in panel.curves)}")
        self.curves.show_curves(panel.curves)

    def show_bar(self, bar: int, fixed: bool) -> None:
        """The bar that is asked about, with the values of its lines; -1: none."""
        self._asked.show_bar(bar, fixed)
        self._title.show_bar(bar)

    def follow(self, left: float, right: float) -> None:
        """Show the bars that the chart shows, and all values among them."""
        self.see(left, right)
        found = self.curves.extremes(self.view)
        lows = [low for low, _ in found] + [*self._scale.levels]
        highs = [high for _, high in found] + [*self._scale.levels]
        if found:
            room = (max(highs) - min(lows)) * 0.1 or abs(max(highs)) * 0.01 or 1.0
            self.see_prices(min(lows) - room, max(highs) + room)


class Strips(QWidget):
    """The strips below a plot. Signals are those of a surface."""

    zoomed = pyqtSignal(float)
    panned = pyqtSignal(float)
    hovered = pyqtSignal(object)
    clicked = pyqtSignal(QPointF)

    def __init__(self, appearance: Appearance, plot: Surface) -> None:
        super().__init__()
        self._appearance, self._plot = appearance, plot
        self._made: list[Strip] = []
        self.shown: list[Strip] = []
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(0)
        self.hide()

    def show_panels(self, panels: Sequence[Panel]) -> None:
        """One strip for each."""
        while len(self._made) < len(panels):
            self._make()
        self.shown = self._made[: len(panels)]
        for strip in self._made[len(panels) :]:
            strip.hide()
        for strip, panel in zip(self.shown, panels, strict=True):
            strip.show_panel(panel)
            strip.show()
        self.setVisible(bool(panels))
        self.follow()

    def _make(self) -> None:
        strip = Strip(self._appearance)
        strip.zoomed.connect(self.zoomed)
        strip.panned.connect(self.panned)
        strip.hovered.connect(self.hovered)
        strip.clicked.connect(self.clicked)
        strip.resized.connect(self.follow)
        self._made.append(strip)
        self._column.addWidget(strip)

    def follow(self) -> None:
        """Show the bars that the plot shows."""
        for strip in self.shown:
            strip.follow(self._plot.view.left, self._plot.view.right)

    def show_bar(self, bar: int, fixed: bool) -> None:
        for strip in self.shown:
            strip.show_bar(bar, fixed)
