"""What a trader does: plan, place, drag, trail, close, flatten, read the Logbook, come back
tomorrow."""

import csv

from PyQt6.QtCore import QPoint, Qt, QTimer
from PyQt6.QtGui import QContextMenuEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QMessageBox, QPushButton

from hawser.core import figures as fg
from hawser.desk.app.stations import LOGBOOK
from hawser.engine.model import transitions as states

CTRL_SHIFT = Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier


def open_trades(snapshot):
    return [trade for trade in snapshot.trades if trade.open_steps]


def test_sees_at_once_what_is_at_stake_and_whether_trading_is_allowed(trader):
    trader.stand_still()
    line = trader.window.waterline
    assert fg.number(trader.now.equity, 2).replace(fg.GROUP, "")[
        :5
    ] in line.equity.value.text().replace(fg.GROUP, "")
    assert "of 3.0" in line.heat.caption.text()
    assert f"all {len(open_trades(trader.now))} protected" in line.protection.value.text()
    assert "OPEN" in line.entries.value.text()
    assert "Osier Mills" in line.entries.value.text()
    assert len(trader.helm.strips.rows) == len(
        [t for t in trader.now.trades if t.state != states.ENDED]
    )


def test_sees_every_instrument_with_quote_spread_and_atr(trader):
    model = trader.helm.instruments.model
    rows = {
        model.symbol(row): [model.index(row, column).data() for column in range(3)]
        for row in range(model.rowCount())
    }
    assert len(rows) == 7
    bid, ask = rows["CAD/CHF"][1].split("\n")
    spread, atr = rows["CAD/CHF"][2].split("\n")
    assert spread == f"{round((float(ask) - float(bid)) * 1e5)}\u00a0t"
    assert float(atr) > 0
    assert "opens 15:30" in rows["Osier Mills"][0]


def test_types_a_plan_and_the_reckoning_answers_while_typing(trader):
    trader.choose("NZD/SEK")
    trader.stand_still()
    trader.type("risk", "0.5%")
    sizing = trader.plan.planning.sizing
    assert sizing.risk_money <= 0.005 * trader.now.equity * (1 + 1e-9)
    half = sizing.steps
    trader.type("risk", "1 %")
    assert half * 1.9 < trader.plan.planning.sizing.steps < half * 2.1
    shown = trader.plan.qty.text()
    assert shown == trader.plan.planning.request.instrument.qty(trader.plan.planning.sizing.steps)
    assert shown in trader.plan.button.text()
    labels = [label.text() for label, _ in trader.plan.reckoning._rows if not label.isHidden()]
    wanted = (
        "equity;stop;R, entry to stop;1 tick;risk of 1 unit;down to the step;notional;margin;spread"
    )
    for part in wanted.split(";"):
        assert any(text.startswith(part) for text in labels), (part, labels)


