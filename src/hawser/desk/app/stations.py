"""The stations that there are, in the order of their keys. Each is declared in its own folder of
the desk, and known by its name: its place may change.
"""

from __future__ import annotations

import pkgutil
from importlib import import_module

import hawser.desk
from hawser.desk.common.station import Station, View

HELM, SIGNALS, RIGS, GUARDS, LOGBOOK = "Helm", "Signals", "Rigs", "Guards", "Logbook"
_ONCE = (HELM, RIGS, GUARDS, LOGBOOK)  # by their place in the rail, which settings of before named


def found() -> tuple[Station, ...]:
    """Every station that a folder of the desk declares."""
    rooms = [
        import_module(f"hawser.desk.{one.name}")
        for one in pkgutil.iter_modules(hawser.desk.__path__)
    ]
    return tuple(
        sorted(
            (room.STATION for room in rooms if hasattr(room, "STATION")), key=lambda one: one.key
        )
    )


STATIONS = found()  # Alt+1 to Alt+6 belong to the six stations of the design; five are here so far


def view_of(station: Station) -> View:
    """What makes a station's view; its modules are loaded here."""
    module, _, function = station.view.partition(":")
    made: View = getattr(import_module(module), function)
    return made


def named(kept: int | str) -> str:
    """The station that settings name; the first where there is none of that name."""
    if isinstance(kept, int):
        return _ONCE[kept] if 0 <= kept < len(_ONCE) else HELM
    return kept if any(kept == one.name for one in STATIONS) else HELM
