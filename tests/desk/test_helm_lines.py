"""Lines over the Helm's bars, and a source laid on them: chosen by mouse and keys, kept, gone on
with as bars come."""

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from hawser.core.sources.evaluation import evaluated
from hawser.core.sources.lines.averages import Ema, Sma
from hawser.core.sources.lines.ranges import Rsi
from hawser.core.sources.view import BarsSeen
from hawser.desk.models.lines_draft import EMPTY, LinesDraft
from hawser.service.runtime import opening_history
from madeup import ROOT

KEY = Qt.Key


@pytest.fixture
def opened(trader):
    """The panel, opened by its key; where what is drawn has been worked out."""
    chart = trader.window.helm.chart
    chart.plot.setFocus()
    QTest.keyClick(chart.plot, KEY.Key_L)
    panel = trader.window.helm.lines.panel
    assert panel.isVisible() and panel.form.parts["lines"].add_button.hasFocus()
    return panel


def choose(field, word):
    field.setFocus()
    while field.currentText() != word:
        down = field.findText(word) > field.currentIndex()
        QTest.keyClick(field, KEY.Key_Down if down else KEY.Key_Up)


def write(field, text):
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)


def add(panel, trader, kind, length):
    """One more line, by mouse and keys."""
    part = panel.form.parts["lines"]
    trader.click(part.add_button)
    row = part.shown - 1
    choose(panel.form.field("lines", row, "a"), kind)
    write(panel.form.field("lines", row, "a.length"), str(length))


def names(chart):
    strips = [one for strip in chart.over.strips.shown for one in strip.curves.curves]
    return [one.name for one in (*chart.over.legend.curves, *strips)]


def test_lines_are_drawn_named_and_read_at_the_pointer(opened, trader):
    chart = trader.window.helm.chart
    add(opened, trader, "simple average", 20)
    add(opened, trader, "RSI", 9)
    wanted = ["simple average of 20 closes", "RSI of 9 bars"]
    trader.qtbot.waitUntil(lambda: names(chart) == wanted)
    bars = chart.bars
    assert np.array_equal(
        chart.over.legend.curves[0].values, Sma(length=20).values(bars), equal_nan=True
    )
    strip = chart.over.strips.shown[0]
    assert strip.isVisible()
    assert np.array_equal(strip.curves.curves[0].values, Rsi(length=9).values(bars), equal_nan=True)
    QTest.keyClick(opened, KEY.Key_Escape)
    assert not opened.isVisible()
    bar = bars.time.size - 30
    QTest.mouseMove(chart.plot, QPoint(round(chart.view.x(bar)), 200))
    value = Sma(length=20).values(bars)[bar]
    assert f"{value:.{chart.instrument.price_digits}f}" in chart.over.legend.accessibleDescription()
    assert names(chart) == wanted


def test_they_go_on_with_each_bar_and_each_instrument_has_its_own(opened, trader):
    chart, first = trader.window.helm.chart, trader.window.helm.symbol
    add(opened, trader, "exponential average", 12)
    trader.qtbot.waitUntil(lambda: names(chart) == ["exponential average of 12 closes"])
    size = chart.bars.time.size
    trader.window.runtime.pace(speed=600.0)
    trader.qtbot.waitUntil(
        lambda: chart.over.legend.curves and chart.over.legend.curves[0].size > size, timeout=30_000
    )
    trader.window.runtime.pace(speed=1.0)
    curve = chart.over.legend.curves[0]
    assert np.array_equal(
        curve.values, Ema(length=12).values(chart.bars)[: curve.size], equal_nan=True
    )
    other = "NZD/SEK" if first != "NZD/SEK" else "CAD/CHF"
    trader.choose(other)
    trader.qtbot.waitUntil(lambda: names(chart) == [])
    assert opened.form.draft.texts == EMPTY and other in opened._title.text()
    trader.choose(first)
    trader.qtbot.waitUntil(lambda: names(chart) == ["exponential average of 12 closes"])


def test_a_source_is_laid_on_the_bars(opened, trader):
    chart = trader.window.helm.chart
    choose(opened.form.field("source", 0, "source"), "Ebb and flow")
    trader.qtbot.waitUntil(lambda: bool(chart.over.said._signal.any()))
    source = trader.window.sources.all["Ebb and flow"]
    said = evaluated(source, BarsSeen(chart.bars), chart.span)
    assert np.array_equal(chart.over.said._signal, said.signal[: chart.over.said._signal.size])
    assert "the entries and exits of Ebb and flow" in opened.form.words.text()
    choose(opened.form.field("source", 0, "source"), "Told by another")
    told = "Told by another: The bars have no column weft"
    trader.qtbot.waitUntil(lambda: opened._wrong.text().startswith(told))
    choose(opened.form.field("source", 0, "source"), "none")
    trader.qtbot.waitUntil(lambda: not chart.over.said._signal.any())


