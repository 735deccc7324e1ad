"""A hand that does anything at all at the Signals station and at the Helm's lines: what is typed
stands in its field, what is kept can be read back, and what is drawn is what the source says."""

import random

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QComboBox

from hawser.core.sources.evaluation import evaluated
from hawser.core.sources.view import BarsSeen
from hawser.formats.sources import load_source

KEY, CTRL = Qt.Key, Qt.KeyboardModifier.ControlModifier
TEXTS = ("", "0", "1", "3", "14", "2.5", "-1", "x", "1h", "7x", "Harbour 40", "Harbour", "09:30")
TEXTS += (
    "Europe/Zurich",
    "mon, tue",
    "a = 1",
    "a = [",
    "1e9",
    "999999999999",
    "\u00e9\u2212",
    "close",
)
STEPS = 70


class Hand:
    """Knows what can be done."""

    def __init__(self, trader, draw):
        self.trader, self.draw = trader, draw
        self.station = trader.window.signals

    def field(self):
        form = self.station.editor
        fields = [one for part in form.parts.values() for one in part.fields.values()]
        fields = [one for one in fields if one.isVisible()]
        if not fields or not form.isEnabled():
            return
        field = self.draw.choice(fields)
        field.setFocus()
        if isinstance(field, QComboBox):
            for _ in range(self.draw.randint(1, 4)):
                QTest.keyClick(field, self.draw.choice([KEY.Key_Up, KEY.Key_Down]))
                if not field.isVisible():  # another kind has other blanks
                    break
        else:
            typed = self.draw.choice(TEXTS)
            field.selectAll()
            if typed.isascii():
                QTest.keyClicks(field, typed)
            else:  # which has no key of its own
                field.insert(typed)
                field.textEdited.emit(field.text())

    def button(self):
        form = self.station.editor
        found = [row for part in form.parts.values() for row in part._rows]
        buttons = [fold.more for row in found for fold in row._folds if fold.more.isVisible()]
        buttons += [part.add_button for part in form.parts.values() if part.add_button.isVisible()]
        if buttons and form.isEnabled():
            self.trader.click(self.draw.choice(buttons))

    def less(self):
        draft = self.station.draft
        if draft is not None:
            part = self.draw.choice(["enter", "only", "leave"])
            if draft.texts[part]:
                self.station.editor._removed(part, self.draw.randrange(len(draft.texts[part])))

    def undo(self):
        shift = self.draw.choice([CTRL, CTRL | Qt.KeyboardModifier.ShiftModifier])
        QTest.keyClick(self.station.editor, KEY.Key_Z, shift)

    def shelf(self):
        act = self.draw.choice(
            [self.station.new, self.station.duplicate, self.station.delete, self.station.undo]
        )
        act()

    def pick(self):
        if self.station.list.count():
            self.station.list.setCurrentRow(self.draw.randrange(self.station.list.count()))

    def beside(self):
        self.station.beside.setCurrentIndex(self.draw.randrange(self.station.beside.count()))

    def chart(self):
        plot = self.station.chart.plot
        keys = [KEY.Key_N, KEY.Key_P, KEY.Key_Left, KEY.Key_Plus, KEY.Key_Minus, KEY.Key_Home]
        QTest.keyClick(plot, self.draw.choice([*keys, KEY.Key_End, KEY.Key_Right]))
        QTest.mouseMove(plot, QPoint(self.draw.randrange(5, 400), self.draw.randrange(5, 100)))

    def away(self):
        window = self.trader.window
        window.show_station("Helm")
        if self.draw.random() < 0.5:
            symbols = [view.instrument.symbol for view in window.latest.instruments]
            window.helm.choose_instrument(self.draw.choice(symbols))
        window.show_station("Signals")

    def lines(self):
        window = self.trader.window
        lines = window.helm.lines
        lines.open()
        form = lines.panel.form
        if self.draw.random() < 0.6:
            self.trader.click(form.parts["lines"].add_button)
        rows = len(form.draft.texts["lines"])
        if rows:
            row = self.draw.randrange(rows)
            key = self.draw.choice(list(form.draft.texts["lines"][row]))
            field = form.parts["lines"]._rows[row].fields.get(key)
            if isinstance(field, QComboBox):
                field.setCurrentIndex(self.draw.randrange(field.count()))
            elif field is not None:
                field.setText(self.draw.choice(TEXTS))
                field.textEdited.emit(field.text())
        lines.panel.hide()

    def theme(self):
        self.trader.window.appearance.set_theme(self.draw.choice(["paper", "night"]))

    def step(self):
        acts = [self.field] * 6 + [self.button] * 2 + [self.less, self.undo, self.shelf]
        acts += [self.pick] * 2 + [self.beside, self.chart, self.away, self.lines, self.theme]
        self.draw.choice(acts)()


def holds(station):
    """What must be so, whatever was done."""
    draft = station.draft
    if draft is None:
        assert not station.shelf.all
        return
    for key, part in station.editor.parts.items():
        assert part.shown == len(draft.texts[key])
        for number, row in enumerate(part._rows):
            for name, field in row.fields.items():
                text = field.currentData() if isinstance(field, QComboBox) else field.text()
                assert text == draft.texts[key][number][name], (key, number, name)
                if part.section.most > 1:
                    assert field.accessibleName().startswith(f"{part.section.title} {number + 1}:")
    for name, one in station.shelf.all.items():
        path = station.shelf.path(name)
        assert path is not None and load_source(path) == one


@pytest.mark.parametrize("seed", range(3))
def test_whatever_a_hand_does_at_the_sources(trader, seed):
    trader.window.show_station("Signals")
    station = trader.window.signals
    trader.qtbot.waitUntil(lambda: station._whole is not None)
    hand = Hand(trader, random.Random(seed))
    for _ in range(STEPS):
        hand.step()
        trader.frames(1)
        holds(station)
    trader.window.show_station("Signals")
    station.list.setCurrentRow(0)
    if station.shelf.all:
        trader.qtbot.waitUntil(
            lambda: not station._soon.isActive() and station._whole is not None, timeout=90_000
        )
        look, over = station._look, station._ground
        if look is not None and not look.source.own_python():
            said = evaluated(
                look.source, BarsSeen(over.bars, over.others, spans=over.spans), over.span
            )
            assert np.array_equal(look.said.signal, said.signal)
            assert np.array_equal(
                station.chart.over.said._signal,
                said.signal[said.signal.size - station.chart.size :],
            )
    station.write_down()
    holds(station)
