"""What the bridge makes for the window on a thread of its own."""

from __future__ import annotations

from hawser.core.bars import Bars
from hawser.desk.common.bridge import Bridge


def test_bars_that_cannot_be_prepared_are_told_and_the_next_ones_come(qtbot):
    bridge, told, shown = Bridge(), [], []
    bridge.fault.connect(told.append)
    bridge.bars.connect(lambda symbol, *_: shown.append(symbol))
    hooks = bridge.hooks()
    hooks.bars("broken", 60, None)
    hooks.bars("whole", 60, Bars.empty())
    qtbot.waitUntil(lambda: shown == ["whole"] and len(told) == 1)
    assert told[0].startswith("The bars of the chart could not be prepared")
    bridge.end()
    hooks.bars("late", 60, Bars.empty())  # the window is gone: nothing comes of it
    assert shown == ["whole"]


class Hearer:
    def __init__(self) -> None:
        self.heard: list[object] = []

    def add(self, lines) -> None:
        self.heard += lines

    def add_earlier(self, lines, more) -> None:
        self.heard.append((tuple(lines), more))


def test_who_shows_the_record_late_hears_all_of_it_in_order(qtbot):
    bridge, hearer = Bridge(), Hearer()
    hooks = bridge.hooks()
    hooks.lines(["first", "second"])
    hooks.earlier([], True)
    qtbot.waitUntil(lambda: len(bridge._unheard) == 2)
    hooks.lines(["told, not yet delivered"])
    bridge.tell_record(hearer)
    hooks.lines(["last"])
    qtbot.waitUntil(lambda: "last" in hearer.heard)
    assert hearer.heard == ["first", "second", ((), True), "told, not yet delivered", "last"]
