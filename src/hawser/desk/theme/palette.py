"""The two themes, as roles (look.md). Widgets ask for roles, never for colours."""

from __future__ import annotations

from functools import cache
from pathlib import Path
from typing import NamedTuple

from PyQt6.QtGui import QColor, QPalette


@cache
def _color(text: str, alpha: int) -> QColor:
    """Hundreds are asked for at each repaint, and reading the text takes longer than drawing a
    line."""
    color = QColor(text)
    color.setAlpha(alpha)
    return color


class Palette(NamedTuple):
    """Colours by role, as #rrggbb."""

    name: str
    ground: str
    panel: str
    hairline: str
    ink: str
    ink2: str
    gain: str
    loss: str
    caution: str
    on_ink: str  # text on an ink surface
    on_caution: str

    def color(self, role: str, alpha: int = 255) -> QColor:
        """Shared by all who ask: none of them changes it."""
        return _color(getattr(self, role), alpha)


PAPER = Palette(
    "paper",
    ground="#F6F1E4",
    panel="#FBF8F0",
    hairline="#D8CFBB",
    ink="#1C2A39",
    ink2="#51606E",
    gain="#1F5FA8",
    loss="#A65A00",
    caution="#A3195B",
    on_ink="#FBF8F0",
    on_caution="#FBF8F0",
)
NIGHT = Palette(
    "night",
    ground="#12181F",
    panel="#18212A",
    hairline="#2C3844",
    ink="#E4DCCB",
    ink2="#98A4AE",
    gain="#7FB2E5",
    loss="#E0A35B",
    caution="#E377A9",
    on_ink="#12181F",
    on_caution="#12181F",
)
THEMES = {"paper": PAPER, "night": NIGHT}


def contrast(first: str, second: str) -> float:
    """WCAG contrast ratio of two colours."""

    def luminance(text: str) -> float:
        parts = (int(text[i : i + 2], 16) / 255 for i in (1, 3, 5))
        red, green, blue = (
            c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in parts
        )
        return 0.2126 * red + 0.7152 * green + 0.0722 * blue

    light, dark = sorted((luminance(first), luminance(second)), reverse=True)
    return (light + 0.05) / (dark + 0.05)


def qt_palette(p: Palette) -> QPalette:
    """The colours for Qt: those that the style sheet names, and what it says nothing of, as the
    text of every widget and dialogs that are not ours."""
    found, roles = QPalette(), QPalette.ColorRole
    for role, color in (
        (roles.Window, p.panel),
        (roles.Base, p.panel),
        (roles.AlternateBase, p.panel),
        (roles.Button, p.panel),
        (roles.WindowText, p.ink),
        (roles.Text, p.ink),
        (roles.ButtonText, p.ink),
        (roles.PlaceholderText, p.ink2),
        (roles.Highlight, p.ink),
        (roles.HighlightedText, p.on_ink),
        (roles.Mid, p.hairline),
        (roles.Midlight, p.ground),
        (roles.BrightText, p.caution),
        (roles.Link, p.gain),
        (roles.LinkVisited, p.gain),
        (roles.ToolTipBase, p.panel),
        (roles.ToolTipText, p.ink),
    ):
        found.setColor(role, QColor(color))
    return found


def icon_folder() -> str:
    """Where the shipped icons are, as a style sheet writes a path."""
    return Path(__file__).with_name("icons").as_posix()


# The roles as a style sheet names them, each a colour of the palette that `qt_palette` made.
NAMED = Palette(
    "named",
    ground="palette(midlight)",
    panel="palette(window)",
    hairline="palette(mid)",
    ink="palette(text)",
    ink2="palette(placeholder-text)",
    gain="",  # only what paints itself shows gains and losses
    loss="",
    caution="palette(bright-text)",
    on_ink="palette(highlighted-text)",
    on_caution="palette(highlighted-text)",
)


