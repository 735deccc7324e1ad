"""The fan: one rig, or two, from hundreds of bars at once: how the results spread in R, and what
ended the trades."""

from __future__ import annotations

import math

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from hawser.desk.common.appearance import Appearance
from hawser.desk.models import figures as fg
from hawser.desk.theme.fonts import font
from hawser.rehearsal.trial import Fan

LOW, HIGH, BIN = -3.0, 8.0, 0.1  # R; what lies beyond stands in the outermost column
MARGIN, AXIS, FAN_ROW_PX, HEAD = 22.0, 22.0, 22.0, 22.0


class FanView(QWidget):
    """Draws a Fan, and another rig's in outline beside it."""

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self._appearance = appearance
        self.fan: Fan | None = None
        self.other: Fan | None = None
        self.setMinimumHeight(150)
        appearance.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(500, 270)

    def show_fans(self, fan: Fan | None, other: Fan | None) -> None:
        self.fan, self.other = fan, other
        rows = (
            []
            if fan is None
            else [
                f"{one.why} {fg.percent(100 * one.share, 0)} at {one.mean:+.2f} R"
                for one in fan.ended
            ]
        )
        self.setAccessibleName(
            f"Results: mean {fan.mean:+.2f} R; {'; '.join(rows)}" if fan is not None else "Results"
        )
        self.update()

    # Drawing

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(11))
        fan, p = self.fan, self._appearance.palette
        if fan is None or not fan.results.size:
            painter.setPen(p.color("ink2"))
            ended = (
                "No trade ends in this history: it is too short for this rig, or the size is "
                "refused"
            )
            text = "No trial yet" if fan is None else ended
            painter.drawText(QRectF(self.rect()), Qt.AlignmentFlag.AlignCenter, text)
            painter.end()
            return
        rows = min(
            len(fan.ended), 6, max(2, int((self.height() - 90.0 - AXIS - HEAD) / FAN_ROW_PX))
        )
        below = HEAD + FAN_ROW_PX * rows
        dots = QRectF(
            MARGIN, 4, self.width() - 2 * MARGIN, max(40.0, self.height() - below - AXIS - 4)
        )
        low, high = self._reach(fan)
        self._axis(painter, dots, low, high)
        self._dots(painter, dots, low, high, fan)
        self._means(painter, dots, low, high)
        self._table(painter, QRectF(MARGIN, dots.bottom() + AXIS, dots.width(), below), fan, rows)
        painter.end()

    def _reach(self, fan: Fan) -> tuple[float, float]:
        low = max(LOW, min(-1.5, math.floor(float(fan.results.min()))))
        high = min(HIGH, max(2.0, math.ceil(float(np.quantile(fan.results, 0.995)))))
        return low, high

    @staticmethod
    def _x(box: QRectF, low: float, high: float, r: float) -> float:
        return box.left() + (min(max(r, low), high) - low) / (high - low) * box.width()

    def _axis(self, painter: QPainter, box: QRectF, low: float, high: float) -> None:
        p = self._appearance.palette
        painter.setPen(QPen(p.color("ink2"), 1))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        for r in range(math.ceil(low), math.floor(high) + 1):
            x = self._x(box, low, high, r)
            painter.drawLine(QPointF(x, box.bottom()), QPointF(x, box.bottom() + 4))
            text = "0 R" if r == 0 else fg.r(float(r)).replace(".00", "").replace(" R", "")
            painter.drawText(
                QRectF(x - 24, box.bottom() + 4, 48, AXIS - 6), Qt.AlignmentFlag.AlignCenter, text
            )

    def _dots(self, painter: QPainter, box: QRectF, low: float, high: float, fan: Fan) -> None:
        """A dot a trade where there is room, else a column as high."""
        p = self._appearance.palette
        # Each column is of the results nearest to its tenth: a full loss is not split by what its
        # costs weigh.
        first, last = round(low / BIN), round(high / BIN)
        tenths = np.rint(np.clip(fan.results, low, high) / BIN).astype(np.int64)
        counts = np.bincount(tenths - first, minlength=last - first + 1)
        width = box.width() / (last - first)
        size = min(width, box.height() / max(1, int(counts.max())))
        painter.setPen(Qt.PenStyle.NoPen)
        for number, count in enumerate(counts.tolist()):
            tenth = first + number
            painter.setBrush(p.color("gain" if tenth > 0 else "loss" if tenth < 0 else "ink2"))
            x = self._x(box, low, high, tenth * BIN)
            if size >= 3.0:
                radius = min(3.2, size * 0.42)
                for at in range(count):
                    painter.drawEllipse(
                        QPointF(x, box.bottom() - 1 - size * (at + 0.5)), radius, radius
                    )
            else:
                painter.drawRect(
                    QRectF(
                        x - width * 0.38, box.bottom() - size * count, width * 0.76, size * count
                    )
                )

    def _means(self, painter: QPainter, box: QRectF, low: float, high: float) -> None:
        p, fans = self._appearance.palette, [("mean", self.fan), ("beside: mean", self.other)]
        for number, (word, fan) in enumerate(fans):
            if fan is None or not math.isfinite(fan.mean):
                continue
            x = self._x(box, low, high, fan.mean)
            pen = QPen(p.color("ink"), 2 if number == 0 else 1.5)
            if number:
                pen.setStyle(Qt.PenStyle.DashLine)
            painter.setPen(pen)
            painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
            text = f"{word} {fg.r(fan.mean)}"
            painter.setPen(p.color("ink"))
            wide = QFontMetricsF(painter.font()).horizontalAdvance(text)
            left = x + 6 if x + 8 + wide < box.right() else x - 8 - wide
            spot = QRectF(left - 2, box.top() + 16 * number, wide + 6, 16)
            painter.fillRect(spot, p.color("panel"))
            painter.drawText(spot, Qt.AlignmentFlag.AlignCenter, text)

    def _table(self, painter: QPainter, box: QRectF, fan: Fan, rows: int) -> None:
        p = self._appearance.palette
        other = {one.why: one for one in self.other.ended} if self.other is not None else {}
        beside = self.other is not None
        heads = [("ended by", 0.0), ("share", 150.0), ("mean", 215.0)]
        heads += [("beside", 280.0), ("mean", 345.0)] if beside else []
        bars = 430.0 if beside else 300.0
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        painter.setPen(p.color("ink2"))
        for text, x in heads:
            spot = QRectF(box.left() + x, box.top(), 110 if not x else 55, HEAD)
            painter.drawText(spot, right if x else left, text)
        for number, one in enumerate(fan.ended[:rows]):
            y = box.top() + HEAD + FAN_ROW_PX * number
            painter.setPen(QPen(p.color("hairline"), 1))
            painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
            painter.setPen(p.color("ink"))
            painter.drawText(QRectF(box.left(), y, 140, FAN_ROW_PX), left, one.why)
            cells = [
                (150.0, fg.percent(one.share * 100, 0), "ink"),
                (215.0, fg.r(one.mean), _tone(one.mean)),
            ]
            match = other.get(one.why)
            if match is not None:
                cells += [
                    (280.0, fg.percent(match.share * 100, 0), "ink2"),
                    (345.0, fg.r(match.mean), "ink2"),
                ]
            for x, text, tone in cells:
                painter.setPen(p.color(tone))
                painter.drawText(QRectF(box.left() + x - 10, y, 65, FAN_ROW_PX), right, text)
            room = box.width() - bars
            if room > 40:
                painter.fillRect(
                    QRectF(box.left() + bars, y + 8, room * one.share, 8), p.color(_tone(one.mean))
                )


def _tone(mean: float) -> str:
    return "gain" if mean > 0 else "loss"
