"""The trial: a chart where a click on any bar shows what a rig would have done from there, and another beside it."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent
from PyQt6.QtWidgets import QFrame, QVBoxLayout

from hawser.core.instrument import Instrument
from hawser.desk.chart.items import Candles, PriceAxis, TimeAxis, bare, ink, spread
from hawser.desk.chart.pyramid import Pyramid
from hawser.desk.common.appearance import Appearance
from hawser.desk.models import figures as fg
from hawser.desk.theme.fonts import font
from hawser.rehearsal.trial import TrialResult

FEWEST, ROOM = 24.0, 0.22  # bars shown at least; the part kept free on the right for words
WORDS_HEIGHT = 16.0


class TrialPlot(pg.PlotWidget):
    """Hands its wheel, clicks and keys on."""

    def __init__(self, chart: TrialChart, time_axis: TimeAxis, price_axis: PriceAxis) -> None:
        super().__init__(axisItems={"bottom": time_axis, "right": price_axis})
        self._chart = chart
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Trial: click a bar, or use Left and Right; L long, S short")

    def wheelEvent(self, event) -> None:  # type: ignore[no-untyped-def]  # QWheelEvent
        self._chart.zoom(0.8 if event.angleDelta().y() > 0 else 1.25)
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if not self._chart.key(event.key(), bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)):
            super().keyPressEvent(event)


class TrialChart(QFrame):
    """Bars, the bar chosen, and the trades of one rig or two from it. Bars cross its signals as indices."""

    chosen = pyqtSignal(int)
    side_asked = pyqtSignal(int)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self._look = look
        self._instrument: Instrument | None = None
        self._pyramid: Pyramid | None = None
        self._trials: list[TrialResult | None] = [None, None]
        self.start = -1  # the bar at whose close the entry is decided
        self.shown, self._right = 130.0, 0.0
        self._time_axis, self._price_axis = TimeAxis(look), PriceAxis(look)
        self.plot = TrialPlot(self, self._time_axis, self._price_axis)
        self._axes = (self._time_axis, self._price_axis)
        self._view = bare(self.plot, self._axes)
        self._view.sigXRangeChanged.connect(self._panned)
        self._candles = Candles(look)
        self._here = pg.InfiniteLine(angle=90)
        self._traces = [pg.PlotCurveItem(connect="finite"), pg.PlotCurveItem(connect="finite")]
        self._levels = pg.PlotCurveItem(connect="pairs")
        self._entry = pg.PlotCurveItem(connect="pairs")
        self._exits = pg.ScatterPlotItem(size=10)
        self._side = pg.ScatterPlotItem(size=11)
        self._leaders = pg.PlotCurveItem(connect="pairs")  # from a level to its words
        lines = (self._leaders, self._levels, self._entry, *self._traces)
        for part in (self._candles, self._here, *lines, self._exits, self._side):
            self.plot.addItem(part, ignoreBounds=True)
        self._words: list[pg.TextItem] = []
        self._said: list[tuple[float, str, QColor]] = []  # at what price, what, in which colour
        self._view.sigResized.connect(self._lay_words)
        self.plot.scene().sigMouseClicked.connect(self._clicked)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.addWidget(self.plot)
        look.changed.connect(self.restyle)
        self.restyle()

    def restyle(self) -> None:
        p = self._look.palette
        ink(self.plot, self._axes, self._look)
        self._here.setPen(pg.mkPen(p.color("ink2"), width=1, style=Qt.PenStyle.DotLine))
        self._leaders.setPen(pg.mkPen(p.color("ink2"), width=1, style=Qt.PenStyle.DotLine))
        self._levels.setPen(pg.mkPen(p.color("gain"), width=1))
        self._entry.setPen(pg.mkPen(p.color("ink"), width=1, style=Qt.PenStyle.DashLine))
        self._traces[0].setPen(pg.mkPen(p.color("loss"), width=2))
        self._traces[1].setPen(pg.mkPen(p.color("loss"), width=1.5, style=Qt.PenStyle.DashLine))
        self._draw()

    # Data

    def show_bars(self, instrument: Instrument, span: int, pyramid: Pyramid) -> None:
        """Another history, or the same with another bar at its end."""
        same = self._pyramid is not None and self._time_axis.span == span and self._instrument == instrument
        if same and self._right > 0:  # what a person looks at stays where it is
            self._right += max(0, pyramid.size - self.size)
        self._instrument, self._pyramid = instrument, pyramid
        self._price_axis.digits = instrument.price_digits
        self._time_axis.times, self._time_axis.span = pyramid.bars.time, span
        self._candles.show_bars(pyramid, None)
        if not same:
            self.start, self._right = -1, 0.0
            self.shown = 130.0
            self._trials = [None, None]
        self._set_range()
        self._draw()

    @property
    def size(self) -> int:
        return self._pyramid.size if self._pyramid is not None else 0

    def show_trials(self, first: TrialResult | None, second: TrialResult | None) -> None:
        self._trials = [first, second]
        self._draw()

    def choose(self, bar: int) -> None:
        """Make `bar` the one at whose close the entry is decided, and tell it."""
        if self.size < 2:
            return
        self.start = min(max(0, bar), self.size - 2)
        left, right = self._view.viewRange()[0]
        if not left < self.start < right:
            self._right = self.size - (self.start + self.shown * 0.6)
            self._set_range()
        self.chosen.emit(self.start)

    # Drawing

    def _draw(self) -> None:
        said: list[tuple[float, str, QColor]] = []
        self._here.setVisible(self.start >= 0)
        if self.start >= 0:
            self._here.setValue(self.start + 0.5)
        for number, trial in enumerate(self._trials):
            self._draw_trace(number, trial)
        first = self._trials[0]
        if first is None or self._instrument is None:
            for part in (self._levels, self._entry):
                part.setData([], [])
            self._exits.setData([])
            self._side.setData([])
            self._say(said)
            return
        tick, p = self._instrument.tick_size, self._look.palette
        ends = [first.first - 0.5, first.last + 0.5]
        levels = [level * tick for level in first.targets]
        self._levels.setData(np.tile(ends, len(levels)), np.repeat(levels, 2))
        self._entry.setData(ends, [first.ref * tick] * 2)
        entries = [(first.first, float(first.ref)), *((one.bar, one.price) for one in first.rungs)]
        self._side.setData(
            [bar for bar, _ in entries],
            [price * tick for _, price in entries],
            symbol="t1" if first.side > 0 else "t",
            brush=p.color("ink"),
            pen=None,
        )
        exits = [(one.bar, one.price * tick) for one in first.exits]
        self._exits.setData(
            [bar for bar, _ in exits], [price for _, price in exits], symbol="o", brush=None,
            pen=pg.mkPen(p.color("ink"), width=2),
        )  # fmt: skip
        r = abs(first.ref - first.stop)
        for level in first.targets:
            text = f"{fg.r(first.side * (level - first.ref) / r)}  {self._instrument.price(level)}"
            said.append((level * tick, text, p.color("gain")))
        text = f"entry  {self._instrument.price(first.ref)}"
        said.append((first.ref * tick, text, p.color("ink2")))
        self._say(said)

    def _say(self, said: list[tuple[float, str, QColor]]) -> None:
        """Words beside levels. Those there are used again: making one takes longer than all the lines."""
        self._said = said
        while len(self._words) < len(said):
            word = pg.TextItem(anchor=(1, 0.5))
            word.setFont(font(11))
            self.plot.addItem(word, ignoreBounds=True)
            self._words.append(word)
        for number, word in enumerate(self._words):
            word.setVisible(number < len(said))
            if number < len(said):
                _, text, color = said[number]
                word.fill = pg.mkBrush(self._look.palette.color("panel"))
                word.setText(text, color)
        self._lay_words()

    def _lay_words(self) -> None:
        """At the right edge, where there are no bars, each as near to its level as the others let it."""
        (left, right), (low, high) = self._view.viewRange()
        seen = [number for number, (price, *_) in enumerate(self._said) if low <= price <= high]
        for number, word in enumerate(self._words):
            word.setVisible(number in seen)
        first, height = self._trials[0], self._view.height()
        if first is None or not seen or not height:
            self._leaders.setData([], [])
            return
        across, up = (right - left) / max(1.0, self._view.width()), (high - low) / height
        places = spread([(high - self._said[number][0]) / up for number in seen], WORDS_HEIGHT, height)
        xs, ys = [], []
        for number, place in zip(seen, places, strict=True):
            word, y = self._words[number], high - place * up
            word.setPos(right, y)
            xs += [first.last + 0.5, right - word.textItem.boundingRect().width() * across]
            ys += [self._said[number][0], y]
        self._leaders.setData(xs, ys)

    def _draw_trace(self, number: int, trial: TrialResult | None) -> None:
        if trial is None or self._instrument is None:
            self._traces[number].setData([], [])
            return
        tick, level = self._instrument.tick_size, trial.stop
        xs, ys = [trial.first - 0.5], [level * tick]
        for bar, moved, _ in trial.moves:
            xs += [bar - 0.5, bar - 0.5]
            ys += [level * tick, moved * tick]
            level = moved
        self._traces[number].setData([*xs, trial.last + 0.5], [*ys, level * tick])

    # Range

    def _set_range(self) -> None:
        if self._pyramid is None:
            return
        self.shown = min(max(FEWEST, self.shown), max(FEWEST, float(self.size)))
        self._right = min(max(0.0, self._right), max(0.0, self.size - FEWEST))
        right = self.size - self._right
        self._view.blockSignals(True)
        self._view.setXRange(right - self.shown, right + self.shown * ROOM, padding=0)
        self._view.blockSignals(False)
        self._time_axis.linkedViewChanged(self._view)
        found = self._pyramid.extremes(*self._view.viewRange()[0])
        if found is not None:
            room = (found[1] - found[0]) * 0.06 or abs(found[1]) * 0.001
            self._view.setYRange(found[0] - room, found[1] + room, padding=0)
        self._lay_words()

    def _panned(self) -> None:
        left, right = self._view.viewRange()[0]
        self.shown = (right - left) / (1 + ROOM)
        self._right = self.size - (left + self.shown)
        self._set_range()

    def zoom(self, factor: float) -> None:
        self.shown *= factor
        self._set_range()

    def key(self, key: int, shift: bool) -> bool:
        """Keys of the trial; True where it was one."""
        keys = Qt.Key
        if key in (keys.Key_Left, keys.Key_Right):
            step = (10 if shift else 1) * (1 if key == keys.Key_Right else -1)
            self.choose((self.start if self.start >= 0 else self.size - 30) + step)
        elif key in (keys.Key_L, keys.Key_S):
            self.side_asked.emit(1 if key == keys.Key_L else -1)
        elif key in (keys.Key_Plus, keys.Key_Equal, keys.Key_Minus):
            self.zoom(1.25 if key == keys.Key_Minus else 0.8)
        else:
            return False
        return True

    def _clicked(self, event) -> None:  # type: ignore[no-untyped-def]  # pyqtgraph's MouseClickEvent
        position: QPointF = event.scenePos()
        if event.button() == Qt.MouseButton.LeftButton and self._view.sceneBoundingRect().contains(position):
            self.choose(round(self._view.mapSceneToView(position).x()))
