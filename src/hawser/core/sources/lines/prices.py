"""The bars' own prices, where a line is expected."""

from __future__ import annotations

from typing import ClassVar

from hawser.core.sources.lines.base import Line


class Open(Line, frozen=True, kw_only=True, tag="open"):
    """The first price of the bar."""

    NAME: ClassVar[str] = "open"
    OF: ClassVar[str] = "open"


class High(Line, frozen=True, kw_only=True, tag="high"):
    """The highest price of the bar."""

    NAME: ClassVar[str] = "high"
    OF: ClassVar[str] = "high"


class Low(Line, frozen=True, kw_only=True, tag="low"):
    """The lowest price of the bar."""

    NAME: ClassVar[str] = "low"
    OF: ClassVar[str] = "low"


class Close(Line, frozen=True, kw_only=True, tag="close"):
    """The last price of the bar."""

    NAME: ClassVar[str] = "close"
    OF: ClassVar[str] = "close"
