"""The Guards station as a trader drives it: drills, latches and reasons, the policy, the verdict
beside the plan."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys

import msgspec
import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLineEdit, QPushButton

from hawser.core.clock import MINUTE
from hawser.core.errors import BadInput
from hawser.core.guards import declared as dc
from hawser.desk.app.stations import GUARDS, HELM
from hawser.desk.guards.policy_editor import told_change
from hawser.desk.models import figures as fg
from hawser.desk.models.trade_actions import of_trade
from hawser.formats.declared import load
from hawser.formats.policytext import read_policy
from hawser.service.alerts.settings import AlertSettings, Webhook
from hawser.service.views.guard_picture import picture
from hawser.service.watchdog.control import WatchSettings

KEY = Qt.Key
SYMBOL = "NZD/SEK"


@pytest.fixture
def guards(trader):
    """The station, shown by its key."""
    QTest.keyClick(trader.window, KEY.Key_4, Qt.KeyboardModifier.AltModifier)
    station = trader.window.account_desk.guards
    trader.qtbot.waitUntil(
        lambda: station.picture is not None and bool(station.switches.rows), timeout=20_000
    )
    return station


def twice(trader, button):
    trader.click(button)
    trader.click(button)


def test_every_guard_says_what_it_watches_its_figure_its_limit_and_its_state(guards):
    rows = {**guards.switches.rows, **guards.filters.rows}
    names = {name for name, _ in rows}
    assert {"Day loss", "High news", "Wide spread", "Harbour lull", "Silent feed"} <= names
    for row in rows.values():
        assert row.view.watches
        assert row.view.limit
        assert row.accessibleName()
    assert rows["Harbour lull", ""].state.startswith("CLOSED until 15:00: Harbour 40")
    day = rows["Day loss", ""].view
    assert day.limit == "2.50\u00a0%"
    assert day.gauge.stake > 0
    assert "CHF Rate decision, high" in guards.what.text()
    assert "good, without an end" in guards.calendar.text()
    assert "news" in guards.day.accessibleDescription()


def test_a_part_of_the_day_is_told_whole_under_the_pointer(guards):
    symbol, spans = guards.picture.days[0]
    news = next(one for one in spans if one.mark == "news")
    text = guards.day.told_at((guards.day._x(news.start) + guards.day._x(news.end)) / 2, 30)
    assert text.startswith(symbol)
    assert news.text in text
    assert guards.day.told_at(300, 5) == ""


def test_a_drill_tells_first_and_then_latches_until_a_reason_is_typed(guards, trader):
    row = guards.switches.rows["Losing streak", ""]
    trader.click(row.drill_button)
    trader.read("Drill, watched only: Losing streak would close entries")
    assert not trader.now.closed
    trader.click(row.drill_button)
    found = trader.until(lambda s: s.closed)
    assert "a drill" in found.closed[0].text
    trader.qtbot.waitUntil(lambda: "CLOSED" in trader.window.waterline.entries.value.text())
    trader.qtbot.waitUntil(row.rearm_button.isVisible)
    assert row.state.startswith("LATCHED until")
    trader.click(row.rearm_button)
    assert not guards.confirm.isEnabled()
    QTest.keyClicks(guards.reason, "it was a drill")
    trader.key(guards.reason, KEY.Key_Return)
    trader.until(lambda s: not s.closed)
    trader.read("it counts anew from here: it was a drill")


def test_every_guard_of_the_demo_can_be_drilled_and_says_so(guards, trader):
    """One after another: told first, then closed for as long as it says, or latched where it is a
    kill switch."""
    names = {guard.name for guard in guards.picture.policy.guard}
    rows = [*guards.filters.rows.values(), *guards.switches.rows.values()]
    assert {row.view.name for row in rows} == names
    for row in rows:
        name = row.view.name
        trader.click(row.drill_button)
        trader.read(f"Drill, watched only: {name}")
        trader.click(row.drill_button)
        if row.view.latches:
            trader.until(
                lambda s, name=name: any(one.text == f"{name}: a drill" for one in shut(s))
            )
        else:
            trader.read(f"Drill: {name}")
        closed = "LATCHED" if row.view.latches else "CLOSED"
        trader.qtbot.waitUntil(
            lambda row=row, closed=closed: row.state.startswith(closed), timeout=20_000
        )
    trader.qtbot.waitUntil(lambda: "CLOSED" in trader.window.waterline.entries.value.text())


def shut(found):
    """What closes entries, for the account and on each instrument."""
    return [*found.closed, *(one for each in found.instruments for one in each.closed)]


def test_watched_only_nothing_is_closed_whatever_the_guard_would_do(guards, trader):
    held = sum(trade.open_steps > 0 for trade in trader.now.trades)
    guards.watch_only.setChecked(True)
    twice(trader, guards.switches.rows["Day loss", ""].drill_button)
    trader.read(f"Day loss would close entries: {held} closed")
    trader.frames()
    assert sum(trade.open_steps > 0 for trade in trader.now.trades) == held
    assert not trader.now.closed


def test_news_in_ten_seconds_takes_back_what_waits_and_stands_beside_the_plan(guards, trader):
    trader.window.show_station(HELM)
    trader.choose(SYMBOL)
    trader.type("entry", "limit 1 atr")
    trader.key(trader.window, KEY.Key_Return, Qt.KeyboardModifier.ControlModifier)
    trader.until(lambda s: any(t.pending and t.symbol == SYMBOL for t in s.trades))
    trader.window.show_station(GUARDS)
    button = next(b for b in guards.findChildren(QPushButton) if b.text() == "News in 10 s")
    trader.click(button)
    trader.until(lambda s: not any(t.pending for t in s.trades), seconds=40)
    trader.read("Drill, made up; 1 cancelled")
    trader.window.show_station(HELM)
    trader.qtbot.waitUntil(lambda: "Drill, made up; opens in" in trader.plan.trouble.text())
    assert not trader.plan.button.isEnabled()
    trader.window.show_station(GUARDS)
    trader.click(
        next(b for b in guards.findChildren(QPushButton) if b.text() == "End the made-up news")
    )
    trader.until(lambda s: not s.instrument(SYMBOL).closed)


def test_turning_around_says_so_where_no_entry_would_follow(guards, trader):
    trader.click(guards.switches.rows["Losing streak", ""].drill_button)
    trader.click(guards.switches.rows["Losing streak", ""].drill_button)
    found = trader.until(lambda s: s.closed)
    trade = next(trade for trade in found.trades if trade.open_steps)
    text = next(one.text for one in of_trade(trade, found) if one.text.startswith("Turn around"))
    assert text == (
        "Turn around, but entries are closed (Losing streak: a drill): it would only be closed"
    )


def test_what_a_spread_takes_of_r_is_told_before_anyone_tries(trader):
    trader.choose(SYMBOL)
    trader.type("stop", "24 t")
    trader.qtbot.waitUntil(lambda: "of R, at most" in trader.plan.trouble.text())
    assert not trader.plan.button.isEnabled()
    trader.type("stop", "2.5 atr")
    trader.qtbot.waitUntil(trader.plan.button.isEnabled)


def test_the_spread_is_drawn_over_time_with_its_limit(trader):
    trader.choose(SYMBOL)
    ribbon = trader.chart.ribbon
    trader.qtbot.waitUntil(lambda: ribbon.limit > 0)
    median = trader.now.measures[SYMBOL]["guard: median spread 30 min"]
    assert ribbon.limit == 2.5 * median
    at, spread, each = ribbon.columns(trader.chart.view.left, trader.chart.view.right)
    assert each == 1
    assert at.size == spread.size > 50
    last = trader.chart.bars.spread[-1]
    assert spread[-1] == last
    wide, most, each = ribbon.columns(0, trader.chart._pyramid.size)
    assert each > 1
    assert most.max() == np.nanmax(trader.chart.bars.spread)
    assert wide.size <= 600
    trader.qtbot.waitUntil(lambda: f" of {ribbon.limit:.0f} t" in trader.chart._readout.text())
    trader.chart.show_limit(40.0)  # another limit is told at once, whether or not a quote comes
    assert " of 40 t" in trader.chart._readout.text()


def test_news_stands_on_the_chart_and_in_the_list_of_instruments(trader):
    trader.choose("CAD/CHF")
    trader.click(trader.chart.span_buttons[5 * MINUTE])
    news, chart = trader.chart.news, trader.chart
    trader.qtbot.waitUntil(lambda: chart._span == 5 * MINUTE)
    trader.qtbot.waitUntil(lambda: any(mark.closes for *_, mark in news.in_view(chart.view)))
    x, left, right, mark = next(
        found for found in news.in_view(chart.view) if found[3].closes and found[3].time > news.now
    )
    assert (mark.currency, mark.impact, mark.title) == ("CHF", "high", "Rate decision")
    # closed 10 min before, 20 min from it on
    assert (right - x, x - left) == (pytest.approx(4.0), pytest.approx(2.0))
    last = chart.bars.time[-1]
    assert x == pytest.approx(chart._pyramid.size - 1.5 + (mark.time - last) / (5 * MINUTE))
    view = trader.now.instrument("CAD/CHF")
    assert all(one.currency in ("CAD", "CHF", "ALL") for one in view.news)
    coming = view.next_news(trader.now.time)
    model = trader.helm.instruments.model
    told = model._texts[model.row_of("CAD/CHF")][0]
    clock = fg.clock(coming.time, trader.window.appearance.zone, seconds=False)
    assert f"news {clock}" in told or "opens" in told
    tip = model.data(model.index(model.row_of("CAD/CHF"), 0), Qt.ItemDataRole.ToolTipRole)
    assert f"({coming.currency}, {coming.impact}): {coming.title}" in tip
    QTest.mouseMove(chart.plot, QPoint(round(chart.view.x(x)), round(chart.view.height / 2)))
    trader.qtbot.waitUntil(lambda: "CHF high: Rate decision" in chart._readout.text(), timeout=3000)
    news.marks = (mark, msgspec.structs.replace(mark, title="Another at the same time"))
    assert news.nearest(chart.view, x, 0.5) == mark


def test_a_guard_is_changed_added_and_removed_in_a_form_of_its_own(guards, trader):
    row = guards.switches.rows["Day loss", ""]
    row.setFocus()
    QTest.keyClick(row, KEY.Key_Return)
    form = guards.forms.forms[dc.LossSwitch]
    assert form.isVisible()
    trader.frames(3)
    # nothing of the form was a window of its own for a moment
    assert QApplication.activeWindow() is trader.window
    field = form.field("percent")
    trader.click(field)
    field.selectAll()
    QTest.keyClicks(field, "much")
    assert form.editing.errors["percent"] == "Expected a number"
    assert not form.apply_button.isEnabled()
    field.selectAll()
    QTest.keyClicks(field, "3.5")
    assert "Day loss is looser (percent)" in form.told.text()
    field.selectAll()
    QTest.keyClicks(field, "1.75")
    assert "Nothing is loosened" in form.told.text()
    trader.click(form.apply_button)
    policy = trader.window.runtime.profile.guards
    trader.qtbot.waitUntil(lambda: guards.editor.policy.named("Day loss").percent == 1.75)
    text = policy.read_text(encoding="utf-8")
    assert text.startswith("# The demo's guards")  # comments stay
    assert load(dc.Guards, policy).named("Day loss").percent == 1.75
    next(one for one in guards.add_menu.actions() if one.text().startswith("Slippage")).trigger()
    form = guards.forms.forms[dc.SlippageSwitch]
    assert form.field("name").value() == "Slippage 2"
    assert not form.remove_button.isVisible()
    trader.click(form.apply_button)
    trader.qtbot.waitUntil(lambda: guards.editor.policy.named("Slippage 2") is not None)
    trader.qtbot.waitUntil(lambda: ("Slippage 2", "") in guards.switches.rows)
    QTest.mouseDClick(guards.switches.rows["Slippage 2", ""], Qt.MouseButton.LeftButton)
    twice(trader, form.remove_button)
    trader.read("Slippage 2")
    assert load(dc.Guards, policy).named("Slippage 2") is None
    assert not form.isVisible()
    offered = [action.text for action in trader.window.commands()]
    assert "Guards: change Week loss" in offered
    assert sum(text.startswith("Guards: add, ") for text in offered) == len(dc.KINDS)
    guards.edit()
    guards.editor.text.setPlainText(guards.editor.text.toPlainText() + "\n# typed, not applied")
    QTest.keyClick(guards.editor, KEY.Key_Escape)
    guards.edit_guard("Week loss")
    assert "text was changed" in guards.forms.forms[dc.LossSwitch].told.text()


def test_the_dead_man_s_watch_is_set_in_the_station(guards, trader):
    panel = guards.watch
    trader.qtbot.waitUntil(lambda: panel.told.text().startswith("Off: nobody notices"))
    assert not panel.flatten.isEnabled()
    trader.click(panel.on, QPoint(8, panel.on.height() // 2))
    trader.qtbot.waitUntil(lambda: "it can tell nobody" in panel.told.text(), timeout=20_000)
    panel.silent.setFocus()
    panel.silent.selectAll()
    QTest.keyClicks(panel.silent, "soon")
    QTest.keyClick(panel.silent, KEY.Key_Return)
    assert panel.told.text() == "'soon': expected seconds, as 20"
    assert panel.on.isChecked()
    trader.click(panel.on, QPoint(8, panel.on.height() // 2))
    assert panel.on.isChecked()  # with a wrong figure beside it nothing is changed
    panel.silent.selectAll()
    QTest.keyClicks(panel.silent, "0.5")
    QTest.keyClick(panel.silent, KEY.Key_Return)
    assert "expected 2 to 3600 seconds" in panel.told.text()
    panel.silent.selectAll()
    QTest.keyClicks(panel.silent, "45")
    QTest.keyClick(panel.silent, KEY.Key_Return)
    assert load(WatchSettings, trader.window.runtime.profile.watch) == WatchSettings(
        True, 45.0, False
    )
    trader.click(panel.on, QPoint(8, panel.on.height() // 2))
    trader.qtbot.waitUntil(
        lambda: panel.told.text().startswith("Off: nobody notices"), timeout=20_000
    )


def test_the_policy_is_edited_kept_and_what_is_looser_waits(guards, trader):
    guards.edit()
    editor = guards.editor
    text = editor.text.toPlainText()
    editor.text.setPlainText(text.replace("percent = 2.5", "percent = "))
    assert not editor.apply.isEnabled()
    assert "expected TOML" in editor.told.text()
    editor.text.setPlainText(
        text.replace("percent = 2.5", "percent = 3.5")
        .replace("losses = 12", "losses = 7")
        .replace('day_starts = "00:00"', 'day_starts = "01:00"')
    )
    assert "Day loss is looser (percent)" in editor.told.text()
    trader.click(editor.apply)
    trader.qtbot.waitUntil(
        lambda: guards.picture.policy.named("Losing streak").losses == 7, timeout=10_000
    )
    assert guards.picture.policy.named("Day loss").percent == 2.5  # until tomorrow
    row = guards.switches.rows["Day loss", ""]
    trader.qtbot.waitUntil(lambda: row.state == "open, is looser from its next period")
    kept = trader.window.runtime.profile.guards
    assert "3.5" in kept.read_text()
    assert editor.isHidden()
    # its news is found from there
    trader.qtbot.waitUntil(lambda: "good" in guards.calendar.text(), timeout=10_000)
    assert guards.calendar.text().endswith(" on: looser periods, news or loosening")


def test_a_policy_goes_to_a_file_and_comes_back(guards, tmp_path):
    guards.edit()
    path = tmp_path / "mine.toml"
    guards.editor.write_to(path)
    guards.editor.text.setPlainText("")
    assert "0 guards" in guards.editor.told.text()
    guards.editor.take_from(path)
    assert guards.editor.made() == guards.picture.policy
    guards.editor.take_from(tmp_path / "none.toml")
    assert "cannot be read" in guards.editor.told.text()
    typed = guards.editor.text.toPlainText()
    for what, said in (
        (b"\xff\xfe", "expected UTF-8 text"),
        (b"#" * 9_000_000, "expected a small file"),
    ):
        (tmp_path / "odd.toml").write_bytes(what)
        guards.editor.take_from(tmp_path / "odd.toml")
        assert said in guards.editor.told.text()
        assert guards.editor.text.toPlainText() == typed
    QTest.keyClick(guards.editor.text, KEY.Key_Escape)
    QTest.keyClick(guards.editor, KEY.Key_Escape)
    assert guards.editor.isHidden()


def test_alerts_are_chosen_in_one_table_tried_and_kept(guards, trader, tmp_path):
    trader.click(guards.alerts_button)
    panel = guards.alerts
    assert panel.boxes["alarm", "sound"].isChecked()
    assert "no mail server and no webhook is set up yet" in panel.told.text()
    panel.boxes["ended", "webhook"].setChecked(True)
    QTest.keyClicks(panel.fields["webhook.url"], "http://example.org/x")
    assert "https, except on this machine" in panel.told.text()
    assert not panel.apply.isEnabled()
    panel.fields["webhook.url"].setText("http://127.0.0.1:9/x")
    QTest.keyClicks(panel.fields["webhook.secret"], "s")
    assert panel.fields["webhook.secret"].echoMode() == QLineEdit.EchoMode.Password
    trader.click(next(b for b in panel.findChildren(QPushButton) if b.text() == "Try webhook"))
    trader.qtbot.waitUntil(
        lambda: "Webhook: the webhook cannot be reached" in panel.told.text(), timeout=15_000
    )
    trader.click(next(b for b in panel.findChildren(QPushButton) if b.text() == "Try desktop"))
    assert panel.told.text() in (
        "Desktop: it went out.",
        "Desktop: this desktop has no notification service.",
    )
    trader.click(panel.apply)
    assert panel.isHidden()
    kept = load(AlertSettings, trader.window.runtime.profile.alerts)
    assert kept.events["ended"] == ("webhook",)
    assert kept.webhook == Webhook("http://127.0.0.1:9/x", "s")
    trader.click(guards.alerts_button)
    assert panel.made() == kept
    trader.key(panel, KEY.Key_Escape)


# Takes notifications as a desktop's service does, and tells what it got.
SERVICE = """
from PyQt6.QtCore import QCoreApplication, QObject, QTimer, pyqtClassInfo, pyqtSlot
from PyQt6.QtDBus import QDBusConnection, QDBusMessage
app = QCoreApplication([])
@pyqtClassInfo("D-Bus Interface", "org.freedesktop.Notifications")
class Service(QObject):
    @pyqtSlot(QDBusMessage)
    def Notify(self, message):
        print("got", message.signature(), *message.arguments()[3:5], flush=True)
        QTimer.singleShot(50, app.quit)
