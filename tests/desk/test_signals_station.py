"""The Signals station as its user drives it: mouse, keys, files, what is wrong, what is kept."""

from datetime import UTC

import msgspec
import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QComboBox

from hawser.core.bars import joined
from hawser.core.clock import HOUR, MINUTE
from hawser.core.errors import BadInput
from hawser.core.instrument import Instrument
from hawser.core.sources.conditions.told import Column
from hawser.core.sources.evaluation import evaluated
from hawser.core.sources.lines.averages import Ema
from hawser.core.sources.view import BarsSeen
from hawser.desk.models.source_look import rows_of
from hawser.formats.declared import load
from hawser.formats.history_file import read_history
from hawser.formats.sources import load_source, read_source, save_source
from hawser.service.own_columns import OwnColumns
from hawser.service.runtime import opening_history
from madeup import ROOT

KEY, CTRL = Qt.Key, Qt.KeyboardModifier.ControlModifier
SHIFT = Qt.KeyboardModifier.ShiftModifier


@pytest.fixture
def signals(trader):
    """The station, with the demo's history under it."""
    QTest.keyClick(trader.window, KEY.Key_2, Qt.KeyboardModifier.AltModifier)
    station = trader.window.signals
    assert station.isVisible()
    trader.qtbot.waitUntil(lambda: station._whole is not None)
    return station


def pick(signals, trader, name):
    rows = range(signals.list.count())
    role = Qt.ItemDataRole.UserRole
    row = next(i for i in rows if signals.list.item(i).data(role) == name)
    box = signals.list.visualItemRect(signals.list.item(row))
    QTest.mouseClick(signals.list.viewport(), Qt.MouseButton.LeftButton, pos=box.center())
    assert signals.name == name
    whole(signals, trader)


def whole(signals, trader):
    """Wait for what is evaluated over all bars."""
    trader.qtbot.waitUntil(
        lambda: not signals._soon.isActive() and signals._whole is not None, timeout=60_000
    )


def write(field, text):
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)


def choose(field: QComboBox, word: str) -> None:
    """By keys, as a person does."""
    field.setFocus()
    assert field.findText(word) >= 0
    while field.currentText() != word:
        down = field.findText(word) > field.currentIndex()
        QTest.keyClick(field, KEY.Key_Down if down else KEY.Key_Up)


# What it does on the bars


def test_a_source_that_ships_is_seen_on_the_bars_and_says_why(signals, trader):
    pick(signals, trader, "Ebb and flow")
    assert "Enters long where the exponential average of 12 closes" in signals.editor.words.text()
    source, over = signals.shelf.all["Ebb and flow"], signals._ground
    said = evaluated(source, BarsSeen(over.bars), over.span)
    longs, shorts = int((said.signal == 1).sum()), int((said.signal == -1).sum())
    assert signals.counts.text().startswith(f"{longs} long, {shorts} short over ")
    assert [one.name for one in signals.chart.over.curves.curves] == [
        "exponential average of 12 closes",
        "simple average of 48 closes",
        "highest high of 10 bars before",
        "lowest low of 10 bars before",
    ]
    assert np.array_equal(signals.chart.over.said._signal, said.signal[-signals.chart.size :])
    assert len(signals.followed.horizons) == 4
    assert "ATR on average" in signals.followed.accessibleDescription()


def test_pointing_at_a_bar_answers_why_not_here(signals, trader):
    pick(signals, trader, "Slack water")
    chart = signals.chart
    spot = QPoint(round(chart.view.x(chart.size - 40)), round(chart.view.height / 2))
    QTest.mouseMove(chart.plot, spot)
    assert abs(chart.bar - (chart.size - 40)) <= 1
    told = signals.reasons.rows.accessibleDescription()
    assert "Enter: the RSI of 14 bars comes above 30: long" in told and "now " in told
    assert signals.at.text().startswith("bar of ")
    assert (
        chart.over.strips.shown[0].isVisible()
        and "RSI of 14 bars" in chart.over.strips.shown[0].accessibleName()
    )


