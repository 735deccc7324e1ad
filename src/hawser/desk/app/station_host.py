"""Holds the views of the stations. The Helm's is made with the window, each other when it is first
shown or in a quiet moment after the start."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Iterator

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QStackedWidget

from hawser.desk.app.curtain import Curtain, panels_of
from hawser.desk.app.stations import HELM, STATIONS, view_of
from hawser.desk.common.station import Desk, Station, StationAccount, StationView
from hawser.desk.common.timing import once


class StationHost(QStackedWidget):
    """The views of all accounts, by the station's name and the account's; a shared one has no
    account."""

    _loaded = pyqtSignal()

    def __init__(self, desk: Desk, accounts: dict[str, StationAccount], curtain: Curtain) -> None:
        super().__init__()
        self._desk, self._accounts, self._curtain = desk, accounts, curtain
        self._views: dict[tuple[str, str], StationView] = {}
        self._next = once(self, 0, self._make_next)
        self._loaded.connect(self._next.start)
        for name in accounts:
            self.view(HELM, name)  # the window and its accounts are shown by it

    def view(self, station: str, account: str) -> StationView:
        """The view of a station; made here where there is none yet."""
        one = next(one for one in STATIONS if one.name == station)
        key = (station, "" if one.shared else account)
        if key not in self._views:
            view = self._views[key] = view_of(one)(self._desk, self._accounts[account])
            self._restore(view)
            self.addWidget(view)
            # in an event of its own, which Qt delivers before it paints
            queued = Qt.ConnectionType.QueuedConnection
            view.changing.connect(self._draw_curtain, type=queued)  # type: ignore[call-arg]
        return self._views[key]

    def show_view(self, station: str, account: str) -> StationView:
        view = self.view(station, account)
        if view is not self.currentWidget():
            self.setCurrentWidget(view)
            self._draw_curtain()
        return view

    def _draw_curtain(self) -> None:
        """What is shown is painted piece by piece."""
        self._curtain.draw(panels_of(self.shown))

    @property
    def shown(self) -> StationView:
        view = self.currentWidget()
        assert isinstance(view, StationView)
        return view

    @property
    def station(self) -> str:
        """The name of the station that is shown."""
        return next(
            (name for (name, _), view in self._views.items() if view is self.currentWidget()), HELM
        )

    @property
    def made(self) -> list[StationView]:
        """The views that there are so far."""
        return list(self._views.values())

    # What nobody has asked for yet

    def load_rest(self) -> None:
        """Load the others' modules away from the window's thread, then make one view in each turn
        of the window."""
        threading.Thread(target=self._load, name="stations", daemon=True).start()

    def _load(self) -> None:
        for station in STATIONS:
            view_of(station)
        with contextlib.suppress(RuntimeError):  # the window is gone meanwhile
            self._loaded.emit()

    def _make_next(self) -> None:
        missing = [
            (one, name) for one, name in self._wanted() if (one.name, name) not in self._views
        ]
        if missing:
            station, name = missing[0]
            self.view(station.name, name or next(iter(self._accounts)))
            self._next.start()

    def _wanted(self) -> Iterator[tuple[Station, str]]:
        """Every station with each account that it has a view for; no account where it is shared."""
        for one in STATIONS:
            for name in ("",) if one.shared else self._accounts:
                yield one, name

    # Remembering

    def _restore(self, view: StationView) -> None:
        kept = self._desk.kept
        for name, splitter in view.splitters().items():
            if name in kept.splitters:
                splitter.setSizes(kept.splitters[name])
        for name, table in view.tables().items():
            for column, width in enumerate(kept.columns.get(name, [])):
                table.setColumnWidth(column, width)

    def remember(self, account: str) -> None:
        """Note the sizes of the views of one account, and what is typed in any."""
        kept = self._desk.kept
        for (_, owner), view in self._views.items():
            view.remember()
            if owner not in ("", account):
                continue
            for name, splitter in view.splitters().items():
                kept.splitters[name] = splitter.sizes()
            for name, table in view.tables().items():
                model = table.model()
                columns = range(model.columnCount() - 1) if model is not None else ()
                kept.columns[name] = [table.columnWidth(column) for column in columns]
