"""The doctor, found by the finder and shown beside the trades."""

from __future__ import annotations

from PyQt6.QtGui import QGuiApplication

from hawser.desk.app import doctor_panel
from hawser.service.doctor import Check


def test_the_doctor_is_found_looks_and_is_copied(trader, monkeypatch):
    told = [Check("disk", False, "full")]
    monkeypatch.setattr(doctor_panel, "examine", lambda: iter(told))
    window = trader.window
    (action,) = [one for one in window.commands() if one.text.startswith("Doctor")]
    action.run()
    panel = window._doctor
    trader.qtbot.waitUntil(lambda: "1 thing wrong" in panel.text.toPlainText())
    panel.copy()
    assert QGuiApplication.clipboard().text().startswith("WRONG disk")
    told[:] = [Check("disk", True, "enough")]
    action.run()
    trader.qtbot.waitUntil(lambda: "Nothing is wrong" in panel.text.toPlainText())

    def broken():
        raise RuntimeError("made for the test")

    monkeypatch.setattr(doctor_panel, "examine", broken)
    action.run()
    trader.qtbot.waitUntil(lambda: "RuntimeError" in panel.text.toPlainText())
    panel.hide()


def test_a_fault_says_where_to_look(trader):
    trader.window.tell_fault("Hawser met an unexpected error")
    assert "Ctrl+K, doctor" in trader.window.notice.text.text()