def test_keys_go_from_signal_to_signal_and_from_bar_to_bar(signals, trader):
    pick(signals, trader, "Spring tide")
    chart, said = signals.chart, signals._look.said.signal
    at = np.flatnonzero(said) - signals._first
    at = at[at >= 0]
    chart.plot.setFocus()
    QTest.keyClick(chart.plot, KEY.Key_P)
    assert chart.chosen == at[-1] and "Enters" in signals.verdict.text()
    assert chart.view.left < chart.chosen < chart.view.right
    QTest.keyClick(chart.plot, KEY.Key_P)
    assert chart.chosen == at[-2]
    QTest.keyClick(chart.plot, KEY.Key_N)
    assert chart.chosen == at[-1]
    QTest.keyClick(chart.plot, KEY.Key_N)
    assert chart.chosen == at[-1] and "no further signal" in trader.window.notice.text.text()
    QTest.keyClick(chart.plot, KEY.Key_Left, SHIFT)
    assert chart.chosen == at[-1] - 10
    before = chart.view.right - chart.view.left
    QTest.keyClick(chart.plot, KEY.Key_Plus)
    assert chart.view.right - chart.view.left < before
    QTest.keyClick(chart.plot, KEY.Key_Home)
    assert chart.chosen == 0 and "not known yet" in signals.reasons.rows.accessibleDescription()


def test_another_source_stands_beside_it(signals, trader):
    pick(signals, trader, "Ebb and flow")
    choose(signals.beside, "Weathercock")
    trader.qtbot.waitUntil(lambda: signals._other is not None)
    assert signals.followed.others and signals.chart.other._signal.any()
    choose(signals.beside, "beside: none")
    trader.qtbot.waitUntil(lambda: signals._other is None)
    assert not signals.followed.others and not signals.chart.other._signal.any()


def test_it_goes_on_with_each_bar_and_with_another_instrument(signals, trader):
    pick(signals, trader, "Spring tide")
    size = signals.chart.size
    signals.chart.choose(size - 50)
    time = int(signals.chart._pyramid.bars.time[signals.chart.chosen])
    trader.window.runtime.pace(speed=600.0)
    trader.qtbot.waitUntil(lambda: signals.chart.size > size, timeout=30_000)
    trader.window.runtime.pace(speed=1.0)
    assert int(signals.chart._pyramid.bars.time[signals.chart.chosen]) == time
    trader.window.show_station("Helm")
    trader.choose("NZD/SEK")
    trader.window.show_station("Signals")
    trader.qtbot.waitUntil(lambda: signals.of.text().startswith("NZD/SEK"))
    whole(signals, trader)
    assert signals.chart.chosen == -1


def test_lines_of_another_instrument_have_a_strip_of_their_own(signals, trader):
    pick(signals, trader, "Ebb and flow")
    editor = signals.editor
    choose(editor.field("enter", 0, "a"), "close")
    row = editor.parts["enter"]._rows[0]
    trader.click(next(fold.more for fold in row._folds if fold.more.isVisible()))
    assert row.fields["a.timeframe"].hasFocus()
    write(row.fields["a.instrument"], "Harbour 40")
    whole(signals, trader)
    assert editor.draft.made.enter[0].a.instrument == "Harbour 40"
    assert signals.chart.over.strips.shown[0].isVisible()
    assert signals.chart.over.strips.shown[0].accessibleName().startswith("Harbour 40")
    write(row.fields["a.instrument"], "Harbour 4")
    trader.qtbot.waitUntil(lambda: "the nearest is Harbour 40" in signals.counts.text())


def test_no_blank_is_cut_off_where_the_window_has_little_room(trader):
    trader.window.resize(1280, 800)
    trader.window.show_station("Signals")
    station = trader.window.signals
    trader.frames()
    for name in sorted(station.shelf.all):
        station.show_one(name)
        trader.frames(2)
        pane = station.edit_pane
        for part in station.editor.parts.values():
            for field in part.fields.values():
                if field.isVisible():
                    right = field.mapTo(pane, field.rect().topRight()).x()
                    assert right < pane.width(), (name, field.accessibleName())


# Editing


def test_typing_into_a_blank_is_seen_at_once_and_kept(signals, trader):
    pick(signals, trader, "Ebb and flow")
    before = signals.counts.text()
    write(signals.editor.field("enter", 0, "a.length"), "5")
    whole(signals, trader)
    assert signals.counts.text() != before
    path = signals.shelf.path("Ebb and flow")
    trader.qtbot.waitUntil(lambda: load_source(path).enter[0].a == Ema(length=5))
    QTest.keyClick(signals.editor, KEY.Key_Z, CTRL)
    assert signals.editor.draft.made.enter[0].a == Ema(length=12)
    trader.qtbot.waitUntil(lambda: load_source(path).enter[0].a == Ema(length=12))


