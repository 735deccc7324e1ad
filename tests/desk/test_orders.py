"""Entries that wait, held lines, groups, strangers and weather, as a trader meets them: with mouse
and keyboard."""

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QContextMenuEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QPushButton

from hawser.core.clock import SECOND
from hawser.desk.app.quay_panel import GUSTS, read_weather
from hawser.desk.common.buttons import SureButton
from hawser.engine.model import transitions as states
from hawser.venue.quay.weather import SEVERITIES

SYMBOL = "NZD/SEK"


def waiting(trader, entry="stop 2 atr", **fields):
    """Type a pending entry, place it with the keyboard, and wait until it rests."""
    trader.choose(SYMBOL)
    known = {trade.id for trade in trader.now.trades}
    for name, text in {"entry": entry, **fields}.items():
        trader.type(name, text)
    assert trader.plan.button.isEnabled(), trader.plan.trouble.text()
    trader.key(trader.window, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    found = trader.until(lambda s: [t for t in s.trades if t.id not in known and t.pending])
    trader.frames()
    return [trade for trade in found.trades if trade.id not in known]


def menu_of(trader, row):
    event = QContextMenuEvent(
        QContextMenuEvent.Reason.Keyboard, row.rect().center(), QPoint(200, 200)
    )
    QApplication.sendEvent(row, event)
    found = {}
    for action in trader.helm.menu.actions():
        inner = action.menu()
        found |= {one.text(): one for one in (inner.actions() if inner is not None else [action])}
    return found


def pick(actions, start):
    """Choose the menu's line that begins so."""
    text = next(text for text in actions if text.startswith(start))
    actions[text].trigger()
    return text


def test_a_pending_entry_is_seen_moved_and_cancelled(trader):
    (trade,) = waiting(trader, good="2 h")
    row = trader.helm.strips.rows[trade.id]
    assert "buy stop" in row.accessibleName()
    assert "until" in row.accessibleName()
    assert (
        "1 waiting"
    ) in trader.window.waterline.protection.accessibleDescription() or trade.heat > 0
    assert trader.helm.selected == trade.id
    goal = trade.ref + trade.r_ticks // 2
    trader.drag_scale(trade.ref, goal)
    moved = trader.until(lambda s: abs(s.trade(trade.id).ref - goal) <= trade.r_ticks // 10).trade(
        trade.id
    )
    assert moved.stop > trade.stop  # the stop went along
    trader.click(row.button)
    assert row.button.text().startswith("Cancel")
    trader.click(row.button)
    ended = trader.until(lambda s: s.trade(trade.id).state == states.ENDED).trade(trade.id)
    assert ended.end_reason == "cancelled by hand"


def test_a_second_press_counts_only_for_what_the_first_was_about(qtbot):
    """Between the two an entry may fill: what would take it back would close the trade."""
    button, done = SureButton("Cancel"), []
    qtbot.addWidget(button)
    button.sure.connect(lambda: done.append(button.text()))
    for meaning in ("waits", "open"):
        button.means(meaning)
        QTest.mouseClick(button, Qt.MouseButton.LeftButton)
    assert not done
    QTest.mouseClick(button, Qt.MouseButton.LeftButton)
    assert len(done) == 1


def test_dragging_the_stop_of_what_waits_keeps_the_risk(trader):
    (trade,) = waiting(trader)
    trader.drag_scale(trade.stop, trade.stop + trade.r_ticks // 3)
    sized = trader.until(lambda s: s.trade(trade.id).r_ticks < trade.r_ticks).trade(trade.id)
    assert sized.steps > trade.steps  # nearer stop, more units, the same risk
    assert abs(sized.heat - trade.heat) < 0.03 * trade.heat


def test_the_plan_s_entry_is_dragged_before_it_is_placed(trader):
    trader.choose(SYMBOL)
    trader.type("entry", "stop 2 atr")
    trader.frames()
    focus = trader.scale.focus
    assert focus.entry == "buy stop"
    trader.drag_scale(focus.ref, focus.ref + focus.r_ticks // 2)
    assert trader.plan.field("entry").text().startswith("stop ")
    assert "atr" not in trader.plan.field("entry").text()
    assert "buy stop" in trader.plan.button.text()


def test_a_wrong_entry_is_told_under_its_field_or_as_a_refusal(trader):
    trader.choose(SYMBOL)
    trader.type("entry", "limit now")
    assert "expected market" in trader.plan.planning.errors["entry"]
    trader.type("entry", "limit 900")
    assert "is not below the market" in trader.plan.trouble.text()
    assert not trader.plan.button.isEnabled()


def test_a_straddle_waits_on_both_sides_as_one_group(trader):
    trades = waiting(trader, entry="straddle 2 atr")
    found = trader.until(lambda s: sum(t.pending for t in s.trades) == 2)
    both = [trade for trade in found.trades if trade.pending]
    assert {trade.side for trade in both} == {1, -1}
    assert len({trade.group for trade in both}) == 1
    row = trader.helm.strips.rows[trades[0].id]
    assert "OCO" in row.accessibleName()


def test_marked_entries_become_one_group(trader):
    (first,) = waiting(trader)
    (second,) = waiting(trader, entry="limit 2 atr")
    strips = trader.helm.strips
    for trade in (first, second):
        QTest.mouseClick(
            strips.rows[trade.id], Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier
        )
    assert strips.marked_button.text().startswith("2 marked")
    pick(menu_of(trader, strips.rows[first.id]), "OCO")
    found = trader.until(lambda s: s.trade(first.id).group)
    assert found.trade(first.id).group == found.trade(second.id).group


def test_marked_trades_are_closed_together(trader):
    names = [trade.id for trade in trader.now.trades if trade.open_steps][:2]
    strips = trader.helm.strips
    for name in names:
        trader.key(strips.rows[name], Qt.Key.Key_Space)
    trader.key(strips, Qt.Key.Key_M)
    actions = {action.text(): action for action in trader.helm.menu.actions()}
    assert "CHF" in pick(actions, "Close 2 trades")
    trader.until(lambda s: all(s.trade(name).state == states.ENDED for name in names))
    assert not strips.marked


def test_marked_trades_lose_and_get_targets_and_are_turned_around_together(trader):
    trader.choose(SYMBOL)
    placed = [
        trader.place(
            stop=stop, trail="", target1="1.0 R", share1="40 %", target2="3.0 R", share2="60 %"
        )
        for stop in ("6 atr", "7 atr")
    ]
    names = [trade.id for trade in placed]
    strips = trader.helm.strips

    def picked(words):
        for name in names:
            if name not in strips.marked:
                trader.key(strips.rows[name], Qt.Key.Key_Space)
        trader.key(strips, Qt.Key.Key_M)
        return pick({action.text(): action for action in trader.helm.menu.actions()}, words)

    picked("Take the next target of 2 trades away")
    trader.until(
        lambda s: all([line.number for line in s.trade(name).targets] == [2] for name in names)
    )
    picked("New target for what is left of 2 trades")
    found = trader.until(lambda s: all(len(s.trade(name).targets) == 2 for name in names))
    assert [line.share for line in found.trade(names[0]).targets] == pytest.approx(
        [0.6, 0.4], abs=0.01
    )
    known = {trade.id for trade in trader.now.trades}
    assert "CHF" in picked("Turn 2 trades around")
    trader.until(lambda s: all(s.trade(name).state == states.ENDED for name in names))
    found = trader.until(
        lambda s: sum(t.id not in known and t.covered and t.open_steps > 0 for t in s.trades) == 2
    )
    assert [trade.side for trade in found.trades if trade.id not in known] == [-placed[0].side] * 2


def test_lines_are_held_and_the_screen_says_so_when_nobody_watches(trader):
    trader.choose(SYMBOL)
    trade = trader.place(stop="4 atr", trail="")
    row = trader.helm.strips.rows[trade.id]
    text = pick(menu_of(trader, row), "Hold the lines here")
    held = trader.until(lambda s: s.trade(trade.id).backstop).trade(trade.id)
    assert trader.now.instrument(SYMBOL).instrument.price(held.backstop) in text
    trader.until(lambda s: "held" in row.accessibleName())
    trader.qtbot.waitUntil(lambda: ("backstop", 0) in trader.chart._lines)
    trader.window.runtime.simulate(lambda venue: venue.gust("drop", "", 60 * 10**9))
    trader.until(lambda s: not s.link_up)
    trader.frames()
    assert "NOT WATCHED" in row._state(row.trade)


def test_a_target_is_set_and_taken_away_by_the_menu(trader):
    trader.choose(SYMBOL)
    trade = trader.place(
        stop="4 atr", trail="", target1="1.0 R", share1="40 %", target2="", share2=""
    )
    row = trader.helm.strips.rows[trade.id]
    pick(menu_of(trader, row), "New target at")
    trader.until(lambda s: len(s.trade(trade.id).targets) == 2)
    plot = trader.chart.plot
    actions = menu_of(trader, plot)  # the chart offers the same for the trade it shows
    pick(actions, "Take target 1 away")
    found = trader.until(lambda s: [line.number for line in s.trade(trade.id).targets] == [2])
    assert found.trade(trade.id).covered


def test_a_saved_plan_tends_an_open_trade(trader):
    trader.choose(SYMBOL)
    trader.type("trail", "2 atr")
    trader.plan.names.save("tight", trader.plan._typed())
    trade = trader.place(stop="4 atr", trail="")
    assert not trade.trail
    pick(menu_of(trader, trader.helm.strips.rows[trade.id]), "Tend by \u2018tight\u2019")
    trader.until(lambda s: s.trade(trade.id).trail)


def test_a_position_not_ours_is_loud_and_adopted_with_a_stop(trader):
    trader.choose(SYMBOL)
    trader.window.simulation.show_panel()
    button = next(
        b
        for b in trader.window.simulation.panel.findChildren(QPushButton)
        if b.text() == "Foreign long position"
    )
    trader.click(button)
    found = trader.until(lambda s: s.unexplained and s.link_up and not s.closed)
    trader.window.simulation.panel.hide()
    trader.frames()
    name = found.unexplained[0].id
    trader.click(trader.helm.strips.strangers[name].button)
    trader.until(
        lambda s: (
            not s.unexplained
            and any(t.state == states.PROTECTED and t.symbol == SYMBOL for t in s.trades)
        )
    )


def test_a_position_by_another_hand_in_a_shut_market_is_refused_in_a_sentence(trader):
    """It was told as a fault of Hawser's own."""
    trader.choose(SYMBOL)
    trader.window.simulation.gust("halt", 600 * SECOND)
    trader.until(lambda s: not s.instrument(SYMBOL).open)
    trader.window.simulation.stray(1)
    trader.qtbot.waitUntil(
        lambda: f"{SYMBOL} is not trading now" in trader.window.notice.text.text(), timeout=10_000
    )
    assert trader.window.runtime.faults.count == 0


def test_gusts_made_by_hand_last_as_long_as_they_say_and_are_counted(trader):
    trader.choose(SYMBOL)
    trader.window.simulation.show_panel()
    panel, venue = trader.window.simulation.panel, trader.window.runtime.simulation
    asked = []
    panel.gust.connect(lambda kind, length: asked.append((kind, length // 10**9)))
    for kind, text, more, _ in GUSTS:
        button = next(
            b for b in panel.findChildren(QPushButton) if b.text() == f"{text} {more}".strip()
        )
        trader.click(button)
        # the line is down already, or there is nothing to change
        if kind not in ("restart", "odd", "hand", "call"):
            trader.qtbot.waitUntil(lambda kind=kind: venue.counts.get(kind) == 1)
        if kind == "drop":
            trader.until(lambda s: not s.link_up)
    assert asked == [(kind, seconds) for kind, _, _, seconds in GUSTS]
    assert venue.counts["restart"] == 0
    trader.qtbot.waitUntil(lambda: panel._told["gaps"].text() == "1 so far")
    panel.hide()


def test_what_else_waits_stands_on_the_chart_too(trader):
    (first,) = waiting(trader)
    (second,) = waiting(trader, entry="limit 2 atr")
    trader.frames()
    shown = {
        trade.id: trader.now.instrument(SYMBOL).instrument.price(trade.ref)
        for trade in (first, second)
    }
    other = shown[first.id] if trader.helm.selected == second.id else shown[second.id]
    texts = [text for _, text in trader.chart._focus.others]
    assert len(texts) == 1
    assert other in texts[0]


def test_weather_is_typed_fault_by_fault(trader):
    trader.key(
        trader.window,
        Qt.Key.Key_Q,
        Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier,
    )
    panel = trader.window.simulation.panel
    assert panel.isVisible()
    assert panel._told["reject"].text().endswith("so far")  # from the first moment
    panel.field("reject").setText("2")
    panel._check()
    assert not panel.apply.isEnabled()
    assert "from 0 to 1" in panel.trouble.text()
    panel.field("reject").setText("1")
    panel.field("lost").setText("0")
    trader.key(panel.field("reject"), Qt.Key.Key_Return)
    trader.qtbot.waitUntil(lambda: trader.window.runtime.simulation.weather.reject == 1.0)
    assert trader.window.simulation.bar.weathers.currentText() == "own"
    panel.hide()
    trader.choose(SYMBOL)
    trader.key(trader.window, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    trader.qtbot.waitUntil(
        lambda: trader.window.runtime.simulation.counts.get("reject", 0) > 0, timeout=20_000
    )


def test_what_is_typed_as_weather():
    assert read_weather({"reject": "0.15", "slip_ticks": "8"})[0].slip_ticks == 8
    assert read_weather({"reject": "x"}) == (None, {"reject": "expected a number"})
    assert "more than 1" in next(iter(read_weather({"reject": "0.6", "lost": "0.6"})[1].values()))
    texts = {name: f"{getattr(SEVERITIES['gale'], name):g}" for name in ("reject", "lost", "mute")}
    assert read_weather(texts)[0].lost == SEVERITIES["gale"].lost


def test_a_basket_is_typed_over_marked_trades_and_closes_them_together(trader):
    helm, held = trader.helm, [trade for trade in trader.now.trades if trade.open_steps]
    for trade in held[:2]:
        helm.strips.mark(trade.id)
    trader.frames()
    action = next(one for one in helm.trade_actions() if one.text.startswith("Basket over 2"))
    helm.carry_out(action)
    box = helm.basket_box
    box.line.setText("stop many")
    QTest.keyClick(box.line, Qt.Key.Key_Return)
    assert box.isVisible()
    assert "Expected" in box.problem.text()
    box.line.setText("stop 60 %, each minute's end")
    QTest.keyClick(box.line, Qt.Key.Key_Return)
    trader.until(lambda s: len(s.baskets) == 1 and s.baskets[0].trades == 2)
    trader.frames()
    assert "closes at" in helm.strips._summary.text()
    off = next(one for one in helm.trade_actions() if one.text.startswith("Take basket"))
    helm.carry_out(off)
    trader.until(lambda s: not s.baskets)
    helm._ask_basket(tuple(trade.id for trade in held[:2]))
    helm.basket_box.line.setText("stop 0.0001 %, target 0.0001 %, every quote")
    QTest.keyClick(helm.basket_box.line, Qt.Key.Key_Return)
    trader.until(lambda s: all(s.trade(one.id).state == states.ENDED for one in held[:2]))
    assert trader.trade(held[0].id).end_reason.startswith("basket")
