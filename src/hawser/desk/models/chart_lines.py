"""Lines over a chart's bars, worked out once and gone on with as bars come; without Qt."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

from hawser.core.errors import BadInput
from hawser.core.indicators import Array
from hawser.core.sources.evaluation import Signalled
from hawser.core.sources.lines.base import Line
from hawser.core.sources.lines.volume import Volume
from hawser.core.sources.said import line_said
from hawser.core.sources.source import Source
from hawser.core.sources.view import BarsSeen, View
from hawser.desk.models.curves import Curve, Panel
from hawser.desk.models.source_look import Ground, LaidLine, arranged, check_lines, looked_at


class Drawing:
    """The lines of one instrument and timeframe. To be used on one thread at a time."""

    def __init__(self, lines: tuple[Line, ...], span: int, symbol: str) -> None:
        self.lines, self._of = lines, (symbol, span)
        self._view, self._size, self._begins = View(span), 0, 0
        self.wrong = ""  # of a line that is left out

    def fits(self, lines: tuple[Line, ...], ground: Ground) -> bool:
        """Whether it can go on with these bars."""
        times = ground.bars.time
        return (
            lines == self.lines
            and self._of == (ground.instrument.symbol, ground.span)
            and times.size >= self._size
            and (not self._size or int(times[0]) == self._begins)
        )

    def go_on(self, ground: Ground) -> tuple[list[Curve], list[Panel]]:
        """The lines at all bars, and the strips below them. Raises BadInput."""
        check_lines(((line_said(line), line) for line in self.lines), ground)
        self._size = int(ground.bars.time.size)
        self._begins = int(ground.bars.time[0]) if self._size else 0
        self._view.see(BarsSeen(ground.bars, ground.others, spans=ground.spans))
        laid, self.wrong = list[LaidLine](), ""
        for line in self.lines:
            name = line_said(line)
            try:
                laid.append(LaidLine(name, line, self._values(name, line, ground)))
            except BadInput as error:
                if not isinstance(line, Volume):
                    raise
                self.wrong = error.text  # the others are there all the same
        return arranged(laid, ground)

    def _values(self, name: str, line: Line, ground: Ground) -> Array:
        return ground.volume() if isinstance(line, Volume) else self._view.series(line, name)


class Drawn(NamedTuple):
    """What is to be drawn; what a source says, where one is laid on the bars; what is wrong with
    that, or left out of the lines."""

    curves: list[Curve]
    panels: list[Panel]
    said: Signalled | None
    wrong: str = ""


def drawn(
    drawing: Drawing, ground: Ground, source: Source | None, path: Path | None
) -> Drawn | BadInput:
    """To be called away from the window's thread."""
    try:
        curves, panels = drawing.go_on(ground)
    except BadInput as error:
        return error
    if source is None:
        return Drawn(curves, panels, None, drawing.wrong)
    try:
        said = looked_at(source, path, ground)[0].said
        return Drawn(curves, panels, said, drawing.wrong)
    except BadInput as error:
        return Drawn(curves, panels, None, f"{source.name}: {error.text}")
