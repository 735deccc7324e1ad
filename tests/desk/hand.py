"""A random hand at a desk of several accounts: it clicks, types, drags and switches as nobody
should, and watches what the desk asks of whom.

What it found worth watching stands in `Hand.broken`: an ask that goes to an account that is not in
view, one that nobody made, words on the screen that are not what there is, text that somebody typed
and that is gone.
"""

from __future__ import annotations

import contextlib
import random
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QEvent, QPoint, QRect, Qt, QTimer
from PyQt6.QtGui import QKeyEvent, QKeySequence
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSlider,
    QApplication,
    QComboBox,
    QFileDialog,
    QLabel,
    QLineEdit,
    QMenu,
    QPlainTextEdit,
    QSplitterHandle,
    QTabBar,
    QWidget,
)

from hawser.core.clock import SECOND
from hawser.desk.app.quay_panel import GUSTS
from hawser.desk.app.stations import STATIONS
from hawser.desk.chart.rscale import RScale
from hawser.desk.chart.surface import Surface
from hawser.engine import events as ev

TEXTS = (
    "0.5",
    "1.2 %",
    "3 atr",
    "swing 20",
    "-5",
    "1e9",
    "0",
    "",
    "nan",
    "\u0664\u0665",
    "9" * 60,
    "market",
    "straddle 1 atr",
    "<b>x</b>",
    "2 r 50%, 4 r rest",
    "500 chf",
    "\u202e5",
    "at 1.5",
    "limit 1.0",
    "session end",
    "Breakwater",
    ";",
    "=1+1",
)
KEYS = (
    Qt.Key.Key_Tab,
    Qt.Key.Key_Backtab,
    Qt.Key.Key_Return,
    Qt.Key.Key_Escape,
    Qt.Key.Key_Space,
    Qt.Key.Key_Up,
    Qt.Key.Key_Down,
    Qt.Key.Key_Left,
    Qt.Key.Key_Right,
    Qt.Key.Key_PageUp,
    Qt.Key.Key_Home,
    Qt.Key.Key_End,
    Qt.Key.Key_Delete,
    Qt.Key.Key_Backspace,
    Qt.Key.Key_M,
    Qt.Key.Key_F1,
    Qt.Key.Key_F2,
    Qt.Key.Key_Menu,
)
CHORDS = (
    "Ctrl+K",
    "Ctrl+Return",
    "Ctrl+1",
    "Ctrl+2",
    "Ctrl+Shift+Q",
    "Alt+1",
    "Alt+2",
    "Alt+3",
    "Alt+4",
    "Alt+6",
    "Ctrl+A",
    "Ctrl+Z",
    "Alt+Left",
)
HANDLED = (
    QAbstractButton,
    QLineEdit,
    QComboBox,
    QAbstractItemView,
    QTabBar,
    QPlainTextEdit,
    QAbstractSlider,
    Surface,
    RScale,
    QSplitterHandle,
)
FOR_ALL = (ev.Halt,)  # goes to every account, as its button says
NONE, CONTROL = Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ControlModifier


@dataclass
class Asked:
    """What was asked of one account, and which was in view then."""

    account: str
    in_view: str
    event: Any


