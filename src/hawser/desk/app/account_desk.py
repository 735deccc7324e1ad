"""One account on the desk: its runtime, the signals from it, and the stations that show it."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, cast

import msgspec

from hawser.core.account import Account
from hawser.core.errors import Refused
from hawser.core.fx import convert
from hawser.desk.app.stations import GUARDS, HELM, LOGBOOK
from hawser.desk.common.editor import Editor
from hawser.desk.common.station import StationAccount, StationView
from hawser.desk.helm.station import Helm
from hawser.desk.models import figures as fg
from hawser.desk.models.editing import account_consequence
from hawser.service.views.snapshot import Snapshot

if TYPE_CHECKING:  # loaded when it is first wanted
    from hawser.desk.guards.station import GuardStation
    from hawser.desk.logbook.station import Logbook


class AccountDesk:
    """Everything of one account; `name` tells it from the others."""

    def __init__(
        self, name: str, account: StationAccount, view: Callable[[str, str], StationView]
    ) -> None:
        """`view` gives the view of a station, by its name and the account's."""
        self.name, self._view = name, view
        self.runtime, self.bridge, self.shown = account
        self.latest: Snapshot | None = None
        self.editors: dict[str, Editor] = {}  # forms, by what they edit
        self._open: list[Editor] = []  # those to show again

    @property
    def helm(self) -> Helm:
        return cast(Helm, self._view(HELM, self.name))

    @property
    def logbook(self) -> Logbook:
        return cast("Logbook", self._view(LOGBOOK, self.name))

    @property
    def guards(self) -> GuardStation:
        return cast("GuardStation", self._view(GUARDS, self.name))

    def out_of_view(self) -> None:
        """Another account is shown: what is applied in a form must not be taken for a change of
        that one."""
        self._open = [editor for editor in self.editors.values() if not editor.isHidden()]
        for editor in self._open:
            editor.hide()

    def into_view(self) -> None:
        """This account is shown again, with its forms as they were left."""
        for editor in self._open:
            editor.show()
            editor.raise_()

    def account_consequence(self, made: msgspec.Struct) -> str:
        """What other settings of the account would mean, in words."""
        assert isinstance(made, Account)
        return account_consequence(self.latest, made) if self.latest is not None else ""

    @property
    def words(self) -> str:
        """The account in one line: equity, heat, and whether it is protected and may trade."""
        shot = self.latest
        if shot is None:
            return f"{self.name}: opening"
        share = shot.heat / shot.equity * 100 if shot.equity else 0.0
        closed = ", CLOSED" if shot.closed else ""
        if not shot.tended:
            return (
                f"{self.name}  NOT TENDED, last known: {fg.number(shot.equity, 2)} {shot.currency}"
            )
        state = (
            f"{shot.exposed} EXPOSED"
            if shot.exposed
            else ("foreign" if shot.unexplained else "protected")
        )
        money = f"{fg.number(shot.equity, 2)} {shot.currency}"
        return f"{self.name}  {money}  heat {fg.percent(share, 2)}  {state}{closed}"

    @property
    def alarming(self) -> bool:
        shot = self.latest
        return shot is not None and bool(shot.exposed or shot.unexplained or shot.closed)


def together(account_desks: list[AccountDesk]) -> str:
    """All accounts in sum, in the currency of the first; says which rate is missing where one
    is."""
    shots = [
        account_desk.latest for account_desk in account_desks if account_desk.latest is not None
    ]
    if len(shots) < len(account_desks) or not shots:
        return ""
    base = shots[0].currency
    rates = {
        pair: rate
        for shot in reversed(shots)
        if shot.account
        for pair, rate in shot.account.rates.items()
    }
    equity = heat = 0.0
    for shot in shots:
        try:
            fx = convert(shot.currency, base, rates)
        except Refused:
            return f"together: no rate from {shot.currency} to {base}"
        equity, heat = equity + fx * shot.equity, heat + fx * shot.heat
    share = heat / equity * 100 if equity else 0.0
    return f"together  {fg.number(equity, 2)} {base}  heat {fg.percent(share, 2)}"
