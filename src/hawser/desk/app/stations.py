"""The stations, in the order of the rail. A station is known by its name: its place may change."""

from __future__ import annotations

from typing import NamedTuple


class Station(NamedTuple):
    """What a station is called, its icon (`theme/icons`) and its key."""

    name: str
    icon: str
    key: str


HELM, RIGS, GUARDS, LOGBOOK = "Helm", "Rigs", "Guards", "Logbook"
# Alt+1 to Alt+5 belong to the five stations of the design; these four are here so far.
STATIONS = (
    Station(HELM, "helm", "Alt+1"), Station(RIGS, "rigs", "Alt+2"), Station(GUARDS, "guards", "Alt+3"),
    Station(LOGBOOK, "logbook", "Alt+5"),
)  # fmt: skip
_ONCE = (HELM, RIGS, GUARDS, LOGBOOK)  # by their place in the rail, which settings of before named


def named(kept: int | str) -> str:
    """The station that settings name; the first where there is none of that name."""
    if isinstance(kept, int):
        return _ONCE[kept] if 0 <= kept < len(_ONCE) else HELM
    return kept if any(kept == one.name for one in STATIONS) else HELM