def test_what_was_typed_stays_when_more_of_a_sentence_is_opened(signals, trader):
    pick(signals, trader, "Ebb and flow")
    editor = signals.editor
    for text in ("5", "57", "579"):
        write(editor.field("enter", 0, "a.length"), text)
    row = editor.parts["enter"]._rows[0]
    more = [fold.more for fold in row._folds if fold.more.isVisible()]
    assert len(more) == 3  # of either line, and of the condition
    for button in more:
        trader.click(button)
    assert editor.field("enter", 0, "a.length").text() == "579"
    choose(row.fields["b_short"], "the number")
    assert editor.field("enter", 0, "b_short").hasFocus()
    assert editor.field("enter", 0, "a.length").text() == "579"
    write(editor.field("enter", 0, "b_short.value"), "0.7")
    assert editor.draft.made.enter[0].b_short == 0.7
    assert editor.draft.made.enter[0].a == Ema(length=579)


def test_a_note_that_is_written_meanwhile_holds_nothing_up(signals, trader):
    pick(signals, trader, "Ebb and flow")
    write(signals.editor.field("enter", 0, "a.length"), "7")
    QTest.keyClicks(signals.note, "x")
    whole(signals, trader)
    assert signals.shown.about.startswith("xEnters") and signals.shown.enter[0].a == Ema(length=7)


def test_another_kind_brings_its_blanks_and_what_is_wrong_is_told(signals, trader):
    pick(signals, trader, "Ebb and flow")
    editor = signals.editor
    choose(editor.field("enter", 0, "kind"), "a time of day")
    assert editor.field("enter", 0, "kind").hasFocus()
    write(editor.field("enter", 0, "zone"), "Europe/Zurih")
    problem = editor.parts["enter"].problems[0]
    trader.qtbot.waitUntil(problem.isVisible)
    assert "the nearest known one is Europe/Zurich" in problem.text()
    assert "The source stays as it was until then" in editor.words.text()
    signals.write_down()
    assert signals.shelf.all["Ebb and flow"].enter[0].__struct_config__.tag == "crosses"
    write(editor.field("enter", 0, "zone"), "Europe/Zurich")
    signals.write_down()
    # it is the same for both sides, so nothing is ever signalled: said when it is saved
    assert "no signal" in trader.window.notice.text.text()
    assert "no signal" in editor.words.text()


def test_conditions_come_and_go(signals, trader):
    pick(signals, trader, "Ebb and flow")
    part = signals.editor.parts["only"]
    trader.click(part.add_button)
    assert len(signals.editor.draft.made.only) == 1
    trader.click(signals.editor.parts["enter"]._rows[0].findChildren(type(part.add_button))[-1])
    assert signals.editor.draft.made is None
    assert "Add a condition to enter on" in signals.editor.words.text()
    trader.click(signals.undo_button)
    assert len(signals.editor.draft.made.enter) == 1


def test_new_copy_rename_delete_and_undo(signals, trader):
    signals.new()
    assert signals.name == "New source" and signals.title.hasFocus()
    QTest.keyClicks(signals.title, "Weft")
    QTest.keyClick(signals.title, KEY.Key_Return)
    assert signals.name == "Weft" and signals.shelf.path("Weft").exists()
    assert signals.shelf.path("New source") is None
    signals.duplicate()
    assert signals.name == "Weft copy"
    signals.list.setFocus()
    QTest.keyClick(signals.list, KEY.Key_Delete)
    assert "Weft copy" not in signals.shelf.all
    trader.click(signals.undo_button)
    assert "Weft copy" in signals.shelf.all
    write(signals.title, "Weft")
    QTest.keyClick(signals.title, KEY.Key_Return)
    assert "There is a source named Weft already" in trader.window.notice.text.text()


def test_files_come_and_go(signals, trader, tmp_path):
    pick(signals, trader, "Weathercock")
    signals.export_to(tmp_path / "out.toml")
    assert load_source(tmp_path / "out.toml") == signals.shelf.all["Weathercock"]
    signals.import_from(tmp_path / "out.toml")
    assert signals.name == "Weathercock 2"
    (tmp_path / "odd.toml").write_text('name = "Odd"\n[[enter]]\nkind = "abov"\n')
    signals.import_from(tmp_path / "odd.toml")
    told = trader.window.notice.text.text()
    assert "the nearest known one is above" in told and "nothing was changed" in told


