"""The stations, in the order of the rail: what each is called, its icon and its key."""

from __future__ import annotations

# Alt+1 to Alt+5 belong to the five stations of the design; these four are here so far.
STATIONS = [
    ("Helm", "helm", "Alt+1"), ("Rigs", "rigs", "Alt+2"), ("Guards", "guards", "Alt+3"),
    ("Logbook", "logbook", "Alt+5"),
]  # fmt: skip
HELM, RIGS, GUARDS, LOGBOOK = range(4)
