"""Guards: what closes entries, when, and what follows."""

from hawser.desk.common.station import Station

STATION = Station("Guards", "guards", "Alt+4", "hawser.desk.guards.station:opened")
