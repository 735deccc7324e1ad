"""Help in place: everything on the screens says what it is, the guide opens in the window, the
finder finds help, and each line of the Logbook has a meaning."""

from __future__ import annotations

import ast
from pathlib import Path

import pytest
from PyQt6.QtCore import QEvent, QPoint, Qt
from PyQt6.QtGui import QContextMenuEvent, QCursor, QHelpEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QAbstractSpinBox,
    QApplication,
    QCheckBox,
    QComboBox,
    QLineEdit,
    QListView,
    QMenu,
    QPlainTextEdit,
    QTableView,
    QWidget,
)

import hawser
from hawser.core.account import Account
from hawser.core.derivation import AT_RISK
from hawser.core.field_help import keys_of
from hawser.core.size_terms import CAPS
from hawser.desk.app.finder import Action
from hawser.desk.app.help_panel import HelpPanel
from hawser.desk.app.stations import GUARDS, LOGBOOK, RIGS, STATIONS
from hawser.desk.app.welcome import Keeping, WelcomePage
from hawser.desk.common.appearance import Appearance
from hawser.desk.common.explained import COLUMNS, TOPIC, topic_at
from hawser.desk.models.topics.guide import guide
from hawser.desk.models.topics.record import CHAPTERS, MEANINGS, OTHER, meaning
from hawser.desk.models.topics.screens import SCREENS
from hawser.desk.models.topics.search import search, topics
from hawser.desk.models.topics.topic import Topic, topic_of_field
from hawser.engine import commands as cm
from hawser.service.profiles.last_opened import OpenedFiles
from hawser.service.profiles.recipes import Recipes

FIELDS = (QLineEdit, QComboBox, QCheckBox, QAbstractSpinBox, QPlainTextEdit, QTableView)
SOURCES = Path(hawser.__file__).parent


def unexplained(view: QWidget) -> list[str]:
    """What can be typed into, chosen or read by column, and does not say what it is."""
    found = []
    for one in view.findChildren(QWidget):
        if not isinstance(one, FIELDS) or isinstance(one.parent(), HelpPanel):
            continue
        topic = topic_at(one, None)
        if isinstance(one, QTableView):
            told, model = one.property(COLUMNS) or [], one.model()
            if model is not None and len(told) != model.columnCount():
                found.append(f"columns of {one.accessibleName()}")
            continue
        if topic is None or not hovered(one):
            found.append(f"{type(one).__name__} {one.accessibleName()} {one.toolTip()}")
    return found


def hovered(field: QWidget) -> str:
    """What hovering over a field shows: its own tip, or that of what it is a part of."""
    if isinstance(field, QPlainTextEdit):
        return "a tip would lie over the text"
    one: QWidget | None = field
    while one is not None:
        at = one.rect().center()
        QApplication.sendEvent(one, QHelpEvent(QEvent.Type.ToolTip, at, one.mapToGlobal(at)))
        if one.toolTip() or one.property(TOPIC) is not None:
            return one.toolTip()
        one = one.parentWidget()
    return ""


@pytest.mark.parametrize("station", [one.name for one in STATIONS])
def test_every_field_and_column_of_a_station_says_what_it_is(trader, station):
    trader.window.show_station(station)
    assert unexplained(trader.window.stack.shown) == []


def test_so_does_everything_around_the_stations_and_in_every_form(trader):
    window = trader.window
    window.edit_account()
    window.edit_instrument()
    window.show_heat()
    window.simulation.show_panel()
    window.show_station(GUARDS)
    guards = window.stack.shown
    for text, act in guards.actions():
        if text.startswith("Guards: add") or text.startswith("Alerts"):
            act()
    assert unexplained(window) == []


def test_every_topic_is_whole():
    """A name, a sentence, and a chapter that there is; what is typed or counted has an example."""
    titles = {one.title for one in guide()}
    for place, topic in topics():
        assert topic.name and topic.what.endswith((".", "?")), topic
        assert not topic.chapter or topic.chapter in titles, topic
        if place in ("Account", "Instrument"):
            assert topic.example, topic
    named = [topic for code, topic in SCREENS.items() if code != "more_fields"]
    assert [topic.name for topic in named if not topic.example] == []
    assert set(CHAPTERS.values()) <= titles | {""}


