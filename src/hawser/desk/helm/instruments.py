"""The instruments, two lines a row: name and whether an entry may be made, bid and ask, spread in
ticks and ATR of the chart's timeframe."""

from __future__ import annotations

import math
from typing import Any

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt, pyqtSignal
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QFrame,
    QHeaderView,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QVBoxLayout,
)

from hawser.core.clock import DAY, MINUTE, timeframe_name
from hawser.core.guards.context import longest_first
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.cells import is_selected
from hawser.desk.common.explained import column_tip, explain_columns
from hawser.desk.common.words import Label, plain_tip
from hawser.desk.models import figures as fg
from hawser.desk.theme.fonts import font
from hawser.service.views.snapshot import InstrumentView, Snapshot

COLUMNS = ("instrument\nentries", "bid\nask", "spread\nATR")
CODES = ("instrument", "bid_ask", "spread_atr")
NUMBERS = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
WORDS = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter


class InstrumentModel(QAbstractTableModel):
    """Rows follow the snapshot; only cells whose text changed are repainted."""

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self._appearance = appearance
        self._views: tuple[InstrumentView, ...] = ()
        self._texts: list[tuple[str, ...]] = []
        self.timeframe = 15 * MINUTE
        self._now = 0

    # Qt's own default
    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        return len(self._views)

    # Qt's own default
    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        return len(COLUMNS)

    def show_snapshot(self, snapshot: Snapshot) -> None:
        self._now = snapshot.time
        if [view.instrument.symbol for view in snapshot.instruments] != [
            one.instrument.symbol for one in self._views
        ]:
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
        atr = view.atr.get(self.timeframe, math.nan)
        quoted = view.bid > 0
        bid, ask = (of.price(view.bid), of.price(view.ask)) if quoted else (fg.NONE, fg.NONE)
        spread = f"{view.ask - view.bid}{fg.GROUP}t" if quoted else fg.NONE
        return (
            f"{of.symbol}\n{self._entries(view)}",
            f"{bid}\n{ask}",
            f"{spread}\n{fg.NONE if math.isnan(atr) else f'{atr:.{digits}f}'}",
        )

    def _entries(self, view: InstrumentView) -> str:
        if not view.closed:
            coming = view.next_news(self._now)
            if coming is None or coming.time - self._now > DAY:
                return "entries open"
            return f"open, news {fg.clock(coming.time, self._appearance.zone, seconds=False)}"
        until = longest_first(view.closed)[0].until
        if not until:
            return "entries closed"
        day = "%a " if until - self._now > DAY // 2 else ""
        return f"opens {fg.moment(until, self._appearance.zone):{day}%H:%M}"

    def symbol(self, row: int) -> str:
        return self._views[row].instrument.symbol

    def row_of(self, symbol: str) -> int:
        return next(
            (i for i, view in enumerate(self._views) if view.instrument.symbol == symbol), -1
        )

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        view, column = self._views[index.row()], index.column()
        if role == Qt.ItemDataRole.DisplayRole:
            return self._texts[index.row()][column]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return NUMBERS if column else WORDS
        if role == Qt.ItemDataRole.ToolTipRole:
            reasons = "; ".join(reason.text for reason in view.closed) or "entries open"
            coming = view.next_news(self._now)
            if coming is not None:
                from_, to = (
                    fg.clock(at, self._appearance.zone, seconds=False)
                    for at in (coming.starts, coming.ends)
                )
                at = f"{fg.moment(coming.time, self._appearance.zone):%a %d %b %H:%M}"
                reasons += (
                    f"\nNext news {at} ({coming.currency}, {coming.impact}): {coming.title}\n"
                )
                reasons += f"Entries closed {from_} to {to}"
            of = view.instrument
            return plain_tip(f"{of.name}\n1 tick = {of.tick} {of.quote}\n{reasons}")
        return None

    def closed(self, row: int) -> bool:
        return bool(self._views[row].closed)

    def headerData(
        self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole
    ) -> Any:
        if orientation == Qt.Orientation.Horizontal:
            if role == Qt.ItemDataRole.DisplayRole:
                return (
                    f"{COLUMNS[section]} {timeframe_name(self.timeframe)}"
                    if section == 2
                    else COLUMNS[section]
                )
            if role == Qt.ItemDataRole.TextAlignmentRole:
                return NUMBERS if section else WORDS
            if role == Qt.ItemDataRole.ToolTipRole:
                return column_tip(CODES[section])
        return None


class TwoLines(QStyledItemDelegate):
    """Paints a cell's two lines: the first as what one looks for, the second smaller; a closed
    guard is told loudly."""

    def __init__(self, appearance: Appearance, model: InstrumentModel) -> None:
        super().__init__()
        self._appearance, self._model = appearance, model

    def paint(
        self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex
    ) -> None:
        assert painter is not None
        p = self._appearance.palette
        if is_selected(option, index):
            painter.fillRect(option.rect, p.color("ground"))
            if index.column() == 0:
                painter.fillRect(
                    option.rect.left(), option.rect.top(), 3, option.rect.height(), p.color("ink")
                )
        first, second = str(index.data()).split("\n")
        box = option.rect.adjusted(8, 5, -6, -5)
        side = Qt.AlignmentFlag.AlignRight if index.column() else Qt.AlignmentFlag.AlignLeft
        loud = index.column() == 0 and self._model.closed(index.row())
        painter.setPen(p.color("ink"))
        painter.setFont(font(12, bold=index.column() == 0))
        painter.drawText(box, side | Qt.AlignmentFlag.AlignTop, first)
        if index.column() != 1:
            painter.setPen(p.color("caution" if loud else "ink2"))
            painter.setFont(font(11))
        painter.drawText(box, side | Qt.AlignmentFlag.AlignBottom, second)


WIDTHS = (108, 64, 64)  # columns, pixels


class InstrumentPanel(QFrame):
    """The list; choosing a row chooses the instrument."""

    chosen = pyqtSignal(str)

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.model, self.table = InstrumentModel(appearance), QTableView()
        self.table.setModel(self.model)
        self._delegate = TwoLines(appearance, self.model)
        self.table.setItemDelegate(self._delegate)
        self.table.setAccessibleName("Instruments")
        explain_columns(self.table, CODES)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setShowGrid(False)
        self.table.setWordWrap(False)
        self.table.setTabKeyNavigation(False)
        rows = self.table.verticalHeader()
        header = self.table.horizontalHeader()
        assert rows is not None and header is not None
        rows.setDefaultSectionSize(40)
        rows.hide()
        header.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        header.setStretchLastSection(True)
        header.setHighlightSections(False)
        for column, width in enumerate(WIDTHS):
            self.table.setColumnWidth(column, width)
        # a smaller window takes from the chart, not from spreads
        self.table.setMinimumWidth(sum(WIDTHS) + 10)
        selection = self.table.selectionModel()
        assert selection is not None
        selection.currentRowChanged.connect(self._picked)
        box = QVBoxLayout(self)
        box.setContentsMargins(1, 1, 1, 1)
        self.empty = Label("Waiting for the venue's instruments \u2026")
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
        self.model.timeframe = span
        self.model.headerDataChanged.emit(Qt.Orientation.Horizontal, 2, 2)

    def choose(self, symbol: str) -> None:
        row = self.model.row_of(symbol)
        if row >= 0:
            self.table.selectRow(row)

    def _picked(self, current: QModelIndex) -> None:
        if current.isValid():
            self.chosen.emit(self.model.symbol(current.row()))
