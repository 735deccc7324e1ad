"""What changes in the window is painted piece by piece, each in a turn of its own, and nothing
stays unpainted whatever comes between."""

from __future__ import annotations

import msgspec
from PyQt6.QtCore import QRect, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QSplitter, QWidget

from hawser.desk.app.curtain import PIECE, Curtain, panels_of, pieces
from hawser.desk.common.station import StationView
from hawser.desk.theme.palette import THEMES

ALT = Qt.KeyboardModifier.AltModifier


class Part(QWidget):
    """Notes the turn of the window in which it is painted, in its own colour."""

    def __init__(self, seen: list[str], name: str) -> None:
        super().__init__()
        self._seen, self._name = seen, name
        self.tone = "#102030"

    def paintEvent(self, event: QPaintEvent | None) -> None:
        self._seen.append(self._name)
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(self.tone))
        painter.end()


class View(StationView):
    """Three parts in two splitters."""

    def __init__(self, seen: list[str]) -> None:
        super().__init__()
        self.whole, self.inner = QSplitter(Qt.Orientation.Vertical, self), QSplitter()
        self.parts = [Part(seen, name) for name in "abc"]
        for part in self.parts[:2]:
            self.inner.addWidget(part)
        self.whole.addWidget(self.inner)
        self.whole.addWidget(self.parts[2])
        self.resize(300, 200)
        self.whole.resize(300, 200)

    def splitters(self) -> dict[str, QSplitter]:
        return {"whole": self.whole, "inner": self.inner}


def shown(qtbot, seen: list[str]) -> View:
    view = View(seen)
    qtbot.addWidget(view)
    view.show()
    QApplication.processEvents()
    seen.clear()
    return view


def test_each_part_is_painted_in_a_turn_of_its_own_and_once(qtbot):
    seen: list[str] = []
    view = shown(qtbot, seen)
    curtain = Curtain(view)
    curtain.draw(panels_of(view))
    for part in view.parts:
        part.update()
    painted = []
    while curtain.drawn:
        before = len(seen)
        QApplication.processEvents()
        painted.append(len(seen) - before)
    assert sorted(seen) == ["a", "b", "c"]
    assert max(painted) == 1


def test_work_comes_before_anything_is_shown_and_a_turn_at_a_time(qtbot):
    seen: list[str] = []
    view = shown(qtbot, seen)
    curtain = Curtain(view)

    def work():
        for number in range(3):
            seen.append(str(number))
            yield number

    curtain.draw_whole(panels_of(view), work())
    view.update()
    turns = 0
    while curtain.drawn:
        QApplication.processEvents()
        turns += 1
    assert seen[:3] == ["0", "1", "2"]
    assert {"a", "b", "c"} <= set(seen[3:])
    assert turns >= 7  # three of work, the ground, three parts


def test_what_still_waits_when_the_curtain_is_drawn_again_is_shown_and_done(qtbot):
    seen: list[str] = []
    view, done = shown(qtbot, seen), []
    curtain = Curtain(view)
    curtain.draw_whole([view.parts[0]], (done.append(number) or number for number in range(4)))
    curtain.draw([view.parts[2]])
    assert done == [0, 1, 2, 3]
    assert sum(isinstance(one, Part) for one in view.findChildren(QWidget)) == 3
    qtbot.waitUntil(lambda: not curtain.drawn)
    QApplication.processEvents()
    seen.clear()
    for part in view.parts:
        part.update()
    QApplication.processEvents()
    assert sorted(seen) == ["a", "b", "c"]  # nothing lies before any of them


def test_pieces_cover_a_part_and_none_is_large():
    for box in (QRect(3, 5, 1200, 700), QRect(0, 0, 40, 9), QRect(7, 7, 333, 1000)):
        found = pieces(box)
        assert sum(one.width() * one.height() for one in found) == box.width() * box.height()
        assert all(one.height() == 1 or one.width() * one.height() <= PIECE * 1.02 for one in found)
        assert found[0].topLeft() == box.topLeft()
        assert found[-1].bottomRight() == box.bottomRight()


def test_every_station_is_whole_after_its_key(trader):
    for number in (2, 3, 5, 1):
        QTest.keyClick(trader.window, getattr(Qt.Key, f"Key_{number}"), ALT)
        trader.qtbot.waitUntil(lambda: not trader.window.curtain.drawn)
        assert panels_of(trader.window.stack.shown)


def test_another_theme_reaches_every_part_and_comes_back(trader):
    """Also what no station shows just now, and an alarm that comes meanwhile."""
    window = trader.window
    for number in (2, 3, 5, 1):
        QTest.keyClick(window, getattr(Qt.Key, f"Key_{number}"), ALT)

    def colours() -> list[str]:
        trader.qtbot.waitUntil(lambda: not window.curtain.drawn)
        found = []
        for number in (1, 2, 3, 5):
            QTest.keyClick(window, getattr(Qt.Key, f"Key_{number}"), ALT)
            trader.qtbot.waitUntil(lambda: not window.curtain.drawn)
            image = window.grab().toImage()
            found += [image.pixelColor(x, 795).name() for x in (2, 640)]
            found += [image.pixelColor(640, y).name() for y in (60, 570)]
        return found

    first = colours()
    trader.click(window.foot.themes)
    window.notice.tell("alarm", "while the theme changes")
    other = colours()
    assert window.notice.isVisible()
    name = window.appearance.palette.name
    assert THEMES[name].ground in {one.upper() for one in other}
    assert not set(first) & set(other)
    window.notice.read.click()
    trader.click(window.foot.themes)
    trader.click(window.foot.themes)  # before the first is through
    trader.click(window.foot.themes)
    assert colours() == first


def test_what_matters_waits_behind_no_curtain(trader):
    """A link that is cut is seen at once, whatever is being shown piece by piece."""
    window = trader.window
    window.curtain.draw(window._parts())
    assert window.curtain.drawn
    latest = window.latest
    window.show_snapshot(msgspec.structs.replace(latest, link_up=not latest.link_up), latest)
    assert not window.curtain.drawn
    assert "LINK DOWN" in window.foot.link.text()
    window.curtain.draw(window._parts())
    window.show_snapshot(latest, latest)
    assert window.curtain.drawn  # nothing has happened
