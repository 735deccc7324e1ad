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
_PLACES = (HELM, RIGS, GUARDS, LOGBOOK)  # settings of before had a station's place


def named(kept: int | str) -> str:
    """The station that settings name; the first where there is none of that name."""
    if isinstance(kept, int):
        return _PLACES[kept] if kept < len(_PLACES) else HELM
    return kept if kept in _PLACES else HELM
