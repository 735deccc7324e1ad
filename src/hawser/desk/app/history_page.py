"""A history of another program: its first rows as they will be read, what is doubtful, and what it
is of. Every change shows at once."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from zoneinfo import available_timezones

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QComboBox,
    QCompleter,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from hawser.core.account import Account
from hawser.core.clock import zone_known
from hawser.core.errors import BadInput
from hawser.core.instrument import Instrument
from hawser.desk.common.choice import Choice
from hawser.desk.common.explained import explain, explain_later
from hawser.desk.common.words import Label
from hawser.desk.models.own_account import in_money
from hawser.desk.models.own_history import DATES, KINDS, OwnHistory
from hawser.desk.models.topics.topic import topic_of_key
from hawser.desk.theme.roles import give
from hawser.formats.bars import is_parquet
from hawser.formats.declared import load
from hawser.formats.importing.recipe import Recipe
from hawser.service.profiles.recipes import Recipes

SEPARATORS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "upright line", "spaces": "spaces"}
DECIMALS = {".": "point", ",": "comma"}
KIND_WORDS = {
    "fx": "currency pair",
    "equity": "share",
    "index": "index",
    "future": "future",
    "option": "option",
    "crypto": "crypto",
}
NO_ZONE = "as written"  # the times carry their offset
FILTER = "Bars or quotes (*.csv *.txt *.tsv *.gz *.xz *.zip *.parquet *.pq);;All files (*)"


class HistoryPage(QWidget):
    """`own` is what is chosen; `wanted` is told it once it is to be opened."""

    back, wanted = pyqtSignal(), pyqtSignal(object)

    def __init__(self, recipes: Recipes | None = None) -> None:
        super().__init__()
        self.own = OwnHistory(recipes)
        self._filling = False
        self.files, self.wrong, self.doubts = Label(), Label(), Label()
        self.table = QTableWidget()
        self.separator, self.decimal, self.dates = Choice(), Choice(), Choice()
        self.zone, self.kind = Choice(), Choice()
        self.symbol, self.quote = QLineEdit(), QLineEdit()
        self.tick, self.multiplier = QLineEdit(), QLineEdit()
        self.money, self.currency = QLineEdit(), QLineEdit()
        self.percent, self.rate, self.spread = QLineEdit(), QLineEdit(), QLineEdit()
        self.example, self.meaning, self.said, self.rate_name = Label(), Label(), Label(), Label()
        self.go = QPushButton("&Open the history")
        self._lay_out()
        self._connect()
        self.show_own()

    def _lay_out(self) -> None:
        rows = QVBoxLayout(self)
        rows.setContentsMargins(32, 24, 32, 24)
        rows.setSpacing(8)
        head = QHBoxLayout()
        title = Label("A history of your own")
        title.setProperty("role", "big")
        self.choose = QPushButton("Choose &files \u2026")
        head.addWidget(title)
        head.addStretch(1)
        head.addWidget(self.choose)
        rows.addLayout(head)
        self.files.setProperty("role", "second")
        rows.addWidget(self.files)
        rows.addLayout(self._reading_row())
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setSelectionMode(QTableWidget.SelectionMode.NoSelection)
        self.table.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.table.setShowGrid(False)
        side = self.table.verticalHeader()
        assert side is not None
        side.hide()
        rows.addWidget(self.table, 1)
        for label, role in ((self.wrong, "caution"), (self.doubts, "second")):
            label.setProperty("role", role)
            label.setWordWrap(True)
            rows.addWidget(label)
        rows.addLayout(self._instrument_grid())
        rows.addLayout(self._account_row())
        rows.addLayout(self._said_row())
        foot = QHBoxLayout()
        self.go_back = QPushButton("&Back")
        self.go.setProperty("role", "place")
        foot.addWidget(self.go_back)
        foot.addStretch(1)
        foot.addWidget(self.go)
        rows.addLayout(foot)
        self.setFocusProxy(self.choose)

    def _reading_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(6)
        for text, box, words in (
            ("&Separator", self.separator, SEPARATORS),
            ("&Decimals", self.decimal, DECIMALS),
            ("D&ates", self.dates, DATES),
        ):
            label = Label(text)
            label.setBuddy(box)
            for value, word in words.items():
                box.addItem(word, value)
            row.addWidget(label)
            row.addWidget(box)
            row.addSpacing(8)
        label = Label("&Zone of its times")
        label.setBuddy(self.zone)
        self.zone.setEditable(True)
        self.zone.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        self.zone.addItems([NO_ZONE, "UTC", *sorted(available_timezones() - {"UTC"})])
        completer = self.zone.completer()
        if completer is not None:
            completer.setFilterMode(Qt.MatchFlag.MatchContains)
            completer.setCompletionMode(QCompleter.CompletionMode.PopupCompletion)
        row.addWidget(label)
        row.addWidget(self.zone, 1)
        return row

    def _instrument_grid(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        for kind, word in KIND_WORDS.items():
            self.kind.addItem(word, kind)
        fields: tuple[tuple[str, QWidget], ...] = (
            ("What is it call&ed?", self.symbol),
            ("&What is it?", self.kind),
            ("&Currency of its price", self.quote),
            ("Smallest step of its &price", self.tick),
            ("&Multiplier", self.multiplier),
        )
        for number, (text, field) in enumerate(fields):
            label = Label(text)
            label.setBuddy(field)
            grid.addWidget(label, number // 3 * 2, number % 3)
            grid.addWidget(field, number // 3 * 2 + 1, number % 3)
        self.from_file = QPushButton("&Take it from a file \u2026")
        grid.addWidget(self.from_file, 3, 2)
        for label in (self.meaning, self.example):
            label.setProperty("role", "second")
            label.setWordWrap(True)
        grid.addWidget(self.meaning, 4, 0, 1, 3)
        grid.addWidget(self.example, 5, 0, 1, 3)
        return grid

    def _account_row(self) -> QHBoxLayout:
        """Whose money it is; a rate where the account has another currency."""
        row = QHBoxLayout()
        row.setSpacing(6)
        for text, field, wide, unit in (
            ("Mo&ney in the account", self.money, 110, ""),
            ("c&urrency", self.currency, 60, ""),
            ("&Risk of one trade", self.percent, 60, "% of it"),
        ):
            label = Label(text)
            label.setBuddy(field)
            field.setFixedWidth(wide)
            row.addWidget(label)
            row.addWidget(field)
            if unit:
                row.addWidget(Label(unit))
            row.addSpacing(8)
        self.rate_name.setBuddy(self.rate)
        self.rate.setFixedWidth(90)
        row.addWidget(self.rate_name)
        row.addWidget(self.rate)
        row.addStretch(1)
        self.said.setProperty("role", "second")
        return row

    def _said_row(self) -> QHBoxLayout:
        """What the answers come to, and the spread where the file says nothing of it."""
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(self.said, 1)
        self.spread.setFixedWidth(60)
        label, unit = Label("Usua&l spread"), Label("ticks; 0: trading costs none")
        label.setBuddy(self.spread)
        self.spread_parts = (label, self.spread, unit)
        for part in self.spread_parts:
            row.addWidget(part)
        return row

    def _explain(self) -> None:
        """Each field by what is declared of its key."""
        read = (
            ("separator", self.separator),
            ("decimal", self.decimal),
            ("dates", self.dates),
            ("zone", self.zone),
        )
        traded = (
            ("symbol", self.symbol),
            ("quote", self.quote),
            ("tick", self.tick),
            ("multiplier", self.multiplier),
        )
        owned = (
            ("equity", self.money),
            ("currency", self.currency),
            ("size.percent", self.percent),
            ("rates", self.rate),
            ("costs.spread_ticks", self.spread),
        )
        for kind, fields in ((Recipe, read), (Instrument, traded), (Account, owned)):
            for key, field in fields:
                explain_later(field, partial(topic_of_key, kind, key, "The first start"))
        explain(self.kind, "instrument_kind")

    def _connect(self) -> None:
        self._explain()
        self.choose.clicked.connect(self.choose_files)
        self.from_file.clicked.connect(self._choose_instrument)
        self.go_back.clicked.connect(self.back)
        self.go.clicked.connect(lambda: self.wanted.emit(self.own))
        for box, key in (
            (self.separator, "separator"),
            (self.decimal, "decimal"),
            (self.dates, "dates"),
        ):
            box.activated.connect(self._changed(key, box))
        self.zone.currentTextChanged.connect(self._zone_typed)
        self.kind.activated.connect(self._kind_chosen)
        for field, key in (
            (self.symbol, "symbol"),
            (self.quote, "quote"),
            (self.tick, "tick"),
            (self.multiplier, "multiplier"),
            (self.money, "money"),
            (self.currency, "currency"),
            (self.percent, "percent"),
            (self.rate, "rate"),
            (self.spread, "spread"),
        ):
            field.textEdited.connect(self._typed(key))

    # What a person does

    def choose_files(self) -> None:
        names, _ = QFileDialog.getOpenFileNames(self, "A history", "", FILTER)
        if names:
            self.take_files([Path(name) for name in names])

    def take_files(self, paths: Sequence[Path]) -> None:
        """Files, the first of which shows how they are read."""
        self.own.choose(paths)
        self.show_own()
        field = self.zone.lineEdit() if self.own.head is None else self.symbol
        assert field is not None
        field.setFocus()
        field.selectAll()

    def _choose_instrument(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "The instrument", "", "Instruments (*.toml)")
        if not name:
            return
        try:
            self.own.take_instrument(load(Instrument, Path(name)))
        except BadInput as error:
            self.tell(error.sentence)
            return
        self.show_own()

    def _changed(self, key: str, box: Choice) -> Callable[[int], None]:
        def change(_: int) -> None:
            self.own.change(**{key: box.currentData()})
            self.show_own()

        return change

    def _zone_typed(self, text: str) -> None:
        zone = "" if text in ("", NO_ZONE) else text
        if not self._filling and (not zone or zone_known(zone)):
            self.own.change(zone=zone)
            self.show_own()

    def _kind_chosen(self) -> None:
        self.own.take_kind(self.kind.currentData())
        self.show_own()

    def _typed(self, key: str) -> Callable[[str], None]:
        def typed(text: str) -> None:
            setattr(self.own, key, text)
            self._show_instrument()

        return typed

    # What is shown

    def show_own(self) -> None:
        """All that is chosen and typed, as it is now."""
        own, self._filling = self.own, True
        self.files.setText(
            ", ".join(path.name for path in own.paths) or "No file is chosen yet; drop one here."
        )
        for box, value in (
            (self.separator, own.recipe.separator),
            (self.decimal, own.recipe.decimal),
            (self.dates, own.recipe.dates),
            (self.kind, own.kind),
        ):
            box.setCurrentIndex(box.findData(value))
        of_text = not (own.paths and is_parquet(own.paths[0]))
        for box in (self.separator, self.decimal, self.dates):
            box.setEnabled(of_text)  # a Parquet file says all that itself
        if self.zone.currentText() != (own.recipe.zone or NO_ZONE):
            self.zone.setCurrentText(own.recipe.zone or NO_ZONE)
        for field, text in (
            (self.symbol, own.symbol),
            (self.quote, own.quote),
            (self.tick, own.tick),
            (self.multiplier, own.multiplier),
            (self.money, own.money),
            (self.percent, own.percent),
            (self.rate, own.rate),
            (self.spread, own.spread),
        ):
            if field.text() != text:
                field.setText(text)
        self._filling = False
        self._show_rows()
        self._show_instrument()

    def _show_rows(self) -> None:
        head = self.own.head
        self.wrong.setText(self.own.wrong)
        self.wrong.setVisible(bool(self.own.wrong))
        told = [] if head is None else [*head.told]
        if self.own.remembered:
            told.insert(0, "Read as the last file with these columns.")
        if head is not None and head.left_out:
            told.append(f"Left out: {', '.join(head.left_out)}.")
        if head is not None and self.own.recipe.kind == "ticks":
            told.append("It holds quotes: they are made bars of one minute.")
        self.doubts.setText(" ".join(told))
        self.doubts.setVisible(bool(told))
        names, rows = (head.names, head.rows) if head is not None else ([], [])
        self.table.clear()
        self.table.setColumnCount(len(names))
        self.table.setRowCount(len(rows))
        self.table.setHorizontalHeaderLabels(["time, UTC", *names[1:]] if names else [])
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        for row, cells in enumerate(rows):
            for column, text in enumerate(cells):
                item = QTableWidgetItem(text)
                if column:
                    item.setTextAlignment(right)
                self.table.setItem(row, column, item)
        self.table.resizeColumnsToContents()

    def _show_instrument(self) -> None:
        own = self.own
        self.meaning.setText(f"The multiplier is {KINDS[own.kind][4]}. {own.assumed}")
        wrong = ""
        if own.head is not None:
            try:
                own.instrument()
            except BadInput as error:
                wrong = error.sentence
        self.example.setText(wrong or own.example)
        give(self.example, "role", "caution" if wrong else "second")
        self.go.setText("&Open the history")
        lacks = self._show_account()
        self.go.setEnabled(own.head is not None and not wrong and not lacks)

    def _show_account(self) -> bool:
        """What the answers about the account come to; whether they do not make one yet."""
        own = self.own
        if not self.currency.hasFocus():
            self.currency.setText(own.money_is)
        first, _, second = own.pair.partition("/")
        self.rate_name.setText(f"&1 {first} in {second}" if own.pair else "")
        self.rate.setVisible(bool(own.pair))
        for part in self.spread_parts:
            part.setVisible(own.needs_spread)
        wrong = ""
        try:
            self.said.setText(in_money(own.account()))
        except BadInput as error:
            wrong = error.sentence
            self.said.setText(wrong)
        give(self.said, "role", "caution" if wrong else "second")
        return bool(wrong)

    def tell_odd(self, texts: list[str]) -> None:
        """What is odd in the rows; to open it all the same takes another press."""
        self.doubts.setText("\n".join(f"{text}." for text in texts))
        self.doubts.show()
        self.go.setText("&Open it all the same")

    def tell(self, sentence: str) -> None:
        """What is wrong with the files as a whole."""
        self.wrong.setText(sentence)
        self.wrong.show()

    def set_busy(self, busy: bool) -> None:
        """While all of it is read."""
        self.go.setText("Reading \u2026" if busy else "&Open the history")
        self.setEnabled(not busy)
