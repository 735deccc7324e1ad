"""The Logbook: every event and command as a line, filtered by trade, instrument, kind and words;
exported as CSV."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC
from functools import partial
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, QPoint, Qt, pyqtSignal
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QMenu,
    QPushButton,
    QTableView,
    QVBoxLayout,
)

from hawser.core.errors import BadInput
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.cells import LineCells
from hawser.desk.common.choice import Choice
from hawser.desk.common.explained import column_tip, explain, explain_columns, explain_rows
from hawser.desk.common.lines import LineTable
from hawser.desk.common.station import Desk, StationAccount, StationView
from hawser.desk.common.words import Label, plain_tip
from hawser.desk.models import figures as fg
from hawser.desk.models.topics.record import meaning
from hawser.desk.models.topics.topic import Topic
from hawser.formats.atomic import export_csv
from hawser.service.views.logbook_lines import HEADER, LogLine

COLUMNS = ("time", "kind", "trade", "instrument", "what happened")
CODES = ("log_time", "log_kind", "log_trade", "log_symbol", "log_text")
QUIET_KINDS = ("timer", "market")
ANY = "all"


class LogbookModel(QAbstractTableModel):
    """Lines in order, and the numbers of those that pass the filter."""

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self._appearance = appearance
        self.lines: list[LogLine] = []
        self.shown: list[int] = []
        self.trade = self.symbol = ANY
        self.words, self.quiet = "", False
        self.trades: list[str] = []
        self.symbols: list[str] = []
        appearance.changed.connect(self.layoutChanged.emit)

    def passes(self, line: LogLine) -> bool:
        return (
            (self.quiet or line.kind not in QUIET_KINDS)
            and self.trade in (ANY, line.trade)
            and self.symbol in (ANY, line.symbol)
            and (not self.words or self.words in line.text.lower())
        )

    def add(self, lines: list[LogLine]) -> bool:
        """More lines; True where a trade or an instrument is new."""
        start = len(self.lines)
        self.lines += lines
        fresh = [number for number, line in enumerate(lines, start) if self.passes(line)]
        if fresh:
            at = len(self.shown)
            self.beginInsertRows(QModelIndex(), at, at + len(fresh) - 1)
            self.shown += fresh
            self.endInsertRows()
        known = len(self.trades) + len(self.symbols)
        for line in lines:
            if line.trade and line.trade not in self.trades:
                self.trades.append(line.trade)
            if line.symbol and line.symbol not in self.symbols:
                self.symbols.append(line.symbol)
        return len(self.trades) + len(self.symbols) > known

    def add_earlier(self, lines: list[LogLine]) -> None:
        """Lines from before those there are."""
        known, self.lines, self.shown = self.lines, [], []
        self.trades, self.symbols = [], []
        self.beginResetModel()
        self.endResetModel()
        self.add(lines)
        self.add(known)

    def filter(self) -> None:
        self.beginResetModel()
        self.shown = [number for number, line in enumerate(self.lines) if self.passes(line)]
        self.endResetModel()

    # Qt's own default
    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        return len(self.shown)

    # Qt's own default
    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        return len(COLUMNS)

    def row(self, line: LogLine) -> tuple[str, ...]:
        return tuple(self._cell(line, column) for column in range(len(COLUMNS)))

    def _cell(self, line: LogLine, column: int) -> str:
        if column == 0:
            return fg.date_clock(line.time, self._appearance.zone)
        return (line.kind, line.trade, line.symbol, line.text)[column - 1]

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        line = self.lines[self.shown[index.row()]]
        if role == Qt.ItemDataRole.DisplayRole:
            return self._cell(line, index.column())
        if role == Qt.ItemDataRole.ToolTipRole:
            return plain_tip(self._cell(line, index.column()))
        if role == Qt.ItemDataRole.ForegroundRole:
            if line.weight in ("alarm", "caution", "refused"):
                return self._appearance.color("caution")
            return (
                self._appearance.color("ink2")
                if line.kind in QUIET_KINDS or index.column() < 2
                else None
            )
        return None

    def headerData(
        self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole
    ) -> Any:
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return COLUMNS[section]
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.ToolTipRole:
            return column_tip(CODES[section])
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        return None

    def export(self, path: Path) -> int:
        """The shown lines as CSV, times in UTC; written whole or not at all. Returns how many."""
        lines = [self.lines[number] for number in self.shown]
        rows = (
            (
                f"{fg.moment(one.time, UTC):%Y-%m-%dT%H:%M:%S}.{one.time % 1_000_000_000:09d}Z",
                one.kind,
                one.trade,
                one.symbol,
                one.weight,
                one.text,
            )
            for one in lines
        )
        export_csv(path, [HEADER, *rows])
        return len(lines)


def opened(desk: Desk, account: StationAccount) -> Logbook:
    """The Logbook of an account, with every line that was told before it was made."""
    logbook = Logbook(desk.appearance)
    account.bridge.tell_record(logbook)
    logbook.earlier.clicked.connect(account.runtime.earlier)
    logbook.asked.connect(lambda topic: desk.show_help(topic, logbook))
    return logbook


class Logbook(StationView):
    """The station. `asked`: what this line means."""

    asked = pyqtSignal(object)

    def __init__(self, appearance: Appearance) -> None:
        super().__init__()
        self.setObjectName("ground")
        self.model, self.table = LogbookModel(appearance), LineTable()
        self._cells = LineCells(appearance)
        self.trades, self.symbols, self.words = Choice(), Choice(), QLineEdit()
        self.quiet, self.follow = QCheckBox("timers and bars"), QCheckBox("follow the newest")
        self.follow.setChecked(True)
        self.words.setPlaceholderText("search words")
        self.words.setClearButtonEnabled(True)
        self.earlier = QPushButton("Earlier lines")
        self.earlier.setToolTip("Load older lines of the record")
        self.earlier.hide()
        self.export_button = QPushButton("Export CSV \u2026")
        self.export_button.clicked.connect(self.export)
        self.count, self.told = Label(), Label()
        for label in (self.count, self.told):
            label.setProperty("role", "second")
        self._make_table()
        bar = QHBoxLayout()
        bar.setContentsMargins(12, 8, 12, 4)
        for caption, widget in (
            ("trade", self.trades),
            ("instrument", self.symbols),
            ("words", self.words),
        ):
            name = Label(caption)
            name.setProperty("role", "second")
            name.setBuddy(widget)
            widget.setAccessibleName(f"Filter by {caption}")
            for part in (name, widget):
                explain(part, f"log_{'symbol' if caption == 'instrument' else caption}")
            bar.addWidget(name)
            bar.addWidget(widget)
        self.trades.setMinimumWidth(84)
        self.symbols.setMinimumWidth(130)
        for choice, code in ((self.quiet, "log_quiet"), (self.follow, "log_follow")):
            explain(choice, code)
            bar.addWidget(choice)
        bar.addStretch(1)
        bar.addWidget(self.told)
        bar.addWidget(self.count)
        bar.addWidget(self.earlier)
        bar.addWidget(self.export_button)
        panel = QFrame()
        panel.setObjectName("panel")
        inner = QVBoxLayout(panel)
        inner.setContentsMargins(1, 1, 1, 1)
        inner.addLayout(bar)
        inner.addWidget(self.table)
        box = QVBoxLayout(self)
        box.setContentsMargins(8, 6, 8, 4)
        box.addWidget(panel)
        self._offer()
        self.trades.currentTextChanged.connect(self._filtered)
        self.symbols.currentTextChanged.connect(self._filtered)
        self.words.textChanged.connect(self._filtered)
        self.quiet.toggled.connect(self._filtered)

    def _make_table(self) -> None:
        self.table.setModel(self.model)
        self.table.setItemDelegate(self._cells)
        self.table.setAccessibleName("Logbook")
        explain_columns(self.table, CODES)
        explain_rows(self.table, self.meaning_of)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setShowGrid(False)
        self.table.setWordWrap(False)
        rows, header = self.table.verticalHeader(), self.table.horizontalHeader()
        assert rows is not None and header is not None
        rows.setDefaultSectionSize(24)
        rows.hide()
        header.setStretchLastSection(True)
        header.setHighlightSections(False)
        header.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        self.table.copied.connect(self.copy)
        self.table.entered_row.connect(self.ask_meaning)
        self.table.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.table.customContextMenuRequested.connect(self.show_menu)
        for column, width in enumerate((182, 70, 56, 108)):
            self.table.setColumnWidth(column, width)

    def show_menu(self, at: QPoint) -> None:
        """What can be done with the line under the pointer, or with the current one."""
        index = self.table.indexAt(at)
        if not index.isValid():
            return
        line, view = self.model.lines[self.model.shown[index.row()]], self.table.viewport()
        assert view is not None
        menu = QMenu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.addAction("What does this mean?", self.ask_meaning)
        menu.addAction("Copy", self.copy)
        for box, text in ((self.trades, line.trade), (self.symbols, line.symbol)):
            if text:
                shown = text.replace("&", "&&")
                menu.addAction(f"Only {shown}", partial(box.setCurrentText, text))
        menu.popup(view.mapToGlobal(at))

    def ask_meaning(self) -> None:
        """The current line's meaning, in the help."""
        row = self.table.currentIndex().row()
        if row >= 0:
            self.asked.emit(self.meaning_of(row))

    def tables(self) -> dict[str, QTableView]:
        return {"logbook": self.table}

    def actions(self) -> list[tuple[str, Callable[[], object]]]:
        return [
            ("Logbook: export the shown lines as CSV", self.export),
            ("Logbook: what does the chosen line mean?", self.ask_meaning),
        ]

    def meaning_of(self, row: int) -> Topic:
        """What the line in this row means."""
        line = self.model.lines[self.model.shown[row]]
        return meaning(line.code, line.weight, line.text)

    def add(self, lines: list[LogLine]) -> None:
        if self.model.add(lines):
            self._offer()
        self._count()
        if self.follow.isChecked() and self.isVisible():
            self.table.scrollToBottom()

    def add_earlier(self, lines: list[LogLine], more: bool) -> None:
        """Lines from before the first one here; `more`: there are yet earlier ones."""
        self.earlier.setVisible(more)
        if lines:
            self.follow.setChecked(False)
            self.model.add_earlier(lines)
            self._offer()
            self._count()
            self.table.scrollToTop()

    def showEvent(self, event) -> None:  # type: ignore[no-untyped-def]  # QShowEvent
        super().showEvent(event)
        if self.follow.isChecked():
            self.table.scrollToBottom()

    def _offer(self) -> None:
        """The filters' choices; what is chosen stays chosen."""
        for box, choices in ((self.trades, self.model.trades), (self.symbols, self.model.symbols)):
            chosen = box.currentText() or ANY
            box.blockSignals(True)
            box.clear()
            box.addItems([ANY, *choices])
            box.setCurrentText(chosen)
            box.blockSignals(False)

    def _filtered(self) -> None:
        model = self.model
        model.trade, model.symbol = self.trades.currentText(), self.symbols.currentText()
        model.words, model.quiet = self.words.text().strip().lower(), self.quiet.isChecked()
        model.filter()
        self._count()
        if self.follow.isChecked():
            self.table.scrollToBottom()

    def _count(self) -> None:
        shown, whole = len(self.model.shown), len(self.model.lines)
        self.count.setText(
            f"{fg.number(shown, 0)} of {fg.number(whole, 0)} lines"
            if whole
            else "nothing has happened"
        )

    def export(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, "Export the shown lines", "logbook.csv", "CSV (*.csv)"
        )
        if name:
            self.export_to(Path(name))

    def export_to(self, path: Path) -> None:
        try:
            count = self.model.export(path)
            self.told.setText(f"{count} lines written to {path.name}")
        except BadInput as error:
            self.told.setText(f"{error.sentence}; nothing was changed")

    def copy(self) -> None:
        """The selected lines as text."""
        selection, clipboard = self.table.selectionModel(), QGuiApplication.clipboard()
        assert selection is not None and clipboard is not None
        rows = sorted(index.row() for index in selection.selectedRows())
        lines = ["\t".join(self.model.row(self.model.lines[self.model.shown[row]])) for row in rows]
        clipboard.setText("\n".join(lines))
