"""Sizing on the desk: heat taken apart, the plan across all instruments, what if, plans by name."""

import csv
import math

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from hawser.core.clock import MINUTE
from hawser.core.levels import StopRule
from hawser.core.rig import Rig
from hawser.core.sizing import sized
from hawser.desk.app.heat_panel import heat_rows
from hawser.desk.models.across import OTHER_PRICE, across
from hawser.desk.models.what_if import curve, point
from hawser.formats.size_json import answer_one
from hawser.service.views.snapshot import plan_request

CTRL = Qt.KeyboardModifier.ControlModifier


def open_across(trader):
    trader.helm.strips.show_page(1)
    trader.frames()
    return trader.helm.across


def column(panel, key):
    from hawser.desk.models.across import COLUMNS

    number = [one.key for one in COLUMNS].index(key)
    return {row.symbol: row.values[number] for row in panel.model.rows}


def test_the_same_plan_takes_the_same_risk_in_calm_and_wild_instruments(trader):
    trader.choose("NZD/SEK")
    trader.stand_still()
    trader.type("risk", "1 %")
    panel = open_across(trader)
    risks, parts = column(panel, "risk"), column(panel, "atr_percent")
    sized_ones = {name: risk for name, risk in risks.items() if not math.isnan(risk)}
    assert len(sized_ones) >= 5
    budget = trader.now.equity / 100
    assert all(
        0.9 * budget < risk <= budget * (1 + 1e-9)
        for name, risk in sized_ones.items()
        if name != "Tin Z"
    )
    assert max(parts.values()) > 2 * min(parts.values())
    assert column(panel, "verdict")["Osier Mills"]
    assert "outside its trading hours" in column(panel, "entries")["Osier Mills"]


def test_every_row_is_what_the_core_says(trader):
    trader.choose("CAD/CHF")
    trader.helm.choose_trade("")
    plan, snapshot = trader.plan.planning.plan, trader.now
    for row in across(plan, snapshot, {}):
        import msgspec

        try:
            found = sized(plan_request(snapshot, msgspec.structs.replace(plan, symbol=row.symbol)))
        except Exception:  # refused: told in words
            assert row.loud
            continue
        of = snapshot.instrument(row.symbol).instrument
        assert row.texts[5] == of.qty(found.steps)
        assert row.values[6] == found.risk_money


def test_a_rig_with_an_atr_of_its_own_is_sized_everywhere_by_that(trader):
    trader.choose("NZD/SEK")
    quick = Rig(name="Quick", stop=StopRule(atr=2.0), atr_length=3)
    trader.plan.set_rigs({**trader.plan.planning.rigs, "Quick": quick})
    trader.plan.take_rig(quick)
    panel = open_across(trader)
    trader.until(lambda s: sum(not math.isnan(atr) for atr in column(panel, "atr").values()) >= 6)
    view = trader.now.instrument("CAD/CHF")
    assert column(panel, "atr")["CAD/CHF"] != pytest.approx(view.atr[15 * MINUTE], rel=1e-6)
    assert not math.isnan(column(panel, "qty")["CAD/CHF"])


def test_a_price_belongs_to_one_instrument(trader):
    trader.choose("NZD/SEK")
    trader.type("stop", f"{trader.now.instrument('NZD/SEK').bid / 10000 - 0.05:.4f}")
    panel = open_across(trader)
    verdicts = column(panel, "verdict")
    assert verdicts["CAD/CHF"] == OTHER_PRICE
    assert verdicts["NZD/SEK"] != OTHER_PRICE


def test_a_stop_from_bars_is_measured_in_every_instrument(trader):
    trader.choose("NZD/SEK")
    trader.type("stop", "3 bars + 2 t")
    panel = open_across(trader)
    trader.qtbot.waitUntil(
        lambda: sum(not math.isnan(r) for r in column(panel, "r_ticks").values()) >= 5, timeout=8000
    )
    bars = trader.chart.bars.last(3)
    view = trader.now.instrument("NZD/SEK")
    sizing = trader.plan.planning.sizing
    assert sizing.stop == round(bars.low.min() / 0.0001) - 2
    trade = trader.place()
    assert trade.initial_stop == round(trader.chart.bars.last(3).low.min() / 0.0001) - 2
    assert view is not None