def constant_codes() -> set[str]:
    """The codes of all that the engine tells, refuses or closes by, read from the sources."""
    found: set[str] = set()
    for room in ("core", "engine", "service"):
        for path in (SOURCES / room).rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text())):
                if not isinstance(node, ast.Call) or not node.args:
                    continue
                name = getattr(node.func, "attr", getattr(node.func, "id", ""))
                if name in ("Refused", "Closed"):
                    told: ast.expr = node.args[0]
                elif name == "tell" and len(node.args) > 2:
                    told = node.args[1]
                else:
                    continue
                parts = [one for one in ast.walk(told) if isinstance(one, ast.Constant)]
                found |= {one.value for one in parts if isinstance(one.value, str)}
    return found


def test_every_step_of_a_reckoning_says_what_it_is():
    """A step without a topic would end the plan's painting."""
    codes = set()
    for name in ("core/derivation.py", "desk/helm/plan_panel.py"):
        for node in ast.walk(ast.parse((SOURCES / name).read_text())):
            if isinstance(node, ast.Call) and getattr(node.func, "id", "") == "DerivationStep":
                code = node.args[2]
                codes.add(AT_RISK if isinstance(code, ast.Name) else ast.literal_eval(code))
    assert len(codes) > 15
    assert {f"step_{code}" for code in codes - {AT_RISK}} <= set(SCREENS)


def test_the_welcome_s_fields_say_what_they_are(qtbot, tmp_path):
    keeping = Keeping(lambda *_: OpenedFiles(), lambda _: OpenedFiles(), Recipes(tmp_path))
    window = WelcomePage(Appearance(), keeping)
    qtbot.addWidget(window)
    told = [one for one in unexplained(window) if one != "columns of "]  # the file's own
    assert told == []
    window.settle()


def test_a_choice_says_how_a_file_writes_it():
    keys = keys_of(Account)
    key = next(one for one in keys if one.path == "size.method")
    assert "`risk_percent` (risk in %)" in topic_of_field(key, "", keys).what


def test_every_line_that_the_logbook_can_show_has_a_meaning():
    from hawser.service.views.logbook_lines import _EVENTS

    codes = constant_codes() - {"rejected_"}
    assert len(codes) > 120
    assert codes - set(MEANINGS) == set()
    assert {str(kind.__struct_config__.tag) for kind in _EVENTS} - set(MEANINGS) == set()
    assert {f"Submit {role}" for role in cm.Role.__args__} <= set(MEANINGS)
    assert set(CAPS) <= set(MEANINGS)
    for weight in ("info", "refused", "caution", "alarm"):
        assert meaning("what the venue calls it", weight, "").what == OTHER[weight]
    assert "quarter of a second" in meaning("rejected_busy", "caution", "").what


def test_f1_explains_what_has_the_focus_and_escape_goes_back(trader):
    field = trader.plan.field("stop")
    field.setFocus()
    trader.key(field, Qt.Key.Key_F1)
    panel = trader.window.help.panel
    assert panel.isVisible()
    assert "Where the trade is wrong" in panel.browser.toPlainText()
    assert "Example: 2.5 atr" in panel.browser.toPlainText()
    assert panel.geometry().right() < field.mapTo(trader.window, QPoint(0, 0)).x()  # in sight
    trader.key(panel.browser, Qt.Key.Key_Escape)
    assert not panel.isVisible()
    assert field.hasFocus()


def test_from_a_page_that_was_found_back_leads_to_what_was_searched_for(trader):
    window = trader.window
    window.help.show(None)
    panel = window.help.panel
    QTest.keyClicks(panel.field, "backst")
    found = [panel.list.item(row).text() for row in range(panel.list.count())]
    trader.key(panel.field, Qt.Key.Key_Return)
    assert panel.browser.isVisible()
    assert panel.field.text() == ""
    panel.back()
    assert panel.field.text() == "backst"
    assert [panel.list.item(row).text() for row in range(panel.list.count())] == found


