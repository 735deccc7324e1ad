"""Guards that the world itself trips on the demo, one after another in one window: limits by their
forms, the rest by trading in weather."""

from __future__ import annotations

import itertools

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QPushButton

from hawser.core.clock import MINUTE
from hawser.core.guards import declared as dc
from hawser.engine.model import transitions as states
from hawser.venue.quay.weather import Sky

KEY, KEYS = Qt.Key, Qt.KeyboardModifier
SYMBOL = "NZD/SEK"


class Day:
    """A trader with the station at hand."""

    def __init__(self, trader) -> None:
        self.trader, self.station = trader, trader.window.account_desk.guards
        self.at_guards()
        self.until(lambda: bool(self.station.switches.rows))

    def until(self, condition) -> None:
        self.trader.qtbot.waitUntil(condition, timeout=30_000)

    def at_guards(self) -> None:
        QTest.keyClick(self.trader.window, KEY.Key_4, Qt.KeyboardModifier.AltModifier)

    def at_helm(self) -> None:
        QTest.keyClick(self.trader.window, KEY.Key_1, Qt.KeyboardModifier.AltModifier)

    def limit(self, name: str, **fields: str) -> None:
        """Tighten a guard in its form."""
        self.at_guards()
        self.station.edit_guard(name)
        form = next(one for one in self.station.forms.forms.values() if one.isVisible())
        for path, text in fields.items():
            field = form.field(path)
            field.setFocus()
            field.selectAll()
            QTest.keyClicks(field, text)
        assert "Nothing is loosened" in form.told.text(), form.told.text()
        self.trader.click(form.apply_button)
        made = dict(fields)
        self.until(
            lambda: all(
                str(getattr(self.station.editor.policy.named(name), key)).removesuffix(".0") == text
                for key, text in made.items()
            )
        )

    def weather(self, **faults: str) -> None:
        """Type faults into the Quay panel; those not named are as in calm."""
        self.at_helm()
        panel = self.trader.window.simulation.panel
        self.trader.key(self.trader.window, KEY.Key_Q, KEYS.ControlModifier | KEYS.ShiftModifier)
        self.trader.click(panel.severities.button(0))
        for name, text in faults.items():
            field = panel.field(name)
            field.setFocus()
            field.selectAll()
            QTest.keyClicks(field, text)
        self.trader.key(panel.field("reject"), KEY.Key_Return)
        venue = self.trader.window.runtime.simulation
        self.until(
            lambda: all(
                f"{getattr(venue.weather, name):g}" == text for name, text in faults.items()
            )
        )
        self.trader.key(panel, KEY.Key_Escape)

    def close(self, trade) -> None:
        self.at_helm()
        button = self.trader.helm.strips.rows[trade.id].button
        self.trader.click(button)
        self.trader.click(button)

    def told(self, words: str) -> None:
        lines = self.trader.window.logbook.model.lines
        self.until(lambda: any(words in line.text for line in lines))

    def latched(self, name: str) -> None:
        self.told(f"{name} closes entries")
        row = self.station.switches.rows[name, ""]
        self.at_guards()
        self.until(lambda: row.state.startswith("LATCHED"))

    def rearm(self, name: str, after_min: float = 0.0) -> None:
        """With a reason, once the pause that the guard asks for is over."""
        self.at_guards()
        row = self.station.switches.rows[name, ""]
        self.until(row.rearm_button.isVisible)
        self.trader.until(lambda s: s.time > row.view.since + after_min * MINUTE)
        self.trader.click(row.rearm_button)
        QTest.keyClicks(self.station.reason, "seen, and understood")
        self.trader.key(self.station.reason, KEY.Key_Return)
        self.until(lambda: not self.station.switches.rows[name, ""].view.since)


def test_a_bad_day(trader):
    trader.choose(SYMBOL)
    trades = [trader.place(risk="0.1 %", stop=f"{9 - n} atr", trail="") for n in range(5)]
    day = Day(trader)
    day.limit("Order rate", most="2", window_s="600")
    day.at_helm()
    trader.type("risk", "0.11 %")
    day.until(trader.plan.button.isEnabled)
    trader.key(trader.window, KEY.Key_Return, KEYS.ControlModifier)
    # the orders of the last ten minutes count: the entry is the one too many
    day.latched("Order rate")
    # what filled all the same is protected
    trader.until(lambda s: all(trade.covered for trade in s.trades))
    day.rearm("Order rate")
    day.limit("Breather", from_r="0")
    day.close(trades[0])  # it paid the spread and the commissions
    day.told("Breather (NZD/SEK) closes entries for 15 min")
    day.at_helm()
    day.until(lambda: "Breather" in trader.plan.trouble.text())

    day.limit("Slippage", ticks="1")
    day.weather(slip_ticks="40")
    day.close(trades[1])
    day.latched("Slippage")
    day.until(lambda: "CLOSED" in trader.window.waterline.entries.value.text())
    day.rearm("Slippage")
    day.weather(reject="1")
    day.limit("Refused orders", most="1")
    day.close(trades[2])
    day.latched("Refused orders")
    day.weather()
    # an exit always passes in the end
    trader.until(lambda s: s.trade(trades[2].id).state == states.ENDED)
    day.rearm("Refused orders", after_min=1)
    streak = int(day.station.switches.rows["Losing streak", ""].view.now)
    day.limit("Losing streak", losses=str(streak + 1))
    day.close(trades[3])
    day.latched("Losing streak")
    day.rearm("Losing streak")
    used = int(day.station.switches.rows["Entries a day", ""].view.now)
    day.limit("Entries a day", most=str(used))
    row = day.station.switches.rows["Entries a day", ""]
    day.until(lambda: row.state == "CLOSED until Thu 00:00")
    assert any(t.open_steps for t in trader.now.trades)
    day.limit("Floor", money=f"{trader.now.equity + 200:.0f}")
    day.latched("Floor")
    trader.until(lambda s: not any(t.open_steps for t in s.trades))  # it flattens
    squeezed(trader, day)


