"""The trial: a chart where a click on any bar shows what a rig would have done from there, and
another beside it."""

from __future__ import annotations

from typing import NamedTuple

from PyQt6.QtCore import QLineF, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from hawser.core.instrument import Instrument
from hawser.desk.chart.bars_chart import BarsChart
from hawser.desk.chart.levels import spread, words_wide
from hawser.desk.chart.strokes import Polyline, steps
from hawser.desk.chart.surface import Layer
from hawser.desk.chart.viewport import Viewport
from hawser.desk.common.appearance import Appearance
from hawser.desk.models import figures as fg
from hawser.desk.models.pyramid import Pyramid
from hawser.desk.theme.fonts import font
from hawser.rehearsal.trial import TrialResult

WORDS_HEIGHT = 16.0
ENTERED, LEFT = 5.5, 5.0  # pixels from the middle of a mark to its edge


class _Saying(NamedTuple):
    """Words beside a level."""

    price: float
    text: str
    tone: str


class TrialMarks(Layer):
    """The bar chosen, and what the first rig would have done: its levels, entries and exits, and
    words beside them."""

    kept = False

    def __init__(self, appearance: Appearance) -> None:
        self._appearance = appearance
        self._start, self._tick = -1, 1.0
        self._trial: TrialResult | None = None
        self._said: list[_Saying] = []

    def show_trial(self, start: int, trial: TrialResult | None, of: Instrument | None) -> None:
        self._start, self._trial, self._said = start, trial, []
        if trial is not None and of is not None:
            self._tick, r = of.tick_size, abs(trial.ref - trial.stop)
            for level in trial.targets:
                text = f"{fg.r(trial.side * (level - trial.ref) / r)}  {of.price(level)}"
                self._said.append(_Saying(level * self._tick, text, "gain"))
            self._said.append(
                _Saying(trial.ref * self._tick, f"entry  {of.price(trial.ref)}", "ink2")
            )
        self.changed()

    def paint(self, painter: QPainter, view: Viewport) -> None:
        if self._start >= 0:
            x = view.x(self._start + 0.5)
            painter.setPen(QPen(self._appearance.color("ink2"), 1, Qt.PenStyle.DotLine))
            painter.drawLine(QLineF(x, 0, x, view.height))
        if self._trial is not None:
            self._paint_levels(painter, view, self._trial)
            self._paint_fills(painter, view, self._trial)
            self._paint_words(painter, view, self._trial)

    def _paint_levels(self, painter: QPainter, view: Viewport, trial: TrialResult) -> None:
        left, right = view.x(trial.first - 0.5), view.x(trial.last + 0.5)
        painter.setPen(QPen(self._appearance.color("gain"), 1))
        for level in trial.targets:
            y = view.y(level * self._tick)
            painter.drawLine(QLineF(left, y, right, y))
        y = view.y(trial.ref * self._tick)
        painter.setPen(QPen(self._appearance.color("ink"), 1, Qt.PenStyle.DashLine))
        painter.drawLine(QLineF(left, y, right, y))

    def _paint_fills(self, painter: QPainter, view: Viewport, trial: TrialResult) -> None:
        """Triangles that point the way of the trade where it entered, rings where it left."""
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self._appearance.color("ink"))
        for bar, price in (
            (trial.first, float(trial.ref)),
            *((one.bar, one.price) for one in trial.rungs),
        ):
            x, y, up = view.x(bar), view.y(price * self._tick), -ENTERED * trial.side
            corners = [
                QPointF(x, y + up),
                QPointF(x - ENTERED, y - up),
                QPointF(x + ENTERED, y - up),
            ]
            painter.drawPolygon(QPolygonF(corners))
        painter.setPen(QPen(self._appearance.color("ink"), 2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for one in trial.exits:
            painter.drawEllipse(
                QPointF(view.x(one.bar), view.y(one.price * self._tick)), LEFT, LEFT
            )
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)

    def _paint_words(self, painter: QPainter, view: Viewport, trial: TrialResult) -> None:
        """At the right edge, where there are no bars, each as near to its level as the others let
        it."""
        seen = [one for one in self._said if view.low <= one.price <= view.high]
        places = spread([view.y(one.price) for one in seen], WORDS_HEIGHT, view.height)
        painter.setFont(font(11))
        for one, place in zip(seen, places, strict=True):
            wide = words_wide(one.text)
            box = QRectF(view.width - wide, place - WORDS_HEIGHT / 2, wide, WORDS_HEIGHT)
            painter.setPen(QPen(self._appearance.color("ink2"), 1, Qt.PenStyle.DotLine))
            painter.drawLine(
                QPointF(view.x(trial.last + 0.5), view.y(one.price)), QPointF(box.left(), place)
            )
            painter.fillRect(box, self._appearance.color("panel"))
            painter.setPen(self._appearance.color(one.tone))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, one.text)


class TrialChart(BarsChart):
    """Bars, the bar chosen, and the trades of one rig or two from it. Bars cross its signals as
    indices."""

    chosen = pyqtSignal(int)
    side_asked = pyqtSignal(int)

    def __init__(self, appearance: Appearance) -> None:
        super().__init__(appearance)
        self._trials: list[TrialResult | None] = [None, None]
        self.start = -1  # the bar at whose close the entry is decided
        self.plot.setAccessibleName("Trial: click a bar, or use Left and Right; L long, S short")
        self._traces = [
            Polyline(appearance, "loss", 2.0),
            Polyline(appearance, "loss", 1.5, dash=True),
        ]
        self._marks = TrialMarks(appearance)
        self.plot.add(*self._traces, self._marks)
        self.plot.clicked.connect(lambda at: self.choose(round(self.view.bar_at(at.x()))))

    # Data

    def show_bars(self, instrument: Instrument, span: int, pyramid: Pyramid) -> bool:
        same = super().show_bars(instrument, span, pyramid)
        if not same:
            self.start, self._trials = -1, [None, None]
        self._draw()
        return same

    def show_trials(self, first: TrialResult | None, second: TrialResult | None) -> None:
        self._trials = [first, second]
        self._draw()

    def choose(self, bar: int) -> None:
        """Make `bar` the one at whose close the entry is decided, and tell it."""
        if self.size < 2:
            return
        self.start = min(max(0, bar), self.size - 2)
        self.bring(self.start)
        self.chosen.emit(self.start)

    def _draw(self) -> None:
        for trace, trial in zip(self._traces, self._trials, strict=True):
            trace.show_points(self._stops(trial))
        self._marks.show_trial(self.start, self._trials[0], self._instrument)

    def _stops(self, trial: TrialResult | None) -> list[tuple[float, float]]:
        """Where a trial's stop was, over its bars."""
        if trial is None or self._instrument is None:
            return []
        tick = self._instrument.tick_size
        moves = [(bar - 0.5, moved * tick) for bar, moved, _ in trial.moves]
        return steps([(trial.first - 0.5, trial.stop * tick), *moves], trial.last + 0.5)

    # Keys

    def key(self, key: int, shift: bool) -> bool:
        """Keys of the trial; True where it was one."""
        keys = Qt.Key
        if key in (keys.Key_Left, keys.Key_Right):
            step = (10 if shift else 1) * (1 if key == keys.Key_Right else -1)
            self.choose((self.start if self.start >= 0 else self.size - 30) + step)
        elif key in (keys.Key_L, keys.Key_S):
            self.side_asked.emit(1 if key == keys.Key_L else -1)
        else:
            return super().key(key, shift)
        return True
