"""Typing that does not depend on how fast the machine is."""

from __future__ import annotations

from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QComboBox


def search(box: QComboBox, word: str) -> None:
    """Type a word at a list, as one new search: Qt begins another where the next letter comes late,
    and on a slow machine it does."""
    usual = QApplication.keyboardInputInterval()
    try:
        QApplication.setKeyboardInputInterval(-1)
        QTest.keyClicks(box, word[:1])
        QApplication.setKeyboardInputInterval(600_000)
        QTest.keyClicks(box, word[1:])
    finally:
        QApplication.setKeyboardInputInterval(usual)
