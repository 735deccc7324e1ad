"""Several accounts on one desk: seen side by side, placed on together, each sized by its own
money."""

from functools import partial

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from hawser.core.account import Account, Policy
from hawser.core.fx import convert
from hawser.demo.boot import boot_beside
from hawser.desk.app.stations import LOGBOOK
from hawser.desk.app.window import Window
from hawser.desk.models.settings import Settings
from hawser.engine.model import transitions as states
from hawser.service.profiles.profile import profile

SYMBOL = "NZD/SEK"
SECOND = Account(
    currency="EUR",
    equity=18_000.0,
    balance=18_000.0,
    name="Breakwater",
    rates={"EUR/CHF": 0.94},
    policy=Policy(max_heat_percent=1.5),
)


@pytest.fixture
def two(open_desk, tmp_path):
    more = (("Breakwater", profile("demo-breakwater", tmp_path), partial(boot_beside, SECOND)),)
    trader = open_desk(more=more)
    trader.window.account_desks[1].runtime.start()
    trader.qtbot.waitUntil(
        lambda: second(trader.window) is not None and second(trader.window).link_up, timeout=60_000
    )
    trader.qtbot.waitUntil(lambda: not second(trader.window).closed, timeout=20_000)
    return trader


def second(window: Window):
    return window.account_desks[1].latest


def test_both_are_seen_in_short_and_in_sum(two):
    bar = two.window.accounts_bar
    assert bar.isVisible()
    two.qtbot.waitUntil(lambda: "together" in bar.sum.text())
    assert "EUR" in bar.buttons[1].text() and "protected" in bar.buttons[0].text()
    total = float(
        bar.sum.text()
        .split("  ")[1]
        .split("\u00a0C")[0]
        .split(" C")[0]
        .replace("\u00a0", "")
        .replace(",", "")
    )
    # by the dollar: that is told live, the file's rate is not
    rate = convert("EUR", "CHF", two.now.account.rates)
    assert rate != pytest.approx(0.94, rel=1e-2)
    assert total == pytest.approx(two.now.equity + rate * second(two.window).equity, rel=1e-3)


def test_a_plan_on_both_is_sized_by_each_one_s_own_equity(two):
    two.choose(SYMBOL)
    box = two.plan.also.boxes["Breakwater"]
    two.qtbot.waitUntil(lambda: "units" in box.text())
    two.click(box, box.rect().topLeft() + box.rect().center() / 8)
    box.setChecked(True)
    two.frames()
    assert "and on 1 more" in two.plan.button.text()
    first = two.place(stop="3 atr")
    two.qtbot.waitUntil(
        lambda: any(t.state == states.PROTECTED for t in second(two.window).trades), timeout=30_000
    )
    other = next(t for t in second(two.window).trades if t.symbol == SYMBOL)
    assert other.plan == first.plan
    assert 0.2 < other.heat / first.heat * 64_000 / 18_000 < 2  # each about 0.6 % of its own


def test_an_account_that_cannot_be_tended_is_told_of_also_where_the_other_opens_after_it(two):
    """The other's being ready took the sentence away."""
    window = two.window
    assert not window.banner.isVisible()
    window.account_desks[0].runtime.stop()
    window.account_desks[0].bridge.failed.emit("Tending has stopped")
    window.account_desks[1].bridge.ready.emit()
    assert window.banner.isVisible()
    assert "NOT TENDED" in window.accounts_bar.buttons[0].text()
    assert "CLOSED" in window.waterline.entries.value.text()
    assert "not tended" in window.waterline.protection.value.text()
    assert not window.helm.plan.button.isEnabled()
    assert all("NOT TENDED" in row.accessibleName() for row in window.helm.strips.rows.values())
    window.account_desks[1].bridge.failed.emit("no such file")
    assert window.banner.text() == (
        f"{window.account_desks[0].name}: Tending has stopped\nBreakwater: no such file"
    )
    window.account_desks[0].bridge.ready.emit()
    assert window.banner.isVisible()


def test_the_price_that_was_seen_is_that_of_the_account_s_own_venue(two, monkeypatch):
    """The other's bound would be laid from it, in other ticks perhaps."""
    two.choose(SYMBOL)
    two.qtbot.waitUntil(lambda: "units" in two.plan.also.boxes["Breakwater"].text())
    two.plan.also.boxes["Breakwater"].setChecked(True)
    two.type("stop", "3 atr")
    two.frames()
    asked = {}
    for account_desk in two.window.account_desks:
        monkeypatch.setattr(
            account_desk.runtime,
            "ask",
            lambda make, name=account_desk.name: asked.update({name: make(1, "x")}),
        )
    two.helm.place()
    assert len(asked) == 2
    assert asked.pop("Breakwater").seen == 0
    assert next(iter(asked.values())).seen > 0


