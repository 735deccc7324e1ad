"""What was traded within each bar: for a chart alone, where its bars have it. No source looks at
it: a market may tell none."""

from __future__ import annotations

from typing import ClassVar

from hawser.core.sources.lines.base import Line, Scale


class Volume(Line, frozen=True, kw_only=True, tag="volume"):
    """The column `volume` of a bar file."""

    NAME: ClassVar[str] = "volume"
    SCALE: ClassVar[Scale] = "amount"
