"""The main window: waterline, stations, notices, keys. It shows what the runtime tells and asks
what people ask."""

from __future__ import annotations

import base64
import contextlib
from collections.abc import Callable, Mapping
from functools import partial
from typing import TYPE_CHECKING, cast

from PyQt6.QtCore import QByteArray, QEvent, QObject, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QKeyEvent,
    QKeySequence,
    QShortcut,
    QWindow,
)
from PyQt6.QtWidgets import (
    QApplication,
    QGridLayout,
    QHBoxLayout,
    QMainWindow,
    QVBoxLayout,
    QWidget,
)

from hawser.core.account import Account
from hawser.core.bars import Bars
from hawser.core.errors import Unavailable
from hawser.core.instrument import Instrument
from hawser.core.rig import Rig
from hawser.desk.app.account_desk import AccountDesk, together
from hawser.desk.app.accounts_bar import AccountsBar
from hawser.desk.app.bars import FirstStepsBar, FootBar, HaltBar, NoticeBar
from hawser.desk.app.curtain import Curtain, panels_of
from hawser.desk.app.explainer import Explainer
from hawser.desk.app.finder import Action, Finder
from hawser.desk.app.rail import Rail
from hawser.desk.app.simulation import InView, Simulation
from hawser.desk.app.station_host import StationHost
from hawser.desk.app.stations import HELM, RIGS, SIGNALS, STATIONS, named
from hawser.desk.app.theming import Theming
from hawser.desk.app.waterline import Waterline
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.bridge import Bridge
from hawser.desk.common.dropping import dropped_files
from hawser.desk.common.editor import Editor
from hawser.desk.common.station import StationAccount, VenueDrill
from hawser.desk.common.timing import every
from hawser.desk.common.words import Label
from hawser.desk.helm.station import ALL_TURNS, Helm
from hawser.desk.models.editing import KEPT_BY_VENUE
from hawser.desk.models.helm import OtherAccount
from hawser.desk.models.pyramid import Pyramid
from hawser.desk.models.settings import Kept, Settings
from hawser.desk.models.topics.topic import Topic
from hawser.desk.theme.roles import give
from hawser.engine import events as ev
from hawser.engine.commands import Tell, Weight
from hawser.service import timed_io
from hawser.service.alerts.alert import Alert
from hawser.service.profiles.rigs import RigShelf
from hawser.service.profiles.sources import SourceShelf
from hawser.service.runtime.runtime import PolicyTold, Runtime
from hawser.service.views.snapshot import Snapshot

WANTED, LEAST = QSize(1280, 800), QSize(980, 620)
FRAME = QSize(8, 40)  # what a desktop's frame and title bar take, at most
REMEMBER_MS = 5000  # between two looks at what is to be remembered

if TYPE_CHECKING:  # loaded when it is first wanted
    from hawser.desk.app.doctor_panel import DoctorPanel
    from hawser.desk.app.heat_panel import HeatPanel
    from hawser.desk.logbook.station import Logbook
    from hawser.desk.rigs.station import Rigs
    from hawser.desk.signals.station import Signals
    from hawser.service.own_columns import OwnColumns