def test_the_second_account_is_a_key_away_with_trades_of_its_own(two):
    QTest.keyClick(two.window, Qt.Key.Key_2, Qt.KeyboardModifier.ControlModifier)
    window = two.window
    assert window.account_desk.name == "Breakwater"
    assert window.stack.currentWidget() is window.account_desks[1].helm
    two.qtbot.waitUntil(lambda: window.helm.chart.scale.focus is not None, timeout=20_000)
    assert not window.latest.trades
    window.show_station(LOGBOOK)
    assert window.stack.currentWidget() is window.account_desks[1].logbook
    QTest.keyClick(window, Qt.Key.Key_1, Qt.KeyboardModifier.ControlModifier)
    assert window.stack.currentWidget() is window.account_desks[0].logbook


def test_flatten_and_halt_means_every_account(two):
    two.window.flatten()
    two.until(lambda s: s.halted)
    two.qtbot.waitUntil(lambda: second(two.window).halted)
    assert "all" in two.window.waterline.hold.text()
    two.window.halt_bar.reason.setText("the line was down")
    two.key(two.window, Qt.Key.Key_2, Qt.KeyboardModifier.ControlModifier)
    # a reason to re-arm one account is none for another
    assert not two.window.halt_bar.reason.text()


def test_the_weather_told_is_that_of_the_account_shown(two):
    window = two.window
    window.simulation.bar.weathers.setCurrentText("gale")
    two.qtbot.waitUntil(lambda: window.account_desks[0].runtime.simulation.weather.name == "gale")
    assert window.account_desks[1].runtime.simulation.weather.name == "fair"
    two.key(window, Qt.Key.Key_2, Qt.KeyboardModifier.ControlModifier)
    assert window.simulation.bar.weathers.currentText() == "fair"
    two.key(window, Qt.Key.Key_1, Qt.KeyboardModifier.ControlModifier)
    assert window.simulation.bar.weathers.currentText() == "gale"
    assert window.simulation.panel.field("reject").text() == "0.15"
    # showing it changed nothing
    assert window.account_desks[1].runtime.simulation.weather.name == "fair"


def test_a_form_that_is_open_stays_with_its_account(two):
    """What was typed for one account was applied to the other, which had come into view
    meanwhile."""
    window = two.window
    window.edit_account()
    form = window.editors["account"]
    form.field("policy.max_heat_percent").setText("0.7")
    form._typed("policy.max_heat_percent", "0.7")
    window.finder.open()
    two.key(window, Qt.Key.Key_2, Qt.KeyboardModifier.ControlModifier)
    assert not form.isVisible()
    assert not window.finder.isVisible()
    window.edit_account()
    assert window.editors["account"].field("policy.max_heat_percent").value() == "1.5"
    two.key(window, Qt.Key.Key_1, Qt.KeyboardModifier.ControlModifier)
    assert form.isVisible()
    assert not window.account_desks[1].editors["account"].isVisible()
    assert form.field("policy.max_heat_percent").value() == "0.7"  # what was typed is there
    two.click(form.apply_button)
    two.until(lambda s: s.settings.policy.max_heat_percent == 0.7)
    assert second(window).settings.policy.max_heat_percent == 1.5


def test_a_plan_that_is_typed_for_one_account_is_not_the_other_s(two):
    """It was: a position of the second would have been adopted by a plan that was seen on the
    first."""
    window = two.window
    two.choose(SYMBOL)
    two.type("risk", "0.9 %")
    two.type("stop", "7 atr")
    two.frames()
    window.show_account(1)
    window.helm.choose_instrument(SYMBOL)
    two.qtbot.waitUntil(lambda: window.helm.plan.planning.symbol == SYMBOL)
    assert window.helm.plan.field("stop").text() not in ("", "7 atr")
    window.helm.plan.field("risk").setText("0.2 %")
    window.helm.plan.field("risk").textEdited.emit("0.2 %")
    window.remember()
    kept = window._settings.kept
    assert kept.drafts[SYMBOL].risk == "0.9 %"
    assert kept.others["Breakwater"].drafts[SYMBOL].risk == "0.2 %"
    window._settings.save(60)
    again = Settings(window._settings.path).kept
    assert again.desk("Breakwater", first=False).drafts[SYMBOL].risk == "0.2 %"
    assert again.desk("first", first=True).drafts[SYMBOL].stop == "7 atr"