def test_what_is_wrong_is_told_and_the_lines_stay(opened, trader):
    chart = trader.window.helm.chart
    add(opened, trader, "simple average", 20)
    trader.qtbot.waitUntil(lambda: names(chart) == ["simple average of 20 closes"])
    write(opened.form.field("lines", 0, "a.length"), "0")
    assert "at least 1" in opened.form.parts["lines"].problems[0].text()
    assert names(chart) == ["simple average of 20 closes"]
    choose(opened.form.field("lines", 0, "a"), "close")
    assert "another instrument" in opened.form.parts["lines"].problems[0].text()
    row = opened.form.parts["lines"]._rows[0]
    trader.click(row._folds[0].more)
    write(row.fields["a.instrument"], "Harbour 4")
    trader.qtbot.waitUntil(lambda: "the nearest is Harbour 40" in opened._wrong.text())
    write(row.fields["a.instrument"], "Harbour 40")
    trader.qtbot.waitUntil(lambda: names(chart) == ["close of Harbour 40"])


def test_they_are_there_after_a_restart(open_desk):
    first = open_desk()
    first.window.helm.choose_lines()
    panel = first.window.helm.lines.panel
    add(panel, first, "highest high", 30)
    choose(panel.form.field("source", 0, "source"), "Weathercock")
    chart = first.window.helm.chart
    first.qtbot.waitUntil(lambda: names(chart) == ["highest high of 30 bars"])
    first.window.close()
    again = open_desk()
    chart = again.window.helm.chart
    again.qtbot.waitUntil(lambda: names(chart) == ["highest high of 30 bars"])
    again.qtbot.waitUntil(lambda: bool(chart.over.said._signal.any()))


def test_at_most_six_can_be_drawn():
    draft = LinesDraft(EMPTY)
    assert [draft.add("lines") for _ in range(7)] == [True] * 6 + [False]
    assert draft.made is not None and len(draft.made) == 6
    draft.remove("lines", 2)
    assert draft.add("lines")
    while draft.undo():
        pass
    assert draft.texts == EMPTY


def test_lines_that_do_not_fit_are_left_out():
    """The settings may be of before, or damaged: the Helm was not shown any more."""
    one = {"a": "sma", "a.length": "20"}
    for texts in ({}, EMPTY | {"weft": []}, EMPTY | {"lines": [{"a": "weft"}]}, {"lines": [one]}):
        draft = LinesDraft(EMPTY)
        assert not draft.take(texts) and draft.texts == EMPTY
    good = LinesDraft(EMPTY)
    good.add("lines")
    again = LinesDraft(EMPTY)
    assert again.take(good.texts) and again.made == good.made


def test_volume_is_drawn_where_the_bar_file_tells_it(open_desk, tmp_path):
    examples = ROOT / "examples"
    head, *rows = (examples / "quillan-ferry-5m.csv").read_text().splitlines()
    told = [f"{row},{100 + k}" for k, row in enumerate(rows)]
    (tmp_path / "ferry.csv").write_text("\n".join([f"{head},volume", *told]))
    inputs = opening_history.Inputs(
        tmp_path / "ferry.csv", examples / "quillan-ferry.toml", examples / "account.toml"
    )
    trader = open_desk(make=lambda where: opening_history.boot(inputs, where), name="own")
    chart = trader.window.helm.chart
    chart.plot.setFocus()
    QTest.keyClick(chart.plot, KEY.Key_L)
    panel = trader.window.helm.lines.panel
    trader.click(panel.form.parts["lines"].add_button)
    choose(panel.form.field("lines", 0, "a"), "volume")
    trader.qtbot.waitUntil(lambda: names(chart) == ["volume"])
    assert panel.form.said() == "Drawn: volume."
    (curve,) = chart.over.strips.shown[0].curves.curves
    # a bar of the Helm is three of the file's
    assert curve.values[:3].tolist() == [100 + 101 + 102, 103 + 104 + 105, 106 + 107 + 108]


def test_where_nothing_tells_volume_the_other_lines_are_drawn(opened, trader):
    chart = trader.window.helm.chart
    add(opened, trader, "simple average", 20)
    trader.click(opened.form.parts["lines"].add_button)
    choose(opened.form.field("lines", 1, "a"), "volume")
    trader.qtbot.waitUntil(lambda: "There is no volume here" in opened._wrong.text())
    assert names(chart) == ["simple average of 20 closes"]
