"""Shows what has changed of the window piece by piece, each in a turn of its own: all of it at once
would hold the window for longer than it may be held. The whole takes as long as before, some
hundredths of a second, and meanwhile a piece shows what it showed."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import pairwise

from PyQt6.QtCore import QObject, QPoint, QRect, Qt
from PyQt6.QtGui import QPaintEvent, QRegion
from PyQt6.QtWidgets import QSplitter, QWidget

from hawser.desk.common.canvases import canvases_in
from hawser.desk.common.station import StationView
from hawser.desk.common.timing import once

PIECE = 110_000  # square pixels; a piece takes some 2 to 5 ms


def panels_of(view: StationView) -> list[QWidget]:
    """The panels of a station: what its splitters hold that is no splitter; itself without any."""
    found = []
    for splitter in view.splitters().values():
        held = [splitter.widget(number) for number in range(splitter.count())]
        found += [one for one in held if one is not None and not isinstance(one, QSplitter)]
    return found or [view]


def pieces(box: QRect) -> list[QRect]:
    """`box` in bands of its width, none larger than a piece."""
    bands = max(1, -(-box.width() * box.height() // PIECE))
    edges = [box.top() + box.height() * number // bands for number in range(bands + 1)]
    return [QRect(box.left(), top, box.width(), bottom - top) for top, bottom in pairwise(edges)]


class _Piece(QWidget):
    """Lies before a part of the window. It is opaque, so nothing behind it is painted, and paints
    nothing, so that what was painted stays."""

    def __init__(self, before: QWidget) -> None:
        super().__init__(before)
        self.hide()
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAttribute(Qt.WidgetAttribute.WA_NoSystemBackground)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)

    def hang(self, region: QRegion) -> None:
        self.setGeometry(region.boundingRect())
        if region.rectCount() > 1:
            self.setMask(region.translated(-self.pos()))
        else:
            self.clearMask()
        self.show()
        self.raise_()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Nothing: what was painted here stays."""


class Curtain(QObject):
    """Before `whole`, which is all of a window."""

    def __init__(self, whole: QWidget) -> None:
        super().__init__(whole)
        self._whole = whole
        self._pieces: list[_Piece] = []  # that hang, the next to be taken away first
        self._spare: list[_Piece] = []
        self._work: Iterator[int] = iter(())
        self._next = once(self, 0, self._turn)
        self.drawn = False  # something waits for its turn

    def draw(self, parts: Iterable[QWidget]) -> None:
        """What is in these parts changes now: it is shown piece by piece. What still waited is
        shown at once."""
        self.open()
        self._hang(parts)
        self._begin()

    def draw_whole(self, parts: Iterable[QWidget], work: Iterator[int]) -> None:
        """All of the window changes, the ground between its parts first. Each item of `work` has a
        turn before anything is shown."""
        self.open()
        ground = QRegion(self._whole.rect())
        parts = list(parts)
        for part in parts:
            ground -= QRegion(self._box(part))
        if self._whole.isVisible():
            self._hang_piece(ground)
        self._hang(parts)
        self._work = work
        self._begin()

    def _box(self, part: QWidget) -> QRect:
        return QRect(part.mapTo(self._whole, QPoint()), part.size())

    def _hang(self, parts: Iterable[QWidget]) -> None:
        for part in parts:
            for region in self._regions(part) if part.isVisible() else ():
                self._hang_piece(region)

    def _hang_piece(self, region: QRegion) -> None:
        piece = self._spare.pop() if self._spare else _Piece(self._whole)
        piece.hang(region)
        self._pieces.append(piece)

    def _regions(self, part: QWidget) -> Iterator[QRegion]:
        """The pieces of a part; a canvas in it is one of its own."""
        taken = [QRegion(self._box(canvas)) for canvas in canvases_in(part)]
        yield from taken
        for box in pieces(self._box(part)):
            region = QRegion(box)
            for canvas in taken:
                region -= canvas
            if not region.isEmpty():
                yield region

    def _begin(self) -> None:
        self.drawn = True
        self._next.start()

    def open(self) -> None:
        """Do and show everything that waits."""
        self._next.stop()
        for _ in self._work:
            pass
        while self._pieces:
            self._take_away()
        self.drawn = False

    def _turn(self) -> None:
        if next(self._work, None) is None:
            self._show_next()
        if self.drawn:
            self._next.start()

    def _show_next(self) -> None:
        if not self._pieces:
            self.drawn = False
            return
        self._take_away()

    def _take_away(self) -> None:
        piece = self._pieces.pop(0)
        piece.hide()  # Qt paints what lay behind it, before the next turn
        self._spare.append(piece)