def squeezed(trader, day):
    """However many guards are closed, what lasts longest stands first and the plan's fields keep
    their places."""
    trader.window.resize(1280, 800)
    day.at_helm()
    day.until(lambda: "Entries closed: Floor" in trader.plan.trouble.text())
    assert "; also by " in trader.plan.trouble.text()
    assert trader.window.waterline.entries.value.text().count("CLOSED by ") == 1
    fields = [trader.plan.field(name) for name in ("entry", "risk", "stop", "trail")]
    trader.frames(8)
    for above, below in itertools.pairwise(fields):
        assert (
            above.mapTo(trader.plan, above.rect().bottomLeft()).y()
            < below.mapTo(trader.plan, below.rect().topLeft()).y()
        )
    model = trader.helm.instruments.model
    # nobody knows when: a person re-arms the floor
    assert "entries closed" in model._texts[model.row_of(SYMBOL)][0]


def falls(weather, seed, requests):
    """Whether a price jumps far down in a weather that has decided about so many requests
    before."""
    sky = Sky(weather, seed)
    for _ in range(requests):
        sky.fate()
    return sky.jump() < -0.9 * weather.gap_spreads


def test_a_day_s_and_a_week_s_loss_are_reached_by_the_market(trader):
    trader.choose(SYMBOL)
    trader.place(risk="0.5 %", stop="3 atr", trail="", target1="", share1="", target2="", share2="")
    day = Day(trader)
    day.limit("Week loss", money="60")
    day.limit("Day loss", money="50")
    # so far that its stop does not hold it, not so far that a way down is a drawdown
    day.weather(gap_spreads="100")
    day.at_helm()
    trader.choose(SYMBOL)
    panel = trader.window.simulation.panel
    trader.key(trader.window, KEY.Key_Q, KEYS.ControlModifier | KEYS.ShiftModifier)
    jump = next(
        one for one in panel.findChildren(QPushButton) if one.text().startswith("Jump the price")
    )
    weather = trader.window.runtime.simulation.weather
    seed = next(one for one in range(1000) if falls(weather, one, 0) and falls(weather, one, 1))
    trader.window.runtime.simulate(lambda venue: venue.set_weather(weather, seed))
    trader.click(jump)
    trader.until(lambda s: any(one.code == "latched" for one in s.closed))
    trader.key(panel, KEY.Key_Escape)
    day.latched("Day loss")
    day.latched("Week loss")
    trader.until(lambda s: not any(t.open_steps for t in s.trades))  # both flatten
    assert {one.guard for one in trader.now.closed} >= {"Day loss", "Week loss"}
    assert day.station.switches.rows["Week loss", ""].state.startswith("LATCHED until Mon")


def test_a_regime_added_by_its_form_closes_the_side_it_is_against(trader):
    trader.choose(SYMBOL)
    day = Day(trader)
    day.station.add_guard(dc.RegimeGuard)
    form = day.station.forms.forms[dc.RegimeGuard]
    for path, text in (("reference", "CAD/CHF"), ("timeframe", "15m"), ("length", "50")):
        field = form.field(path)
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(QApplication.focusWidget(), text)
    trader.click(form.apply_button)
    day.told("19 guards watch now")
    day.at_helm()
    trader.type("risk", "0.2 %")
    key = "guard: sma 50 15m"
    above = trader.until(lambda s: key in s.measures["CAD/CHF"]).measures["CAD/CHF"][key]
    allowed, against = (1, -1) if above > 0 else (-1, 1)
    sides = {1: trader.plan.long, -1: trader.plan.short}
    trader.click(sides[against])
    day.until(lambda: "its 50-bar sma on 15m" in trader.plan.trouble.text())
    assert not trader.plan.button.isEnabled()
    trader.click(sides[allowed])
    day.until(trader.plan.button.isEnabled)