def test_the_help_closes_though_what_was_asked_about_is_gone(trader):
    """The row of a trade that has ended meanwhile."""
    trade = trader.place(risk="0.2 %", stop="2 atr")
    row = trader.helm.strips.rows[trade.id]
    row.setFocus()
    trader.key(row, Qt.Key.Key_F1)
    panel = trader.window.help.panel
    assert panel.browser.toPlainText().startswith("Open trade")
    trader.helm.strips.close_asked.emit(trade.id)
    trader.qtbot.waitUntil(lambda: trade.id not in trader.helm.strips.rows)
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    trader.key(panel.browser, Qt.Key.Key_Escape)
    assert not panel.isVisible()


def test_the_help_keeps_within_a_window_that_changes_its_size(trader):
    window = trader.window
    window.help.show(None)
    panel = window.help.panel
    window.resize(1000, 640)
    trader.qtbot.waitUntil(lambda: window.width() == 1000)
    assert window.rect().contains(panel.geometry())
    panel.put_away()
    window.resize(1280, 800)


def test_f1_explains_what_is_pointed_at_where_a_hand_is_at_the_mouse(trader):
    trader.plan.field("stop").setFocus()
    figure = trader.window.waterline.today
    QCursor.setPos(figure.mapToGlobal(figure.rect().center()))
    QApplication.processEvents()
    trader.key(trader.window, Qt.Key.Key_F1)
    text = trader.window.help.panel.browser.toPlainText()
    assert text.startswith("Today")
    assert "in R and in money" in figure.toolTip()  # the same on hovering


def test_a_chapter_of_the_guide_is_a_step_away_and_back_leads_back(trader):
    window = trader.window
    window.help.show(SCREENS["heat"])
    panel = window.help.panel
    panel.browser.anchorClicked.emit(_link("guide:Heat"))
    assert "what stops beyond the" in panel.browser.toPlainText()
    panel.browser.anchorClicked.emit(_link("https://example.org/"))  # leads nowhere
    assert "what stops beyond the" in panel.browser.toPlainText()
    trader.key(panel.browser, Qt.Key.Key_Left, Qt.KeyboardModifier.AltModifier)
    assert panel.browser.toPlainText().startswith("Heat")
    assert "lost from the entries" in panel.browser.toPlainText()
    panel.contents_button.click()
    texts = [panel.list.item(row).text() for row in range(panel.list.count())]
    assert "Held lines" in texts and "Logbook" in texts


def _link(text: str):
    from PyQt6.QtCore import QUrl

    return QUrl(text)


def test_the_search_finds_topics_and_guide_by_beginnings_of_words(trader):
    window = trader.window
    window.help.show(None)
    panel = window.help.panel
    QTest.keyClicks(panel.field, "backst lost")
    texts = [panel.list.item(row).text() for row in range(panel.list.count())]
    assert any(text.startswith("Protection") for text in texts)
    panel.field.selectAll()
    QTest.keyClicks(panel.field, "disk is full")
    trader.key(panel.field, Qt.Key.Key_Return)
    assert "Open trades stay protected" in panel.browser.toPlainText()
    QTest.keyClicks(panel.field, "qqq")
    assert panel.list.item(0).text() == "Nothing in the help has all these words"


