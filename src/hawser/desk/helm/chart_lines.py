"""What is drawn over the bars of the Helm's chart: lines, and a source. Chosen for each instrument,
kept, and worked out away from the window's thread."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QWidget

from hawser.core.bars import Bars
from hawser.core.errors import BadInput
from hawser.desk.chart.chart import Chart
from hawser.desk.common.background import Newest, while_there
from hawser.desk.common.timing import once
from hawser.desk.models.settings import Shown

if TYPE_CHECKING:
    from hawser.desk.helm.lines_panel import LinesPanel
    from hawser.desk.models.chart_lines import Drawing
    from hawser.desk.models.lines_draft import LinesDraft
    from hawser.service.own_columns import OwnColumns
    from hawser.service.profiles.sources import SourceShelf

BarsOfAll = Callable[[Callable[[Mapping[str, tuple[int, Bars]]], None]], None]


class ChartLines(QObject):
    """Joins the chart with what is chosen for its instrument. `told` is for the notice bar."""

    told = pyqtSignal(str)
    _others = pyqtSignal(object)

    def __init__(
        self,
        helm: QWidget,
        chart: Chart,
        shown: Shown,
        sources: SourceShelf,
        bars_of_all: BarsOfAll,
        columns_of: Callable[[str], OwnColumns | None],
    ) -> None:
        super().__init__(helm)
        self._helm, self._chart, self._shown = helm, chart, shown
        self._sources, self._bars_of_all, self._columns_of = sources, bars_of_all, columns_of
        self._panel: LinesPanel | None = None
        self._drafts: dict[str, LinesDraft] = {}  # by instrument
        self._drawing: Drawing | None = None
        self._wrong, self._shows = "", False
        self._of = "", 0  # the instrument and the timeframe that is drawn on
        self._work = Newest(self)
        self._work.done.connect(self._take)
        self._others.connect(self._begin)
        self._soon = once(self, 0, self._ask)
        chart.lines_asked.connect(self.open)
        chart.bars_changed.connect(self._soon.start)

    @property
    def panel(self) -> LinesPanel:
        """Made when it is first wanted."""
        if self._panel is None:
            from hawser.desk.helm.lines_panel import LinesPanel

            self._panel = LinesPanel(self._helm, lambda: tuple(sorted(self._sources.all)))
            self._panel.changed.connect(self._changed)
        return self._panel

    def open(self) -> None:
        """Choose what is drawn on the instrument that is shown."""
        symbol = self._chart.symbol
        if symbol:
            self.panel.open(_title(symbol), self._draft(symbol), self._chart.plot)

    def _draft(self, symbol: str) -> LinesDraft:
        from hawser.desk.models.lines_draft import EMPTY, LinesDraft

        if symbol not in self._drafts:
            self._drafts[symbol] = LinesDraft(EMPTY)
            if symbol in self._shown.lines:
                self._drafts[symbol].take(self._shown.lines[symbol])
        return self._drafts[symbol]

    def _changed(self) -> None:
        symbol = self._chart.symbol
        draft = self._draft(symbol)
        self._shown.lines[symbol] = draft.texts
        if draft.made is not None:
            self._soon.start()

    def _ask(self) -> None:
        """Work out what is drawn, where something is."""
        symbol = self._chart.symbol
        if (symbol, self._chart.span) != self._of:  # those of before lie over other bars now
            self._of = symbol, self._chart.span
            self._show_nothing()
        if self._panel is not None and self._panel.isVisible():
            self._panel.show_of(_title(symbol), self._draft(symbol))
        if symbol not in self._shown.lines or self._chart.bars is None:
            self._show_nothing()
            return
        draft = self._draft(symbol)
        if not draft.made and not draft.source:
            self._show_nothing()
        else:
            self._bars_of_all(while_there(self._others.emit))

    def _begin(self, others: Mapping[str, tuple[int, Bars]]) -> None:
        from hawser.desk.models.chart_lines import Drawing, drawn
        from hawser.desk.models.source_look import Ground

        instrument, bars = self._chart.instrument, self._chart.bars
        if instrument is None or bars is None:
            return
        draft = self._draft(instrument.symbol)
        source = self._sources.all.get(draft.source) if draft.source else None
        path = self._sources.path(draft.source) if source is not None else None
        ground = Ground(
            instrument,
            self._chart.span,
            bars,
            others={name: one for name, (_, one) in others.items()},
            spans={name: span for name, (span, _) in others.items()},
            columns=self._columns_of(instrument.symbol),
        )
        lines = draft.made if draft.made is not None else ()
        if self._drawing is None or not self._drawing.fits(lines, ground):
            self._drawing = Drawing(lines, ground.span, instrument.symbol)
        self._shows = True
        self._work.ask(partial(drawn, self._drawing, ground, source, path))

    def _take(self, found: object) -> None:
        from hawser.desk.models.chart_lines import Drawn

        if isinstance(found, BadInput):
            self._show_nothing()
            self._tell(found.text)
            return
        assert isinstance(found, Drawn)
        self._shows = True
        self._chart.show_lines(list(found.curves), list(found.panels))
        self._chart.show_said(found.said)
        self._tell(found.wrong)

    def _tell(self, sentence: str) -> None:
        """In the panel, where it is open; else in the notice bar, once."""
        if self._panel is not None and self._panel.isVisible():
            self._panel.tell(sentence)
        elif sentence and sentence != self._wrong:
            self.told.emit(sentence)
        self._wrong = sentence

    def _show_nothing(self) -> None:
        if self._shows:
            self._shows = False
            self._work.forget()
            self._chart.show_lines([], [])
            self._chart.show_said(None)


def _title(symbol: str) -> str:
    return f"Drawn on {symbol}"