class Window(QMainWindow):
    """The desk of one account, or of several: the one that is shown is `account_desk`."""

    dropped = pyqtSignal(object)  # names of files

    def __init__(
        self,
        accounts: list[tuple[str, Runtime, Bridge]],
        appearance: Appearance,
        settings: Settings,
        title: str,
        speed: float,
        shelf: RigShelf,
        sources: SourceShelf,
    ) -> None:
        super().__init__()
        self.appearance, self._settings, self._at, self._leaving = appearance, settings, 0, False
        self.shelf, self.sources = shelf, sources
        known = {
            name: StationAccount(runtime, bridge, settings.kept.desk(name, not number))
            for number, (name, runtime, bridge) in enumerate(accounts)
        }
        self.accounts = tuple(known.values())
        self.curtain = Curtain(self)
        # before there is anything in the window: a style sheet lays out anew whatever there is
        self._theming = Theming(self, appearance, self.curtain, self._parts)
        self.stack = StationHost(self, known, self.curtain)
        self.account_desks = [
            AccountDesk(name, account, self.stack.view) for name, account in known.items()
        ]
        self.setWindowTitle(f"Hawser \u2013 {title}")
        self.setMinimumSize(LEAST)
        self.setAcceptDrops(True)
        screen = self.screen()
        self.resize(first_size(screen.availableSize()) if screen is not None else WANTED)
        self.first_steps = FirstStepsBar()
        self.waterline, self.halt_bar, self.notice = (
            Waterline(appearance),
            HaltBar(),
            NoticeBar(appearance),
        )
        self.simulation = Simulation(
            self, [account.runtime for account in self.accounts], speed, self._in_view
        )
        self.foot = FootBar(appearance, self.simulation.bar)
        self.accounts_bar = AccountsBar([account_desk.name for account_desk in self.account_desks])
        self.rail = Rail(appearance, STATIONS)
        self.banner = Label(
            "Opening \u2026 connecting to the venue; trades at the venue stay protected"
        )
        self.banner.setProperty("role", "second")
        self.banner.setContentsMargins(12, 4, 12, 4)
        self._lay_out()
        # what the finder offers (`commands.py`)
        self.commands: Callable[[], list[Action]] = list
        self.help_for: Callable[[str], list[Action]] = lambda words: []
        self._finder: Finder | None = None
        self._heat: HeatPanel | None = None
        self.help = Explainer(self, appearance)
        self._has_rigs = False
        self._doctor: DoctorPanel | None = None
        self.snapshots = 0
        self._failures: dict[str, str] = {}  # accounts that are not tended, and why
        self._opening = {account_desk.name for account_desk in self.account_desks}
        self._remembers = every(self, REMEMBER_MS, self._remember_meanwhile)
        self._connect()
        self._keys()
        self._restore()
        self._remembers.start()

    @property
    def account_desk(self) -> AccountDesk:
        return self.account_desks[self._at]

    @property
    def runtime(self) -> Runtime:
        return self.account_desk.runtime

    @property
    def helm(self) -> Helm:
        return self.account_desk.helm

    @property
    def logbook(self) -> Logbook:
        return self.account_desk.logbook

    @property
    def rigs(self) -> Rigs:
        return cast("Rigs", self.stack.view(RIGS, self.account_desk.name))

    @property
    def signals(self) -> Signals:
        return cast("Signals", self.stack.view(SIGNALS, self.account_desk.name))

    @property
    def finder(self) -> Finder:
        """Made when it is first wanted, as the other panels are."""
        if self._finder is None:
            self._finder = Finder(self, self._offered, self._help_for, self.appearance)
        return self._finder

    @property
    def heat(self) -> HeatPanel:
        if self._heat is None:
            from hawser.desk.app.heat_panel import HeatPanel

            self._heat = HeatPanel(self)
        return self._heat

    @property
    def kept(self) -> Kept:
        return self._settings.kept

    @property
    def editors(self) -> dict[str, Editor]:
        """The forms of the account that is shown."""
        return self.account_desk.editors

    @property
    def latest(self) -> Snapshot | None:
        return self.account_desk.latest

    def _offered(self) -> list[Action]:
        return self.commands()

    def _help_for(self, words: str) -> list[Action]:
        return self.help_for(words)

    def _lay_out(self) -> None:
        right = QWidget()
        right.setObjectName("ground")
        column = QVBoxLayout(right)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        for part in (
            self.waterline,
            self.accounts_bar,
            self.halt_bar,
            self.first_steps,
            self.banner,
        ):
            column.addWidget(part)
        column.addWidget(self.stack, 1)
        # A notice lies over the foot: nothing above may move under a pointer that drags a line.
        foot = QGridLayout()
        foot.addWidget(self.foot, 0, 0)
        foot.addWidget(self.notice, 0, 0)
        column.addLayout(foot)
        whole = QWidget()
        whole.setObjectName("ground")
        row = QHBoxLayout(whole)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addWidget(self.rail)
        row.addWidget(right, 1)
        self.setCentralWidget(whole)

    def _parts(self) -> list[QWidget]:
        """What the window is made of now."""
        bars = (self.waterline, self.accounts_bar, self.halt_bar, self.first_steps, self.banner)
        return [self.rail, *bars, *panels_of(self.stack.shown), self.foot, self.notice]

    def _connect(self) -> None:
        for account_desk in self.account_desks:
            self._connect_account(account_desk)
        self.accounts_bar.chosen.connect(self.show_account)
        if len(self.account_desks) > 1:
            self.waterline.hold.setText("Flatten & halt all")
        self.rail.chosen.connect(self.show_station)
        self.waterline.flatten.connect(self.flatten)
        self.waterline.heat_asked.connect(self.show_heat)
        self.halt_bar.rearm.connect(self.rearm)
        self.first_steps.over.connect(self._steps_over)
        self.foot.theme.connect(self.swap_theme)
        self.appearance.changed.connect(self._show_waterline)
        self._app().focusWindowChanged.connect(self._listen)
        self._app().applicationStateChanged.connect(self._let_go)

    def _connect_account(self, account_desk: AccountDesk) -> None:
        bridge, helm = account_desk.bridge, account_desk.helm
        bridge.snapshot.connect(lambda snapshot: self._take(account_desk, snapshot))
        bridge.told.connect(lambda tell: self._told(account_desk, tell))
        bridge.bars.connect(lambda *history: self._bars(account_desk, *history))
        bridge.bar.connect(lambda bar: self._bar(account_desk, bar))
        bridge.alert.connect(self._alert)
        bridge.ready.connect(lambda: self._opened(account_desk))
        bridge.ready.connect(self._show_venue)
        bridge.fault.connect(
            lambda text: self.notice.tell("caution", self._of(account_desk) + text)
        )
        bridge.failed.connect(lambda text: self._failed(account_desk, text))
        others = [other for other in self.account_desks if other is not account_desk]
        helm.share_with(
            [
                OtherAccount(other.name, partial(_latest_of, other), other.runtime)
                for other in others
            ]
        )

    def _of(self, account_desk: AccountDesk) -> str:
        """What begins a sentence about an account, where there are several."""
        return f"{account_desk.name}: " if len(self.account_desks) > 1 else ""

    def _keys(self) -> None:
        for keys, run in (
            ("Ctrl+K", self.show_finder),
            ("Ctrl+Return", self.place),
            ("Ctrl+Enter", self.place),
            ("Ctrl+Q", self.close),
            ("Ctrl+Shift+Q", self.simulation.show_panel),
        ):
            self._key(keys, run)
        for one in STATIONS:
            self._key(one.key, partial(self.show_station, one.name))
        for number in range(len(self.account_desks)):
            self._key(f"Ctrl+{number + 1}", partial(self.show_account, number))

    def _key(self, keys: str, run: Callable[[], object]) -> None:
        shortcut = QShortcut(QKeySequence(keys), self)
        shortcut.setAutoRepeat(False)  # a key that is held places one plan
        shortcut.activated.connect(run)

    def _alert(self, channel: str, alert: Alert) -> None:
        """A sound, or a notification of the desktop; the notice bar has it in any case."""
        from hawser.desk.common import notifying

        if channel == "sound":
            notifying.sound()
            return
        with contextlib.suppress(Unavailable):
            notifying.notify(
                f"Hawser, {alert.account}", alert.text, alert.weight in ("alarm", "fault")
            )

    def show_finder(self) -> None:
        self.finder.open()

    def show_heat(self) -> None:
        self.heat.open(self.latest)

    def edit_account(self) -> None:
        """The running account's settings; made when it is first asked for."""
        account_desk = self.account_desk
        if account_desk.latest is None or account_desk.latest.settings is None:
            return
        if "account" not in account_desk.editors:
            title = f"Account {account_desk.name}" if len(self.account_desks) > 1 else "Account"
            editor = Editor(
                parent=self,
                title=title,
                kind=Account,
                currency=account_desk.latest.currency,
                apply_text="Apply",
                fixed=KEPT_BY_VENUE,
                consequence=account_desk.account_consequence,
                kept=account_desk.shown.forms,
            )
            editor.applied.connect(
                lambda made: account_desk.runtime.ask(
                    lambda now, ask_id: ev.ChangeAccount(time=now, ask_id=ask_id, account=made)
                )
            )
            account_desk.editors["account"] = editor
        account_desk.editors["account"].open(account_desk.latest.settings, "account")

    def edit_instrument(self) -> None:
        """An instrument's file: starts from the one that is shown."""
        snapshot = self.latest
        view = snapshot.instrument(self.helm.symbol) if snapshot is not None else None
        if snapshot is None or view is None:
            return
        if "instrument" not in self.editors:
            note = (
                "The venue keeps its own. Export it, and open a history with: hawser --bars "
                "FILE --instrument FILE"
            )
            self.editors["instrument"] = Editor(
                self,
                "Instrument",
                Instrument,
                snapshot.currency,
                consequence=lambda made: note,
                kept=self.account_desk.shown.forms,
            )
        self.editors["instrument"].open(view.instrument, f"instrument {view.instrument.symbol}")

    # What the runtime tells

    def _take(self, account_desk: AccountDesk, snapshot: Snapshot) -> None:
        """A snapshot of one account: shown where it is the one in view."""
        self.take_rigs()  # before anything is reckoned with them
        before, account_desk.latest = account_desk.latest, snapshot
        if account_desk is self.account_desk:
            self.show_snapshot(snapshot, before)
        elif before is None or _alerting(before) != _alerting(snapshot) or not self.snapshots % 8:
            self._show_accounts()

    def _show_accounts(self) -> None:
        if len(self.account_desks) > 1:
            words = [account_desk.words for account_desk in self.account_desks]
            alarms = [account_desk.alarming for account_desk in self.account_desks]
            self.accounts_bar.show_accounts(words, alarms, self._at, together(self.account_desks))

    def show_account(self, number: int) -> None:
        """Another account comes into view; all of them go on being tended. A form stays with its
        account, and what the finder offers was about that one too."""
        if not 0 <= number < len(self.account_desks) or number == self._at:
            return
        station = self.station
        self.account_desk.out_of_view()
        if self._finder is not None:
            self._finder.hide()
        self.halt_bar.reason.clear()
        self._at = number
        self.account_desk.into_view()
        self.helm.plan.names.set_plans(self._settings.kept.plans)
        self.show_station(station)
        self._show_accounts()
        self._show_venue()
        if self.latest is not None:
            self.curtain.draw(self._parts())
            self.show_snapshot(self.latest, None)

    def show_snapshot(self, snapshot: Snapshot, before: Snapshot | None) -> None:
        """Parts take turns, so that no single frame paints the whole window; what matters is shown
        at once."""
        urgent = before is None or _alerting(before) != _alerting(snapshot)
        turn = ALL_TURNS if urgent else self.snapshots % 4
        if urgent and before is not None:
            self.curtain.open()  # what matters waits behind nothing
        self.snapshots += 1
        if turn in (3, ALL_TURNS):
            self._show_accounts()
        if turn in (1, ALL_TURNS):
            self.waterline.show_snapshot(snapshot)
            if self._heat is not None:
                self._heat.show_snapshot(snapshot)
            self.halt_bar.show_snapshot(snapshot)
            self.first_steps.show_snapshot(snapshot, self.helm.symbol)
            self.foot.show_snapshot(snapshot)
        self.helm.show_snapshot(snapshot, turn)
        if turn in (3, ALL_TURNS) and self.stack.shown.follows:
            self.stack.shown.show_snapshot(snapshot)

    def _bars(self, account_desk: AccountDesk, symbol: str, span: int, pyramid: Pyramid) -> None:
        """A history that an account's Helm asked for; it may come while rigs are looked at."""
        account_desk.helm.show_bars(symbol, span, pyramid)
        if account_desk is self.account_desk:
            self._show_history()

    def _bar(self, account_desk: AccountDesk, bar: ev.BarCompleted) -> None:
        """A bar of what an account's Helm shows completed: trials go on with it."""
        account_desk.helm.add_bar(bar)
        if account_desk is self.account_desk:
            self._show_history()

    def _told(self, account_desk: AccountDesk, tell: Tell) -> None:
        if tell.ask_id and tell.weight == "refused":
            account_desk.helm.model.refused(tell.ask_id)
        subject = f"{tell.symbol}: " if tell.symbol else ""
        self.notice.tell(tell.weight, self._of(account_desk) + subject + tell.text)

    def _opened(self, account_desk: AccountDesk) -> None:
        """One account is ready: what another could not do stays to be read."""
        self._opening.discard(account_desk.name)
        self.banner.setVisible(bool(self._failures or self._opening))

    def _failed(self, account_desk: AccountDesk, sentence: str) -> None:
        self._failures[account_desk.name] = self._of(account_desk) + sentence
        self._opening.discard(account_desk.name)
        self.banner.setText("\n".join(self._failures.values()))
        give(self.banner, "role", "caution")
        self.banner.setWordWrap(True)
        self.banner.show()
        if account_desk.latest is not None:
            self._take(account_desk, account_desk.latest.left_alone())

    def tell(self, weight: Weight, text: str) -> None:
        self.notice.tell(weight, text)

    def tell_fault(self, sentence: str) -> None:
        """An error on the window's own side."""
        self.tell("caution", f"{sentence}. Ctrl+K, doctor: what is wrong here")

    def offer_first_steps(self) -> None:
        """The steps to a first trade, where they were never done or left."""
        if not self.kept.first_steps_over:
            self.first_steps.begin()

    def _steps_over(self) -> None:
        self.kept.first_steps_over = True

    def show_help(self, page: Topic, about: QWidget) -> None:
        self.help.show(page, about)

    def show_doctor(self) -> None:
        """What a stranger who is to help would ask for."""
        if self._doctor is None:
            from hawser.desk.app.doctor_panel import DoctorPanel

            self._doctor = DoctorPanel(self)
        self._doctor.open_anew()

    # What people ask

    def show_station(self, name: str) -> None:
        view = self.stack.show_view(name, self.account_desk.name)
        self.rail.show_station(name)
        self._show_history()
        if view.follows and self.latest is not None:
            view.show_snapshot(self.latest)

    @property
    def station(self) -> str:
        """The name of the station that is shown."""
        return self.stack.station

    def _show_history(self) -> None:
        """What the Helm shows goes to the station that follows it."""
        shown, helm = self.stack.shown, self.helm
        if not shown.follows or self.latest is None:
            return
        view, bars = self.latest.instrument(helm.symbol), helm.chart.bars
        if view is not None and bars is not None and bars.time.size:
            shown.show_history(view.instrument, helm.span, bars)

    def take_rigs(self) -> None:
        """Have the rigs in the plans, once: to read them is left for after the first paint."""
        if self._has_rigs:
            return
        self._has_rigs = True
        if self.shelf.faults:
            self.notice.tell("caution", "; ".join(self.shelf.faults))
        self.rigs_changed()

    def policy(self, then: PolicyTold) -> None:
        self.runtime.policy(then)

    def bars_of_all(self, then: Callable[[Mapping[str, tuple[int, Bars]]], None]) -> None:
        self.runtime.bars_of_all(then)

    def columns_of(self, symbol: str) -> OwnColumns | None:
        return self.runtime.columns_of(symbol)

    def rigs_changed(self) -> None:
        for account_desk in self.account_desks:
            account_desk.helm.set_rigs(self.shelf.all)

    def plan_with(self, rig: Rig) -> None:
        self.show_station(HELM)
        self.helm.put_rig(rig)

    def flatten(self) -> None:
        """Every account: who reaches for this does not choose."""
        for account_desk in self.account_desks:
            account_desk.runtime.ask(
                lambda now, ask_id: ev.Halt(time=now, ask_id=ask_id, why="by hand")
            )

    def rearm(self, reason: str) -> None:
        self.runtime.ask(lambda now, ask_id: ev.Rearm(time=now, ask_id=ask_id, reason=reason))

    def place(self) -> None:
        """Place the plan that is seen: from another station it is shown first."""
        if self.station == HELM:
            self.helm.place()
        else:
            self.show_station(HELM)
            self.notice.tell(
                "refused", "Not placed yet: this is the plan. Press Ctrl+Enter again to place it"
            )

    def _show_venue(self) -> None:
        """What the venue of the account in view has."""
        self.simulation.show_account()
        self.foot.name_clock(self.simulation.clock_name)

    def _in_view(self) -> InView:
        view = self.latest.instrument(self.helm.symbol) if self.latest is not None else None
        return InView(self.runtime, self.helm.symbol, view.instrument if view is not None else None)

    def drills(self) -> list[VenueDrill]:
        return self.simulation.drills()

    def swap_theme(self) -> None:
        self.appearance.set_theme("night" if self.appearance.palette.name == "paper" else "paper")
        self._settings.kept.theme = self.appearance.palette.name

    def _show_waterline(self) -> None:
        """Its colours are in its words."""
        if self.latest is not None:
            self.waterline.show_snapshot(self.latest)

    # The held chord

    def _app(self) -> QApplication:
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        return app

    def _listen(self, window: QWindow | None) -> None:
        """Hear the keys of every window of ours that people type in, dialogs too, before any widget
        does. Not the application's own events: thousands that are no keys would come by Python at
        each change of theme."""
        if window is not None:
            window.installEventFilter(self)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Ctrl+Shift+End, held anywhere in the application, is the Flatten & halt button held."""
        if (
            isinstance(event, QKeyEvent)
            and event.key() == Qt.Key.Key_End
            and not event.isAutoRepeat()
        ):
            both = Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier
            if event.type() == QEvent.Type.KeyPress and event.modifiers() & both == both:
                self.waterline.hold.press()
                return True
            if event.type() == QEvent.Type.KeyRelease:
                self.waterline.hold.release()
        return False

    def _let_go(self, state: Qt.ApplicationState) -> None:
        """Keys are let go where nobody here hears it, once another application has them."""
        if state != Qt.ApplicationState.ApplicationActive:
            self.waterline.hold.release()

    # Remembering

    def _restore(self) -> None:
        kept = self._settings.kept
        if kept.geometry:
            self.restoreGeometry(QByteArray(base64.b64decode(kept.geometry)))
        self.show_station(named(kept.station))

    def remember(self) -> None:
        """Note sizes, choices, what is typed and what is kept by name, and have it written: a crash
        would lose it."""
        kept = self._settings.kept
        kept.geometry = base64.b64encode(self.saveGeometry().data()).decode()
        kept.station = self.station
        self.stack.remember(self.account_desk.name)
        self._settings.save()

    def _remember_meanwhile(self) -> None:
        if self.isVisible() and self.latest is not None:
            self.remember()

    def leave(self) -> None:
        """Close, on a signal; one that comes while it closes changes nothing."""
        if not self._leaving:
            self.close()

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        if event is not None and dropped_files(event):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """A file of bars is offered to be read, in a window of its own."""
        if event is not None:
            self.dropped.emit([str(path) for path in dropped_files(event)])

    def closeEvent(self, event: QCloseEvent | None) -> None:
        self._leaving = True
        self._remembers.stop()
        for view in self.stack.made:
            view.leave()
        self.remember()
        self._settings.save(timed_io.ENDING / 5)
        self._app().focusWindowChanged.disconnect(self._listen)
        self._app().applicationStateChanged.disconnect(self._let_go)
        for account_desk in self.account_desks:
            account_desk.runtime.stop()
            account_desk.bridge.end()
        super().closeEvent(event)


def first_size(free: QSize) -> QSize:
    """The window's size where none is remembered: what is wanted, or what fits the desktop's free
    area with a title bar, so that the foot is never cut off."""
    return WANTED.boundedTo(free - FRAME).expandedTo(LEAST)


def _alerting(snapshot: Snapshot) -> tuple[object, ...]:
    """What must not wait for its turn: protection, halt, link, trades that come and go."""
    trades = tuple((trade.id, trade.state) for trade in snapshot.trades)
    return snapshot.exposed, snapshot.closed, snapshot.link_up, snapshot.faults, trades


def _latest_of(account_desk: AccountDesk) -> Snapshot | None:
    return account_desk.latest
