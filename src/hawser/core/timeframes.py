"""Timeframes as they are written (reckoning section 12). No NumPy: `hawser size` reads rigs."""

from __future__ import annotations

import re
from typing import NamedTuple

from hawser.core.clock import DAY, HOUR, MINUTE
from hawser.core.errors import BadInput

EXPECTED = "expected a whole number and m, h, d or w, as 15m"
MOST = 520 * 7 * DAY  # ns: ten years
_UNITS = {"m": MINUTE, "h": HOUR, "d": DAY, "w": 7 * DAY}
_WRITTEN = re.compile(r"([1-9][0-9]{0,6})([mhdw])")
_FIRST_MONDAY = 4 * DAY  # 1970 began on a Thursday


class Timeframe(NamedTuple):
    """Bars of `span` ns, each of which opens a whole number of them after `begins` (UTC ns)."""

    span: int
    begins: int
    text: str


def timeframe(text: str) -> Timeframe:
    """`15m`, `4h`, `1d`, `1w`; raises BadInput. Weeks begin on Mondays."""
    found = _WRITTEN.fullmatch(text)
    span = int(found[1]) * _UNITS[found[2]] if found else 0
    if found is None or span > MOST:
        raise BadInput("bad_timeframe", EXPECTED, text=text)
    return Timeframe(span, _FIRST_MONDAY if found[2] == "w" else 0, text)
