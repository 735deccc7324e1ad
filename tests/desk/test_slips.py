"""What a hand does by accident: keys held too long, double clicks, a wheel that was to scroll, a
line in the hand while the trade it was for gives place to another."""

import msgspec
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt, QTimer
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QShortcut, QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QComboBox, QMessageBox, QPushButton, QWidget

from hawser.desk.app.stations import HELM, LOGBOOK, RIGS
from hawser.desk.common.buttons import OnceButton, SureButton
from hawser.engine.model import transitions as states

SYMBOL = "NZD/SEK"
LEFT, NONE = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier


def hold(widget: QWidget, key: Qt.Key, times: int = 5) -> None:
    """A key that is held: one press, and what the keyboard repeats."""
    for number in range(times):
        QApplication.sendEvent(widget, QKeyEvent(QEvent.Type.KeyPress, key, NONE, "", number > 0))
    QApplication.sendEvent(widget, QKeyEvent(QEvent.Type.KeyRelease, key, NONE))


def asks_of(trader, monkeypatch) -> list[object]:
    """What is asked from now on; none of it is sent."""
    asked: list[object] = []
    monkeypatch.setattr(
        trader.window.runtime, "ask", lambda make: asked.append(make(1, "x")) or "x"
    )
    return asked


def test_keys_that_are_held_do_once_what_they_do(trader, monkeypatch):
    assert not any(one.autoRepeat() for one in trader.window.findChildren(QShortcut))
    asked = asks_of(trader, monkeypatch)
    row = next(iter(trader.helm.strips.rows.values()))
    row.setFocus()
    hold(row, Qt.Key.Key_Delete)
    assert not asked
    row.button.calm()
    trader.window.show_station(RIGS)
    rigs = trader.window.rigs
    before = dict(rigs.shelf.all)
    rigs.list.setFocus()
    hold(rigs, Qt.Key.Key_Delete)
    assert len(before) - len(rigs.shelf.all) <= 1


