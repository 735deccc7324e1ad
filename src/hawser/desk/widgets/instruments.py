"""The instruments: quote, spread in ticks, ATR of the chart's timeframe, and whether an entry may be made."""

from __future__ import annotations

import math
from typing import Any

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt, pyqtSignal
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QAbstractItemView, QFrame, QHeaderView, QLabel, QTableView, QVBoxLayout

from hawser.core.clock import MINUTE, timeframe_name
from hawser.desk import figures as fg
from hawser.desk.look import Look
from hawser.desk.theme.fonts import font
from hawser.service.snapshot import InstrumentView, Snapshot

COLUMNS = ("instrument", "bid", "ask", "spread", "ATR", "entries")
NUMBERS = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
WORDS = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter


class InstrumentModel(QAbstractTableModel):
    """Rows follow the snapshot; only cells whose text changed are repainted."""

    def __init__(self, look: Look) -> None:
        super().__init__()
        self._look, self._views, self._texts = look, (), []
        self.span = 15 * MINUTE
        self._now = 0

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008  # Qt's own default
        return len(self._views)

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008  # Qt's own default
        return len(COLUMNS)

    def show_snapshot(self, snapshot: Snapshot) -> None:
        self._now = snapshot.time
        if len(snapshot.instruments) != len(self._views):
            self.beginResetModel()
            self._views = snapshot.instruments
            self._texts = [self._row(view) for view in self._views]
            self.endResetModel()
            return
        self._views = snapshot.instruments
        for number, view in enumerate(self._views):
            texts = self._row(view)
            if texts != self._texts[number]:
                self._texts[number] = texts
                self.dataChanged.emit(self.index(number, 0), self.index(number, len(COLUMNS) - 1))

    def _row(self, view: InstrumentView) -> tuple[str, ...]:
        of, digits = view.instrument, view.instrument.price_digits
        atr = view.atr.get(self.span, math.nan)
        quoted = view.bid > 0
        return (
            of.symbol,
            of.price(view.bid) if quoted else fg.NONE,
            of.price(view.ask) if quoted else fg.NONE,
            f"{view.ask - view.bid} t" if quoted else fg.NONE,
            fg.NONE if math.isnan(atr) else f"{atr:.{digits}f}",
            self._entries(view),
        )

    def _entries(self, view: InstrumentView) -> str:
        if not view.closed:
            return "open"
        until = view.closed[0].until
        return f"opens {fg.clock(until, self._look.zone, seconds=False)}" if until else "closed"

    def symbol(self, row: int) -> str:
        return self._views[row].instrument.symbol

    def row_of(self, symbol: str) -> int:
        return next((i for i, view in enumerate(self._views) if view.instrument.symbol == symbol), -1)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        view, column = self._views[index.row()], index.column()
        if role == Qt.ItemDataRole.DisplayRole:
            return self._texts[index.row()][column]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return NUMBERS if 0 < column < 5 else WORDS
        if role == Qt.ItemDataRole.FontRole and column == 0:
            return font(12, bold=True)
        if role == Qt.ItemDataRole.ForegroundRole:
            return self._tone(view, column)
        if role == Qt.ItemDataRole.ToolTipRole:
            reasons = "; ".join(reason.text for reason in view.closed) or "entries open"
            return f"{view.instrument.name}\n1 tick = {view.instrument.tick} {view.instrument.quote}\n{reasons}"
        return None

    def _tone(self, view: InstrumentView, column: int) -> QColor | None:
        if view.closed and column == 5:
            return self._look.color("caution")
        return self._look.color("ink2") if column in (3, 4, 5) else None

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation == Qt.Orientation.Horizontal:
            if role == Qt.ItemDataRole.DisplayRole:
                return f"ATR {timeframe_name(self.span)}" if section == 4 else COLUMNS[section]
            if role == Qt.ItemDataRole.TextAlignmentRole:
                return NUMBERS if 0 < section < 5 else WORDS
        return None


class InstrumentPanel(QFrame):
    """The list; choosing a row chooses the instrument."""

    chosen = pyqtSignal(str)

    def __init__(self, look: Look) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.model, self.table = InstrumentModel(look), QTableView()
        self.table.setModel(self.model)
        self.table.setAccessibleName("Instruments")
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setShowGrid(False)
        self.table.setWordWrap(False)
        self.table.setTabKeyNavigation(False)
        rows = self.table.verticalHeader()
        header = self.table.horizontalHeader()
        assert rows is not None and header is not None
        rows.setDefaultSectionSize(28)
        rows.hide()
        header.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        header.setStretchLastSection(True)
        header.setHighlightSections(False)
        for column, width in enumerate((104, 58, 58, 46, 62, 60)):
            self.table.setColumnWidth(column, width)
        selection = self.table.selectionModel()
        assert selection is not None
        selection.currentRowChanged.connect(self._picked)
        box = QVBoxLayout(self)
        box.setContentsMargins(1, 1, 1, 1)
        self.empty = QLabel("Waiting for the venue's instruments \u2026")
        self.empty.setProperty("role", "second")
        self.empty.setContentsMargins(12, 12, 12, 12)
        box.addWidget(self.empty)
        box.addWidget(self.table)
        self.table.hide()

    def show_snapshot(self, snapshot: Snapshot) -> None:
        if (snapshot.instruments and self.empty.isVisible()) or self.table.isHidden():
            self.empty.setVisible(not snapshot.instruments)
            self.table.setVisible(bool(snapshot.instruments))
        self.model.show_snapshot(snapshot)

    def set_span(self, span: int) -> None:
        self.model.span = span
        self.model.headerDataChanged.emit(Qt.Orientation.Horizontal, 4, 4)

    def choose(self, symbol: str) -> None:
        row = self.model.row_of(symbol)
        if row >= 0:
            self.table.selectRow(row)

    def _picked(self, current: QModelIndex) -> None:
        if current.isValid():
            self.chosen.emit(self.model.symbol(current.row()))
