"""Rigs: what is decided once and carried out every time, tried on the history that the Helm
shows."""

from hawser.desk.common.station import Station

STATION = Station("Rigs", "rigs", "Alt+3", "hawser.desk.rigs.station:opened", shared=True)
