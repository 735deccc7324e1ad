"""The heat taken apart: what each stop would cost, what is locked, and the sum for every currency
of exposure."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from hawser.desk.common.explained import column_tip, explain, explain_columns
from hawser.desk.common.overlay import Overlay
from hawser.desk.common.words import Label
from hawser.desk.models import figures as fg
from hawser.engine.model import transitions as states
from hawser.service.views.snapshot import Snapshot

COLUMNS = ("instrument", "side", "units", "stop", "heat", "of equity", "locked")
CODES = (
    "across_instrument",
    "side",
    "heat_units",
    "heat_stop",
    "heat_money",
    "heat_share",
    "heat_locked",
)


def heat_rows(snapshot: Snapshot) -> list[tuple[str, ...]]:
    """One row for each live trade, the hottest first, then the sums."""
    cur, equity = snapshot.currency, snapshot.equity or 1.0
    rows: list[tuple[str, ...]] = []
    live = [trade for trade in snapshot.trades if trade.state != states.ENDED]
    for trade in sorted(live, key=lambda trade: -trade.heat):
        view = snapshot.instrument(trade.symbol)
        assert view is not None
        of = view.instrument
        steps = trade.open_steps or trade.steps
        rows.append(
            (
                trade.symbol,
                fg.side_word(trade.side),
                of.qty(steps),
                of.price(trade.resting_stop),
                fg.money(trade.heat, cur),
                fg.percent(trade.heat / equity * 100, 2),
                fg.money(trade.locked, cur),
            )
        )
    share = fg.percent(snapshot.heat / equity * 100, 2)
    rows.append(
        (
            "all trades",
            "",
            "",
            "",
            fg.money(snapshot.heat, cur),
            share,
            fg.money(snapshot.locked, cur),
        )
    )
    for name, money in sorted(snapshot.staked.by_currency.items()):
        rows.append(
            (
                f"exposed to {name}",
                "",
                "",
                "",
                fg.money(money, cur),
                fg.percent(money / equity * 100, 2),
                "",
            )
        )
    return rows


class HeatPanel(Overlay):
    """A panel under the waterline; Escape puts it away."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        title = Label("Heat: what is lost from entry if every stop is hit, commissions included")
        title.setProperty("role", "title")
        note = Label(
            "Profit locked in by a stop beyond the entry is shown apart. It never offsets the heat "
            "of another trade."
        )
        note.setProperty("role", "second")
        self.table = QTableWidget(0, len(COLUMNS))
        self.table.setHorizontalHeaderLabels(COLUMNS)
        self.table.setAccessibleName("Heat of each trade")
        explain(self, "heat_table", tip=False)
        explain_columns(self.table, CODES)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setShowGrid(False)
        rows, header = self.table.verticalHeader(), self.table.horizontalHeader()
        assert rows is not None and header is not None
        rows.setDefaultSectionSize(24)
        rows.hide()
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        for column in range(len(COLUMNS)):
            head = self.table.horizontalHeaderItem(column)
            assert head is not None
            head.setTextAlignment(self._side(column))
            head.setToolTip(column_tip(CODES[column]))
        box = QVBoxLayout(self)
        box.setContentsMargins(12, 8, 12, 8)
        for part in (title, note, self.table):
            box.addWidget(part)
        self._shown: list[tuple[str, ...]] = []
        self.hide()

    @staticmethod
    def _side(column: int) -> Qt.AlignmentFlag:
        return (
            Qt.AlignmentFlag.AlignRight if column > 1 else Qt.AlignmentFlag.AlignLeft
        ) | Qt.AlignmentFlag.AlignVCenter

    def open(self, snapshot: Snapshot | None) -> None:
        if snapshot is None or self.isVisible():
            self.hide()
            return
        parent = self.parentWidget()
        assert parent is not None
        self.setGeometry(76, 60, min(660, parent.width() - 96), min(360, parent.height() - 80))
        self.show()
        self.raise_()
        self.table.setFocus()
        self._shown = []
        self.show_snapshot(snapshot)

    def show_snapshot(self, snapshot: Snapshot) -> None:
        """Follow the trades while the panel is open."""
        rows = heat_rows(snapshot) if self.isVisible() else []
        if not rows or rows == self._shown:
            return
        self._shown = rows
        self.table.setRowCount(len(rows))
        for number, row in enumerate(rows):
            for column, text in enumerate(row):
                item = QTableWidgetItem(text)
                item.setTextAlignment(self._side(column))
                self.table.setItem(number, column, item)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.hide()
        else:
            super().keyPressEvent(event)
