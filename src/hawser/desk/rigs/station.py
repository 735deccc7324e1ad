"""The Rigs station: the list, the editor, and beside it the trial and the fan. It answers within a
frame."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import partial

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QHideEvent, QShowEvent
from PyQt6.QtWidgets import (
    QButtonGroup,
    QFrame,
    QHBoxLayout,
    QPushButton,
    QSplitter,
    QWidget,
)

from hawser.core.bars import Bars
from hawser.core.clock import timeframe_name
from hawser.core.errors import BadInput, Refused
from hawser.core.guards.declared import Guards
from hawser.core.guards.news import Calendar
from hawser.core.instrument import Instrument
from hawser.core.levels import StopRule
from hawser.core.rig import LONGEST_NAME, LONGEST_NOTE, Rig, brief, sentence
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.background import Newest, while_there
from hawser.desk.common.choice import Choice
from hawser.desk.common.explained import explain
from hawser.desk.common.shelved import (
    Shelved,
    Words,
    bar_from,
    flat_button,
    head,
    offer_beside,
    pane,
)
from hawser.desk.common.station import Desk, StationAccount
from hawser.desk.common.timing import once
from hawser.desk.common.words import Label
from hawser.desk.models import figures as fg
from hawser.desk.models.pyramid import Pyramid
from hawser.desk.models.rig_draft import RigDraft
from hawser.desk.models.settings import Kept
from hawser.desk.models.trade_actions import is_open
from hawser.desk.rigs.editor import RigEditor
from hawser.desk.rigs.fan import FanView
from hawser.desk.rigs.trial_chart import TrialChart
from hawser.desk.rigs.trials import (
    STARTS,
    Filters,
    Primer,
    account_alone,
    fans,
    filters_over,
    in_words,
)
from hawser.rehearsal.trial import Fan, Trial, TrialResult
from hawser.service.profiles.rigs import RigShelf
from hawser.service.views.snapshot import Snapshot

MOST_BARS = 20_000  # of the history's end that a trial looks at
FRAME_MS = 16  # a part of the station is drawn after another, each in a frame of its own


def opened(desk: Desk, _: StationAccount) -> Rigs:
    """The rigs, which all accounts share."""
    rigs = Rigs(desk.appearance, desk.shelf, desk.kept)
    rigs.policy_wanted.connect(lambda: _tell_policy(desk, rigs))
    rigs.changed.connect(desk.rigs_changed)
    rigs.told.connect(lambda text: desk.tell("refused", text))
    rigs.wanted.connect(desk.plan_with)
    for account in desk.accounts:  # what trials need is loaded behind what protects
        if account.bridge.is_ready:
            rigs.primer.begin()
        account.bridge.ready.connect(rigs.primer.begin)
    return rigs


def _tell_policy(desk: Desk, rigs: Rigs) -> None:
    """The policy and the bars that its regimes look at, from the engine's thread."""
    desk.policy(while_there(rigs.policy_told.emit))


