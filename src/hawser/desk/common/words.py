"""Text as text: names, notes and titles come from outside, and nothing in them is markup.

Qt takes a text for HTML where it looks like it, in labels and in tooltips; one that names an image
would load it.
"""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel, QWidget


class Label(QLabel):
    """A label that shows its text as it is."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)


def escaped(text: str) -> str:
    """For a label of our own markup: words from outside within it."""
    from html import escape  # its table of names takes 3 ms of the start

    return escape(text)


def plain_tip(text: str) -> str:
    """For a tooltip or a notification: shown as it is, though it may look like markup."""
    return f"<span>{escaped(text).replace(chr(10), '<br>')}</span>" if "<" in text else text