def test_the_plan_is_seen_before_it_is_placed(trader, monkeypatch):
    trader.choose(SYMBOL)
    trader.type("stop", "3 atr")
    trader.frames()
    asked = asks_of(trader, monkeypatch)
    trader.window.show_station(LOGBOOK)
    for expected in (0, 1):
        trader.key(trader.window, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
        assert trader.window.station == HELM
        assert len(asked) == expected
        assert ("Not placed yet" in trader.window.notice.text.text()) is not bool(expected)
        trader.window.notice.text.clear()


def test_a_double_click_is_one_press(qtbot):
    for button, signal in ((OnceButton("Place"), "clicked"), (SureButton("Close"), "sure")):
        qtbot.addWidget(button)
        done: list[str] = []
        getattr(button, signal).connect(lambda *_, done=done, signal=signal: done.append(signal))
        for clicks, expected in ((1, ("clicked",)), (2, ("clicked", "clicked", "sure"))):
            QTest.mouseClick(button, LEFT)
            second = QMouseEvent(
                QEvent.Type.MouseButtonDblClick, QPointF(5, 5), QPointF(5, 5), LEFT, LEFT, NONE
            )
            QApplication.sendEvent(button, second)
            QTest.mouseRelease(button, LEFT)
            assert len(done) == expected.count(signal), clicks


def test_a_wheel_over_a_list_changes_nothing(trader):
    trader.choose(SYMBOL)
    for box in trader.window.findChildren(QComboBox):
        before = box.currentIndex()
        for turn in (-120, 120):
            event = QWheelEvent(
                QPointF(box.rect().center()),
                QPointF(box.mapToGlobal(box.rect().center())),
                QPoint(),
                QPoint(0, turn),
                Qt.MouseButton.NoButton,
                NONE,
                Qt.ScrollPhase.NoScrollPhase,
                False,
            )
            QApplication.sendEvent(box, event)
            assert box.currentIndex() == before, box.accessibleName()


def test_a_level_that_was_nudged_for_one_trade_is_not_set_for_another(trader, monkeypatch):
    trader.choose(SYMBOL)
    first = trader.place(stop="5 atr", trail="")
    second = trader.place(stop="3 atr", trail="")
    trader.helm.choose_trade(first.id)
    trader.frames()
    asked = asks_of(trader, monkeypatch)
    trader.scale.setFocus()
    trader.key(trader.scale, Qt.Key.Key_Up)
    assert trader.scale.busy
    trader.helm.choose_trade(second.id)
    trader.frames()
    assert not trader.scale.busy
    trader.key(trader.scale, Qt.Key.Key_Return)
    assert not asked


def test_a_line_in_the_hand_whose_trade_ends_moves_nothing_of_the_plan(trader):
    trader.choose(SYMBOL)
    trade = trader.place(stop="5 atr", trail="", target1="", share1="", target2="", share2="")
    assert trader.helm.selected == trade.id
    line = trader.chart._lines[("stop", 0)]
    trader.take_line(line)
    trader.drag_line(line.price * 1.0001)
    assert trader.chart.dragging
    trader.drag_scale(trade.resting_stop, trade.resting_stop + 3, drop=False)
    trader.helm.model.close(trade.id)
    trader.until(lambda s: s.trade(trade.id) is None or s.trade(trade.id).state == states.ENDED)
    trader.frames()
    draft = trader.plan.planning.draft
    QTest.mouseRelease(trader.scale, LEFT, pos=QPoint(14, 100))
    trader.drag_line(line.price * 1.0002)
    trader.drop_line()
    assert trader.plan.planning.draft == draft
    assert not trader.chart.dragging


def test_escape_gives_up_a_line_that_is_being_dragged(trader):
    trader.choose(SYMBOL)
    trade = trader.place(stop="5 atr", trail="", target1="", share1="", target2="", share2="")
    line = trader.chart._lines[("stop", 0)]
    before = line.price
    trader.chart.plot.setFocus()
    trader.take_line(line)
    trader.drag_line(before * 1.0002)
    assert trader.helm.model.wish is not None
    trader.key(trader.chart.plot, Qt.Key.Key_Escape)
    assert trader.helm.model.wish is None
    assert not trader.chart.dragging
    trader.drop_line()
    trader.frames()
    assert trader.chart._lines[("stop", 0)].price == before
    assert trader.trade(trade.id).stop == trade.stop


def test_a_mark_that_is_not_set_does_not_stay_when_one_goes_elsewhere(trader):
    trader.choose(SYMBOL)
    trader.place(stop="5 atr", trail="")
    for leave in (
        lambda: trader.window.show_station(LOGBOOK),
        lambda: trader.plan.field("risk").setFocus(),
    ):
        trader.scale.setFocus()
        trader.key(trader.scale, Qt.Key.Key_Up)
        assert trader.scale.busy
        leave()
        assert not trader.scale.busy
        trader.window.show_station(HELM)


def test_a_stop_is_not_widened_from_elsewhere_than_was_told(trader, monkeypatch):
    """While the question stands a rule may have moved the stop: the figures in it are no more what
    would follow."""
    trader.choose(SYMBOL)
    trade = trader.place(stop="2.5 atr", trail="")
    seen = []

    def press() -> None:
        box = next(
            (
                b
                for b in QApplication.topLevelWidgets()
                if isinstance(b, QMessageBox) and b.isVisible()
            ),
            None,
        )
        if box is None:
            QTimer.singleShot(20, press)
            return
        seen.append(box.text())
        later = msgspec.structs.replace(trade, stop=trade.stop + 5)
        trader.helm.model.snapshot = msgspec.structs.replace(trader.now, trades=(later,))
        next(b for b in box.findChildren(QPushButton) if b.text().startswith("Widen")).click()

    asked = asks_of(trader, monkeypatch)
    trader.stand_still()
    monkeypatch.setattr(trader.helm, "show_snapshot", lambda *_: None)
    trade = trader.trade(trade.id)
    QTimer.singleShot(20, press)
    trader.helm.move_stop(trade, trade.stop - trade.r_ticks // 3)
    assert seen and not asked
    assert "Not widened" in trader.window.notice.text.text()


def test_the_held_button_lets_go_with_the_keys(trader):
    hold_button = trader.window.waterline.hold
    hold_button.press()
    trader.window._let_go(Qt.ApplicationState.ApplicationInactive)
    assert not hold_button._timer.isActive()
    hold_button.setFocus()
    hold_button.press()
    trader.plan.field("risk").setFocus()
    assert not hold_button._timer.isActive()


def test_a_position_not_ours_is_shown_as_it_is_by_now(trader):
    trader.choose(SYMBOL)
    trader.window.simulation.stray(1)
    found = trader.until(lambda s: s.unexplained and s.link_up and not s.closed)
    trader.frames()
    held, row = found.unexplained[0], trader.helm.strips.strangers[found.unexplained[0].id]
    qty = found.instrument(SYMBOL).instrument.qty
    assert f" {qty(held.steps)} at" in row.text.text()
    more = msgspec.structs.replace(held, steps=held.steps * 7)
    trader.helm.strips.show_snapshot(msgspec.structs.replace(found, unexplained=(more,)), "")
    assert f" {qty(more.steps)} at" in row.text.text()
    assert qty(more.steps) in row.button.accessibleName()
    assert "not opened by Hawser" in row.text.text()
    trader.helm.strips.show_snapshot(msgspec.structs.replace(found, left=(held.id,)), "")
    assert "not tended" in row.text.text()


def test_a_plan_that_took_another_s_place_by_itself_is_not_placed_before_somebody_chose_it(
    trader, monkeypatch
):
    """The venue no longer trades what was shown, at the moment a hand is on its way to the
    button."""
    trader.choose(SYMBOL)
    trader.type("stop", "3 atr")
    trader.stand_still()
    now, helm = trader.now, trader.helm
    monkeypatch.setattr(trader.window, "_take", lambda *_: None)
    left = msgspec.structs.replace(
        now, instruments=tuple(v for v in now.instruments if v.instrument.symbol != SYMBOL)
    )
    asked = asks_of(trader, monkeypatch)
    for shown in (left, now, now):
        helm.show_snapshot(shown)
    assert helm.symbol != SYMBOL
    assert not trader.plan.button.isEnabled()
    assert f"{SYMBOL} is not traded any more" in trader.plan.trouble.text()
    trader.key(trader.window, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    assert not asked
    helm.choose_instrument(helm.symbol)
    helm.show_snapshot(now)
    assert trader.plan.button.isEnabled(), trader.plan.trouble.text()
    trader.key(trader.window, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    assert len(asked) == 1