@dataclass
class Hand:
    """`trader` has the desk."""

    trader: Any
    seed: int
    asked: list[Asked] = field(default_factory=list)
    broken: list[str] = field(default_factory=list)
    did: list[str] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.random, self.window = random.Random(self.seed), self.trader.window
        for account_desk in self.window.account_desks:
            account_desk.runtime.ask = self._listening(account_desk.name, account_desk.runtime.ask)
            account_desk.runtime.change_guards = self._listening_to_guards(
                account_desk.name, account_desk.runtime.change_guards
            )

    def _note(self, account: str, event: Any) -> None:
        one = Asked(account, self.window.account_desk.name, event)
        self.asked.append(one)
        self.did.append(f"    asks {account}: {event}")

    def _listening(self, name: str, ask: Callable[..., str]) -> Callable[..., str]:
        def listen(make: Callable[[int, str], Any]) -> str:
            self._note(name, make(1, "x"))
            return ask(make)

        return listen

    def _listening_to_guards(self, name: str, change: Callable[..., str]) -> Callable[..., str]:
        def listen(guards: Any) -> str:
            self._note(name, guards)
            return change(guards)

        return listen

    # What it does

    def act(self) -> None:
        acts = (
            (self._click, 10),
            (self._type, 4),
            (self._press, 3),
            (self._chord, 2),
            (self._drag, 2),
            (self._menu, 1.5),
            (self._account, 1.5),
            (self._finder, 1),
            (self._turn, 0.5),
            (self._station, 1),
            (self._wait, 3),
            (self._weather, 0.7),
        )
        act = self.random.choices([one for one, _ in acts], [weight for _, weight in acts])[0]
        with self._answering():
            act()
            QApplication.processEvents()

    def _widgets(self) -> list[QWidget]:
        """What a hand can reach now: what a modal window covers it cannot."""
        top = QApplication.activePopupWidget() or QApplication.activeModalWidget()
        found = [
            one
            for one in QApplication.allWidgets()
            if isinstance(one, HANDLED)
            and one.isVisible()
            and one.isEnabled()
            and not one.visibleRegion().isEmpty()
        ]
        if top is not None:
            found = [one for one in found if one.window() is top or top.isAncestorOf(one)]
        return sorted(
            found,
            key=lambda one: (
                type(one).__name__,
                one.objectName(),
                one.mapToGlobal(QPoint()).y(),
                one.mapToGlobal(QPoint()).x(),
            ),
        )

    def _one(self, *kinds: type) -> QWidget | None:
        found = [one for one in self._widgets() if not kinds or isinstance(one, kinds)]
        by_kind: dict[str, list[QWidget]] = {}
        for one in found:
            by_kind.setdefault(type(one).__name__, []).append(one)
        if not by_kind:
            return None
        return self.random.choice(by_kind[self.random.choice(sorted(by_kind))])

    def _spot(self, widget: QWidget) -> QPoint:
        box: QRect = widget.visibleRegion().boundingRect()
        if box.isEmpty():
            return widget.rect().center()
        return QPoint(
            self.random.randint(box.left(), box.right()),
            self.random.randint(box.top(), box.bottom()),
        )

    def _name(self, widget: QWidget) -> str:
        words = widget.text() if isinstance(widget, (QAbstractButton, QLineEdit)) else ""
        return f"{type(widget).__name__} {widget.objectName() or widget.accessibleName()} {words}"

    def _click(self) -> None:
        widget = self._one()
        if widget is None or self._leaves(widget):
            return
        target = (
            widget.viewport() if isinstance(widget, (QAbstractItemView, QPlainTextEdit)) else widget
        )
        button = self.random.choices(
            (Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton), (9, 1)
        )[0]
        times = self.random.choice((1, 1, 1, 2))
        self.did.append(f"click {times} {self._name(widget)}")
        spot = self._spot(target)
        for _ in range(times):
            QTest.mouseClick(target, button, self.random.choice((NONE, NONE, NONE, CONTROL)), spot)
            self._popups()
            if not target.isVisible():
                break

    @staticmethod
    def _leaves(widget: QWidget) -> bool:
        return isinstance(widget, QAbstractButton) and "quit" in widget.text().lower()

    def _popups(self) -> None:
        """An open menu or list: something in it, or nothing."""
        popup = QApplication.activePopupWidget()
        if isinstance(popup, QMenu):
            entries = [
                one for one in popup.actions() if one.isEnabled() and one.isVisible() and one.text()
            ]
            if entries and self.random.random() < 0.8:
                entry = self.random.choice(entries)
                self.did.append(f"  takes {entry.text()}")
                if entry.menu() is not None:
                    inner = [one for one in entry.menu().actions() if one.isEnabled()]
                    if inner:
                        inner[0].trigger()
                    popup.close()
                else:
                    QTest.mouseClick(
                        popup, Qt.MouseButton.LeftButton, NONE, popup.actionGeometry(entry).center()
                    )
            else:
                popup.close()
        elif popup is not None:
            QTest.keyClick(
                popup, self.random.choice((Qt.Key.Key_Down, Qt.Key.Key_Escape, Qt.Key.Key_Return))
            )

    def _type(self) -> None:
        widget = self._one(QLineEdit, QPlainTextEdit)
        if widget is None or (isinstance(widget, QLineEdit) and widget.isReadOnly()):
            return
        widget.setFocus()
        text = self.random.choice(TEXTS)
        self.did.append(f"types {text!r} into {self._name(widget)}")
        if self.random.random() < 0.7:
            widget.selectAll()
        for letter in text:  # as they come from a keyboard that has them
            QApplication.sendEvent(widget, QKeyEvent(QEvent.Type.KeyPress, 0, NONE, letter))
        if self.random.random() < 0.5:
            QTest.keyClick(
                widget, self.random.choice((Qt.Key.Key_Return, Qt.Key.Key_Tab, Qt.Key.Key_Escape))
            )

    def _where(self) -> QWidget:
        return QApplication.activePopupWidget() or QApplication.focusWidget() or self.window

    def _press(self) -> None:
        key = self.random.choice(KEYS)
        where = self._where()
        self.did.append(f"presses {key.name} at {self._name(where)}")
        QTest.keyClick(
            where, key, self.random.choice((NONE, NONE, Qt.KeyboardModifier.ShiftModifier))
        )
        self._popups()

    def _chord(self) -> None:
        chord = self.random.choice(CHORDS)
        self.did.append(f"chord {chord}")
        QTest.keySequence(self._where(), QKeySequence(chord))

    def _drag(self) -> None:
        widget = self._one(RScale, Surface, QSplitterHandle, QAbstractSlider)
        if widget is None:
            return
        self.did.append(f"drags {self._name(widget)}")
        spot = self._spot(widget)
        if isinstance(widget, RScale) and widget.focus is not None and self.random.random() < 0.8:
            spot = QPoint(
                14, round(widget._y(self.random.choice((widget.focus.stop, widget.focus.ref))))
            )
        if isinstance(widget, Surface) and widget.grips and self.random.random() < 0.8:
            spot = QPoint(60, round(self.random.choice(widget.grips).y(widget.view)))
        QTest.mousePress(widget, Qt.MouseButton.LeftButton, NONE, spot)
        for _ in range(3):
            if not widget.isVisible():
                return
            QTest.mouseMove(widget, self._spot(widget))
            if self.random.random() < 0.2:
                QApplication.processEvents()
        if self.random.random() < 0.9:
            QTest.mouseRelease(widget, Qt.MouseButton.LeftButton, NONE, self._spot(widget))
        else:
            QTest.keyClick(widget, Qt.Key.Key_Escape)

    def _account(self) -> None:
        number = self.random.randrange(len(self.window.account_desks))
        self.did.append(f"account {number}")
        before = self._plan()
        QTest.keySequence(self.window, QKeySequence(f"Ctrl+{number + 1}"))
        QTest.keySequence(self.window, QKeySequence(f"Ctrl+{2 - number}"))
        QTest.keySequence(self.window, QKeySequence(f"Ctrl+{number + 1}"))
        after = self._plan()
        if before[0] == after[0] and before != after:
            self.broken.append(f"typed and gone: {before} is {after}")

    def _plan(self) -> tuple[str, str, dict[str, str]]:
        """What stands in the plan of the account that is shown."""
        plan = self.window.helm.plan
        fields = {
            name: plan.field(name).text()
            for name in ("risk", "stop", "trail", "entry", "target1", "share1")
        }
        return self.window.account_desk.name, self.window.helm.symbol, fields

    def _menu(self) -> None:
        rows = list(self.window.helm.strips.rows.values())
        rows = [row for row in rows if row.isVisible()]
        if rows:
            self.did.append("menu of a trade")
            row = self.random.choice(rows)
            QTest.mouseClick(row, Qt.MouseButton.RightButton, NONE, row.rect().center())
            self._popups()

    def _finder(self) -> None:
        """Whatever the finder offers, but to quit."""
        if QApplication.activeModalWidget() is not None:
            return
        actions = [one for one in self.window.commands() if "Quit" not in one.text]
        action = self.random.choice(actions)
        self.did.append(f"finds {action.text}")
        action.run()

    def _station(self) -> None:
        if QApplication.activeModalWidget() is None:
            name = self.random.choice(STATIONS).name
            self.did.append(f"station {name}")
            self.window.show_station(name)

    def _weather(self) -> None:
        """Something happens at the venue meanwhile."""
        kind, text, _, length = self.random.choice(GUSTS)
        self.did.append(f"weather: {text}")
        if self.random.random() < 0.2:
            self.window.simulation.stray(self.random.choice((1, -1)))
        else:
            self.window.simulation.gust(kind, length * SECOND)

    def _turn(self) -> None:
        self.did.append("resizes")
        self.window.resize(self.random.randint(980, 1400), self.random.randint(620, 900))

    def _wait(self) -> None:
        """Nothing is asked while nobody does anything."""
        before = len(self.asked)
        self.trader.frames(self.random.choice((1, 4, 12)))
        if len(self.asked) > before:
            self.broken.append(f"asked by nobody: {self.asked[before:]}")

    @contextlib.contextmanager
    def _answering(self) -> Iterator[None]:
        """A window that waits for an answer gets one."""
        before = len(self.asked)
        timer = QTimer()
        timer.setInterval(5)
        timer.timeout.connect(self._answer)
        timer.start()
        yield
        timer.stop()
        for one in self.asked[before:]:
            if (
                one.account != one.in_view
                and not isinstance(one.event, FOR_ALL)
                and not self._shared(one)
            ):
                self.broken.append(
                    f"asked of {one.account} while {one.in_view} was shown: {one.event}"
                )
            if not self._known(one):
                self.broken.append(f"asked of {one.account}, which has no such trade: {one.event}")

    def _known(self, one: Asked) -> bool:
        """Whether an ask is about something that its account has."""
        account_desk = next(
            account_desk
            for account_desk in self.window.account_desks
            if account_desk.name == one.account
        )
        shown = (
            {trade.id for trade in account_desk.latest.trades}
            if account_desk.latest is not None
            else set()
        )
        trades = {getattr(one.event, "trade", ""), *getattr(one.event, "trades", ())} - {""}
        return trades <= shown

    def _shared(self, one: Asked) -> bool:
        """A plan goes to the accounts that are marked beside it too."""
        places = isinstance(one.event, (ev.PlaceTrade, ev.PlaceStraddle))
        return places and one.account in self.window.helm.plan.also.wanted()

    def _answer(self) -> None:
        box = QApplication.activeModalWidget()
        if box is None:
            return
        buttons = [
            one for one in box.findChildren(QAbstractButton) if one.isVisible() and one.isEnabled()
        ]
        if self.random.random() < 0.2 or not buttons:
            QTest.keyClick(box, Qt.Key.Key_Escape)
        else:
            button = self.random.choice(buttons)
            self.did.append(f"  answers {button.text()}")
            QTest.mouseClick(button, Qt.MouseButton.LeftButton)

    # What it looks at

    def look(self) -> None:
        """What stands on the screen is what a window that is shown the present once more would
        say."""
        for account_desk in self.window.account_desks:
            account_desk.runtime.clock.set(running=False)
        self.trader.frames(12)
        before = self._texts()
        latest = self.window.latest
        self.window.show_snapshot(latest, None)
        after = self._texts()
        if self.window.latest is latest:
            changed = [
                (name, before.get(name), after[name])
                for name in after
                if after[name] != before.get(name)
            ]
            if changed:
                self.broken.append(f"shown late: {changed[:5]}")
        for account_desk in self.window.account_desks:
            if account_desk.runtime.faults.count:
                self.broken.append(
                    f"{account_desk.name}: {account_desk.runtime.faults.count} faults"
                )

    def _texts(self) -> dict[str, str]:
        found: dict[str, str] = {}
        for one in self.window.findChildren(QWidget):
            if isinstance(one, (QLabel, QAbstractButton)) and one.isVisible() and one.text():
                found[f"{type(one).__name__} {id(one)} in {type(one.parent()).__name__}"] = (
                    one.text()
                )
        return found


def files_in(folder: Path, draw: random.Random, patch: Any) -> None:
    """File dialogs answer with something of this folder, or with nothing."""
    names = ("one.toml", "two.toml", "three.csv", "no such folder/four.toml", "")
    patch.setattr(
        QFileDialog, "getSaveFileName", lambda *_, **__: (_path(folder, draw.choice(names)), "")
    )
    patch.setattr(
        QFileDialog, "getOpenFileName", lambda *_, **__: (_path(folder, draw.choice(names)), "")
    )


def _path(folder: Path, name: str) -> str:
    return str(folder / name) if name else ""