class Rigs(Shelved[Rig, RigDraft]):
    """The rigs of a shelf. `wanted` tells that one is to go on open trades."""

    WORDS = Words(
        one="rig",
        new="A rig with a stop and nothing else",
        list_topic="rig_list",
        name_topic="rig_name",
        note_topic="rig_note",
        note_key="note",
        longest_name=LONGEST_NAME,
        longest_note=LONGEST_NOTE,
    )
    wanted = pyqtSignal(object)
    policy_wanted = pyqtSignal()
    policy_told = pyqtSignal(object, object, object)  # guards, calendars, bars and their length

    follows = True

    def __init__(self, appearance: Appearance, shelf: RigShelf, kept: Kept) -> None:
        self.side, self._seed, self._kept = 1, 1, kept
        self._snapshot: Snapshot | None = None
        self._of: tuple[Instrument, Bars, int] | None = None  # the part of it that is tried on
        self._given: tuple[Instrument, int, Bars] | None = None
        self._trials: dict[str, tuple[object, Trial]] = {}
        super().__init__(appearance, shelf, RigEditor())
        self.chart, self.fan = TrialChart(appearance), FanView(appearance)
        self.chart.chosen.connect(lambda _: self.try_out())
        self.chart.side_asked.connect(self.set_side)
        self.primer = Primer(self, self._show_history)
        self._soon = once(self, FRAME_MS, self.try_out)
        # to show the station, and what there is to try on, would together hold the window
        self._history_soon = once(self, 0, self._show_history)
        self._later = once(self, FRAME_MS, self._fan_out)
        self.fans = Newest(self)
        self.fans.done.connect(self._show_fans)
        self._filters: Filters | None = None
        self._judging = Newest(self)
        self._judging.done.connect(self._judged)
        self.policy_told.connect(self._judge)
        self.panes = QSplitter(Qt.Orientation.Horizontal)
        right = QSplitter(Qt.Orientation.Vertical)
        right.addWidget(self._trial_pane())
        right.addWidget(self._fan_pane())
        right.setStretchFactor(0, 1)
        right.setSizes([390, 300])
        self.right = right
        for part in (self.list_pane, self.edit_pane, right):
            self.panes.addWidget(part)
        self.panes.setSizes([220, 380, 600])
        self.panes.setStretchFactor(2, 1)
        box = QHBoxLayout(self)
        box.setContentsMargins(8, 8, 8, 8)
        box.addWidget(self.panes)
        self.begin(kept.unfinished_rigs)

    def splitters(self) -> dict[str, QSplitter]:
        return {"rigs": self.panes, "trial": self.right}

    def actions(self) -> list[tuple[str, Callable[[], object]]]:
        return [("Rigs: a new one", self.new)]

    def remember(self) -> None:
        self._kept.unfinished_rigs = self.unfinished()

    # Panes

    def foot(self) -> QWidget:
        self.use_button = QPushButton()
        self.use_button.clicked.connect(self._use)
        return self.use_button

    def _trial_pane(self) -> QFrame:
        found, box = pane()
        row = head("Trial")
        self.of = Label()
        row.insertWidget(1, self.of)
        self.sides = QButtonGroup(self)
        for side, word in ((1, "Long"), (-1, "Short")):
            button = QPushButton(word)
            button.setCheckable(True)
            button.setProperty("role", "flat")
            button.setChecked(side > 0)
            button.clicked.connect(lambda _, side=side: self.set_side(side))
            explain(button, "trial_side")
            self.sides.addButton(button, side + 1)
            row.addWidget(button)
        self.beside = Choice()
        self.beside.setAccessibleName("Another rig beside this one")
        explain(self.beside, "beside")
        explain(self.chart, "trial", tip=False)
        self.beside.currentTextChanged.connect(lambda _: self.try_out())
        row.addWidget(self.beside)
        box.addLayout(row)
        box.addWidget(self.chart, 1)
        self.results = [Label(), Label()]
        for label in self.results:
            explain(label, "trial")
            label.setContentsMargins(10, 2, 10, 2)
            label.setWordWrap(True)
            box.addWidget(label)
        return found

    def _fan_pane(self) -> QFrame:
        found, box = pane()
        row = head("")
        self.fan_title = row.itemAt(0).widget()  # type: ignore[union-attr]  # the label just added
        row.addWidget(flat_button("Again", f"Another {STARTS} bars, drawn again", self._again))
        box.addLayout(row)
        box.addWidget(self.fan, 1)
        explain(self.fan, "fan")
        return found

    # What the shelf's station asks

    def draft_of(self, one: Rig) -> RigDraft:
        return RigDraft(one)

    def first(self, name: str) -> Rig:
        return Rig(name=name, stop=StopRule(atr=2.0))

    def in_short(self, one: Rig) -> str:
        return brief(one)

    def in_full(self, one: Rig) -> str:
        return f"{one.note}\n{sentence(one)}".strip()

    def kept_by(self) -> str:
        return "open trades keep their copy, "

    def used(self, name: str) -> str:
        count = self._uses().get(name, 0)
        return f"   {fg.counted(count, 'trade')}" if count else ""

    def list_all(self, chosen: str) -> None:
        super().list_all(chosen)
        offer_beside(self.beside, sorted(self.shelf.all), self.name)

    def _uses(self) -> dict[str, int]:
        found: dict[str, int] = {}
        for trade in self._snapshot.trades if self._snapshot is not None else ():
            if trade.rig and is_open(trade):
                found[trade.rig] = found.get(trade.rig, 0) + 1
        return found

    def shown_anew(self) -> None:
        bar_from(self.beside, self.name)
        self.use_button.setEnabled(self.name in self.shelf.all)
        # the form is laid out and painted first: together they would hold the window
        self._soon.start()

    # Editing

    def edited(self) -> None:
        self.try_out()

    def show_acts(self) -> None:
        super().show_acts()
        rig = self.shelf.all.get(self.name)
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

    def _use(self) -> None:
        """Have what is shown, never what it was before: that is another rig."""
        self.write_down()
        draft, rig = self.drafts.get(self.name), self.shelf.all.get(self.name)
        if draft is not None and draft.made is None:
            self.told.emit("This rig is not complete: correct the marked fields first")
        elif draft is not None and rig != self.made_of(draft):
            self.told.emit("This rig could not be written, so it is not used")
        elif rig is not None:
            self.wanted.emit(rig)

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
        self._filters = None
        self.of.setText(f"{instrument.symbol}, {timeframe_name(span)} bars as on the Helm")
        self._history_soon.start()

    def _show_history(self) -> None:
        if self._of is None or not self.isVisible():
            return
        instrument, bars, span = self._of
        self.chart.show_bars(instrument, span, Pyramid(bars))
        self.policy_wanted.emit()
        if self.chart.start < 0 and bars.time.size > 40:
            self.chart.choose(bars.time.size - 90 if bars.time.size > 200 else bars.time.size // 2)
        else:
            self.try_out()

    def _judge(
        self,
        guards: Guards,
        calendars: tuple[Calendar, ...],
        bars: Mapping[str, tuple[int, Bars]],
    ) -> None:
        """What the policy's filters say of an entry at each bar: reckoned behind what is shown."""
        account = self._snapshot.account if self._snapshot is not None else None
        if self._of is not None and account is not None:
            instrument, shown, _ = self._of
            others = {name: one for name, (_, one) in bars.items()}
            self._judging.ask(
                partial(filters_over, guards, calendars, instrument, shown, others, account)
            )

    def _judged(self, found: Filters) -> None:
        # what was reckoned over bars that are no longer shown says nothing of these
        if self._of is not None and found.bars is self._of[1]:
            self._filters = found
            self.try_out()

    def show_snapshot(self, snapshot: Snapshot) -> None:
        """Who uses which rig; the account that trials are sized by."""
        before = self._uses()
        first = self._snapshot is None
        self._snapshot = snapshot
        if before != self._uses():
            self.list_all(self.name)
        elif first:
            self.policy_wanted.emit()
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
        other = self.shelf.all.get(self.beside.currentText())
        return [
            self.shown,
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
            told = in_words(found) if isinstance(found, TrialResult) else found
            if number == 0 and self._filters is not None and isinstance(found, TrialResult):
                told = ". ".join(one for one in (told, self._filters.verdict(found)) if one)
            self._tell(number, name + told)
        self.chart.show_trials(shown[0], shown[1])
        self._later.start()

    def _tell(self, number: int, text: str) -> None:
        self.results[number].setText(text)
        self.results[number].setVisible(bool(text) or number == 0)

    def _fan_out(self) -> None:
        trials = [self._trial(rig) if rig is not None else None for rig in self._rigs_tried()]
        self.fans.ask(partial(fans, trials, self.side, self._seed))

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
        self._judging.forget()
