"""Across: the plan sized for every instrument at once. Sorted by any column, filtered by words,
copied, exported."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, QSortFilterProxyModel, Qt, pyqtSignal
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QFileDialog,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from hawser.core.errors import BadInput
from hawser.core.plan import Plan
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.explained import column_tip, explain, explain_columns
from hawser.desk.common.lines import LineTable
from hawser.desk.common.words import Label, plain_tip
from hawser.desk.models.across import COLUMNS, AcrossRow, across, export
from hawser.engine.model.state import EntryValues
from hawser.service.views.snapshot import Snapshot

SORT = Qt.ItemDataRole.UserRole
WORDS = (0, 1, len(COLUMNS) - 1)  # columns that hold words, not figures


class AcrossModel(QAbstractTableModel):
    """Rows as the core sized them; only rows that changed are repainted."""

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self._appearance = appearance
        self.rows: list[AcrossRow] = []

    # Qt's own default
    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        return len(self.rows)

    # Qt's own default
    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        return len(COLUMNS)

    def show_rows(self, rows: list[AcrossRow]) -> None:
        if len(rows) != len(self.rows):
            self.beginResetModel()
            self.rows = rows
            self.endResetModel()
            return
        old, self.rows = self.rows, rows
        for number, (before, now) in enumerate(zip(old, rows, strict=True)):
            if before.texts != now.texts:
                self.dataChanged.emit(self.index(number, 0), self.index(number, len(COLUMNS) - 1))

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        row, column = self.rows[index.row()], index.column()
        if role == Qt.ItemDataRole.DisplayRole:
            return row.texts[column]
        if role == SORT:
            return row.values[column]
        if role == Qt.ItemDataRole.ToolTipRole:
            return plain_tip(f"{row.symbol}\nentries: {row.values[1]}\n{row.values[-1]}")
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignLeft if column in WORDS else Qt.AlignmentFlag.AlignRight
            return side | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.ForegroundRole:
            closed = column == 1 and row.values[1] != "open"
            if closed or (row.loud and column == WORDS[-1]):
                return self._appearance.color("caution")
        return None

    def headerData(
        self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole
    ) -> Any:
        if orientation == Qt.Orientation.Horizontal:
            if role == Qt.ItemDataRole.DisplayRole:
                return COLUMNS[section].head
            if role == Qt.ItemDataRole.TextAlignmentRole:
                side = (
                    Qt.AlignmentFlag.AlignLeft if section in WORDS else Qt.AlignmentFlag.AlignRight
                )
                return side | Qt.AlignmentFlag.AlignVCenter
            if role == Qt.ItemDataRole.ToolTipRole:
                return column_tip(f"across_{COLUMNS[section].key}")
        return None


class AcrossPanel(QWidget):
    """The table with its filter. Enter or a double click takes a row into the plan."""

    taken = pyqtSignal(str)

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self.model, self._proxy, self.table = (
            AcrossModel(appearance),
            QSortFilterProxyModel(),
            LineTable(),
        )
        self._proxy.setSourceModel(self.model)
        self._proxy.setSortRole(SORT)
        self._proxy.setFilterKeyColumn(-1)
        self._proxy.setFilterCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        self.words, self.told = QLineEdit(), Label()
        self.words.setPlaceholderText("search words")
        self.words.setAccessibleName("Filter the instruments")
        explain(self, "across", tip=False)
        explain(self.words, "across_filter")
        self.words.setClearButtonEnabled(True)
        self.words.textChanged.connect(self._proxy.setFilterFixedString)
        self.told.setProperty("role", "second")
        take, export_button = QPushButton("Use in the plan"), QPushButton("Export CSV \u2026")
        take.clicked.connect(self._take)
        export_button.clicked.connect(self._export)
        bar = QHBoxLayout()
        bar.setContentsMargins(12, 0, 12, 2)
        bar.setSpacing(8)
        bar.addWidget(self.words)
        bar.addWidget(self.told, 1)
        bar.addWidget(take)
        bar.addWidget(export_button)
        self._make_table()
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(2)
        box.addLayout(bar)
        box.addWidget(self.table)

    def _make_table(self) -> None:
        self.table.setModel(self._proxy)
        self.table.setAccessibleName("The plan across all instruments")
        explain_columns(self.table, [f"across_{column.key}" for column in COLUMNS])
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setShowGrid(False)
        self.table.setWordWrap(False)
        self.table.setSortingEnabled(True)
        self.table.sortByColumn(-1, Qt.SortOrder.AscendingOrder)
        self.table.copied.connect(self.copy)
        self.table.doubleClicked.connect(lambda _: self._take())
        self.table.entered_row.connect(self._take)
        rows, header = self.table.verticalHeader(), self.table.horizontalHeader()
        assert rows is not None and header is not None
        rows.setDefaultSectionSize(24)
        rows.hide()
        header.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        header.setStretchLastSection(True)
        header.setHighlightSections(False)
        for column, width in enumerate((122, 66, 80, 98, 64, 78, 104, 132, 92, 112, 96)):
            self.table.setColumnWidth(column, width)

    def show_plan(
        self, plan: Plan | None, trouble: str, snapshot: Snapshot, marks: dict[str, EntryValues]
    ) -> None:
        """Size the plan for every instrument; where it cannot be read, say what is wrong and leave
        the rows."""
        if plan is None:
            self.told.setText(f"The plan is not complete: {trouble}")
            return
        rows = across(plan, snapshot, marks)
        self.model.show_rows(rows)
        good = sum(not row.loud for row in rows)
        self.told.setText(f"{good} of {len(rows)} can be placed now, each at the same risk")

    def shown(self) -> list[AcrossRow]:
        """The rows as they stand, filtered and sorted."""
        numbers = [
            self._proxy.mapToSource(self._proxy.index(row, 0)).row()
            for row in range(self._proxy.rowCount())
        ]
        return [self.model.rows[number] for number in numbers]

    def _take(self) -> None:
        current = self.table.currentIndex()
        if current.isValid():
            self.taken.emit(self.shown()[current.row()].symbol)

    def copy(self) -> None:
        """The selected rows, or all, as text."""
        selection, clipboard = self.table.selectionModel(), QGuiApplication.clipboard()
        assert selection is not None and clipboard is not None
        chosen = sorted(index.row() for index in selection.selectedRows())
        rows = self.shown()
        picked = [rows[number] for number in chosen] or rows
        heads = "\t".join(column.head for column in COLUMNS)
        clipboard.setText("\n".join([heads, *("\t".join(row.texts) for row in picked)]))

    def _export(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Export the table", "across.csv", "CSV (*.csv)")
        if name:
            self.export_to(Path(name))

    def export_to(self, path: Path) -> None:
        try:
            self.told.setText(f"{export(self.shown(), path)} rows written to {path.name}")
        except BadInput as error:
            self.told.setText(f"{error.sentence}; nothing was changed")
