"""What followed a source's signals: for each horizon a bar from worst to best with the mean, and
behind it, hatched, the same for all bars."""

from __future__ import annotations

from PyQt6.QtCore import QLineF, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QBrush, QHelpEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from hawser.core.sources.followed_said import horizon_said, luck_said
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.words import plain_tip
from hawser.desk.models import figures as fg
from hawser.desk.models.source_look import Horizon
from hawser.desk.theme.fonts import font

LEFT, RIGHT, HEAD, FOOT = 70.0, 122.0, 20.0, 22.0  # pixels around the bars
BAR, LEAST_ROW = 11.0, 34.0
LEAST_ATR = 0.01
LEFTWARD = int(Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft)
RIGHTWARD = int(Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight)
ENDS = 0.6  # of the way to an end: how far the longest bar reaches, beside its figures


def _reach(horizons: list[Horizon]) -> float:
    """ATR from the middle of a row to its ends: each horizon has a scale of its own, for what
    counts is its signals beside all bars."""
    found = [LEAST_ATR]
    for one in horizons:
        found += [abs(one.signals.worst or 0.0), abs(one.signals.best or 0.0)]
        if one.all is not None:
            found += [abs(one.all.worst), abs(one.all.best)]
    return max(found) / ENDS


class FollowedView(QWidget):
    """Draws the horizons of one source, and those of another below them."""

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self._appearance = appearance
        self.horizons: list[Horizon] = []
        self.others: list[Horizon] = []
        self.told = ""
        self.setMinimumHeight(round(HEAD + FOOT + 4 * LEAST_ROW))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        appearance.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(380, 210)

    def show_horizons(self, horizons: list[Horizon], others: list[Horizon], told: str = "") -> None:
        """`told`: what stands there where there is nothing to show."""
        self.horizons, self.others, self.told = horizons, others, told
        said = [horizon_said(one.bars, one.signals) for one in horizons]
        said += [f"Beside it: {horizon_said(one.bars, one.signals)}" for one in others]
        self.setAccessibleName("What followed")
        self.setAccessibleDescription("\n".join(said) or told)
        self.update()

    # Drawing

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter, color = QPainter(self), self._appearance.color
        painter.setFont(font(11))
        if not any(one.signals.count for one in self.horizons):
            painter.setPen(color("ink2"))
            box = QRectF(self.rect()).adjusted(10, 6, -10, -6)
            told = self.told or "No signal over these bars has a bar behind it"
            painter.drawText(box, int(Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap), told)
            return
        self._paint_head(painter)
        high = (self.height() - HEAD - FOOT) / len(self.horizons)
        for number, one in enumerate(self.horizons):
            middle = HEAD + high * (number + 0.5)
            painter.setPen(color("ink"))
            name = QRectF(8, middle - 9, LEFT - 12, 18)
            painter.drawText(name, Qt.AlignmentFlag.AlignVCenter, fg.counted(one.bars, "bar"))
            other = self.others[number] if number < len(self.others) else None
            shift = 0.0 if other is None else BAR * 0.8
            reach = _reach([one] if other is None else [one, other])
            painter.setPen(QPen(color("hairline"), 1))
            zero = self._x(reach, 0.0)
            painter.drawLine(QLineF(zero, middle - high / 2 + 2, zero, middle + high / 2 - 2))
            self._paint_bar(painter, reach, one, middle - shift, hollow=False)
            if other is not None:
                self._paint_bar(painter, reach, other, middle + shift, hollow=True)
        self._paint_foot(painter)

    def _x(self, reach: float, value: float) -> float:
        """`reach`: ATR from the middle to either end."""
        wide = max(1.0, self.width() - LEFT - RIGHT)
        return LEFT + wide * (0.5 + 0.5 * value / reach)

    def _paint_head(self, painter: QPainter) -> None:
        painter.setPen(self._appearance.color("ink2"))
        right = self.width() - RIGHT + 8
        for text, left, wide in (("mean ATR", right - 6, 58.0), ("luck", right + 54, 54.0)):
            box = QRectF(left, 2, wide, HEAD - 4)
            painter.drawText(box, RIGHTWARD, text)

    def _paint_foot(self, painter: QPainter) -> None:
        painter.setPen(self._appearance.color("ink2"))
        text = "worst, mean and best in ATR; hatched: all bars"
        box = QRectF(8, self.height() - FOOT, self.width() - 16, FOOT)
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, text)

    def _paint_bar(
        self, painter: QPainter, reach: float, one: Horizon, y: float, hollow: bool
    ) -> None:
        color, signals = self._appearance.color, one.signals
        mean, best, worst = signals.mean, signals.best, signals.worst
        if mean is None or best is None or worst is None or signals.chance is None:
            painter.setPen(color("ink2"))
            box = QRectF(LEFT, y - 9, self.width() - LEFT, 18)
            painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, "no signal has so many behind it")
            return
        if one.all is not None and not hollow:
            left, right = self._x(reach, one.all.worst), self._x(reach, one.all.best)
            painter.setPen(QPen(color("ink2"), 1, Qt.PenStyle.DotLine))
            painter.setBrush(QBrush(color("ink2"), Qt.BrushStyle.BDiagPattern))
            painter.drawRect(QRectF(left, y - BAR, right - left, 2 * BAR))
        left, right = self._x(reach, worst), self._x(reach, best)
        least, most = left, right
        if one.all is not None and not hollow:  # the figures stand beside both
            least = min(left, self._x(reach, one.all.worst))
            most = max(right, self._x(reach, one.all.best))
        painter.setPen(QPen(color("ink"), 1))
        painter.setBrush(color("panel") if hollow else color("hairline"))
        painter.drawRect(QRectF(left, y - BAR / 2, right - left, BAR))
        painter.setPen(color("ink2"))
        for value, box, align in (
            (worst, QRectF(least - 50, y - 8, 44, 16), RIGHTWARD),
            (best, QRectF(most + 6, y - 8, 44, 16), LEFTWARD),
        ):
            painter.drawText(box, align, fg.number(value, 1, sign=True))
        middle = self._x(reach, mean)
        tone = color("gain" if mean > 0 else "loss")
        painter.fillRect(QRectF(middle - 1.5, y - BAR / 2 - 2, 3, BAR + 4), tone)
        if signals.mean_of_all is not None and not hollow:
            x = self._x(reach, signals.mean_of_all)
            painter.setPen(QPen(color("ink2"), 2))
            painter.drawLine(QPointF(x, y - BAR), QPointF(x, y + BAR))
        painter.setPen(color("ink2" if hollow else "ink"))
        right = self.width() - RIGHT + 8
        text = fg.number(mean, 2, sign=True)
        painter.drawText(QRectF(right - 6, y - 9, 58, 18), RIGHTWARD, text)
        luck = luck_said(signals.chance, below="<")
        painter.drawText(QRectF(right + 54, y - 9, 54, 18), RIGHTWARD, luck)

    def event(self, event: object) -> bool:
        if isinstance(event, QHelpEvent) and self.horizons:
            high = (self.height() - HEAD - FOOT) / len(self.horizons)
            row = int((event.pos().y() - HEAD) // high)
            if 0 <= row < len(self.horizons):
                told = [horizon_said(self.horizons[row].bars, self.horizons[row].signals)]
                if row < len(self.others):
                    other = self.others[row]
                    told.append(f"Beside it: {horizon_said(other.bars, other.signals)}")
                QToolTip.showText(event.globalPos(), plain_tip("\n".join(told)), self)
                return True
        return super().event(event)  # type: ignore[arg-type]
