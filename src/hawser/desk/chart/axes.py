"""The axes of a chart: prices on the right with a line across for each, times below."""

from __future__ import annotations

import math
from datetime import tzinfo

import numpy as np
from PyQt6.QtCore import QLineF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen

from hawser.core.clock import DAY, HOUR, MINUTE
from hawser.desk.chart.strokes import drawable
from hawser.desk.chart.surface import PRICES_WIDE, TIMES_HIGH, Layer
from hawser.desk.chart.viewport import Viewport
from hawser.desk.common.appearance import Appearance
from hawser.desk.models import figures as fg
from hawser.desk.theme.fonts import font

PRICE_PX = 34.0  # from one price to the next, at least
TIME_PX = 52.0  # and from one time to the next; a date takes 40
STEPS = (
    MINUTE,
    5 * MINUTE,
    15 * MINUTE,
    30 * MINUTE,
    HOUR,
    2 * HOUR,
    3 * HOUR,
    6 * HOUR,
    12 * HOUR,
    DAY,
    2 * DAY,
    7 * DAY,
    28 * DAY,
    91 * DAY,
    364 * DAY,
    1820 * DAY,
)
MOST_MARKS = 400
FLAG_HIGH, WORDS_HIGH = 18.0, 16.0


def price_marks(view: Viewport, digits: int) -> list[float]:
    """Prices at even steps of 1, 2 or 5, each far enough from the next, none finer than
    `digits`."""
    least = max(PRICE_PX / view.up, 10.0**-digits)
    power = 10.0 ** math.floor(math.log10(least))
    step = next(power * part for part in (1, 2, 5, 10) if power * part >= least * (1 - 1e-9))
    first = math.ceil(view.low / step)
    return [number * step for number in range(first, math.floor(view.high / step) + 1)]


class PriceAxis(Layer):
    """Prices with the instrument's digits."""

    beside = True

    def __init__(self, appearance: Appearance) -> None:
        self._appearance = appearance
        self.digits = 5

    def paint(self, painter: QPainter, view: Viewport) -> None:
        marks = price_marks(view, self.digits)
        painter.setPen(QPen(self._appearance.color("hairline", 178), 1))
        across = np.array([view.y(price) for price in marks])
        painter.drawLines(drawable(QLineF, 0.0, across, view.width, across))
        painter.setPen(QPen(self._appearance.color("hairline"), 1))
        painter.drawLine(QLineF(view.width, 0, view.width, view.height))
        painter.setPen(self._appearance.color("ink2"))
        painter.setFont(font(11))
        for price in marks:
            box = _box(view, price)
            if box.top() >= 0 and box.bottom() <= view.height:
                painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, f"{price:.{self.digits}f}")


def _box(view: Viewport, price: float) -> QRectF:
    """Where the axis tells a price."""
    return QRectF(view.width + 6, view.y(price) - WORDS_HIGH / 2, PRICES_WIDE - 8, WORDS_HIGH)


class PriceFlag(Layer):
    """The present price: a line across and a flag on the axis, in the place of a price that it
    would half cover."""

    kept, beside = False, True

    def __init__(self, appearance: Appearance, axis: PriceAxis) -> None:
        self._appearance, self._axis = appearance, axis
        self.price: float | None = None

    def show_price(self, price: float | None) -> None:
        if price != self.price:
            self.price = price
            self.changed()

    def paint(self, painter: QPainter, view: Viewport) -> None:
        y = view.y(self.price) if self.price is not None else -1.0
        if self.price is None or not 0 <= y <= view.height:
            return
        painter.setPen(QPen(self._appearance.color("ink"), 1))
        painter.drawLine(QLineF(0, y, view.width, y))
        for mark in price_marks(view, self._axis.digits):
            if abs(view.y(mark) - y) < (FLAG_HIGH + WORDS_HIGH) / 2:
                painter.fillRect(_box(view, mark), self._appearance.color("panel"))
        box = QRectF(view.width + 1, y - FLAG_HIGH / 2, PRICES_WIDE - 2, FLAG_HIGH)
        painter.fillRect(box, self._appearance.color("ink"))
        painter.setPen(self._appearance.color("on_ink"))
        painter.setFont(font(11, bold=True))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, f"{self.price:.{self._axis.digits}f}")


class TimeAxis(Layer):
    """Bar numbers as times in the person's zone; bars stand side by side, so closed hours take no
    room."""

    beside = True

    def __init__(self, appearance: Appearance) -> None:
        self._appearance = appearance
        self.times = np.empty(0, np.int64)
        self.span = MINUTE

    @property
    def zone(self) -> tzinfo:
        return self._appearance.zone

    def show_times(self, times: np.ndarray, span: int) -> None:
        self.times, self.span = times, span
        self.changed()

    def marks(self, view: Viewport) -> tuple[int, list[int]]:
        """Even times of the day, or days, that are far enough from each other: the step in ns, and
        their bars."""
        if not self.times.size:
            return 0, []
        first, last = int(max(0, view.left)), int(min(self.times.size - 1, view.right))
        if last <= first:
            return 0, []
        bars_each = TIME_PX / view.across
        step = next((step for step in STEPS if step >= bars_each * self.span), STEPS[-1])
        offset = self._offset(int(self.times[last]))
        start, end = int(self.times[first]) + offset, int(self.times[last]) + offset
        if (end - start) // step > MOST_MARKS:  # a history full of gaps
            step = (end - start) // 12 // DAY * DAY + DAY
        marks = np.arange(-(-start // step) * step, end + 1, step, dtype=np.int64) - offset
        at = np.unique(np.searchsorted(self.times, marks))
        spaced: list[int] = []
        for index in at[(at >= first) & (at < self.times.size)].tolist():
            if not spaced or index - spaced[-1] >= 0.8 * bars_each:
                spaced.append(index)
        return step, spaced

    def words(self, bars: list[int], step: int) -> list[str]:
        """Each one's clock time, or its date where a day begins or the step is days."""
        texts, day = [], None
        for bar in bars:
            at = fg.moment(int(self.times[bar]), self.zone)
            if step >= DAY:
                texts.append(f"{at:%d %b %y}" if step > 60 * DAY else f"{at:%d %b}")
            else:
                texts.append(
                    f"{at:%d %b}" if day is not None and at.date() != day else f"{at:%H:%M}"
                )
            day = at.date()
        return texts

    def paint(self, painter: QPainter, view: Viewport) -> None:
        painter.setPen(QPen(self._appearance.color("hairline"), 1))
        painter.drawLine(QLineF(0, view.height, view.width + PRICES_WIDE, view.height))
        step, bars = self.marks(view)
        for bar in bars:
            painter.drawLine(QLineF(view.x(bar), view.height, view.x(bar), view.height + 4))
        painter.setPen(self._appearance.color("ink2"))
        painter.setFont(font(11))
        for bar, text in zip(bars, self.words(bars, step), strict=True):
            box = QRectF(view.x(bar) - TIME_PX / 2, view.height + 3, TIME_PX, TIMES_HIGH - 3)
            if box.left() >= 0 and box.right() <= view.width + PRICES_WIDE:
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    def _offset(self, time: int) -> int:
        delta = fg.moment(time, self.zone).utcoffset()
        return int(delta.total_seconds()) * 1_000_000_000 if delta else 0
