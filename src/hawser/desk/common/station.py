"""What a station is to the window: its place in the rail, and a view that is made when it is first
wanted."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple, Protocol

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QSplitter, QTableView, QWidget

from hawser.core.bars import Bars
from hawser.core.instrument import Instrument
from hawser.core.rig import Rig
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.bridge import Bridge
from hawser.desk.models.settings import Kept, Shown
from hawser.desk.models.topics.topic import Topic
from hawser.engine.commands import Weight
from hawser.service.profiles.rigs import RigShelf
from hawser.service.profiles.sources import SourceShelf
from hawser.service.runtime.runtime import PolicyTold, Runtime
from hawser.service.views.snapshot import Snapshot

if TYPE_CHECKING:
    from hawser.service.own_columns import OwnColumns


class Station(NamedTuple):
    """Declared as `STATION` in the `__init__` of its own folder, where the window finds it. `view`
    names the function that makes its view, as module:function, so that nothing of it is loaded
    before it is wanted.

    `shared`: one view serves all accounts.
    """

    name: str
    icon: str
    key: str
    view: str
    shared: bool = False


class StationAccount(NamedTuple):
    """An account, as a station knows it: what it may ask, what it hears, and what was shown of it
    last."""

    runtime: Runtime
    bridge: Bridge
    shown: Shown


class VenueDrill(NamedTuple):
    """Something that is made to happen: what the button says, its help, and what it does."""

    text: str
    tip: str
    act: Callable[[], None]


class Desk(Protocol):
    """What a station may ask of the window."""

    @property
    def appearance(self) -> Appearance: ...

    @property
    def kept(self) -> Kept: ...

    @property
    def shelf(self) -> RigShelf: ...

    @property
    def sources(self) -> SourceShelf: ...

    @property
    def accounts(self) -> Sequence[StationAccount]: ...

    def tell(self, weight: Weight, text: str) -> None:
        """Show a sentence in the notice bar."""

    def policy(self, then: PolicyTold) -> None:
        """Have told, from another thread, the guards of the account in view, with their news and
        the bars that their regimes look at."""

    def bars_of_all(self, then: Callable[[Mapping[str, tuple[int, Bars]]], None]) -> None:
        """Have told, from another thread, the shortest bars of every instrument of the account in
        view, with their length, ns."""

    def columns_of(self, symbol: str) -> OwnColumns | None:
        """The further columns of an instrument whose market a file plays."""

    def rigs_changed(self) -> None:
        """A rig of the shelf is another now."""

    def plan_with(self, rig: Rig) -> None:
        """Go to the Helm, and put this rig into the plan or on the trade that is chosen there."""

    def show_help(self, page: Topic, about: QWidget) -> None:
        """Open the help at this page; `about`: what it explains, which stays in sight."""

    def drills(self) -> list[VenueDrill]:
        """What can be made to happen at the venue, to try guards; none where it is no simulated
        one."""


class StationView(QWidget):
    """A station as it is looked at; each overrides what it needs."""

    follows = False  # whether it is told of snapshots and of the Helm's history while it is shown
    changing = pyqtSignal()  # most of what it shows is about to be drawn anew

    def show_snapshot(self, snapshot: Snapshot) -> None:
        """The newest snapshot of the account in view."""

    def show_history(self, instrument: Instrument, span: int, bars: Bars) -> None:
        """What the Helm shows: bars of `span` ns."""

    def actions(self) -> list[tuple[str, Callable[[], object]]]:
        """What the command finder offers of it: the text, and what is done once the station is
        shown."""
        return []

    def splitters(self) -> dict[str, QSplitter]:
        """Whose sizes are remembered, by name."""
        return {}

    def tables(self) -> dict[str, QTableView]:
        """Whose column widths are remembered, by name."""
        return {}

    def remember(self) -> None:
        """Note what is typed and not applied."""

    def leave(self) -> None:
        """The window closes: nothing that is typed may be lost."""


View = Callable[[Desk, StationAccount], StationView]