def test_across_sorts_filters_copies_exports_and_takes_a_row(trader, tmp_path):
    panel = open_across(trader)
    header = panel.table.horizontalHeader()
    at = QPoint(header.sectionViewportPosition(3) + 12, header.height() // 2)
    QTest.mouseClick(header.viewport(), Qt.MouseButton.LeftButton, pos=at)
    values = [row.values[3] for row in panel.shown()]
    assert values in (sorted(values), sorted(values, reverse=True))
    QTest.keyClicks(panel.words, "lumen")
    assert {row.symbol for row in panel.shown()} == {"Lumenfold", "Lumenfold C 95"}
    panel.table.selectRow(0)
    QTest.keyClick(panel.table, Qt.Key.Key_C, CTRL)
    assert QApplication.clipboard().text().count("\n") == 1
    path = tmp_path / "across.csv"
    panel.export_to(path)
    with path.open(newline="", encoding="utf-8") as file:
        rows = list(csv.DictReader(file))
    assert [row["instrument"] for row in rows] == [row.symbol for row in panel.shown()]
    assert float(rows[0]["risk"]) == panel.shown()[0].values[6]
    panel.export_to(tmp_path / "no" / "where.csv")
    assert "nothing was changed" in panel.told.text()
    QTest.keyClick(panel.table, Qt.Key.Key_Return)
    trader.until(lambda s: trader.helm.symbol == panel.shown()[0].symbol)
    assert trader.plan.field("risk").hasFocus()


def test_an_unfinished_plan_is_told_and_the_rows_stay(trader):
    panel = open_across(trader)
    before = [row.symbol for row in panel.model.rows]
    trader.type("risk", "lots")
    trader.frames()
    assert "not complete" in panel.told.text()
    assert [row.symbol for row in panel.model.rows] == before


def test_what_if_the_stop_stood_elsewhere(trader):
    trader.choose("NZD/SEK")
    trader.stand_still()
    trader.plan.show_page(1)
    trader.frames()
    shown, request = trader.plan.what_if.curve, trader.plan.planning.request
    assert len(shown._points) > 20
    quantities = [one.qty for one in shown._points]
    assert quantities == sorted(quantities, reverse=True)
    for one in shown._points[::7]:
        assert point(request, trader.plan.planning.sizing, one.ticks) == one
    before = trader.plan.planning.sizing
    end = shown._at(shown._points[-3]).toPoint()
    QTest.mousePress(
        shown, Qt.MouseButton.LeftButton, pos=shown._at(shown._points[shown._here]).toPoint()
    )
    for step in range(1, 6):
        start = shown._at(shown._points[shown._here]).toPoint()
        QTest.mouseMove(shown, start + (end - start) * step / 5)
    QTest.mouseRelease(shown, Qt.MouseButton.LeftButton, pos=end)
    after = trader.plan.planning.sizing
    assert after.r_ticks > 2 * before.r_ticks
    assert after.steps < before.steps
    assert after.risk_money <= before.budget
    assert trader.plan.field("stop").text() == request.instrument.price(after.stop)


def test_what_if_stays_readable_where_the_lower_part_is_drawn_large(trader):
    trader.choose("CAD/CHF")
    trader.helm.plan.show_page(1)
    trader.helm.whole.setSizes([100, 600])
    curve = trader.helm.plan.what_if.curve
    trader.qtbot.waitUntil(lambda: curve.height() >= curve.minimumHeight())
    assert curve.visibleRegion().boundingRect().height() == curve.height()
    trader.helm.plan.show_page(0)
    assert trader.helm.plan.pages.minimumHeight() < curve.minimumHeight()


def test_with_the_quantity_locked_the_risk_follows_and_the_typed_risk_comes_back(trader):
    trader.choose("NZD/SEK")
    trader.type("risk", "0.55 %")
    trader.plan.show_page(1)
    before = trader.plan.planning.sizing
    trader.click(trader.plan.what_if.quantity)
    assert (
        trader.plan.field("risk").text()
        == f"{trader.plan.planning.request.instrument.qty(before.steps)} units"
    )
    trader.frames()
    shown = trader.plan.what_if.curve
    shown.setFocus()
    for _ in range(4):
        QTest.keyClick(shown, Qt.Key.Key_Right)
    after = trader.plan.planning.sizing
    assert after.steps == before.steps
    assert after.risk_money > before.risk_money
    risks = [one.risk for one in shown._points]
    assert risks == sorted(risks)
    trader.click(trader.plan.what_if.risk)
    assert trader.plan.field("risk").text() == "0.55 %"


def test_every_size_method_is_typed_into_one_field(trader):
    trader.choose("CAD/CHF")
    trader.helm.choose_trade("")
    for text, method in (
        ("0.5 % of balance", "risk_percent"),
        ("385 CHF", "risk_money"),
        ("40 % notional", "notional_percent"),
        ("0.2 % per 1.5 atr", "volatility"),
        ("1.5 units", "fixed"),
        ("invest 20000 CHF risk 90 CHF", "invest"),
    ):
        trader.type("risk", text)
        assert trader.plan.planning.plan.size.method == method
        assert trader.plan.planning.sizing is not None, trader.plan.planning.refusal
        assert trader.plan.field("risk").text() == text
    assert trader.plan.planning.sizing.risk_money <= 90.0
    trader.type("risk", "385 USD")
    assert "CHF" in trader.plan.planning.errors["risk"]


def test_screen_and_command_line_give_the_same_answer(trader):
    import msgspec

    trader.choose("NZD/SEK")
    request, sizing = trader.plan.planning.request, trader.plan.planning.sizing
    of = request.instrument
    account = msgspec.to_builtins(request.account)
    account["size"] = {key: value for key, value in account["size"].items() if value is not None}
    answer = answer_one(
        {
            "instrument": msgspec.to_builtins(of),
            "account": account,
            "side": "long",
            "quote": {"bid": of.price(request.bid), "ask": of.price(request.ask)},
            "atr": request.atr,
            "stop": {"atr": request.stop.atr},
            "open_heat": request.open_heat,
            "positions": request.positions,
            "open_heat_by_currency": request.open_heat_by_currency,
        }
    )
    assert answer["qty"] == of.qty(sizing.steps)
    assert answer["stop"] == of.price(sizing.stop)
    assert answer["risk_money"] == pytest.approx(sizing.risk_money, rel=1e-12)


def test_plans_by_name_are_kept_and_taken_onto_another_instrument(open_desk):
    trader = open_desk()
    trader.choose("NZD/SEK")
    trader.type("risk", "0.45 %")
    trader.type("stop", "1.75 atr")
    names = trader.plan.names
    QTest.keyClicks(names.box, "Slow swing")
    trader.click(names.save_button)
    assert names.save_button.text() == "Replace"
    trader.choose("CAD/CHF")
    assert trader.plan.field("stop").text() != "1.75 atr"
    names.take("Slow swing")
    assert trader.plan.field("stop").text() == "1.75 atr"
    assert trader.plan.planning.plan.symbol == "CAD/CHF"
    trader.window.close()
    again = open_desk()
    assert again.plan.field("stop").text() == "1.75 atr"  # the last plan of this instrument
    kept = again.plan.names
    assert [kept.box.itemText(i) for i in range(kept.box.count())] == ["Slow swing"]
    kept.box.setCurrentText("Slow swing")
    again.click(kept.forget_button)
    assert kept.plans == {}
    assert again.plan.field("stop").text() == "1.75 atr"


def test_heat_is_taken_apart_on_demand(trader):
    trader.stand_still()
    QTest.mouseClick(trader.window.waterline.heat, Qt.MouseButton.LeftButton)
    panel = trader.window.heat
    assert panel.isVisible()
    rows = heat_rows(trader.now)
    live = [trade for trade in trader.now.trades if trade.state != "ended"]
    assert len(rows) == len(live) + 1 + len(trader.now.staked.by_currency)
    assert panel.table.item(len(live), 0).text() == "all trades"
    assert sum(trade.heat for trade in live) == pytest.approx(trader.now.heat)
    QTest.keyClick(panel, Qt.Key.Key_Escape)
    assert not panel.isVisible()


def test_a_curve_without_room_has_no_points(trader):
    trader.choose("NZD/SEK")
    request, sizing = trader.plan.planning.request, trader.plan.planning.sizing
    import msgspec

    poor = msgspec.structs.replace(
        request, account=msgspec.structs.replace(request.account, equity=50.0)
    )
    assert curve(poor, sizing) == []
