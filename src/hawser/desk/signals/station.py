"""The Signals station: the sources, the editor, and beside it what the source does on the bars of
the Helm, why at each bar, and what followed. What is typed is seen within a frame; what takes
longer comes behind it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QHideEvent, QShowEvent
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QSplitter

from hawser.core.bars import Bars
from hawser.core.clock import timeframe_name
from hawser.core.errors import BadInput
from hawser.core.indicators import Array
from hawser.core.instrument import Instrument
from hawser.core.sources.evaluation import counted
from hawser.core.sources.said import brief, sentence
from hawser.core.sources.source import LONGEST_NAME, Source, worries
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.background import Newest, while_there
from hawser.desk.common.choice import Choice
from hawser.desk.common.explained import explain
from hawser.desk.common.shelved import Shelved, Words, bar_from, head, offer_beside, pane
from hawser.desk.common.station import Desk, StationAccount
from hawser.desk.common.timing import every, once
from hawser.desk.common.words import Label, plain_tip
from hawser.desk.models import figures as fg
from hawser.desk.models.pyramid import Pyramid
from hawser.desk.models.settings import Kept
from hawser.desk.models.source_draft import SourceDraft, prepare
from hawser.desk.models.source_look import (
    Ground,
    Horizon,
    Look,
    horizons,
    looked_at,
    rows_of,
    takes_a_while,
    verdict,
)
from hawser.desk.signals.editor import SourceEditor, first_source
from hawser.desk.signals.followed_view import FollowedView
from hawser.desk.signals.reasons_view import ReasonsView
from hawser.desk.signals.source_chart import SourceChart
from hawser.formats.atomic import written
from hawser.formats.declared import small_text
from hawser.service.profiles.sources import SourceShelf

if TYPE_CHECKING:
    from hawser.service.own_columns import OwnColumns

MOST_BARS = 20_000  # of the history's end that are shown
prepare()  # here, where these modules are loaded away from the window's thread
FRAME_MS, QUIET_MS = 16, 40
SIZES = [180, 350, 670]  # pixels of the list, the editor and the bars
LONGEST_ABOUT = 4_000


def opened(desk: Desk, _: StationAccount) -> Signals:
    """The sources, which all accounts share."""
    station = Signals(desk.appearance, desk.sources, desk.kept, desk.bars_of_all, desk.columns_of)
    station.told.connect(lambda text: desk.tell("refused", text))
    return station


class Whole:
    """A source over all bars there are, which takes longer than a frame, and what followed."""

    def __init__(self, look: Look | None, minded: list[str], wrong: str = "") -> None:
        self.look, self.minded, self.wrong = look, minded, wrong
        self.horizons: list[Horizon] = horizons(look) if look is not None else []


def whole(source: Source, path: Path | None, ground: Ground) -> Whole:
    """To be called away from the window's thread."""
    try:
        return Whole(*looked_at(source, path, ground))
    except BadInput as error:
        return Whole(None, [], error.text)


