"""A venue is what `venue/port.py` asks for, and nothing else: here is one that no other file knows.
It has no weather to set and no clock to pace, so the window offers neither.
"""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QPushButton

from hawser.core.bars import Bars
from hawser.core.instrument import Instrument
from hawser.demo.boot import boot
from hawser.desk.app.stations import GUARDS
from hawser.service.profiles.profile import Profile
from hawser.service.runtime.hooks import Boot
from hawser.venue import port


class Wharf:
    """Another venue, which trades as the demo's does."""

    def __init__(self, inner: port.Connection) -> None:
        self._inner, self.closed = inner, False
        self.instruments: dict[str, Instrument] = inner.instruments
        self.base_span = inner.base_span

    @property
    def now(self) -> int:
        return self._inner.now

    def history(self, symbol: str) -> Bars:
        return self._inner.history(symbol)

    def send(self, request: port.Request, at: int) -> None:
        self._inner.send(request, at)

    def next_message(self, until: int) -> port.VenueMessage | None:
        return self._inner.next_message(until)

    def close(self) -> None:
        self.closed = True
        self._inner.close()


def test_a_trade_is_placed_and_protected_at_a_venue_that_only_the_port_describes(open_desk):
    made: list[Wharf] = []

    def boot_wharf(profile: Profile) -> Boot:
        booted = boot(profile)
        made.append(Wharf(booted.venue))
        return booted._replace(venue=made[0], simulation=None)

    trader = open_desk(make=boot_wharf)
    window = trader.window
    trader.choose("NZD/SEK")
    assert trader.place(risk="0.3 %", stop="3 atr").covered
    assert not window.simulation.bar.isVisible()
    assert window.foot.clock.accessibleName() == "Venue clock"
    QTest.keyClick(
        window,
        Qt.Key.Key_Q,
        Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier,
    )
    assert not window.simulation.panel.isVisible()
    assert not any(action.text.startswith("Quay") for action in window.commands())
    window.show_station(GUARDS)
    trader.qtbot.waitUntil(lambda: window.account_desk.guards.picture is not None)
    texts = [button.text() for button in window.account_desk.guards.findChildren(QPushButton)]
    assert "News in 10 s" in texts
    assert not any("Spread" in text or "Silent" in text for text in texts)
    window.close()
    trader.qtbot.waitUntil(lambda: made[0].closed)