def test_what_cannot_be_answered_here_says_what_can(signals, trader):
    pick(signals, trader, "Told by another")
    assert "no column weft" in signals.counts.text()
    assert "Open the file that has it, with `hawser --bars`" in signals.counts.text()
    assert "no column" in signals.reasons.rows.accessibleDescription()


def test_own_python_is_asked_in_a_process_of_its_own(signals, trader):
    pick(signals, trader, "Own loom")
    assert signals._wrong == "" and signals._look is not None
    assert "own_loom.py says" in signals.reasons.rows.accessibleDescription()
    path = signals.shelf.path("Own loom").with_name("own_loom.py")
    path.write_text("def signals(bars, settings):\n    return settings['gone']\n")
    signals.look()
    whole(signals, trader)
    assert "line 2" in signals.counts.text() and "gone" in signals.counts.text()


def test_own_python_comes_along_with_its_source(signals, trader, tmp_path):
    source = signals.shelf.all["Own loom"]
    folder = signals.shelf.folder
    own = msgspec.structs.replace(source.enter[0], file="weft.py")
    save_source(msgspec.structs.replace(source, name="Weft", enter=(own,)), tmp_path / "weft.toml")
    signals.import_from(tmp_path / "weft.toml")
    assert "weft.py" in trader.window.notice.text.text()  # it is not there
    text = (folder / "own_loom.py").read_text("utf-8")
    (tmp_path / "weft.py").write_text(text, "utf-8")
    signals.import_from(tmp_path / "weft.toml")
    assert (folder / "weft.py").read_text("utf-8") == text
    assert "was copied into" in trader.window.notice.text.text()
    whole(signals, trader)
    assert signals._look is not None and signals._wrong == ""
    (tmp_path / "weft.py").write_text("another = 1\n", "utf-8")
    signals.import_from(tmp_path / "weft.toml")
    assert "is another file than" in trader.window.notice.text.text()
    assert (folder / "weft.py").read_text("utf-8") == text


def test_with_all_its_conditions_a_source_is_offered_no_more(signals, trader):
    part = signals.editor.parts["only"]
    while part.add_button.isVisible():
        trader.click(part.add_button)
    assert signals.editor.draft.full
    assert not any(one.add_button.isVisible() for one in signals.editor.parts.values())


def test_without_any_source_it_says_what_to_do_next(signals, trader):
    for _ in range(len(signals.shelf.all)):
        signals.delete()
    assert signals.shelf.all == {} and not signals.editor.isEnabled()
    assert "New makes one" in signals.title.placeholderText()
    trader.frames()
    assert signals.reasons.rows.accessibleDescription() == "No source is chosen"
    assert signals.chart.over.curves.curves == () and not signals.chart.over.said._signal.any()
    trader.click(signals.undo_button)
    assert len(signals.shelf.all) == 1
    whole(signals, trader)
    assert signals.counts.text()


def test_bars_that_completed_meanwhile_do_not_shift_what_was_reckoned_before(signals, trader):
    """What is still worked out over the bars of before is not shown over those of now."""
    pick(signals, trader, "Spring tide")
    old = signals._whole, signals._ground
    source = signals.shown
    trader.window.runtime.pace(speed=600.0)
    trader.qtbot.waitUntil(lambda: signals._ground is not old[1], timeout=30_000)
    trader.window.runtime.pace(speed=1.0)
    whole(signals, trader)
    now = signals._whole
    signals._take((source, old[1], old[0], None))
    assert signals._whole is now


def test_what_is_typed_and_makes_no_source_is_there_again(open_desk):
    first = open_desk()
    QTest.keyClick(first.window, KEY.Key_2, Qt.KeyboardModifier.AltModifier)
    station = first.window.signals
    station.list.setCurrentRow(sorted(station.shelf.all).index("Ebb and flow"))
    write(station.editor.field("enter", 0, "a.length"), "twelve")
    first.window.close()
    again = open_desk()
    station = again.window.signals
    assert station.isVisible()
    station.list.setCurrentRow(sorted(station.shelf.all).index("Ebb and flow"))
    assert station.editor.field("enter", 0, "a.length").text() == "twelve"
    assert "Expected a whole number" in station.editor.parts["enter"].problems[0].text()


