"""B612, shipped with Hawser (SIL Open Font License, see fonts/B612-LICENSE.txt)."""

from __future__ import annotations

from functools import cache
from pathlib import Path

from PyQt6.QtGui import QFont, QFontDatabase

FILES = ("B612-Regular.otf", "B612-Bold.otf", "B612Mono-Regular.otf")


def load_fonts() -> None:
    """Make the shipped fonts known to Qt."""
    for name in FILES:
        data = Path(__file__).with_name("fonts").joinpath(name).read_bytes()
        QFontDatabase.addApplicationFontFromData(data)


def font(pixels: int = 12, bold: bool = False, mono: bool = False) -> QFont:
    return QFont(_font(pixels, bold, mono))


@cache
def _font(pixels: int, bold: bool, mono: bool) -> QFont:
    made = QFont("B612 Mono" if mono else "B612")
    made.setPixelSize(pixels)
    made.setBold(bold)
    return made
