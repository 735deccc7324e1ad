"""The bars with what a source does on them: its lines, where it enters and leaves, another source
beside it, and the bar that is asked about."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, Qt, pyqtSignal

from hawser.core.indicators import Array
from hawser.desk.chart.asked import Asked
from hawser.desk.chart.bars_chart import BarsChart
from hawser.desk.chart.over import Over
from hawser.desk.chart.said import SaidLayer
from hawser.desk.common.appearance import Appearance
from hawser.desk.models.curves import Curve, Panel


class SourceChart(BarsChart):
    """`asked` tells the bar under the pointer, or the one that was chosen; -1: none. `stepped` asks
    for the next signal, +1, or the one before, -1."""

    asked = pyqtSignal(int)
    stepped = pyqtSignal(int)

    def __init__(self, appearance: Appearance) -> None:
        super().__init__(appearance)
        self.chosen = self._hovered = -1
        self.plot.setAccessibleName(
            "Source: point at a bar, or use Left and Right; N next signal, P previous signal"
        )
        self._asked, self.other = Asked(appearance), SaidLayer(appearance, other=True)
        self.plot.add(self._asked)
        self.over = Over(appearance, self.plot, self._asked)
        self.plot.add(self.other, before=self._asked)
        self.plot.hovered.connect(self._hover)
        self.plot.clicked.connect(lambda at: self.choose(round(self.view.bar_at(at.x()))))
        strips = self.over.strips
        strips.zoomed.connect(self.zoom)
        strips.panned.connect(self.pan)
        strips.hovered.connect(self._hover)
        strips.clicked.connect(lambda at: self.choose(round(self.view.bar_at(at.x()))))
        self.column.insertWidget(0, self.over.legend)
        self.column.addWidget(strips)

    def show_lines(self, curves: list[Curve], panels: list[Panel]) -> None:
        """The lines of the source."""
        self.over.show_lines(curves, panels, self._price_axis.digits)
        self.set_range()

    def show_said(self, signal: Array, leave: Array) -> None:
        self.over.said.show_said(self._pyramid, signal, leave)

    def show_other(self, signal: Array | None) -> None:
        """Of the source beside it; None: there is none."""
        if signal is None:
            self.other.show_said(None, np.empty(0, np.int8), np.empty(0, np.int8))
        else:
            self.other.show_said(self._pyramid, signal, np.empty(0, np.int8))

    def prices(self) -> list[tuple[float, float]]:
        return self.over.curves.extremes(self.view)

    def set_range(self) -> None:
        super().set_range()
        self.over.strips.follow()

    # The bar that is asked about

    @property
    def bar(self) -> int:
        """The one under the pointer, else the one that was chosen."""
        return self._hovered if self._hovered >= 0 else self.chosen

    def choose(self, bar: int) -> None:
        """Ask about a bar until another is chosen."""
        if not self.size:
            return
        self.chosen = min(max(0, bar), self.size - 1)
        self.bring(self.chosen)
        self._show_asked()

    def forget(self) -> None:
        """No bar is chosen: the bars are others."""
        self.chosen = self._hovered = -1
        self._show_asked()

    def _hover(self, at: QPointF | None) -> None:
        bar = -1 if at is None else round(self.view.bar_at(at.x()))
        self._hovered = bar if 0 <= bar < self.size else -1
        self._show_asked()

    def _show_asked(self) -> None:
        fixed = self.bar == self.chosen
        self._asked.show_bar(self.bar, fixed)
        self.over.read(self.bar, fixed)
        self.asked.emit(self.bar)

    def key(self, key: int, shift: bool) -> bool:
        keys = Qt.Key
        if key in (keys.Key_Left, keys.Key_Right):
            step = (10 if shift else 1) * (1 if key == keys.Key_Right else -1)
            self.choose((self.chosen if self.chosen >= 0 else self.size - 1) + step)
        elif key in (keys.Key_N, keys.Key_P):
            self.stepped.emit(1 if key == keys.Key_N else -1)
        elif key == keys.Key_End:
            self.choose(self.size - 1)
        elif key == keys.Key_Home:
            self.choose(0)
        else:
            return super().key(key, shift)
        return True
