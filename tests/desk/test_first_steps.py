"""Three steps to a first protected trade, done with the keys on the real controls."""

from __future__ import annotations

from PyQt6.QtCore import Qt

from hawser.desk.models.first_steps import PLACE, PROTECTED

CTRL = Qt.KeyboardModifier.ControlModifier


def test_a_protected_trade_by_keys_alone(trader):
    window, qtbot = trader.window, trader.qtbot
    bar = window.first_steps
    window.offer_first_steps()
    qtbot.waitUntil(lambda: bar.text.text().startswith("1 of 3"))
    name = bar.text.text().rpartition("such as ")[2]
    assert window.latest.instrument(name) is not None
    qtbot.keyClick(window, Qt.Key.Key_K, CTRL)
    qtbot.keyClicks(window.finder.field, name)
    qtbot.keyClick(window.finder.field, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: bar.steps.step == PLACE)
    assert name in bar.text.text()
    before = {trade.id for trade in window.latest.trades}
    qtbot.keyClick(window, Qt.Key.Key_Return, CTRL)
    qtbot.waitUntil(lambda: bar.steps.step == PROTECTED, timeout=20_000)
    qtbot.waitUntil(lambda: "Protected: the stop at" in bar.text.text(), timeout=20_000)
    (new,) = [trade for trade in window.latest.trades if trade.id not in before]
    assert (new.symbol, new.covered) == (name, True)
    price = window.latest.instrument(name).instrument.price(new.resting_stop)
    assert f"the stop at {price} rests at the venue" in bar.text.text()
    assert "CHF; more if the price jumps over it" in bar.text.text()
    assert window.kept.first_steps_over  # a window that is closed now does not ask again
    qtbot.keyClick(window, Qt.Key.Key_U, Qt.KeyboardModifier.AltModifier)
    qtbot.waitUntil(lambda: not bar.isVisible())  # a button that a key presses is seen to go down
    window.offer_first_steps()
    assert not bar.isVisible()


def test_a_trade_that_ends_meanwhile_is_told_with_what_ended_it(trader):
    bar = trader.window.first_steps
    bar.begin()
    trader.qtbot.waitUntil(lambda: bar.text.text().startswith("1 of 3"))
    trader.choose(bar.text.text().rpartition("such as ")[2])
    trader.qtbot.waitUntil(lambda: bar.steps.step == PLACE)
    trade = trader.place()
    trader.helm.strips.close_asked.emit(trade.id)
    trader.qtbot.waitUntil(lambda: "The trade is over: " in bar.text.text())
    assert "closed by hand" in bar.text.text()


def test_the_steps_are_left_and_found_again(trader):
    window, bar = trader.window, trader.window.first_steps
    window.offer_first_steps()
    assert bar.isVisible()
    trader.qtbot.mouseClick(bar.leave, Qt.MouseButton.LeftButton)
    assert not bar.isVisible()
    window.offer_first_steps()
    assert not bar.isVisible()
    (action,) = [one for one in window.commands() if one.text.startswith("First steps")]
    action.run()
    assert bar.isVisible()


def test_an_instrument_that_cannot_be_entered_is_no_choice(trader):
    window, bar = trader.window, trader.window.first_steps
    bar.begin()
    held = next(trade.symbol for trade in window.latest.trades if trade.open_steps)
    window.helm.choose_instrument(held)
    trader.qtbot.waitUntil(lambda: bar.text.text().startswith("1 of 3"))
    closed = next(one.instrument.symbol for one in window.latest.instruments if one.closed)
    window.helm.choose_instrument(closed)
    seen = window.snapshots
    trader.qtbot.waitUntil(lambda: window.snapshots > seen + 8)
    assert bar.text.text().startswith("1 of 3")