def stylesheet() -> str:
    """The widgets' style sheet, for every palette. 4 px grid, corners 3 px, no gradients, no
    shadows."""
    p = NAMED
    arrow, folder = "QComboBox::down-arrow", icon_folder()
    arrows = "".join(
        f'*[theme="{name}"] {arrow} {{ image: url({folder}/open-{name}.svg); }}' for name in THEMES
    )
    return f"""
    QWidget#ground, QMainWindow, QSplitter, QStackedWidget {{ background: {p.ground}; }}
    QSplitter::handle {{ background: {p.ground}; }}
    QSplitter::handle:hover {{ background: {p.hairline}; }}
    QFrame#panel {{ background: {p.panel}; border: 1px solid {p.hairline}; border-radius: 3px; }}
    QFrame#panel QStackedWidget, QFrame#panel QStackedWidget > QWidget {{ background: {p.panel}; }}
    QWidget#overlay QStackedWidget, QWidget#overlay QStackedWidget > QWidget {{
        background: {p.panel}; }}
    QDialog {{ background: {p.panel}; }}
    QLabel {{ background: transparent; }}
    QLabel[role="second"] {{ color: {p.ink2}; }}
    QLabel[role="small"] {{ font-size: 11px; }}
    QLabel[role="small-second"] {{ font-size: 11px; color: {p.ink2}; }}
    QLabel[role="title"] {{ color: {p.ink}; font-weight: bold; }}
    QLabel[role="caution"] {{ color: {p.caution}; }}
    QLabel[role="problem"] {{ font-size: 11px; color: {p.caution}; }}
    QLabel[role="big"] {{ font-size: 22px; font-weight: bold; }}
    QLabel[role="strong"] {{ font-weight: bold; }}
    QPushButton {{ background: {p.panel}; border: 1px solid {p.ink2}; border-radius: 3px;
        padding: 4px 8px;
        min-height: 16px; }}
    QPushButton:hover {{ border-color: {p.ink}; }}
    QPushButton:focus {{ border: 2px solid {p.ink}; padding: 3px 7px; }}
    QPushButton:checked {{ background: {p.ink}; color: {p.on_ink}; border-color: {p.ink}; }}
    QPushButton:disabled {{ color: {p.ink2}; border-color: {p.hairline}; }}
    QPushButton[role="place"] {{ background: {p.ink}; color: {p.on_ink}; font-weight: bold;
        padding: 8px; }}
    QPushButton[role="place"]:disabled {{ background: {p.ground}; color: {p.ink2};
        border-color: {p.hairline}; }}
    QPushButton[role="flat"] {{ border: none; background: transparent; padding: 4px 6px; }}
    QPushButton[role="flat"]:hover {{ background: {p.ground}; }}
    QPushButton[role="flat"]:checked {{ background: transparent; color: {p.ink}; font-weight: bold;
        border-bottom: 2px solid {p.ink}; border-radius: 0; }}
    QPushButton[role="sure"] {{ background: {p.caution}; color: {p.on_caution};
        border-color: {p.caution};
        font-weight: bold; }}
    QLineEdit, QComboBox {{ background: {p.ground}; border: 1px solid {p.ink2};
        border-radius: 3px; padding: 2px 6px;
        min-height: 18px; selection-background-color: {p.ink}; selection-color: {p.on_ink}; }}
    QLineEdit:focus, QComboBox:focus {{ border: 2px solid {p.ink}; padding: 1px 5px; }}
    QLineEdit:disabled, QComboBox:disabled {{ background: {p.panel}; color: {p.ink2};
        border-color: {p.hairline}; }}
    QLineEdit[bad="true"] {{ border: 2px solid {p.caution}; padding: 1px 5px; }}
    QComboBox QAbstractItemView {{ background: {p.panel}; border: 1px solid {p.ink2};
        selection-background-color: {p.ink}; selection-color: {p.on_ink}; }}
    QComboBox::drop-down {{ width: 18px; border: none; }}
    QComboBox::down-arrow {{ width: 12px; height: 12px; }}
    {arrows}
    QFrame#rule {{ background: {p.hairline}; border: none; }}
    QTableView, QListView, QTreeView {{ background: {p.panel}; border: none; outline: none;
        gridline-color: {p.hairline}; selection-background-color: {p.ground};
        selection-color: {p.ink};
        alternate-background-color: {p.panel}; }}
    QTableView::item {{ padding: 0 6px; }}
    QHeaderView, QHeaderView::section {{ background: {p.panel}; color: {p.ink2}; border: none;
        border-bottom: 1px solid {p.hairline}; padding: 4px 6px; }}
    QTableCornerButton::section {{ background: {p.panel}; border: none; }}
    QToolButton {{ background: {p.ground}; border: 1px solid {p.hairline}; border-radius: 3px; }}
    QToolButton:hover, QToolButton:focus {{ border-color: {p.ink}; }}
    QToolButton[role="station"] {{ border: none; background: transparent; color: {p.ink2}; }}
    QToolButton[role="station"]:checked {{ color: {p.ink}; font-weight: bold;
        background: {p.panel}; }}
    QToolButton[role="station"]:focus {{ border: 1px solid {p.ink2}; border-radius: 3px; }}
    QScrollArea, QScrollArea > QWidget > QWidget {{ background: {p.panel}; border: none; }}
    QScrollBar:vertical {{ background: transparent; width: 10px; margin: 0; }}
    QScrollBar:horizontal {{ background: transparent; height: 10px; margin: 0; }}
    QScrollBar::handle {{ background: {p.hairline}; border-radius: 3px; min-height: 24px;
        min-width: 24px; }}
    QScrollBar::handle:hover {{ background: {p.ink2}; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
    QMenu {{ background: {p.panel}; border: 1px solid {p.ink2}; padding: 4px; }}
    QMenu::item {{ padding: 6px 12px; min-height: 16px; }}
    QMenu::item:selected {{ background: {p.ground}; }}
    QCheckBox:disabled {{ color: {p.ink2}; }}
    QMenu::item:disabled {{ color: {p.ink2}; }}
    QToolTip {{ background: {p.panel}; color: {p.ink}; border: 1px solid {p.ink2}; padding: 4px; }}
    QCheckBox {{ spacing: 6px; min-height: 24px; }}
    QCheckBox::indicator {{ width: 14px; height: 14px; border: 1px solid {p.ink2};
        border-radius: 3px;
        background: {p.ground}; }}
    QCheckBox::indicator:checked {{ background: {p.ink}; border-color: {p.ink}; }}
    """