class Signals(Shelved[Source, SourceDraft]):
    """The sources of a shelf, over what the Helm shows."""

    WORDS = Words(
        one="source",
        new="A source that enters where two averages cross",
        list_topic="source_list",
        name_topic="source_name",
        note_topic="source_note",
        note_key="about",
        longest_name=LONGEST_NAME,
        longest_note=LONGEST_ABOUT,
    )
    follows = True
    _others = pyqtSignal(object)

    def __init__(
        self,
        appearance: Appearance,
        shelf: SourceShelf,
        kept: Kept,
        bars_of_all: Callable[[Callable[[Mapping[str, tuple[int, Bars]]], None]], None],
        columns_of: Callable[[str], OwnColumns | None] = lambda symbol: None,
    ) -> None:
        """`bars_of_all`: has the bars of every instrument told, each with their length, ns;
        `columns_of`: the further columns of an instrument, where there are any."""
        self._kept, self._appearance, self._bars_of_all = kept, appearance, bars_of_all
        self._columns_of = columns_of
        self._given: tuple[Instrument, int, Bars] | None = None
        self._ground: Ground | None = None
        self._pyramid: Pyramid | None = None
        self._look: Look | None = None  # of the last bars, or of all
        self._whole: Whole | None = None
        self._other: Whole | None = None
        self._wrong, self._laid = "", False
        super().__init__(appearance, shelf, SourceEditor())
        self.chart = SourceChart(appearance)
        self.reasons, self.followed = ReasonsView(appearance), FollowedView(appearance)
        self.chart.asked.connect(self._tell_bar)
        self.chart.stepped.connect(self._step)
        self._soon = once(self, FRAME_MS, self.look)
        self._at_once = once(self, 0, self.look)
        self._later = once(self, FRAME_MS, self._look_at_all)
        self._history_soon = once(self, 0, self._show_history)
        self._work = Newest(self, threads=2)  # own Python may hold one for a while
        self._work.done.connect(self._take)
        self._others.connect(self._take_others)
        self._lay_out()
        self._begun, self._pieces = False, self._preparing()
        self._quiet = every(self, QUIET_MS, self._prepare)
        self._quiet.start()

    def _preparing(self) -> Iterator[None]:
        """In quiet moments: read the sources, and make the sentences that they are shown in."""
        yield from self.shelf.reading()
        self._begin()
        for one in list(self.shelf.all.values()):
            texts = self.draft_of(one).texts
            yield
            yield from self.editor.making(texts)

    def _prepare(self) -> None:
        if next(self._pieces, self) is self:
            self._quiet.stop()

    def _begin(self) -> None:
        if not self._begun:
            self._begun = True
            self.begin(self._kept.unfinished_sources)
            if self.shelf.faults:
                self.told.emit("; ".join(self.shelf.faults))

    def splitters(self) -> dict[str, QSplitter]:
        return {"signals": self.panes, "signals right": self.right, "signals below": self.below}

    def actions(self) -> list[tuple[str, Callable[[], object]]]:
        return [("Signals: a new source", self.new)]

    def remember(self) -> None:
        if self._begun:
            self._kept.unfinished_sources = self.unfinished()

    # Panes

    def _lay_out(self) -> None:
        self.panes = QSplitter(Qt.Orientation.Horizontal)
        self.right = QSplitter(Qt.Orientation.Vertical)
        self.below = QSplitter(Qt.Orientation.Horizontal)
        self.below.addWidget(self._why_pane())
        self.below.addWidget(self._followed_pane())
        self.below.setSizes([330, 330])
        self.right.addWidget(self._chart_pane())
        self.right.addWidget(self.below)
        self.right.setStretchFactor(0, 1)
        self.right.setSizes([410, 290])
        for part in (self.list_pane, self.edit_pane, self.right):
            self.panes.addWidget(part)
        self.panes.setSizes(SIZES)
        self.panes.setStretchFactor(2, 1)
        box = QHBoxLayout(self)
        box.setContentsMargins(8, 8, 8, 8)
        box.addWidget(self.panes)

    def _chart_pane(self) -> QFrame:
        found, box = pane()
        row = head("On the bars")
        self.of = Label()
        self.of.setProperty("role", "second")
        row.insertWidget(1, self.of)
        self.beside = Choice()
        self.beside.setAccessibleName("Another source beside this one")
        self.beside.setMinimumContentsLength(15)
        explain(self.beside, "source_beside")
        explain(self.chart, "source_chart", tip=False)
        self.beside.currentTextChanged.connect(lambda _: self._later.start())
        row.addWidget(self.beside)
        box.addLayout(row)
        box.addWidget(self.chart, 1)
        self.counts = Label()
        self.counts.setProperty("role", "second")
        self.counts.setContentsMargins(10, 2, 10, 4)
        self.counts.setWordWrap(True)
        explain(self.counts, "source_counts")
        box.addWidget(self.counts)
        return found

    def _why_pane(self) -> QFrame:
        found, box = pane()
        row = head("Why")
        self.at = Label()
        self.at.setProperty("role", "second")
        row.insertWidget(1, self.at)
        box.addLayout(row)
        self.verdict = Label()
        self.verdict.setContentsMargins(10, 0, 10, 2)
        self.verdict.setWordWrap(True)
        box.addWidget(self.verdict)
        box.addWidget(self.reasons, 1)
        explain(self.reasons, "source_reasons", tip=False)
        return found

    def _followed_pane(self) -> QFrame:
        found, box = pane()
        box.addLayout(head("What followed"))
        box.addWidget(self.followed, 1)
        explain(self.followed, "source_followed", tip=False)
        return found

    # What the shelf's station asks

    def draft_of(self, one: Source) -> SourceDraft:
        return SourceDraft(one)

    def first(self, name: str) -> Source:
        return first_source(name)

    def in_short(self, one: Source) -> str:
        return brief(one)

    def in_full(self, one: Source) -> str:
        return f"{one.about}\n{sentence(one)}".strip()

    def list_all(self, chosen: str) -> None:
        super().list_all(chosen)
        offer_beside(self.beside, sorted(self.shelf.all), self.name)

    def shown_anew(self) -> None:
        bar_from(self.beside, self.name)
        # the form is laid out and painted first: together they would hold the window
        self._soon.start()

    def import_from(self, path: Path) -> None:
        """Take one in from its file, with its own Python, which lies beside it."""
        before = self.name
        super().import_from(path)
        source, folder = self.shelf.all.get(self.name), self.shelf.folder
        if self.name == before or source is None or folder is None:
            return
        for _, _, condition in source.own_python():
            told = copied_beside(path.parent / condition.file, folder / condition.file)
            if told:
                self.told.emit(told)

    def edited(self) -> None:
        self._whole = None
        self._at_once.start()  # in an event of its own: what is typed is painted before

    def write_down(self) -> None:
        kept = self.shelf.all.get(self.name)
        super().write_down()
        now = self.shelf.all.get(self.name)
        if now is not None and now != kept and (odd := worries(now)):
            self.told.emit(f"{now.name}: {'. '.join(odd)}")

    # The bars

    def show_history(self, instrument: Instrument, span: int, bars: Bars) -> None:
        """Another history, or the same with another bar."""
        given, self._given = self._given, (instrument, span, bars)
        if given is not None and given[:2] == (instrument, span) and given[2] is bars:
            return
        if given is None or given[:2] != (instrument, span):
            self.chart.forget()
            self.of.setText(f"{instrument.symbol}, {timeframe_name(span)} bars as on the Helm")
        self._history_soon.start()

    def _show_history(self) -> None:
        if self._given is None or not self.isVisible():
            return
        self._bars_of_all(while_there(self._others.emit))

    def _take_others(self, found: Mapping[str, tuple[int, Bars]]) -> None:
        if self._given is None:
            return
        instrument, span, bars = self._given
        moved = self._dropped
        self._ground = Ground(
            instrument,
            span,
            bars,
            others={name: one for name, (_, one) in found.items()},
            spans={name: length for name, (length, _) in found.items()},
            columns=self._columns_of(instrument.symbol),
        )
        if self.chart.chosen >= 0:  # the bar that was chosen stays it
            self.chart.chosen = max(-1, self.chart.chosen - (self._dropped - moved))
        self._pyramid = Pyramid(bars.last(MOST_BARS))
        self.chart.show_bars(instrument, span, self._pyramid)
        self.look()

    @property
    def _dropped(self) -> int:
        """How many bars lie before those that are shown."""
        size = self._ground.bars.time.size if self._ground is not None else 0
        return max(0, size - MOST_BARS)

    # Looking

    def look(self) -> None:
        """Evaluate what is typed over the bars that are shown; then over all, behind it."""
        self._whole, self._wrong = None, ""
        source, ground = self.shown, self._ground
        if ground is None or not self.isVisible():
            return
        self._look = None
        if source is None:
            self._other = None
            self._show_look()
            return
        if not takes_a_while(source, ground):
            try:
                self._look = Look(source, ground.last(MOST_BARS))
            except BadInput as error:
                self._wrong = error.text
        self._show_look()
        self._later.start()

    def _look_at_all(self) -> None:
        source, ground = self.shown, self._ground
        if source is None or ground is None:
            return
        other = self.shelf.all.get(self.beside.currentText())
        self._work.ask(partial(_both, source, other, self._paths(source, other), ground))

    def _paths(self, *sources: Source | None) -> list[Path | None]:
        return [self.shelf.path(one.name) if one is not None else None for one in sources]

    def _take(self, found: tuple[Source, Ground, Whole, Whole | None]) -> None:
        source, ground, mine, other = found
        if not _alike(source, self.shown) or ground is not self._ground:
            return  # of what was typed, or of the bars, before
        self._whole, self._other = mine, other
        if self._whole.look is not None:
            self._look = self._whole.look
        self._wrong = self._whole.wrong
        self._show_look()

    @property
    def _first(self) -> int:
        """The place of the first bar that is shown among those that were looked at."""
        return self._look.size - self.chart.size if self._look is not None else 0

    def _show_look(self) -> None:
        look = self._look
        if look is None:
            self.chart.show_lines([], [])
            self.chart.show_said(*_nothing(self.chart.size))
        else:
            self.chart.show_lines(*look.drawn(self._first))
            self.chart.show_said(look.said.signal[self._first :], look.said.leave[self._first :])
        other = self._other.look if self._other is not None else None
        shown = other.said.signal[other.size - self.chart.size :] if other is not None else None
        self.chart.show_other(shown)
        self._show_counts()
        self._tell_bar(self.chart.bar)
        self._show_followed()

    def _show_counts(self) -> None:
        look = self._look
        if look is None:
            source = self.shown
            asks = source is not None and source.own_python() and not self._wrong
            waits = "Asking your own Python, in a process of its own \u2026" if asks else ""
            reads = source is not None and source.columns and not self._wrong
            if reads and not asks:
                waits = "Reading the columns of the bar file \u2026"
            self.counts.setText(waits or self._wrong)
            return
        count = {what: fg.number(number, 0) for what, number in counted(look.said).items()}
        told = [f"{count['long']} long, {count['short']} short over {fg.number(look.size, 0)} bars"]
        if look.said.both_ways.any():
            told.append(f"{count['both_ways']} times both at once, which is no signal")
        told += look.minded
        if self._whole is not None:
            told += self._whole.minded
        if self._other is not None and self._other.wrong:
            told.append(f"{self.beside.currentText()}: {self._other.wrong}")
        self.counts.setText("; ".join(told))
        self.counts.setToolTip(plain_tip("\n".join(told)))

    def _tell_bar(self, bar: int) -> None:
        """Why the source says what it says at a bar; the newest where none is asked about."""
        look = self._look
        if look is None or not self.chart.size:
            self.at.setText("")
            self.verdict.setText("")
            nothing = "No source is chosen" if self.shown is None else "Nothing to show yet"
            self.reasons.rows.show_rows([], self._wrong or nothing)
            return
        at = self._first + (bar if 0 <= bar < self.chart.size else self.chart.size - 1)
        zone = self._appearance.zone
        when = fg.moment(int(look.ground.bars.time[at]), zone)
        self.at.setText(f"bar of {when:%d %b %Y %H:%M}")
        self.verdict.setText(verdict(look, at))
        self.reasons.rows.show_rows(rows_of(look, at, zone))

    def _show_followed(self) -> None:
        if self._whole is None:
            self.followed.show_horizons(
                [], [], "Reckoning \u2026" if not self._wrong else self._wrong
            )
            return
        other = self._other.horizons if self._other is not None else []
        self.followed.show_horizons(self._whole.horizons, other, self._whole.wrong)

    def _step(self, way: int) -> None:
        """To the next signal or the one before."""
        look = self._look
        if look is None:
            return
        at = self.chart.chosen if self.chart.chosen >= 0 else self.chart.size - 1
        found = look.next_signal(self._first + at, way)
        if found is None or found < self._first:
            self.told.emit("There is no further signal that way")
        else:
            self.chart.choose(found - self._first)

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self._begin()
        if not self._laid:  # a splitter that has not been shown has another width, and shares that
            self._laid = True
            self.panes.setSizes(self._kept.splitters.get("signals", SIZES))
        self._history_soon.start()

    def hideEvent(self, event: QHideEvent | None) -> None:
        super().hideEvent(event)
        self._later.stop()
        self._work.forget()


def _alike(one: Source, other: Source | None) -> bool:
    """Whether two say the same, whatever they are called."""
    if other is None:
        return False
    return one == msgspec.structs.replace(other, name=one.name, about=one.about)


def copied_beside(path: Path, to: Path) -> str:
    """Own Python into the folder of the sources; says what became of it."""
    try:
        text = small_text(path)
        if to.exists():
            same = small_text(to) == text
            return "" if same else f"{to}: is another file than {path}, and stays as it is"
        to.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        with written(to) as file:
            file.write(text.encode())
    except BadInput as error:
        return error.sentence
    except OSError as error:
        return f"{to.parent}: cannot be made ({error.strerror})"
    return f"{path.name} was copied into {to.parent}"


def _nothing(size: int) -> tuple[Array, Array]:
    import numpy as np

    return np.zeros(size, np.int8), np.zeros(size, np.int8)


def _both(
    source: Source, other: Source | None, paths: list[Path | None], ground: Ground
) -> tuple[Source, Ground, Whole, Whole | None]:
    """A source, and another beside it."""
    return (
        source,
        ground,
        whole(source, paths[0], ground),
        whole(other, paths[1], ground) if other is not None else None,
    )