def test_the_finder_finds_help_behind_what_can_be_done(trader):
    window = trader.window
    trader.key(window, Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
    finder = window.finder
    assert not any(action.text.startswith("Help: H") for action in finder._found)
    QTest.keyClicks(finder.field, "heat")
    assert finder._found[0].text == "Heat: what each stop would cost"
    helps: list[Action] = [one for one in finder._found if one.text.startswith("Help: ")]
    assert helps[0].text == "Help: Heat (The window)"
    helps[0].run()
    assert "every stop is hit" in window.help.panel.browser.toPlainText()
    helps[-1].run()
    assert window.help.panel.field.text() == "heat"
    assert window.help.panel.list.count() > 3


def test_a_line_of_the_logbook_says_what_it_means(trader):
    window = trader.window
    window.show_station(LOGBOOK)
    logbook = window.logbook
    trader.read("Protected")
    model = logbook.model
    row, line = next(
        (at, model.lines[number])
        for at, number in enumerate(model.shown)
        if model.lines[number].code == "protected"
    )
    logbook.table.selectRow(row)
    logbook.table.setFocus()
    trader.key(logbook.table, Qt.Key.Key_F1)
    panel = window.help.panel
    assert MEANINGS["protected"] in panel.browser.toPlainText()
    panel.put_away()
    trader.key(logbook.table, Qt.Key.Key_Return)
    assert MEANINGS["protected"] in panel.browser.toPlainText()
    panel.put_away()
    box = logbook.table.visualRect(model.index(row, 4))
    view = logbook.table.viewport()
    event = QContextMenuEvent(
        QContextMenuEvent.Reason.Mouse, box.center(), view.mapToGlobal(box.center())
    )
    QApplication.sendEvent(view, event)
    menu = next(one for one in logbook.findChildren(QMenu))
    texts = [action.text() for action in menu.actions()]
    assert texts == ["What does this mean?", "Copy", f"Only {line.trade}", f"Only {line.symbol}"]
    menu.actions()[2].trigger()
    assert {line.trade for line in map(model.lines.__getitem__, model.shown)} == {line.trade}
    menu.close()


def test_a_line_with_markup_in_it_is_shown_as_it_is(trader):
    panel = HelpPanel(trader.window, trader.window.appearance)
    panel.open(Topic("<b>A</b> <img src='file:///etc/passwd'>", "<i>x</i>"))
    assert panel.browser.toPlainText().startswith("<b>A</b> <img src='file:///etc/passwd'>")
    assert "<i>x</i>" in panel.browser.toPlainText()


def test_every_blank_of_a_rig_and_every_guard_is_explained_by_its_declaration(trader):
    window = trader.window
    window.show_station(RIGS)
    field = window.rigs.editor.field("stop", 0, "stop")
    topic = topic_at(field, None)
    assert topic is not None and topic.name == "Stop: stop"
    window.show_station(GUARDS)
    guards = window.stack.shown
    trader.qtbot.waitUntil(lambda: guards.switches.rows)
    row = next(one for one in guards.switches.rows.values() if one.view.kind == "loss")
    trader.qtbot.waitUntil(row.isVisible)
    row.setFocus()
    trader.key(row, Qt.Key.Key_F1)
    text = window.help.panel.browser.toPlainText()
    assert text.startswith("Guard: Loss") and "kill switch" in text and "Kill switches" in text


def test_words_are_searched_as_text():
    assert search("   ") == []
    assert search("(*") == []
    assert {one.place for one in search("s", 500)} >= {"Guide", "Helm", "Rigs"}
    assert all(key.as_example for key in keys_of(Account))


def test_contents_are_lists_that_can_be_gone_through_by_keys(trader):
    window = trader.window
    trader.key(window, Qt.Key.Key_F1) if window.focusWidget() is None else window.help.show(None)
    panel = window.help.panel
    names = [panel.list.item(row).text() for row in range(panel.list.count())]
    panel.field.setFocus()
    trader.key(panel.field, Qt.Key.Key_Down)
    assert isinstance(QApplication.focusWidget(), QListView)
    panel.list.setCurrentRow(names.index("Rigs", names.index("What stands on the screens")))
    trader.key(panel.list, Qt.Key.Key_Return)
    assert panel.list.item(0).text() == "Rigs"
    panel.list.setCurrentRow(1)
    trader.key(panel.list, Qt.Key.Key_Return)
    assert panel.browser.isVisible()
    panel.back()
    assert panel.list.item(0).text() == "Rigs"