def test_a_source_file_that_cannot_be_read_is_told(open_desk, tmp_path):
    first = open_desk()
    first.window.sources.read()
    folder = first.window.sources.folder
    first.window.close()
    (folder / "odd.toml").write_text("name = ")
    one = first.window.sources.all["Weathercock"]
    save_source(one, folder / "twice.toml")
    again = open_desk()
    again.window.show_station("Signals")
    told = again.window.notice.text.text()
    assert "odd.toml" in told and "another source named Weathercock" in told


def test_both_themes_paint_it(signals, trader):
    pick(signals, trader, "Quiet channel")
    day = signals.grab().toImage()
    trader.window.appearance.set_theme("night")
    trader.frames()
    assert signals.grab().toImage() != day


# A column of one's own bar file


OWN = [ROOT / "examples" / name for name in ("quillan-ferry.toml", "account.toml")]


@pytest.fixture
def told(open_desk, tmp_path):
    """The desk over a bar file that has the column which the shipped source looks at."""
    rows = (ROOT / "examples" / "quillan-ferry-5m.csv").read_text().replace(",signal", ",weft", 1)
    (tmp_path / "ferry.csv").write_text(rows)
    inputs = opening_history.Inputs(tmp_path / "ferry.csv", *OWN)
    trader = open_desk(make=lambda where: opening_history.boot(inputs, where), name="own")
    QTest.keyClick(trader.window, KEY.Key_2, Qt.KeyboardModifier.AltModifier)
    return trader


def test_a_column_of_the_bar_file_is_seen_with_its_reasons(told):
    signals = told.window.signals
    told.qtbot.waitUntil(lambda: signals._whole is not None)
    pick(signals, told, "Told by another")
    assert signals.counts.text() == "Reading the columns of the bar file \u2026" or signals._look
    told.qtbot.waitUntil(lambda: signals._look is not None)
    said, bars = signals._look.said, signals._ground.bars
    file = OWN[0].parent / "quillan-ferry-5m.csv"
    table = np.genfromtxt(file, delimiter=",", names=True)
    times = read_history(file, load(Instrument, OWN[0])).bars.time
    lasts = np.searchsorted(times, bars.time + signals._ground.span) - 1
    column = table["signal"][lasts]  # the Helm shows a quarter of an hour
    assert np.array_equal(said.signal, column) and np.abs(column).sum() > 1
    at = int(np.flatnonzero(column)[-1])
    (row,) = rows_of(signals._look, at, UTC)
    assert (row.long, row.short) == (column[at] > 0, column[at] < 0)
    assert f"{column[at]:+.0f}".replace("-", "\u2212") in row.in_words


def test_a_column_is_read_for_the_bars_joined_of_several_and_what_is_wrong_in_it_is_told(tmp_path):
    source = read_source('name = "Weft"\n[[enter]]\nkind = "column"\nname = "model"\n', "here")
    pier = load(Instrument, OWN[0])
    rows = [f"2031-01-06T08:{5 * k:02d}:00Z,148,149,147,148,{k % 3 - 1}" for k in range(12)]
    path = tmp_path / "ferry.csv"
    path.write_text("\n".join(["time,open,high,low,close,model", *rows]))
    bars = read_history(path, pier).bars
    columns = OwnColumns(path, pier, None, None)
    over = columns.over(source, bars, 5 * MINUTE)
    assert over["model"].tolist() == [k % 3 - 1 for k in range(12)]
    coarse = joined(bars, 15 * MINUTE)
    assert columns.over(source, coarse, 15 * MINUTE)["model"].tolist() == [1, 1, 1, 1]
    later = bars._replace(time=bars.time + 10 * HOUR)  # bars that the file has not
    assert np.isnan(columns.over(source, later, 5 * MINUTE)["model"]).all()
    path.write_text("\n".join(["time,open,high,low,close,model", *rows[:3], rows[3][:-1] + "7"]))
    wrong = OwnColumns(path, pier, None, None)
    with pytest.raises(BadInput, match=r"ferry.csv: row 5, column model: expected \+1, -1, 0 or"):
        wrong.over(source, bars, 5 * MINUTE)
    other = msgspec.structs.replace(source, enter=(Column(name="modell"),))
    with pytest.raises(BadInput, match=r"there is no column modell; the nearest is model"):
        columns.over(other, bars, 5 * MINUTE)
    assert columns.volume(bars, 5 * MINUTE) is None
