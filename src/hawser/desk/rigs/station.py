"""The Rigs station: the list, the editor, and beside it the trial and the fan. It answers within a
frame."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QHideEvent, QKeyEvent, QShowEvent, QStandardItemModel
from PyQt6.QtWidgets import (
    QButtonGroup,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QSplitter,
    QVBoxLayout,
)

from hawser.core.bars import Bars
from hawser.core.clock import timeframe_name
from hawser.core.errors import BadInput, Refused
from hawser.core.instrument import Instrument
from hawser.core.levels import StopRule
from hawser.core.rig import LONGEST_NAME, LONGEST_NOTE, Rig, brief, sentence
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.choice import Choice
from hawser.desk.common.explained import explain
from hawser.desk.common.list_rows import NamedRows
from hawser.desk.common.station import Desk, StationAccount, StationView
from hawser.desk.common.timing import once
from hawser.desk.common.words import Label, plain_tip
from hawser.desk.models import figures as fg
from hawser.desk.models.pyramid import Pyramid
from hawser.desk.models.rig_draft import RigDraft, Texts
from hawser.desk.models.settings import Kept
from hawser.desk.models.trade_actions import is_open
from hawser.desk.rigs.editor import RigEditor
from hawser.desk.rigs.fan import FanView
from hawser.desk.rigs.trial_chart import TrialChart
from hawser.desk.rigs.trials import STARTS, Fans, Primer, account_alone, in_words
from hawser.formats.rigs import load_rig, save_rig
from hawser.rehearsal.trial import Fan, Trial, TrialResult
from hawser.service.profiles.rigs import Shelf
from hawser.service.views.snapshot import Snapshot

MOST_BARS = 20_000  # of the history's end that a trial looks at
NONE = "beside: none"
FRAME_MS = 16  # a part of the station is drawn after another, each in a frame of its own


def _button(text: str, tip: str, act: Callable[[], object]) -> QPushButton:
    button = QPushButton(text)
    button.setProperty("role", "flat")
    button.setToolTip(tip)
    button.clicked.connect(lambda _: act())
    return button


def opened(desk: Desk, _: StationAccount) -> Rigs:
    """The rigs, which all accounts share."""
    rigs = Rigs(desk.appearance, desk.shelf, desk.kept)
    rigs.changed.connect(desk.rigs_changed)
    rigs.told.connect(lambda text: desk.tell("refused", text))
    rigs.wanted.connect(desk.plan_with)
    for account in desk.accounts:  # what trials need is loaded behind what protects
        if account.bridge.is_ready:
            rigs.primer.begin()
        account.bridge.ready.connect(rigs.primer.begin)
    return rigs


class Rigs(StationView):
    """Works on a Shelf. `changed` tells that a rig is another now; `wanted` that one is to go on
    open trades."""

    changed = pyqtSignal()
    told = pyqtSignal(str)
    wanted = pyqtSignal(object)

    follows = True

    def __init__(self, appearance: Appearance, shelf: Shelf, kept: Kept) -> None:
        super().__init__()
        self.shelf, self.side, self._seed, self._kept = shelf, 1, 1, kept
        self.drafts: dict[str, RigDraft] = {}
        self.name = ""
        self._gone: list[Rig] = []  # deleted, newest last
        self._snapshot: Snapshot | None = None
        self._of: tuple[Instrument, Bars, int] | None = None  # the part of it that is tried on
        self._given: tuple[Instrument, int, Bars] | None = None
        self._trials: dict[str, tuple[object, Trial]] = {}
        self.editor, self.chart, self.fan = RigEditor(), TrialChart(appearance), FanView(appearance)
        self.editor.changed.connect(self._edited)
        self.chart.chosen.connect(lambda _: self.try_out())
        self.chart.side_asked.connect(self.set_side)
        self.primer = Primer(self, self._show_history)
        self._write = once(self, 400, self.write_down)
        self._soon = once(self, FRAME_MS, self.try_out)
        # to show the station, and what there is to try on, would together hold the window
        self._history_soon = once(self, 0, self._show_history)
        self._later = once(self, FRAME_MS, self._fan_out)
        self.fans = Fans(self)
        self.fans.drawn.connect(self._show_fans)
        self.panes = QSplitter(Qt.Orientation.Horizontal)
        right = QSplitter(Qt.Orientation.Vertical)
        right.addWidget(self._trial_pane())
        right.addWidget(self._fan_pane())
        right.setStretchFactor(0, 1)
        right.setSizes([390, 300])
        self.right = right
        for part in (self._list_pane(appearance), self._edit_pane(), right):
            self.panes.addWidget(part)
        self.panes.setSizes([220, 380, 600])
        self.panes.setStretchFactor(2, 1)
        box = QHBoxLayout(self)
        box.setContentsMargins(8, 8, 8, 8)
        box.addWidget(self.panes)
        self._list_rigs(next(iter(sorted(shelf.rigs)), ""))
        self.take_unfinished(kept.unfinished_rigs)

    def splitters(self) -> dict[str, QSplitter]:
        return {"rigs": self.panes, "trial": self.right}

    def actions(self) -> list[tuple[str, Callable[[], object]]]:
        return [("Rigs: a new one", self.new)]

    def remember(self) -> None:
        self._kept.unfinished_rigs = self.unfinished()

    def leave(self) -> None:
        self.write_down()

    # Panes

    def _list_pane(self, appearance: Appearance) -> QFrame:
        pane, box = _pane()
        head = _head("Rigs")
        head.addWidget(_button("New", "A rig with a stop and nothing else", self.new))
        head.addWidget(_button("From file", "A rig from a TOML file", self._import))
        box.addLayout(head)
        self.list = QListWidget()
        self.list.setItemDelegate(NamedRows(appearance))
        self.list.setAccessibleName("Rigs")
        explain(self.list, "rig_list", tip=False)
        self.list.currentItemChanged.connect(self._picked)
        box.addWidget(self.list, 1)
        return pane

    def _edit_pane(self) -> QFrame:
        pane, box = _pane()
        self.title = QLineEdit()
        self.title.setAccessibleName("Name of the rig")
        explain(self.title, "rig_name")
        self.title.editingFinished.connect(self._rename)
        head = QHBoxLayout()
        head.setContentsMargins(8, 6, 8, 2)
        head.addWidget(self.title, 1)
        box.addLayout(head)
        self.note = QLineEdit()
        self.note.setPlaceholderText("What it is for")
        self.note.setAccessibleName("What the rig is for")
        explain(self.note, "rig_note", tip=False)  # the tip is the whole note
        self.note.setMaxLength(LONGEST_NOTE)
        self.note.textEdited.connect(self._noted)
        line = QHBoxLayout()
        line.setContentsMargins(8, 0, 8, 0)
        line.addWidget(self.note)
        box.addLayout(line)
        acts = QHBoxLayout()
        acts.setContentsMargins(4, 0, 4, 0)
        acts.setSpacing(0)
        self.undo_button = _button("Undo", "Ctrl+Z", self.undo)
        self.redo_button = _button("Redo", "Ctrl+Shift+Z", self.editor.redo)
        for button in (
            self.undo_button,
            self.redo_button,
            _button("Copy", "The same rig under another name", self.duplicate),
            _button("Delete", "Delete this rig; Undo restores it", self.delete),
            _button("To file", "Save it as a TOML file", self._export),
        ):
            acts.addWidget(button)
        acts.addStretch(1)
        box.addLayout(acts)
        box.addWidget(self.editor, 1)
        self.use_button = QPushButton()
        self.use_button.clicked.connect(self._use)
        foot = QHBoxLayout()
        foot.setContentsMargins(8, 2, 8, 6)
        foot.addWidget(self.use_button)
        box.addLayout(foot)
        return pane

    def _trial_pane(self) -> QFrame:
        pane, box = _pane()
        head = _head("Trial")
        self.of = Label()
        head.insertWidget(1, self.of)
        self.sides = QButtonGroup(self)
        for side, word in ((1, "Long"), (-1, "Short")):
            button = QPushButton(word)
            button.setCheckable(True)
            button.setProperty("role", "flat")
            button.setChecked(side > 0)
            button.clicked.connect(lambda _, side=side: self.set_side(side))
            explain(button, "trial_side")
            self.sides.addButton(button, side + 1)
            head.addWidget(button)
        self.beside = Choice()
        self.beside.setAccessibleName("Another rig beside this one")
        explain(self.beside, "beside")
        explain(self.chart, "trial", tip=False)
        self.beside.currentTextChanged.connect(lambda _: self.try_out())
        head.addWidget(self.beside)
        box.addLayout(head)
        box.addWidget(self.chart, 1)
        self.results = [Label(), Label()]
        for label in self.results:
            explain(label, "trial")
            label.setContentsMargins(10, 2, 10, 2)
            label.setWordWrap(True)
            box.addWidget(label)
        return pane

    def _fan_pane(self) -> QFrame:
        pane, box = _pane()
        head = _head("")
        self.fan_title = head.itemAt(0).widget()  # type: ignore[union-attr]  # the label just added
        head.addWidget(_button("Again", f"Another {STARTS} bars, drawn again", self._again))
        box.addLayout(head)
        box.addWidget(self.fan, 1)
        explain(self.fan, "fan")
        return pane

    # The list

    def _list_rigs(self, chosen: str) -> None:
        self.list.blockSignals(True)
        self.list.clear()
        uses = self._uses()
        for name in sorted(self.shelf.rigs):
            count = uses.get(name, 0)
            used = f"   {fg.counted(count, 'trade')}" if count else ""
            item = QListWidgetItem(f"{name}{used}\n{brief(self.shelf.rigs[name])}")
            item.setData(Qt.ItemDataRole.UserRole, name)
            item.setToolTip(plain_tip(_tip(self.shelf.rigs[name])))
            self.list.addItem(item)
            if name == chosen:
                self.list.setCurrentItem(item)
        self.list.blockSignals(False)
        beside = self.beside.currentText()
        self.beside.blockSignals(True)
        self.beside.clear()
        self.beside.addItems([NONE, *sorted(self.shelf.rigs)])
        self.beside.setCurrentText(beside if beside in self.shelf.rigs else NONE)
        self.beside.blockSignals(False)
        self.show_rig(chosen)

    def _uses(self) -> dict[str, int]:
        found: dict[str, int] = {}
        for trade in self._snapshot.trades if self._snapshot is not None else ():
            if trade.rig and is_open(trade):
                found[trade.rig] = found.get(trade.rig, 0) + 1
        return found

    def _picked(self, item: QListWidgetItem | None) -> None:
        if item is not None:
            self.show_rig(item.data(Qt.ItemDataRole.UserRole))

    def show_rig(self, name: str) -> None:
        """Bring a rig into the editor; what was typed into another stays there."""
        self.write_down()
        self.changing.emit()
        self.name = name
        rig = self.shelf.rigs.get(name)
        choices = self.beside.model()
        assert isinstance(choices, QStandardItemModel)
        for row in range(self.beside.count()):  # it is not laid beside itself
            choice = choices.item(row)
            assert choice is not None
            choice.setEnabled(choice.text() != name)
        shown = rig is not None
        for part in (self.editor, self.title, self.note, self.use_button):
            part.setEnabled(shown)
        if rig is None:
            self.title.setText("")
            self.title.setPlaceholderText("No rig yet: New makes one")
            return
        draft = self.drafts.get(name)
        if draft is None:
            draft = self.drafts[name] = RigDraft(rig)
        self.title.setText(name)
        self.note.setText(draft.note)
        self.note.setCursorPosition(0)
        self.note.setToolTip(plain_tip(draft.note))
        self.editor.show_draft(draft)
        self._show_acts()
        # the form is laid out and painted first: together they would hold the window
        self._soon.start()

    def new(self) -> None:
        self._add(Rig(name=self._free("New rig"), stop=StopRule(atr=2.0)))

    def duplicate(self) -> None:
        rig = self.shelf.rigs.get(self.name)
        if rig is not None:
            self._add(msgspec.structs.replace(rig, name=self._free(f"{rig.name} copy")))

    def _free(self, name: str) -> str:
        """A name like it that no rig has, and that is not too long for one."""
        number, found = 2, name[:LONGEST_NAME]
        while found in self.shelf.rigs:
            end, number = f" {number}", number + 1
            found = name[: LONGEST_NAME - len(end)] + end
        return found

    def _add(self, rig: Rig) -> None:
        if self._put(rig):
            self._list_rigs(rig.name)
            self.title.setFocus()
            self.title.selectAll()
            self.changed.emit()

    def _put(self, rig: Rig) -> bool:
        try:
            self.shelf.put(rig)
        except BadInput as error:
            self.told.emit(f"{error.sentence}; the rig is kept here until Hawser closes")
            return False
        return True

    def _drop(self, name: str) -> bool:
        try:
            self.shelf.drop(name)
        except BadInput as error:
            self.told.emit(error.sentence)
            return False
        return True

    def delete(self) -> None:
        """Forget the rig that is shown; Undo brings the last one back."""
        rig = self.shelf.rigs.get(self.name)
        if rig is None:
            return
        if not self._drop(rig.name):
            return
        self._gone.append(rig)
        self.drafts.pop(rig.name, None)
        names = sorted(self.shelf.rigs)
        after = [name for name in names if name > rig.name]
        self._list_rigs((after or names or [""])[0])
        self.told.emit(f"{rig.name} was deleted; open trades keep their copy, Undo brings it back")
        self.changed.emit()

    def undo(self) -> None:
        """The last change of this rig; where there is none, the rig that was deleted last."""
        draft = self.drafts.get(self.name)
        if draft is not None and draft.can[0]:
            self.editor.undo()
        elif self._gone:
            rig = self._gone.pop()
            self._add(msgspec.structs.replace(rig, name=self._free(rig.name)))

    def _rename(self) -> None:
        new, rig = self.title.text().strip(), self.shelf.rigs.get(self.name)
        if rig is None or new == rig.name:
            return
        if not new or new in self.shelf.rigs:
            self.told.emit(
                "A rig needs a name of its own"
                if not new
                else f"There is a rig named {new} already"
            )
            self.title.setText(rig.name)
            return
        self.write_down()
        try:
            renamed = msgspec.structs.replace(self.shelf.rigs[rig.name], name=new)
        except BadInput as error:
            self.told.emit(error.sentence)
            self.title.setText(rig.name)
            return
        if not self._put(renamed):
            return
        draft = self.drafts.pop(rig.name)
        self._drop(rig.name)
        draft.name, self.drafts[new] = new, draft
        draft.change(("general", 0, "direction"), draft.texts["general"][0]["direction"])
        self._list_rigs(new)
        self.changed.emit()

    def _noted(self, text: str) -> None:
        draft = self.drafts.get(self.name)
        if draft is not None:
            draft.note = text
            self._write.start()

    # Editing

    def _edited(self) -> None:
        self._show_acts()
        self._write.start()
        self.try_out()

    def _show_acts(self) -> None:
        draft = self.drafts.get(self.name)
        can = draft.can if draft is not None else (False, False)
        self.undo_button.setEnabled(can[0] or bool(self._gone))
        self.redo_button.setEnabled(can[1])
        rig = self.shelf.rigs.get(self.name)
        count = 0 if rig is not None and rig.ladder is not None else self._uses().get(self.name, 0)
        self.use_button.setText(
            f"Put it on its {fg.counted(count, 'open trade')} now"
            if count
            else "Plan with this rig"
        )
        self.use_button.setToolTip(
            "Stops only tighten; targets are set again for what is open"
            if count
            else "Takes it into the Helm's plan"
        )

    def write_down(self) -> None:
        """Keep what was edited, where it makes a rig."""
        self._write.stop()
        draft = self.drafts.get(self.name)
        if draft is None or draft.made is None:
            return
        made = self._made(draft)
        if made != self.shelf.rigs.get(self.name) and self._put(made):
            # another may be picked already
            for item in map(self.list.item, range(self.list.count())):
                if item is not None and item.data(Qt.ItemDataRole.UserRole) == self.name:
                    item.setText(f"{item.text().partition(chr(10))[0]}\n{brief(made)}")
                    item.setToolTip(plain_tip(_tip(made)))
            self.changed.emit()

    def _made(self, draft: RigDraft) -> Rig:
        """The rig that is shown; its draft makes one."""
        assert draft.made is not None
        return msgspec.structs.replace(draft.made, name=self.name, note=draft.note)

    def unfinished(self) -> dict[str, Texts]:
        """What is typed and makes no rig yet, to be remembered."""
        return {name: draft.texts for name, draft in self.drafts.items() if draft.made is None}

    def take_unfinished(self, texts: dict[str, Texts]) -> None:
        """What was typed when Hawser closed."""
        for name, rows in texts.items():
            rig = self.shelf.rigs.get(name)
            if rig is None:
                continue
            draft = RigDraft(rig)
            if rows.keys() == draft.texts.keys():
                draft.take(rows)
                self.drafts[name] = draft
        self.show_rig(self.name)

    def _use(self) -> None:
        """Have what is shown, never what it was before: that is another rig."""
        self.write_down()
        draft, rig = self.drafts.get(self.name), self.shelf.rigs.get(self.name)
        if draft is not None and draft.made is None:
            self.told.emit("This rig is not complete: correct the marked fields first")
        elif draft is not None and rig != self._made(draft):
            self.told.emit("This rig could not be written, so it is not used")
        elif rig is not None:
            self.wanted.emit(rig)

    # Files

    def _import(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "A rig from a file", "", "TOML (*.toml)")
        if name:
            self.import_from(Path(name))

    def import_from(self, path: Path) -> None:
        """Take a rig in from its file."""
        try:
            rig = load_rig(path)
            named = msgspec.structs.replace(rig, name=self._free(rig.name or path.stem))
        except BadInput as error:
            self.told.emit(f"{error.sentence}; nothing was changed")
            return
        self._add(named)

    def _export(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, "The rig as a file", f"{self.name}.toml", "TOML (*.toml)"
        )
        if name:
            self.export_to(Path(name))

    def export_to(self, path: Path) -> None:
        """Write the rig that is shown as it was last complete."""
        self.write_down()
        try:
            save_rig(self.shelf.rigs[self.name], path)
            self.told.emit(f"Written to {path.name}")
        except BadInput as error:
            self.told.emit(f"{error.sentence}; nothing was changed")

    # The trial

    def show_history(self, instrument: Instrument, span: int, bars: Bars) -> None:
        """Another history, or the same with another bar; the last bars of it are tried on."""
        given, self._given = self._given, (instrument, span, bars)
        if given is not None and given[:2] == (instrument, span) and given[2] is bars:
            return
        last, chosen = bars.last(MOST_BARS), self.chart.start
        if (
            self._of is not None
            and self._of[0] == instrument
            and self._of[2] == span
            and chosen >= 0
        ):
            # the bar that was chosen stays it
            at = int(np.searchsorted(last.time, self._of[1].time[chosen]))
            self.chart.start = at if at < last.time.size else -1
        self._of = (instrument, last, span)
        self._trials.clear()
        self.of.setText(f"{instrument.symbol}, {timeframe_name(span)} bars as on the Helm")
        self._history_soon.start()

    def _show_history(self) -> None:
        if self._of is None or not self.isVisible():
            return
        instrument, bars, span = self._of
        self.chart.show_bars(instrument, span, Pyramid(bars))
        if self.chart.start < 0 and bars.time.size > 40:
            self.chart.choose(bars.time.size - 90 if bars.time.size > 200 else bars.time.size // 2)
        else:
            self.try_out()

    def show_snapshot(self, snapshot: Snapshot) -> None:
        """Who uses which rig; the account that trials are sized by."""
        before = self._uses()
        first = self._snapshot is None
        self._snapshot = snapshot
        if before != self._uses():
            self._list_rigs(self.name)
        elif first:
            self.try_out()

    def set_side(self, side: int) -> None:
        self.side = side
        button = self.sides.button(side + 1)
        assert button is not None
        button.setChecked(True)
        self.try_out()

    def _again(self) -> None:
        self._seed += 1
        self._later.start()

    def _trial(self, rig: Rig) -> Trial | None:
        """A rig ready to be tried here; kept until the rig, the bars or the account change."""
        if self._of is None or self._snapshot is None or self._snapshot.account is None:
            return None
        instrument, bars, _ = self._of
        account = account_alone(self._snapshot.account)
        held = self._trials.get(rig.name)
        key = (rig, instrument, id(bars), account.size, account.costs, account.policy)
        if held is None or held[0] != key:
            try:
                held = self._trials[rig.name] = (key, Trial(bars, instrument, account, rig))
            except (Refused, BadInput) as error:
                self._tell(0, error.sentence)
                return None
        return held[1]

    def _rigs_tried(self) -> list[Rig | None]:
        draft = self.drafts.get(self.name)
        mine = (
            msgspec.structs.replace(draft.made, name=self.name)
            if draft is not None and draft.made
            else None
        )
        other = self.shelf.rigs.get(self.beside.currentText())
        return [
            mine or self.shelf.rigs.get(self.name),
            other if other is None or other.name != self.name else None,
        ]

    def try_out(self) -> None:
        """The trade of the rig, and of the one beside it, from the bar that is chosen."""
        if not self.isVisible():
            return
        if not self.primer.ready:
            self._tell(0, "Preparing the trial \u2026")
            return
        shown: list[TrialResult | None] = []
        for number, rig in enumerate(self._rigs_tried()):
            trial = self._trial(rig) if rig is not None else None
            found = (
                trial.one(self.chart.start, self.side)
                if trial is not None and self.chart.start >= 0
                else ""
            )
            shown.append(found if isinstance(found, TrialResult) else None)
            name = "" if number == 0 or rig is None else f"{rig.name}: "
            self._tell(
                number, name + (in_words(found) if isinstance(found, TrialResult) else found)
            )
        self.chart.show_trials(shown[0], shown[1])
        self._later.start()

    def _tell(self, number: int, text: str) -> None:
        self.results[number].setText(text)
        self.results[number].setVisible(bool(text) or number == 0)

    def _fan_out(self) -> None:
        trials = [self._trial(rig) if rig is not None else None for rig in self._rigs_tried()]
        self.fans.ask(trials, self.side, self._seed)

    def _show_fans(self, fans: list[Fan | None]) -> None:
        first = fans[0]
        title = "From many bars at once"
        if first is not None:
            count = first.results.size + first.none + first.running
            title = f"The same from {count} bars drawn from these, {fg.side_word(self.side)}"
            if first.none or first.running:
                title += f"; {first.none} without an entry, {first.running} still open at the end"
        self.fan_title.setText(title)  # type: ignore[union-attr]  # a label
        self.fan.show_fans(first, fans[1])

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self._history_soon.start()

    def hideEvent(self, event: QHideEvent | None) -> None:
        super().hideEvent(event)
        self._later.stop()
        self.fans.stop()
        self.write_down()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() == Qt.Key.Key_Delete and self.list.hasFocus():
            if not event.isAutoRepeat():
                self.delete()
        else:
            super().keyPressEvent(event)


def _tip(rig: Rig) -> str:
    return f"{rig.note}\n{sentence(rig)}".strip()


def _pane() -> tuple[QFrame, QVBoxLayout]:
    pane = QFrame()
    pane.setObjectName("panel")
    box = QVBoxLayout(pane)
    box.setContentsMargins(1, 1, 1, 1)
    box.setSpacing(2)
    return pane, box


def _head(text: str) -> QHBoxLayout:
    head = QHBoxLayout()
    head.setContentsMargins(10, 4, 6, 2)
    head.setSpacing(4)
    title = Label(text)
    title.setProperty("role", "title")
    head.addWidget(title)
    head.addStretch(1)
    return head