def test_a_wrong_entry_is_explained_and_nothing_is_lost(trader):
    trader.choose("NZD/SEK")
    good = trader.plan.planning.sizing
    trader.type("stop", "2.5 apples")
    assert trader.plan.field("stop").property("bad")
    problem = trader.plan._problems["stop"]
    assert problem.isVisible()
    assert "apples" in problem.text()
    assert abs(problem.y() - trader.plan.field("stop").geometry().bottom()) < 8
    assert not trader.plan.button.isEnabled()
    assert trader.plan.field("stop").text() == "2.5 apples"
    trader.key(trader.window, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    trader.frames()
    assert "Not placed" in trader.window.notice.text.text()
    trader.type("stop", "2.5 atr")
    assert not trader.plan.field("stop").property("bad")
    assert abs(trader.plan.planning.sizing.steps - good.steps) < 0.2 * good.steps


def test_a_stop_on_the_wrong_side_or_too_near_is_refused_in_words(trader):
    trader.choose("NZD/SEK")
    trader.type("stop", "99")
    assert "not below the entry" in trader.plan.trouble.text()
    trader.type("stop", "3 t")
    assert "at least 8" in trader.plan.trouble.text()


def test_places_with_the_keyboard_and_sees_it_protected(trader):
    trader.choose("NZD/SEK")
    trade = trader.place(risk="0.3 %", stop="3 atr")
    assert trade.covered
    assert trade.plan.size.percent == 0.3
    row = trader.helm.strips.rows[trade.id]
    assert "protected" in row.accessibleName()
    assert trader.helm.selected == trade.id
    assert trader.scale.focus.trade == trade.id
    trader.frames()
    seen = trader.helm.strips.list_area.viewport()
    assert seen.rect().contains(row.geometry().translated(row.parent().pos())), (
        "a new trade's row is scrolled to"
    )
    lines = [line for line in trader.window.logbook.model.lines if line.trade == trade.id]
    roles = [
        line.text.split()[0] for line in lines if line.kind == "sent" and "order:" in line.text
    ]
    assert roles[:2] == ["Entry", "Stop"]
    assert roles.count("Target") == 2


def test_short_is_a_key_press_away(trader):
    trader.choose("NZD/SEK")
    trader.key(trader.plan.short, Qt.Key.Key_Space)
    assert trader.plan.planning.draft.side == -1
    assert "short" in trader.plan.button.text()
    sizing = trader.plan.planning.sizing
    assert sizing.stop > sizing.ref


def test_drags_the_plan_s_stop_on_the_r_scale_and_the_size_follows(trader):
    trader.choose("NZD/SEK")
    trader.type("stop", "2.5 atr")
    trader.frames()
    before, focus = trader.plan.planning.sizing, trader.scale.focus
    goal = focus.stop - focus.r_ticks // 2
    trader.drag_scale(focus.stop, goal)
    after = trader.plan.planning.sizing
    assert abs(after.stop - goal) <= focus.r_ticks // 10
    assert after.steps < before.steps
    assert trader.plan.field("stop").text() == trader.plan.planning.request.instrument.price(
        after.stop
    )


def test_drags_a_target_of_the_plan_by_its_line(trader):
    trader.choose("NZD/SEK")
    trader.type("target2", "1.5 R")
    trader.frames()
    line = trader.chart._lines[("target", 2)]
    trader.take_line(line)
    trader.drag_line(line.price * 1.0006)
    trader.drop_line()
    trader.frames()
    assert float(trader.plan.field("target2").text().split()[0]) > 1.6


def test_moves_an_open_trade_s_stop_by_dragging_and_the_venue_has_it(trader):
    trader.choose("NZD/SEK")
    trade = trader.place(stop="4 atr", trail="", target1="", share1="", target2="", share2="")
    goal = trade.stop + trade.r_ticks // 3
    trader.drag_scale(trade.resting_stop, goal)
    found = trader.until(lambda s: s.trade(trade.id).resting_stop != trade.resting_stop)
    assert abs(found.trade(trade.id).resting_stop - goal) <= trade.r_ticks // 10
    lines = [line.text for line in trader.window.logbook.model.lines if line.trade == trade.id]
    assert any("by hand" in text for text in lines)


def test_nudges_a_line_by_a_tick_with_the_arrows(trader):
    trader.choose("NZD/SEK")
    trade = trader.place(stop="4 atr", trail="")
    trader.scale.setFocus()
    trader.key(trader.scale, Qt.Key.Key_Right)
    for _ in range(3):
        trader.key(trader.scale, Qt.Key.Key_Up)
    trader.key(trader.scale, Qt.Key.Key_Up, Qt.KeyboardModifier.ShiftModifier)
    trader.key(trader.scale, Qt.Key.Key_Return)
    found = trader.until(lambda s: s.trade(trade.id).resting_stop != trade.resting_stop)
    assert found.trade(trade.id).resting_stop == trade.resting_stop + 13
    trader.key(trader.scale, Qt.Key.Key_Right)
    trader.key(trader.scale, Qt.Key.Key_Down)
    trader.key(trader.scale, Qt.Key.Key_Escape)
    trader.frames()
    assert trader.trade(trade.id).resting_stop == trade.resting_stop + 13


def answer_dialog(word, seen):
    """Press the button that begins with `word` in the next dialog."""

    def press():
        for box in QApplication.topLevelWidgets():
            if isinstance(box, QMessageBox) and box.isVisible():
                seen.append(box.text())
                next(b for b in box.findChildren(QPushButton) if b.text().startswith(word)).click()
                return
        QTimer.singleShot(50, press)

    QTimer.singleShot(50, press)


def test_widening_is_confirmed_in_figures(trader):
    trader.choose("NZD/SEK")
    trade = trader.place(stop="2.5 atr", trail="")
    goal, seen = trade.stop - trade.r_ticks // 3, []
    answer_dialog("Keep", seen)
    trader.drag_scale(trade.resting_stop, goal)
    trader.frames(6)
    assert trader.trade(trade.id).stop == trade.stop
    answer_dialog("Widen", seen)
    trader.drag_scale(trade.resting_stop, goal)
    trader.until(lambda s: s.trade(trade.id).resting_stop < trade.resting_stop)
    assert len(seen) == 2
    assert "\u22121.3" in seen[1]
    trader.read("widened by hand")


def test_a_stop_too_near_the_market_is_refused_with_a_reason(trader):
    trader.choose("NZD/SEK")
    trade = trader.place(stop="3 atr", trail="")
    trader.stand_still()  # else the market may be beyond that stop before it is asked for
    view = trader.now.instrument("NZD/SEK")
    trader.helm.move_stop(trader.trade(trade.id), view.bid - 2)
    trader.qtbot.waitUntil(
        lambda: "the venue wants 8" in trader.window.notice.text.text(), timeout=5000
    )
    assert trader.trade(trade.id).stop == trade.stop


def test_the_trail_tightens_and_the_logbook_says_why(open_desk):
    trader = open_desk(speed=300.0)
    moved = "trail, "
    trader.qtbot.waitUntil(
        lambda: sum(moved in line.text for line in trader.window.logbook.model.lines) > 3,
        timeout=60_000,
    )
    for trade in trader.now.trades:
        levels = [rest.level * trade.side for rest in trade.trace]
        assert levels == sorted(levels)


def test_closes_one_trade_by_pressing_twice(trader):
    name = open_trades(trader.now)[0].id
    row = trader.helm.strips.rows[name]
    trader.click(row.button)
    assert "Again" in row.button.text()
    assert "R" in row.button.text()
    trader.frames()
    assert trader.trade(name).open_steps
    trader.click(row.button)
    trader.until(lambda s: s.trade(name).state == states.ENDED)


def test_closes_everything(trader):
    trader.click(trader.helm.strips.all_button)
    trader.click(trader.helm.strips.all_button)
    trader.until(lambda s: not open_trades(s))
    assert not trader.now.halted
    trader.frames()
    assert trader.helm.strips._empty.isVisible()


def test_a_short_press_of_flatten_does_nothing(trader):
    hold = trader.window.waterline.hold
    QTest.mousePress(hold, Qt.MouseButton.LeftButton)
    QTest.mouseRelease(hold, Qt.MouseButton.LeftButton)
    trader.frames(6)
    assert not trader.now.halted


def test_flattens_with_the_held_button_and_rearms_with_a_reason(trader):
    hold = trader.window.waterline.hold
    QTest.mousePress(hold, Qt.MouseButton.LeftButton)
    trader.until(lambda s: s.halted)
    QTest.mouseRelease(hold, Qt.MouseButton.LeftButton)
    trader.until(lambda s: not open_trades(s))
    assert "CLOSED" in trader.window.waterline.entries.value.text()
    assert not trader.plan.button.isEnabled()
    bar = trader.window.halt_bar
    assert bar.isVisible()
    assert not bar.button.isEnabled()
    QTest.keyClicks(bar.reason, "the news has passed")
    QTest.keyClick(bar.reason, Qt.Key.Key_Return)
    trader.until(lambda s: not s.halted)
    trader.frames()
    assert not bar.isVisible()
    trader.read("the news has passed")


def test_flattens_with_the_chord_from_anywhere(trader):
    trader.window.show_station(LOGBOOK)
    trader.window.logbook.words.setFocus()
    screen = trader.window.windowHandle()  # where keys come in, whoever of its widgets has them
    QTest.keyPress(screen, Qt.Key.Key_End, CTRL_SHIFT)
    trader.until(lambda s: s.halted)
    QTest.keyRelease(screen, Qt.Key.Key_End, CTRL_SHIFT)
    trader.until(lambda s: not open_trades(s))


def test_flattens_with_the_chord_from_a_dialog(trader):
    dialog = QMessageBox(trader.window)
    dialog.addButton("Later", QMessageBox.ButtonRole.RejectRole)
    with trader.qtbot.waitActive(dialog):
        dialog.open()
    QTest.keyPress(dialog.windowHandle(), Qt.Key.Key_End, CTRL_SHIFT)
    trader.until(lambda s: s.halted)
    QTest.keyRelease(dialog.windowHandle(), Qt.Key.Key_End, CTRL_SHIFT)
    dialog.close()
    trader.until(lambda s: not open_trades(s))


def test_the_chord_let_go_too_early_does_nothing(trader):
    screen = trader.window.windowHandle()
    QTest.keyPress(screen, Qt.Key.Key_End, CTRL_SHIFT)
    trader.qtbot.wait(200)
    QTest.keyRelease(screen, Qt.Key.Key_End, CTRL_SHIFT)
    trader.qtbot.wait(600)
    assert not trader.now.halted


def test_finds_the_same_trades_lines_halt_and_plan_after_a_restart(open_desk):
    first = open_desk()
    first.choose("NZD/SEK")
    trade = first.place(risk="0.35 %", stop="3.5 atr")
    first.type("risk", "0.45 %")
    first.window.swap_theme()
    first.window.resize(1400, 860)
    first.window.helm.whole.setSizes([430, 260])
    QApplication.processEvents()
    kept = first.window.helm.whole.sizes()
    before = first.trade(trade.id)
    first.window.close()
    second = open_desk()
    after = second.trade(trade.id)
    assert (after.entry, after.initial_stop, after.open_steps) == (
        before.entry,
        before.initial_stop,
        before.open_steps,
    )
    assert after.covered
    assert second.helm.symbol == "NZD/SEK"
    assert second.plan.field("risk").text() == "0.45 %"
    assert second.window.appearance.palette.name == "night"
    assert second.window.size().width() == 1400
    assert second.window.helm.whole.sizes() == kept
    assert any(line.trade == trade.id for line in second.window.logbook.model.lines)


def test_reads_the_logbook_filters_by_trade_and_exports_it(trader, tmp_path):
    log = trader.window.logbook
    trader.window.show_station(LOGBOOK)
    name = open_trades(trader.now)[0].id
    log.trades.setCurrentText(name)
    shown = [log.model.lines[number] for number in log.model.shown]
    assert shown
    assert {line.trade for line in shown} == {name}
    QTest.keyClicks(log.words, "stop")
    assert all("stop" in log.model.lines[number].text.lower() for number in log.model.shown)
    path = tmp_path / "out.csv"
    log.export_to(path)
    with path.open(newline="", encoding="utf-8") as file:
        rows = list(csv.reader(file))
    assert rows[0] == ["time", "kind", "trade", "instrument", "weight", "text"]
    assert len(rows) - 1 == len(log.model.shown)
    assert rows[1][0].endswith("Z")
    assert "lines written" in log.told.text()
    log.export_to(tmp_path / "no" / "such" / "out.csv")
    assert "cannot be written" in log.told.text()


def test_a_long_record_is_taken_in_by_parts(open_desk, monkeypatch):
    monkeypatch.setattr("hawser.service.runtime.engine_thread.HEAR", 60)
    trader = open_desk()
    log = trader.window.logbook
    trader.window.show_station(LOGBOOK)
    trader.qtbot.waitUntil(log.earlier.isVisible)
    first = log.model.lines[0]
    while log.earlier.isVisible():
        before = len(log.model.lines)
        trader.click(log.earlier)
        trader.qtbot.waitUntil(
            lambda before=before: len(log.model.lines) > before or not log.earlier.isVisible()
        )
    times = [line.time for line in log.model.lines]
    assert times == sorted(times)
    assert log.model.lines[0].text.startswith("Session opened")
    assert first in log.model.lines[1:]
    assert not any("unknown order" in line.text for line in log.model.lines)


def test_copies_lines_of_the_logbook(trader):
    trader.window.show_station(LOGBOOK)
    log = trader.window.logbook
    log.table.selectRow(0)
    QTest.keyClick(log.table, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    clipboard = QApplication.clipboard()
    assert clipboard.text().count("\t") == 4


def test_closes_half_by_the_menu_which_says_what_it_would_do(trader):
    trader.choose("NZD/SEK")
    trade = trader.place(stop="4 atr", trail="", target1="", share1="", target2="", share2="")
    row = trader.helm.strips.rows[trade.id]
    QApplication.sendEvent(
        row,
        QContextMenuEvent(QContextMenuEvent.Reason.Keyboard, row.rect().center(), QPoint(200, 200)),
    )
    menu = trader.helm.menu
    texts = [action.text() for action in menu.actions()]
    assert texts[0].startswith("Close half: ")
    assert any(text.startswith("Turn around: close at ") and "go short" in text for text in texts)
    menu.actions()[0].trigger()
    menu.close()
    found = trader.until(lambda s: s.trade(trade.id).open_steps < trade.open_steps)
    assert found.trade(trade.id).open_steps == trade.open_steps - trade.open_steps // 2
    trader.until(lambda s: s.trade(trade.id).covered)


def test_closes_the_losers_from_the_finder(trader):
    losers = [t.id for t in open_trades(trader.now) if t.money < 0]
    winners = [t.id for t in open_trades(trader.now) if t.money > 0]
    assert losers
    assert winners
    finder = trader.window.finder
    finder.open()
    QTest.keyClicks(finder.field, "close losers")
    assert [one.text for one in finder._found if not one.text.startswith("Help: ")] == [
        finder._found[0].text
    ]
    assert "CHF" in finder.list.item(0).text()
    QTest.keyClick(finder.field, Qt.Key.Key_Return)
    trader.until(lambda s: all(s.trade(name).state == states.ENDED for name in losers))
    assert any(trader.trade(name).open_steps for name in winners)


def test_turns_a_trade_around(trader):
    trader.choose("NZD/SEK")
    trade = trader.place(stop="4 atr", trail="")
    action = next(one for one in trader.helm.trade_actions() if one.text.startswith("Turn around"))
    trader.helm.carry_out(action)
    trader.until(lambda s: s.trade(trade.id).state == states.ENDED)
    found = trader.until(
        lambda s: any(
            t.symbol == "NZD/SEK" and t.side == -1 and t.state == states.PROTECTED for t in s.trades
        )
    )
    assert len([t for t in found.trades if t.symbol == "NZD/SEK" and t.open_steps]) == 1
