"""How long an event holds the Qt thread as a trader goes through every station of the demo:
processor time of that thread from the event's delivery to its end, painting included. Nothing
should take more than 8 ms.

Of each thing the trader does the longest event counts, and of several rounds the median: one
round's longest is as often the machine's doing as ours. The reference is plain work in the same
process: 2,000 texts laid out by Qt.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtCore import QEvent, QObject, QPoint, QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLineEdit, QListWidget, QWidget

from figures import line, median, percentile, ratio
from hawser.demo.boot import boot
from hawser.desk.app.shots import settle
from hawser.desk.app.start import make_window
from hawser.desk.app.stations import STATIONS
from hawser.desk.app.window import Window
from hawser.desk.signals.station import Signals
from hawser.desk.theme.fonts import font, load_fonts
from hawser.service.profiles.profile import profile

ALT, KEY, LEFT = Qt.KeyboardModifier.AltModifier, Qt.Key, Qt.MouseButton.LeftButton
SIZE, ROUNDS, WANTED_MS = (1280, 800), 5, 8.0


class Watched(QApplication):
    """Notes how long each event took that no other event called for."""

    act, _depth = "", 0  # before Qt's own first events come

    def __init__(self) -> None:
        # of each act in each round, its events
        self.found: dict[str, list[list[tuple[float, str]]]] = {}
        super().__init__(["hawser"])
        self.setStyle("Fusion")
        load_fonts()
        self.setFont(font(12))

    def notify(self, receiver: QObject | None, event: QEvent | None) -> bool:
        if self._depth or not self.act:
            return super().notify(receiver, event)
        self._depth += 1
        name, kind = type(receiver).__name__, event.type().name if event is not None else ""
        begun = time.thread_time()
        try:
            return super().notify(receiver, event)
        finally:
            self._depth -= 1
            self.found[self.act][-1].append((time.thread_time() - begun, f"{kind} to {name}"))


def acts(window: Window) -> list[tuple[str, Callable[[], Any]]]:
    """What the trader does, in order."""
    helm, rigs, signals = window.helm, window.rigs, window.signals
    keys = {one.name: one.key.rpartition("+")[2] for one in STATIONS}

    def to(station: str) -> Callable[[], None]:
        return lambda: QTest.keyClick(window, getattr(KEY, f"Key_{keys[station]}"), ALT)

    def instrument(row: int) -> Callable[[], None]:
        table = helm.instruments.table
        return lambda: click(
            table.viewport(), table.visualRect(table.model().index(row, 0)).center()
        )

    def picked(of: QListWidget, row: int) -> Callable[[], None]:
        return lambda: click(of.viewport(), of.visualItemRect(of.item(row)).center())

    def chart(key: Qt.Key) -> Callable[[], None]:
        return lambda: QTest.keyClick(helm.chart.plot, key)

    def typed() -> None:
        field = helm.plan.field("stop")
        field.selectAll()
        QTest.keyClicks(field, "2.2 atr")

    def blank(form: QWidget, text: str) -> Callable[[], None]:
        def act() -> None:
            field = next(one for one in form.findChildren(QLineEdit) if one.isVisible())
            field.selectAll()
            QTest.keyClicks(field, text)

        return act

    def pointed(station: Signals) -> Callable[[], None]:
        plot = station.chart.plot
        return lambda: QTest.mouseMove(plot, QPoint(150, 60) + QPoint(window.snapshots % 90, 0))

    return [
        ("the market moves", lambda: None),
        ("another instrument", instrument(2)),
        ("and back", instrument(0)),
        ("another timeframe", lambda: click(list(helm.chart.span_buttons.values())[1])),
        ("zoom", chart(KEY.Key_Minus)),
        ("pan", chart(KEY.Key_Left)),
        ("a stop is typed", typed),
        ("the other side", lambda: click(helm.plan.short)),
        ("the first side", lambda: click(helm.plan.long)),
        ("to the signals", to("Signals")),
        ("a source", picked(signals.list, 2)),
        ("another source", picked(signals.list, 6)),
        ("a source's figure", blank(signals.editor, "13")),
        ("a bar is pointed at", pointed(signals)),
        ("to the rigs", to("Rigs")),
        ("a rig", picked(rigs.list, 1)),
        ("another rig", picked(rigs.list, 4)),
        ("a rig's figure", blank(rigs.editor, "3.1")),
        ("to the guards", to("Guards")),
        ("to the logbook", to("Logbook")),
        ("to the helm", to("Helm")),
        ("the other theme", lambda: click(window.foot.themes)),
    ]


def click(widget: QWidget, at: Any = None) -> None:
    QTest.mouseClick(widget, LEFT, pos=at or widget.rect().center())


def toured(app: Watched, folder: Path) -> None:
    """Go round."""
    window = make_window(profile("demo", folder), boot, "demo", theme="paper")
    window.resize(*SIZE)
    window.show()
    window.runtime.start()
    settle(
        window,
        lambda: (
            window.latest is not None and window.latest.link_up and window.helm.plan.planning.sizing
        ),
    )
    for number in range(ROUNDS + 1):
        for name, act in acts(window):
            if number:  # the first time round, what is imported late is imported
                app.found.setdefault(name, []).append([])
                app.act = name
            act()
            settle(window, lambda: not window.curtain.drawn)
    app.act = ""
    window.close()


def reference() -> float:
    """Seconds to lay out 2,000 lines of text."""
    from PyQt6.QtGui import QTextLayout

    def laid() -> float:
        begun = time.thread_time()
        for number in range(2_000):
            layout = QTextLayout(f"stop 0.6{number:04} 1.00 R", font(12))
            layout.beginLayout()
            layout.createLine().setPosition(QPointF(0, 0))
            layout.endLayout()
        return time.thread_time() - begun

    return median([laid() for _ in range(5)])


def main() -> int:
    app = Watched()
    with tempfile.TemporaryDirectory() as name:
        toured(app, Path(name))
    print("The longest event on the Qt thread, by what the trader does")
    longest = {}
    for act, rounds in app.found.items():
        each = sorted(max(events) for events in rounds)
        longest[act], what = each[len(each) // 2]
        line(act, longest[act] * 1e3, f"ms  {what}")
    every = [seconds for rounds in app.found.values() for events in rounds for seconds, _ in events]
    over = sum(seconds * 1e3 > WANTED_MS for seconds in every)
    line("of all events over 8 ms", over, f"of {len(every)}")
    line("99.9th percentile", percentile(every, 0.999) * 1e3, "ms")
    kept = ratio("the longest, to 2,000 texts laid out", max(longest.values()), reference(), 0.5)
    return 0 if kept else 1


if __name__ == "__main__":
    sys.exit(main())