service, bus = Service(), QDBusConnection.sessionBus()
every = QDBusConnection.RegisterOption.ExportAllSlots
bus.registerObject("/org/freedesktop/Notifications", service, every)
assert bus.registerService("org.freedesktop.Notifications")
print("here", flush=True)
QTimer.singleShot(20_000, app.quit)
app.exec()
"""
CLIENT = """
import subprocess, sys
service = subprocess.Popen([sys.executable, "-c", sys.argv[1]], stdout=subprocess.PIPE, text=True)
assert "here" in service.stdout.readline()
from PyQt6.QtCore import QCoreApplication, QTimer
app = QCoreApplication([])
from hawser.desk.common.notifying import notify
notify("Hawser, demo", "No link", urgent=True)
QTimer.singleShot(1000, app.quit)
app.exec()
print(service.communicate(timeout=20)[0])
"""


@pytest.mark.skipif(
    shutil.which("dbus-run-session") is None, reason="there is no message bus on this machine"
)
def test_a_notification_is_what_the_specification_says():
    command = ["dbus-run-session", "--", sys.executable, "-c", CLIENT, SERVICE]
    ran = subprocess.run(command, capture_output=True, text=True, timeout=60, check=False)
    assert "got susssasa{sv}i Hawser, demo No link" in ran.stdout, ran.stderr


def test_without_a_bus_a_notification_is_refused_with_a_sentence():
    ran = subprocess.run(
        [sys.executable, "-c", "from hawser.desk.common.notifying import notify; notify('a', 'b')"],
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
        env={**os.environ, "DBUS_SESSION_BUS_ADDRESS": "unix:path=/none"},
    )
    assert "this desktop has no notification service" in ran.stderr


# Without a window


@pytest.mark.parametrize(
    ("text", "word"),
    [
        ("zone = 3", "zone"),
        ("[[guard]]\nkind = 'los'\nname = 'x'", "guard"),
        ("[[guard]]\nkind = 'loss'\nname = 'x'\npercnt = 2", "percent"),
        (
            "[[guard]]\nkind = 'loss'\nname = 'x'",
            "guard 'x': percent: expected one of percent, money",
        ),
    ],
)
def test_what_is_wrong_with_a_policy_is_one_sentence(text, word):
    with pytest.raises(BadInput) as caught:
        read_policy(text)
    assert word in caught.value.sentence
    assert "\n" not in caught.value.sentence


def test_what_applying_would_mean_is_told():
    old = dc.Guards(guard=(dc.LossSwitch(name="a", percent=1.0),))
    new = dc.Guards(guard=(dc.LossSwitch(name="b", percent=1.0),))
    assert told_change(old, new) == (
        "1 guard. new: b; a is looser (on); what is looser holds from its next period on"
    )
    assert told_change(old, old) == "1 guard. Nothing is loosened."


def test_without_guards_there_is_nothing_to_show():
    from byhand import ByHand

    found = picture(ByHand().engine.state, "")
    assert not found.views
    assert found.calendar == "no guard asks for news"
