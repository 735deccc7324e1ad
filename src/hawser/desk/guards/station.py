"""The Guards station: the day ahead, every guard with its gauge and state, drills, and the policy
as it is written."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QHideEvent, QShowEvent
from PyQt6.QtWidgets import (
    QCheckBox,
    QFrame,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QScrollArea,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from hawser.core.clock import SECOND
from hawser.core.errors import BadInput
from hawser.core.guards.declared import AnyGuard, Guard
from hawser.core.plan import BY_HAND
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.explained import explain
from hawser.desk.common.reason import ReasonField
from hawser.desk.common.station import Desk, StationAccount, StationView, VenueDrill
from hawser.desk.common.timing import every
from hawser.desk.common.words import Label, escaped
from hawser.desk.guards.alerts_panel import AlertsPanel
from hawser.desk.guards.day_chart import DayChart
from hawser.desk.guards.forms import GuardForms, kinds
from hawser.desk.guards.policy_editor import PolicyEditor, told_change
from hawser.desk.guards.rows import GuardList
from hawser.desk.guards.watch_panel import WatchPanel
from hawser.desk.models import figures as fg
from hawser.desk.models.settings import Shown
from hawser.engine import events as ev
from hawser.service.runtime.runtime import Runtime
from hawser.service.views.guards import Coming, GuardPicture

EVERY_MS = 500


def opened(desk: Desk, account: StationAccount) -> GuardStation:
    """The guards of an account."""
    guards = GuardStation(desk.appearance, account.runtime, account.shown, desk.drills)
    account.bridge.guards.connect(guards.show_picture)
    account.bridge.tried.connect(guards.alerts.show_tried)
    guards.refused.connect(lambda text: desk.tell("refused", text))
    return guards


class GuardStation(StationView):
    """Asks the runtime for the guards' picture while it is looked at."""

    refused = pyqtSignal(str)

    def __init__(
        self,
        appearance: Appearance,
        runtime: Runtime,
        shown: Shown,
        drills: Callable[[], list[VenueDrill]],
    ) -> None:
        super().__init__()
        self._drills_there, self._has_drills = drills, False
        self.setObjectName("ground")
        self._appearance, self._runtime = appearance, runtime
        self._demo = runtime.profile.name.startswith("demo")
        self.picture: GuardPicture | None = None
        self._latched = ("", "")
        self.day = DayChart(appearance)
        explain(self.day, "day", tip=False)  # each part tells its own
        self.switches, self.filters = (
            GuardList(appearance, "Kill switches, counts", True),
            GuardList(appearance, "Filters", False),
        )
        for rows in (self.switches, self.filters):
            rows.drill.connect(self.drill)
            rows.ask.connect(lambda name, subject: self._drill(name, subject, True))
            rows.rearm.connect(self.ask_reason)
            rows.edit.connect(self.edit_guard)
        self.editor, self.alerts = (
            PolicyEditor(self, runtime, shown),
            AlertsPanel(self, runtime.alerts),
        )
        known = {"instruments": self._symbols, "reference": self._symbols, "sources": self._sources}
        self.forms = GuardForms(self, self._currency, self._told, shown.forms, known)
        self.forms.changed.connect(self._change_guard)
        self.panes = QSplitter(Qt.Orientation.Horizontal)
        self.panes.addWidget(self._left())
        self.panes.addWidget(self._right())
        self.panes.setStretchFactor(0, 1)
        self.panes.setSizes([930, 262])
        self.panes.setChildrenCollapsible(False)
        box = QVBoxLayout(self)
        box.setContentsMargins(8, 6, 8, 4)
        box.addWidget(self._reason_bar())
        box.addWidget(self.panes, 1)
        self._timer = every(self, EVERY_MS, runtime.look_at_guards)

    # Parts

    def _left(self) -> QSplitter:
        day, box = _panel(
            "Next 24 hours", "windows close entries; exits and tighter stops always pass"
        )
        box.addWidget(self.day)
        box.addStretch(1)
        inside = QWidget()
        column = QVBoxLayout(inside)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self.switches)
        column.addWidget(self.filters)
        self.empty = Label(
            "No guard watches yet. A policy closes entries by news, spread, hours, losses and "
            "more: \u2018Add a "
            "guard\u2019 begins one, \u2018Edit as text\u2019 reads one from a file."
        )
        self.empty.setWordWrap(True)
        self.empty.setContentsMargins(12, 12, 12, 12)
        column.addWidget(self.empty)
        column.addStretch(1)
        scroll = QScrollArea()
        scroll.setWidget(inside)
        scroll.setWidgetResizable(True)
        table = QFrame()
        table.setObjectName("panel")
        around = QVBoxLayout(table)
        around.setContentsMargins(1, 1, 1, 1)
        around.addWidget(scroll)
        self.left = left = QSplitter(Qt.Orientation.Vertical)
        left.addWidget(day)
        left.addWidget(table)
        left.setStretchFactor(1, 1)
        left.setChildrenCollapsible(False)
        return left

    def _right(self) -> QWidget:
        whole = QWidget()
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 0, 0)
        coming, box = _panel("Closing next", "")
        self.until, self.what, self.then, self.calendar = Label(), Label(), Label(), Label()
        self.what.setTextFormat(Qt.TextFormat.RichText)
        self.until.setProperty("role", "big")
        for label in (self.until, self.what, self.then, self.calendar):
            label.setWordWrap(True)
            label.setContentsMargins(12, 1, 10, 1)
            box.addWidget(label)
            explain(label, "closing_next")
        self.then.setProperty("role", "second")
        self.calendar.setProperty("role", "small-second")
        drills, box = _panel("Drills", "")
        told = Label("Test a guard: press Drill in its row, or make one of these happen:")
        told.setWordWrap(True)
        told.setContentsMargins(12, 0, 10, 2)
        box.addWidget(told)
        self.watch_only = QCheckBox("Watch only: tell what would follow")
        if not self._demo:
            self.watch_only.setText("Watch only: this account is no demo")
            self.watch_only.setChecked(True)
            self.watch_only.setEnabled(False)
        explain(self.watch_only, "watch_only")
        inner = QVBoxLayout()
        inner.setContentsMargins(12, 0, 12, 10)
        inner.addWidget(self.watch_only)
        self._happenings = inner
        self._add_drill(
            VenueDrill(
                "News in 10 s", "A made-up event for the instrument on the Helm", self.drill_news
            ),
            1,
        )
        self._add_drill(
            VenueDrill("End the made-up news", "Removes made-up events", self._runtime.end_drills),
            2,
        )
        box.addLayout(inner)
        watch, box = _panel("Dead man's watch", "")
        self.watch = WatchPanel(self._runtime.sentry, self._runtime.alerts)
        box.addWidget(self.watch)
        column.addWidget(coming)
        column.addWidget(drills)
        column.addWidget(self._policy_panel())
        column.addWidget(watch)
        column.addStretch(1)
        return whole

    def _policy_panel(self) -> QFrame:
        policy, box = _panel("Policy and alerts", "")
        self.edit_button, self.add_button = QPushButton("Edit as text"), QPushButton("Add a guard")
        self.edit_button.clicked.connect(lambda _: self.edit())
        self.add_menu = QMenu(self)
        for words, kind in kinds():
            self.add_menu.addAction(words, lambda kind=kind: self.add_guard(kind))
        self.add_button.setMenu(self.add_menu)
        both = QHBoxLayout()
        both.addWidget(self.add_button)
        both.addWidget(self.edit_button)
        inner = QVBoxLayout()
        inner.setContentsMargins(12, 0, 12, 10)
        inner.addLayout(both)
        self.alerts_button = QPushButton("Alerts: events and channels")
        self.alerts_button.clicked.connect(lambda _: self.alerts.open())
        inner.addWidget(self.alerts_button)
        box.addLayout(inner)
        return policy

    def _reason_bar(self) -> QWidget:
        """Re-arming a kill switch takes a reason in words."""
        self.bar = QFrame()
        self.bar.setObjectName("panel")
        row = QHBoxLayout(self.bar)
        row.setContentsMargins(12, 4, 12, 4)
        self.of, self.confirm = Label(), QPushButton("Re-arm")
        self.of.setProperty("role", "caution")
        self.reason = ReasonField("Reason for re-arming the guard", self.confirm)
        self.reason.said.connect(self._rearm)
        explain(self.reason, "guard_rearm")
        leave = QPushButton("Leave it latched")
        leave.clicked.connect(self.bar.hide)
        row.addWidget(self.of)
        row.addWidget(self.reason, 1)
        row.addWidget(self.confirm)
        row.addWidget(leave)
        self.bar.hide()
        return self.bar

    # What is told

    def show_picture(self, picture: GuardPicture) -> None:
        self._add_drills_of_venue()
        self.picture, self.editor.policy = picture, picture.policy
        self.day.show_picture(picture)
        self.switches.show_views(
            [view for view in picture.views if view.gauge is not None], picture.time
        )
        self.filters.show_views(
            [view for view in picture.views if view.gauge is None], picture.time
        )
        self.empty.setVisible(not picture.views)
        for rows in (self.switches, self.filters):
            rows.setVisible(bool(rows.rows))
        zone = self._appearance.zone
        waits = [
            f"From {fg.moment(at, zone):%a %d %b %H:%M} on: {what}" for at, what in picture.waits
        ]
        self.calendar.setText("\n".join([picture.calendar, *waits]))
        self.watch.refresh()
        self._show_coming(picture.coming, picture.time)

    def _show_coming(self, coming: Coming | None, now: int) -> None:
        if coming is None:
            self.until.setText("\u2013")
            self.what.setText("No news window ahead")
            self.then.setText("")
            return
        left = (coming.at - now) // SECOND
        hours, rest = divmod(max(0, left), 3600)
        self.until.setText(
            f"{hours}:{rest // 60:02d}:{rest % 60:02d}"
            if hours
            else f"{rest // 60:02d}:{rest % 60:02d}"
        )
        zone = self._appearance.zone
        span = (
            f"{fg.clock(coming.at, zone, seconds=False)} to "
            f"{fg.clock(coming.until, zone, seconds=False)}"
        )
        symbols = escaped(", ".join(coming.symbols))
        self.what.setText(f"<b>{symbols}</b><br>{escaped(coming.text)}<br>{span}")
        self.then.setText(coming.does)

    # What is asked

    def drill(self, name: str, subject: str) -> None:
        self._drill(name, subject, self.watch_only.isChecked())

    def _drill(self, name: str, subject: str, watched: bool) -> None:
        self._runtime.ask(
            lambda now, ask_id: ev.Drill(
                time=now, ask_id=ask_id, guard=name, subject=subject, watch_only=watched
            )
        )

    def drill_news(self) -> None:
        if self.watch_only.isChecked():
            self.refused.emit(
                "Made-up news acts like real news and cannot only be watched. Drill "
                "a news guard instead"
            )
            return
        self._runtime.drill_news(self._runtime.watched)

    def _add_drill(self, drill: VenueDrill, place: int) -> None:
        button = QPushButton(drill.text)
        button.setToolTip(drill.tip)
        explain(button, "happening")
        button.clicked.connect(lambda _: drill.act())
        self._happenings.insertWidget(place, button)

    def _add_drills_of_venue(self) -> None:
        """Those of the venue, once it is known what it is; what ends the made-up news stays
        last."""
        if not self._has_drills:
            found = self._drills_there()
            self._has_drills = bool(found)
            for drill in found:
                self._add_drill(drill, self._happenings.count() - 1)

    def ask_reason(self, name: str, subject: str) -> None:
        """Show where the reason is typed."""
        self._latched = (name, subject)
        self.of.setText(
            f"Re-arm {name}{f' for {subject}' if subject else ''}; it starts counting "
            "again from now:"
        )
        self.reason.clear()
        self.bar.show()
        self.reason.setFocus()

    def _rearm(self, reason: str) -> None:
        name, subject = self._latched
        self._runtime.ask(
            lambda now, ask_id: ev.RearmGuard(
                time=now, ask_id=ask_id, guard=name, subject=subject, reason=reason
            )
        )
        self.bar.hide()

    def edit(self) -> None:
        self.editor.open()

    def edit_guard(self, name: str) -> None:
        """The form of one guard of the policy."""
        try:
            guard = self.editor.kept().named(name)
        except BadInput as error:
            self.refused.emit(error.sentence)
            return
        if guard is not None:
            self.forms.edit(guard)

    def add_guard(self, kind: type[Guard]) -> None:
        """The form of a new guard."""
        try:
            self.forms.add(kind, self.names(), self._runtime.watched)
        except BadInput as error:
            self.refused.emit(error.sentence)

    def splitters(self) -> dict[str, QSplitter]:
        return {"guards": self.panes, "guards, left": self.left}

    def remember(self) -> None:
        self.editor.remember()

    def actions(self) -> list[tuple[str, Callable[[], object]]]:
        """The policy's text, a guard to be changed, a kind to be added, and alerts."""
        try:
            names = self.names()
        except BadInput:  # it is told where the text is edited
            changes: list[tuple[str, Callable[[], object]]] = []
        else:
            changes = [(f"Guards: change {name}", partial(self.edit_guard, name)) for name in names]
            changes += [
                (f"Guards: add, {words}", partial(self.add_guard, kind)) for words, kind in kinds()
            ]
        text, alerts = "Guards: edit the policy as text", "Alerts: choose events and channels"
        return [(text, self.edit), *changes, (alerts, self.alerts.open)]

    def names(self) -> list[str]:
        """Of the guards of the policy; raises BadInput where its file is wrong."""
        return [guard.name for guard in self.editor.kept().guard]

    def _currency(self) -> str:
        return self.picture.currency if self.picture is not None else ""

    def _symbols(self) -> list[str]:
        """The instruments that a guard may watch."""
        return [symbol for symbol, _ in self.picture.days] if self.picture is not None else []

    def _sources(self) -> list[str]:
        """The sources that a guard may watch: a hand, and what other guards name."""
        named = {source for guard in self.editor.policy.guard for source in guard.sources}
        return [BY_HAND, *sorted(named - {BY_HAND})]

    def _told(self, name: str, made: AnyGuard | None) -> str:
        """What a change of one guard would mean; raises BadInput."""
        return told_change(self.editor.policy, self.editor.changed_policy(name, made))

    def _change_guard(self, name: str, made: AnyGuard | None) -> None:
        try:
            self.editor.change(name, made)
        except BadInput as error:
            self.forms.refuse(error.sentence)
            self.refused.emit(error.sentence)

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self._runtime.look_at_guards()
        self._timer.start()

    def hideEvent(self, event: QHideEvent | None) -> None:
        super().hideEvent(event)
        self._timer.stop()


def _panel(title: str, more: str) -> tuple[QFrame, QVBoxLayout]:
    panel = QFrame()
    panel.setObjectName("panel")
    box = QVBoxLayout(panel)
    box.setContentsMargins(1, 6, 1, 4)
    box.setSpacing(4)
    head = QHBoxLayout()
    head.setContentsMargins(11, 0, 12, 0)
    label = Label(title)
    label.setProperty("role", "title")
    head.addWidget(label)
    head.addStretch(1)
    if more:
        note = Label(more)
        note.setProperty("role", "second")
        head.addWidget(note)
    box.addLayout(head)
    return panel, box
