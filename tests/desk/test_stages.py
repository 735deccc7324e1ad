"""A station is painted part by part, and nothing of it stays unpainted whatever comes between."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QPaintEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QSplitter, QWidget

from hawser.desk.app.stages import Stages, parts_of


class Part(QWidget):
    """Notes the turn of the window in which it is painted."""

    def __init__(self, seen: list[str], name: str) -> None:
        super().__init__()
        self._seen, self._name = seen, name

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        self._seen.append(self._name)


def station(qtbot, seen: list[str]) -> QWidget:
    view, inner = QSplitter(Qt.Orientation.Vertical), QSplitter()
    for name in "ab":
        inner.addWidget(Part(seen, name))
    view.addWidget(inner)
    view.addWidget(Part(seen, "c"))
    whole = QWidget()
    view.setParent(whole)
    qtbot.addWidget(whole)
    whole.resize(300, 200)
    view.resize(300, 200)
    return whole


def test_each_part_is_painted_in_a_turn_of_its_own_and_once(qtbot):
    seen: list[str] = []
    whole = station(qtbot, seen)
    stages = Stages(whole)
    stages.begin(whole)
    assert not any(part.updatesEnabled() for part in parts_of(whole))
    whole.show()
    painted = []
    while not all(part.updatesEnabled() for part in parts_of(whole)):
        before = len(seen)
        QApplication.processEvents()
        painted.append(len(seen) - before)
    assert sorted(seen) == ["a", "b", "c"]
    assert max(painted) == 1


def test_a_part_that_still_waits_when_another_station_is_shown_is_not_forgotten(qtbot):
    seen: list[str] = []
    first, second = station(qtbot, seen), station(qtbot, seen)
    stages = Stages(first)
    for view in (first, second):
        stages.begin(view)
    assert all(part.updatesEnabled() for part in parts_of(first))
    stages.finish()
    assert all(part.updatesEnabled() for part in parts_of(second))


def test_every_station_is_whole_after_its_key(trader):
    for number in (2, 3, 5, 1):
        QTest.keyClick(
            trader.window, getattr(Qt.Key, f"Key_{number}"), Qt.KeyboardModifier.AltModifier
        )
        shown = trader.window.stack.shown
        trader.qtbot.waitUntil(lambda shown=shown: all(p.updatesEnabled() for p in parts_of(shown)))
        assert parts_of(shown) or number == 5
