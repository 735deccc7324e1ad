"""What the style sheet tells widgets apart by: a role, a mark that something in them is wrong."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget


def give(widget: QWidget, name: str, value: str | bool) -> None:
    """Set a property that the style sheet goes by (`role`, `bad`), and have it look again."""
    if widget.property(name) == value:
        return
    widget.setProperty(name, value)
    look_again(widget)


def look_again(widget: QWidget) -> None:
    """Have the style sheet looked up anew: for another property, or for other colours."""
    style = widget.style()
    assert style is not None
    style.unpolish(widget)
    style.polish(widget)
    widget.update()
