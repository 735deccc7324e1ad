"""Real windows on the demo world, driven with mouse and keyboard."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

if os.environ.get("QT_QPA_PLATFORM", "offscreen") == "offscreen":  # with a screen large enough for a desk
    os.environ["QT_QPA_PLATFORM"] = f"offscreen:configfile={Path(__file__).with_name('screens.json')}"

import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QWidget

from hawser.core.guards.news import UNREAD
from hawser.demo.boot import boot
from hawser.desk.app import application, make_window
from hawser.desk.window import Window
from hawser.engine import states
from hawser.service.profile import profile
from hawser.service.session import Session
from hawser.service.snapshot import Snapshot, TradeView


@pytest.fixture(scope="session")
def qapp() -> QApplication:
    return application()


class Trader:
    """A window and the hands that use it."""

    def __init__(self, window: Window, qtbot) -> None:  # type: ignore[no-untyped-def]
        self.window, self.qtbot = window, qtbot
        self.helm, self.plan, self.chart = window.helm, window.helm.plan, window.helm.chart
        self.scale = self.chart.scale

    @property
    def now(self) -> Snapshot:
        assert self.window.latest is not None
        return self.window.latest

    def until(self, condition: Callable[[Snapshot], object], seconds: float = 30) -> Snapshot:
        self.qtbot.waitUntil(
            lambda: self.window.latest is not None and bool(condition(self.now)), timeout=int(seconds * 1000)
        )
        return self.now

    def frames(self, count: int = 6) -> None:
        """Let some snapshots be shown; every part of the window has its turn within four."""
        start = self.window.snapshots
        self.qtbot.waitUntil(lambda: self.window.snapshots >= start + count, timeout=10_000)

    def stand_still(self) -> None:
        """Stop the venue's clock, and let every part of the window show that moment."""
        self.window.runtime.clock.set(running=False)
        self.frames(8)

    def choose(self, symbol: str) -> None:
        """Pick an instrument with the mouse."""
        table, model = self.helm.instruments.table, self.helm.instruments.model
        box = table.visualRect(model.index(model.row_of(symbol), 0))
        self.click(table.viewport(), box.center())
        self.until(lambda s: self.helm.symbol == symbol and self.chart._pyramid is not None)
        self.qtbot.waitUntil(lambda: self.chart._instrument is not None and self.chart._instrument.symbol == symbol)
        self.frames()

    def click(self, widget: QWidget, at: QPoint | None = None) -> None:
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, pos=at or widget.rect().center())

    def type(self, name: str, text: str) -> None:
        field = self.plan.field(name)
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, text) if text else QTest.keyClick(field, Qt.Key.Key_Delete)

    def key(
        self, widget: QWidget, key: Qt.Key, modifiers: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier
    ) -> None:
        QTest.keyClick(widget, key, modifiers)

    def place(self, **fields: str) -> TradeView:
        """Type a plan, place it with the keyboard, and wait until it is protected."""
        for name, text in fields.items():
            self.type(name, text)
        known = {trade.id for trade in self.now.trades}
        assert self.plan.button.isEnabled(), self.plan.trouble.text()
        self.key(self.window, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
        found = self.until(
            lambda s: any(
                t.id not in known and t.state == states.PROTECTED and t.symbol == self.helm.symbol for t in s.trades
            )
        )
        self.frames()
        return next(t for t in found.trades if t.id not in known)

    def trade(self, name: str) -> TradeView:
        found = self.now.trade(name)
        assert found is not None
        return found

    def drag_scale(self, start: int, end: int, drop: bool = True) -> None:
        """Drag the mark at level `start` of the R scale to level `end`, in ticks."""
        x = 14
        a, b = (QPoint(x, round(self.scale._y(level))) for level in (start, end))
        QTest.mousePress(self.scale, Qt.MouseButton.LeftButton, pos=a)
        for part in (0.25, 0.5, 0.75, 1.0):
            point = QPointF(a) + (QPointF(b) - QPointF(a)) * part
            QTest.mouseMove(self.scale, point.toPoint())
        if drop:
            QTest.mouseRelease(self.scale, Qt.MouseButton.LeftButton, pos=b)


@pytest.fixture(scope="session")
def morning(tmp_path_factory) -> Path:
    """A demo profile whose morning has been traded, once for all tests; each gets a copy."""
    root = tmp_path_factory.mktemp("morning")
    made = boot(profile("demo", root))
    session = Session(made.account, made.venue, made.ledger, prefix=made.prefix)
    assert made.prepare is not None
    made.prepare(session)
    session.close()
    made.venue.close()
    return root


def news_known(snapshot: Snapshot) -> bool:
    """Whether the calendars have been read, which takes a moment after a start."""
    return not any(closed.code == UNREAD for one in snapshot.instruments for closed in one.closed)


@pytest.fixture
def open_desk(qtbot, tmp_path, morning) -> Iterator[Callable[..., Trader]]:
    """Opens windows of the same profile, one after another."""
    opened: list[Window] = []
    shutil.copytree(morning, tmp_path, dirs_exist_ok=True)

    def start(speed: float = 10.0, running: bool = True, make=boot, name: str = "demo", **options) -> Trader:
        window = make_window(profile(name, tmp_path), make, "test", speed, running, zone="Europe/Zurich", **options)
        opened.append(window)
        window.show()
        window.runtime.start()
        trader = Trader(window, qtbot)
        trader.until(lambda s: s.link_up and not s.closed and window.helm.symbol and news_known(s), 60)
        qtbot.waitUntil(lambda: window.helm.chart.scale.focus is not None, timeout=20_000)
        trader.frames()
        return trader

    yield start
    for window in opened:
        window.close()
        window.deleteLater()
    QApplication.processEvents()


@pytest.fixture
def trader(open_desk) -> Trader:
    return open_desk()
